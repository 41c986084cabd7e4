package postgres

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
)

// alter changes a table in place. What is metadata is done at once; what has to read
// or write every row of a large table is done where no writer waits for it.
func (p *planner) alter() {
	c := p.Change
	p.After, p.Renames = c.BeforeRenames()
	p.remake()
	p.AlterProofs()
	p.ProofsFirst()
	p.dropParts()
	p.addColumns()
	p.fill()
	converted := p.converted()
	p.notNulls(slices.DeleteFunc(slices.Clone(p.After.Columns), func(c *schema.Column) bool { return slices.Contains(converted, c) }))
	p.keepDropped()
	p.keepConverted()
	p.dropRemade()
	p.convert()
	p.dropColumns()
	p.followKept()
	p.notNulls(converted)
	p.identities()
	p.remakeColumns()
	p.addParts()
	p.LetGo(p.emptied())
	p.Standing = p.After
	p.PutNullsBack()
	p.rename()
	p.comments()
	p.restart(c.After)
	if c.Rebuild {
		p.rewriteWhole()
	}
}

func (p *planner) table() string { return name(p.Table.Name) }

// alterTable adds a step of one statement on the table.
func (p *planner) alterTable(kind engine.Kind, rate float64, what string, actions ...string) *engine.Step {
	return p.Add(kind, rate, what, "alter table "+p.table()+" "+strings.Join(actions, ", "))
}

// outside adds a step whose statements are each a transaction of their own.
func (p *planner) outside(kind engine.Kind, rate float64, lock, what, done string, clean []engine.Statement, statements ...engine.Statement) *engine.Step {
	s := p.Add(kind, rate, what)
	for _, st := range statements {
		s.SQL = append(s.SQL, st.SQL)
	}
	s.Outside = &engine.Outside{Statements: statements, Done: done, Clean: clean}
	s.Lock, s.WritersWait = lock, engine.WaitBriefly
	s.Strong = []string{p.Table.Name}
	return s
}

// hasConstraint gives a row when a constraint stands and has been proven.
func (p *planner) hasConstraint(constraint string) string {
	return "select 1 from pg_constraint where conrelid = to_regclass(" + literal(p.table()) + ") and conname = " + literal(constraint) + " and convalidated"
}

func (p *planner) dropConstraint(n string) string {
	return "alter table " + p.table() + " drop constraint if exists " + quote(n)
}

// remake finds the columns that have to be dropped and added again: the server gives a
// column no other expression.
func (p *planner) remake() {
	p.changing = p.changingTypes()
	for _, c := range p.After.Columns {
		old := p.From(c)
		if old == nil || c.Generated == nil {
			continue
		}
		uses := slices.ContainsFunc(p.changing, func(n string) bool { return old.Generated != nil && old.Generated.Expr.Mentions(n) })
		if p.Recomputed(c) || uses || declaration(old) != declaration(c) {
			p.remade = append(p.remade, c.Name)
		}
	}
}

// changingTypes lists the columns that the server gives another type.
func (p *planner) changingTypes() []string {
	var list []string
	for _, c := range p.After.Columns {
		if old := p.From(c); old != nil && c.Generated == nil && (declaration(old) != declaration(c) || old.Collate != c.Collate) {
			list = append(list, c.Name)
		}
	}
	return list
}

func (p *planner) isRemade(c *schema.Column) bool { return schema.HasName(p.remade, c.Name) }

// usesRemade reports whether a list of names holds a column that is made again.
func (p *planner) usesRemade(names ...string) bool {
	return slices.ContainsFunc(p.remade, func(r string) bool { return schema.HasName(names, r) })
}

// again lists those of the parts that stay, but go with a column that is made again.
func again[T any](p *planner, parts []T, uses func(T, string) bool) []T {
	var list []T
	for _, x := range parts {
		if slices.ContainsFunc(p.remade, func(r string) bool { return uses(x, r) }) {
			list = append(list, x)
		}
	}
	return list
}

// dropParts takes off what goes, and what would stand in the way.
func (p *planner) dropParts() {
	p.renameParts()
	for _, x := range p.parts.goneIndexes {
		if !slices.ContainsFunc(p.Dropped(), func(c *schema.Column) bool { return x.Uses(c.Name) }) {
			p.Add(engine.Catalog, 0, "drop index "+x.Name, "drop index "+beside(p.Table.Name, x.Name))
		}
	}
	var names []string
	for _, k := range p.parts.goneKeys {
		names = append(names, k.Name)
	}
	for _, k := range append(p.parts.goneChecks, p.reworded(p.Table.Checks)...) {
		names = append(names, k.Name)
	}
	references := p.parts.goneReferences
	for _, k := range references {
		names = append(names, k.Name)
	}
	if k := p.Table.PrimaryKey; k != nil && !p.samePrimary() {
		names = append(names, k.Name)
	}
	for _, c := range p.After.Columns {
		if old := p.From(c); old != nil && !p.isRemade(c) && old.Limit != "" && (c.Limit == "" || !old.Type.Equal(c.Type)) {
			names = append(names, old.Limit)
		}
	}
	for _, n := range names {
		s := p.alterTable(engine.Catalog, 0, "drop constraint "+n, "drop constraint "+quote(n))
		for _, k := range references {
			if k.Name == n && k.Table != p.Table.Name {
				s.Strong = []string{p.Table.Name, k.Table}
			}
		}
	}
	for _, c := range p.After.Columns {
		old := p.From(c)
		if old == nil || p.isRemade(c) {
			continue
		}
		column := "alter column " + quote(c.Name) + " "
		switch {
		case old.Generated != nil && c.Generated == nil:
			p.alterTable(engine.Catalog, 0, "let "+c.Name+" hold values of its own", column+"drop expression")
		case old.Identity != nil && c.Identity == nil:
			p.alterTable(engine.Catalog, 0, "let "+c.Name+" number itself no more", column+"drop identity")
		}
		if old.NotNull && !c.NotNull {
			p.alterTable(engine.Catalog, 0, "let "+c.Name+" be null", column+"drop not null")
		}
	}
}

// samePrimary reports whether the primary key stays.
func (p *planner) samePrimary() bool { return planning.SameKey(p.Table.PrimaryKey, p.After.PrimaryKey) }

// instantDefault reports whether the server can give a default to every row without
// writing one: it is the same for all.
func instantDefault(c *schema.Column) bool {
	e := c.Default
	if e == nil {
		return true
	}
	if e.Tree == nil {
		return false
	}
	steady := true
	sqltext.Walk(e.Tree, func(x sqltext.Expr) bool {
		if _, call := x.(*sqltext.Call); call {
			steady = false
		}
		return steady
	})
	return steady
}

// addColumns adds columns without reading a row, where the server can.
func (p *planner) addColumns() {
	for _, c := range p.After.Columns {
		if p.From(c) != nil || p.Table.Column(c.Name) != nil {
			continue
		}
		p.addColumn(c)
	}
}

// addColumn adds one column as far as that is metadata; the rest follows once its rows
// have their values.
func (p *planner) addColumn(c *schema.Column) {
	def := *c
	_, filled := p.FillOf(c)
	def.Limit = ""
	switch {
	case c.Generated != nil:
		s := p.alterTable(engine.Rewrite, rewriteRate, "add column "+c.Name, "add column "+columnSQL(p.After, &def))
		s.Why = "the server writes every row anew to store a computed column"
		s.Preview = p.PreviewAdded()
		return
	case c.Identity != nil:
		s := p.alterTable(engine.Rewrite, rewriteRate, "add column "+c.Name, "add column "+columnSQL(p.After, &def))
		s.Why = "the server writes every row anew to number it"
		return
	case filled || !instantDefault(c):
		def.NotNull = false
	}
	var after []string
	if filled || !instantDefault(c) {
		if c.Default != nil {
			after = append(after, "alter table "+p.table()+" alter column "+quote(c.Name)+" set default "+defaultSQL(p.After, *c.Default))
		}
		def.Default = nil
	}
	s := p.alterTable(engine.Catalog, 0, "add column "+c.Name, "add column "+columnSQL(p.After, &def))
	s.SQL = append(s.SQL, after...)
}

// fill gives existing rows their values.
func (p *planner) fill() {
	var sets, names []string
	follow := true
	for _, c := range p.After.Columns {
		if p.From(c) != nil {
			continue
		}
		value, ok := p.filling(c)
		if !ok {
			continue
		}
		f, _ := p.FillOf(c)
		follow = follow && f.Kept == nil && (f.Expr == nil || !sqltext.HasSubquery(f.Expr))
		sets, names = append(sets, quote(c.Name)+" = "+value), append(names, c.Name)
	}
	if len(sets) > 0 {
		if p.followed() && follow {
			p.fillNew()
		}
		s := p.Update("fill "+strings.Join(names, ", "), "update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range)
		s.Preview = p.PreviewAdded()
	}
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.OnlyNull {
			p.fillNulls(c, f)
		}
	}
}

// filling gives what existing rows get in an added column, as SQL; ok is false when the
// column itself has come with it.
func (p *planner) filling(c *schema.Column) (string, bool) {
	f, filled := p.FillOf(c)
	switch {
	case c.Generated != nil || c.Identity != nil:
		return "", false
	case filled && (f.Kept != nil || f.Expr != nil):
		value, _ := p.Value(c, planning.Computed)
		return value, true
	case !instantDefault(c):
		return p.DefaultValue(c), true
	}
	return "", false
}

// fillNulls fills the rows that have null, and remembers which they were.
func (p *planner) fillNulls(c *schema.Column, f schema.Fill) {
	value := p.Render(f.Expr, planning.Computed)
	where := " where " + engine.Range + " and " + quote(c.Name) + " is null"
	remember := p.RememberNulls(c, value, where)
	p.Update("fill "+c.Name+" where it is null", append(remember, "update "+p.table()+" set "+quote(c.Name)+" = "+value+where)...)
}

// followed reports whether rows can come while the fill goes on.
func (p *planner) followed() bool { return p.Facts.Live && !p.Short(updateRate) }

// fillFunction names the trigger that fills rows which come while a fill goes on.
func (p *planner) fillFunction() string {
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + tableOf(p.Table).Name}, nil, "fill")
}

// fillNew lets rows that come meanwhile get their values as they come.
func (p *planner) fillNew() {
	trigger := p.fillFunction()
	function := name(trigger)
	var body []string
	for _, c := range p.After.Columns {
		if _, ok := p.filling(c); !ok || p.From(c) != nil {
			continue
		}
		f, filled := p.FillOf(c)
		e := f.Expr
		if !filled {
			e = c.Default.Tree
		}
		if e == nil {
			continue
		}
		value, err := p.Expr(e, planning.Scope{Table: p.Table, Value: p.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		body = append(body, "if new."+quote(c.Name)+" is null then new."+quote(c.Name)+" := "+value+"; end if;")
	}
	s := p.Add(engine.Sync, 0, "fill rows that come meanwhile",
		"create or replace function "+function+"() returns trigger language plpgsql security definer set search_path = pg_catalog, pg_temp as $lastboard$ begin "+strings.Join(body, " ")+" return new; end $lastboard$",
		"create trigger "+quote(trigger)+" before insert on "+p.table()+" for each row execute function "+function+"()")
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	s.Why = "an application that does not know the column yet leaves it out"
	s.Undo = p.fillEnd()
	p.filler = true
}

// newValue gives what a column of a row that comes has; computed ones are computed
// after the trigger, so it computes them itself.
func (p *planner) newValue(column string) string {
	c := p.Table.Column(column)
	if c.Generated != nil && c.Generated.Expr.Tree != nil {
		text, err := p.Expr(c.Generated.Expr.Tree, planning.Scope{Table: p.Table, Value: p.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		return text
	}
	return "new." + quote(column)
}

func (p *planner) fillEnd() []string {
	trigger := p.fillFunction()
	return []string{"drop trigger if exists " + quote(trigger) + " on " + p.table(), "drop function if exists " + name(trigger) + "()"}
}

// converted lists the columns that were there and whose every value is written anew.
func (p *planner) converted() []*schema.Column {
	var list []*schema.Column
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && !f.OnlyNull && p.From(c) != nil {
			list = append(list, c)
		}
	}
	return list
}

// notNulls makes columns not null that now can be.
func (p *planner) notNulls(columns []*schema.Column) {
	for _, c := range columns {
		if p.isRemade(c) || !p.becomesNotNull(c) {
			continue
		}
		if p.small {
			p.alterTable(engine.Scan, scanRate, "make "+c.Name+" not null", "alter column "+quote(c.Name)+" set not null")
			continue
		}
		p.proveNotNull(c)
	}
	if p.filler {
		p.filler = false
		s := p.Add(engine.Sync, 0, "rows bring their own values from now on", p.fillEnd()...)
		s.Strong = []string{p.Table.Name}
	}
}

// identities lets columns number themselves, or in another way, and sets defaults.
func (p *planner) identities() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		if old != nil && old.Identity == nil && c.Identity != nil {
			words := "by default"
			if c.Identity.Always {
				words = "always"
			}
			s := p.alterTable(engine.Scan, 0, "let "+c.Name+" number itself", "alter column "+quote(c.Name)+" add generated "+words+" as identity")
			s.SQL = append(s.SQL, advanceSequence(p.Table, c))
		}
		if old != nil && old.Identity != nil && c.Identity != nil && old.Identity.Always != c.Identity.Always {
			words := "by default"
			if c.Identity.Always {
				words = "always"
			}
			p.alterTable(engine.Catalog, 0, "number "+c.Name+" "+words, "alter column "+quote(c.Name)+" set generated "+words)
		}
		if old != nil && c.Generated == nil && old.Type.Equal(c.Type) && !p.SameExpr(old.Default, c.Default) && (c.Identity == nil) == (old.Identity == nil) {
			p.setDefault(c)
		}
	}
}

func (p *planner) setDefault(c *schema.Column) {
	if c.Default == nil {
		p.alterTable(engine.Catalog, 0, "drop the default of "+c.Name, "alter column "+quote(c.Name)+" drop default")
		return
	}
	p.alterTable(engine.Catalog, 0, "set the default of "+c.Name, "alter column "+quote(c.Name)+" set default "+defaultSQL(p.After, *c.Default))
}

// becomesNotNull reports whether a column still has to be made not null once its rows
// are filled.
func (p *planner) becomesNotNull(c *schema.Column) bool {
	if old := p.From(c); old != nil {
		return c.NotNull && !old.NotNull
	}
	_, filled := p.filling(c)
	return c.NotNull && filled
}

// proveNotNull makes a column of a large table not null by way of a check that is
// proven without keeping writers waiting.
func (p *planner) proveNotNull(c *schema.Column) {
	check := schema.ConstraintName(&schema.Table{Name: engine.Prefix + tableOf(p.Table).Name}, []string{c.Name}, "not_null")
	column := "alter table " + p.table() + " alter column " + quote(c.Name)
	statements := []engine.Statement{{SQL: "alter table " + p.table() + " add constraint " + quote(check) + " check (" + quote(c.Name) + " is not null) not valid"}}
	if f, ok := p.FillOf(c); ok && f.Expr != nil && p.Facts.Live {
		late := "update " + p.table() + " set " + quote(c.Name) + " = " + p.Render(f.Expr, planning.Computed) + " where " + quote(c.Name) + " is null"
		statements = append(statements, engine.Statement{SQL: late, Patient: true}) // rows that came before the trigger
	}
	statements = append(statements,
		engine.Statement{SQL: "alter table " + p.table() + " validate constraint " + quote(check), Patient: true},
		engine.Statement{SQL: column + " set not null"},
		engine.Statement{SQL: p.dropConstraint(check)})
	s := p.outside(engine.Scan, scanRate, lockExclusive, "make "+c.Name+" not null",
		"select 1 from pg_attribute a where a.attrelid = to_regclass("+literal(p.table())+") and a.attname = "+literal(c.Name)+
			" and a.attnotnull and not exists (select 1 from pg_constraint k where k.conrelid = a.attrelid and k.conname = "+literal(check)+")",
		[]engine.Statement{{SQL: p.dropConstraint(check)}}, statements...)
	s.Why = "set not null alone would read every row while writers wait; a check that has been validated saves that"
}

// addParts adds constraints and indexes.
func (p *planner) addParts() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		if c.Limit != "" && (old == nil || p.isRemade(c) || old.Limit == "" || !old.Type.Equal(c.Type)) {
			p.addCheck("let "+c.Name+" hold "+c.Type.String()+" alone", c.Limit, limitSQL(c), true)
		}
	}
	if k := p.After.PrimaryKey; k != nil && (!p.samePrimary() || p.usesRemade(k.Columns...)) {
		p.addKey("primary key", k)
	}
	keys := p.parts.keys
	for _, k := range append(slices.Clone(keys), again(p, p.staying(keys), func(k *schema.Key, c string) bool { return schema.HasName(k.Columns, c) })...) {
		p.addKey("unique", k)
	}
	checks := p.parts.checks
	for _, k := range checks {
		p.addCheck("add constraint "+k.Name, k.Name, checkSQL(p.After, k), k.Options["no inherit"] == "")
	}
	for _, k := range p.After.Checks {
		if slices.Contains(checks, k) {
			continue
		}
		if again := slices.ContainsFunc(p.remade, k.Expr.Mentions); again || len(p.reworded([]*schema.Check{k})) > 0 {
			fresh := *k
			if k.Expr.Tree != nil && !p.Change.Back {
				fresh.Expr.Native = "" // as it is written, for the type that the column has now
			}
			p.addCheck("add constraint "+k.Name, k.Name, checkSQL(p.After, &fresh), true)
		}
	}
	for _, k := range p.parts.references {
		p.foreignKey(p.Table, k)
	}
	indexes := p.parts.indexes
	for _, x := range indexes {
		p.addIndex(x)
	}
	for _, x := range p.After.Indexes {
		if !slices.Contains(indexes, x) && slices.ContainsFunc(p.remade, x.Uses) {
			p.addIndex(x)
		}
	}
}

// reworded lists the checks that the server would word anew, with casts, when a column
// gets another type: they are taken off before and come again after it.
func (p *planner) reworded(list []*schema.Check) []*schema.Check {
	var out []*schema.Check
	for _, k := range list {
		if !slices.Contains(p.parts.goneChecks, k) && !slices.Contains(p.parts.checks, k) && slices.ContainsFunc(p.changing, k.Expr.Mentions) {
			out = append(out, k)
		}
	}
	return out
}

// staying lists the unique keys that were there before.
func (p *planner) staying(added []*schema.Key) []*schema.Key {
	return slices.DeleteFunc(slices.Clone(p.After.Uniques), func(k *schema.Key) bool { return slices.Contains(added, k) })
}

func (p *planner) addCheck(what, constraint, definition string, deferrable bool) {
	if p.small || !deferrable {
		p.alterTable(engine.Scan, scanRate, what, "add "+definition)
		return
	}
	s := p.outside(engine.Scan, scanRate, lockExclusive, what, p.hasConstraint(constraint), []engine.Statement{{SQL: p.dropConstraint(constraint)}},
		engine.Statement{SQL: "alter table " + p.table() + " add " + definition + " not valid"},
		engine.Statement{SQL: "alter table " + p.table() + " validate constraint " + quote(constraint), Patient: true})
	s.Why = "it holds for new rows at once, and is then proven for the others without keeping writers waiting"
}

// foreignKey adds one to the table t.
func (p *planner) foreignKey(t *schema.Table, k *schema.ForeignKey) {
	table := name(t.Name)
	if p.small && p.Facts.Rows[k.Table] <= int64(p.Facts.Short*scanRate) {
		s := p.Add(engine.Scan, scanRate, "add constraint "+k.Name, addForeignKey(t, k))
		s.Lock, s.Strong = lockWriters, []string{t.Name, k.Table}
		return
	}
	s := p.outside(engine.Scan, scanRate, lockWriters, "add constraint "+k.Name, p.hasConstraint(k.Name), []engine.Statement{{SQL: p.dropConstraint(k.Name)}},
		engine.Statement{SQL: addForeignKey(t, k) + " not valid"},
		engine.Statement{SQL: "alter table " + table + " validate constraint " + quote(k.Name), Patient: true})
	s.Strong = []string{t.Name, k.Table}
	s.Why = "it holds for new rows at once, and is then proven for the others without keeping writers of either table waiting"
}

func (p *planner) addKey(words string, k *schema.Key) {
	if p.small || k.Options["deferrable"] != "" {
		p.alterTable(engine.Build, indexRate, "build the index of constraint "+k.Name, "add "+keySQL(k, words))
		return
	}
	nulls := ""
	if n := k.Options["nulls"]; n != "" {
		nulls = " " + n
	}
	index := beside(p.Table.Name, k.Name)
	p.build("build the index of constraint "+k.Name, k.Name, p.hasConstraint(k.Name),
		engine.Statement{SQL: "create unique index concurrently " + quote(k.Name) + " on " + p.table() + " (" + quoteAll(k.Columns) + ")" + nulls, Direct: true},
		engine.Statement{SQL: "alter table " + p.table() + " add constraint " + quote(k.Name) + " " + words + " using index " + quote(k.Name)}).Outside.Clean =
		[]engine.Statement{{SQL: "drop index concurrently if exists " + index, Direct: true}}
}

func (p *planner) addIndex(x *schema.Index) {
	if p.small {
		s := p.Add(engine.Build, indexRate, "build index "+x.Name, createIndex(p.After, x))
		s.Lock = "share"
		return
	}
	p.build("build index "+x.Name, x.Name,
		"select 1 from pg_index where indexrelid = to_regclass("+literal(beside(p.Table.Name, x.Name))+") and indisvalid",
		engine.Statement{SQL: indexSQL(p.After, x, "index concurrently "), Direct: true})
}

// build adds a step that builds an index while applications go on.
func (p *planner) build(what, index, done string, statements ...engine.Statement) *engine.Step {
	s := p.outside(engine.Build, indexRate/2, lockShared, what, done,
		[]engine.Statement{{SQL: "drop index concurrently if exists " + beside(p.Table.Name, index), Direct: true}}, statements...)
	s.Outside.Quiet = true
	s.WritersWait = engine.WaitNo
	if len(statements) > 1 {
		s.WritersWait, s.Lock = engine.WaitBriefly, lockExclusive
	}
	s.Why = "built concurrently: twice the work, and nobody waits"
	return s
}

// dropColumns takes columns away, generated ones first.
func (p *planner) dropColumns() {
	var actions []string
	for _, c := range p.Dropped() {
		if c.OnUpdateNow {
			s := p.Add(engine.Sync, 0, "keep no time in "+c.Name, dropOnUpdate(p.Table, onUpdateName(p.Table, c))...)
			s.Strong = []string{p.Table.Name}
		}
		for _, tr := range p.Table.Own {
			kept := strings.TrimSuffix(strings.TrimSuffix(tr.Name, goneSuffix), "_moved")
			if (&schema.Expr{Native: tr.SQL}).Mentions(c.Name) || p.followsBy(kept, c.Name) {
				p.Add(engine.Sync, 0, "let go of "+tr.Name, "drop trigger if exists "+quote(tr.Name)+" on "+p.table()).Strong = []string{p.Table.Name}
			}
		}
		actions = append(actions, "drop column "+quote(c.Name))
	}
	if len(actions) > 0 {
		var names []string
		for _, c := range p.Dropped() {
			names = append(names, c.Name)
		}
		p.alterTable(engine.Catalog, 0, "drop column "+strings.Join(names, ", "), actions...)
		if again := p.addAgain(); len(again) > 0 {
			for _, c := range again {
				p.addColumn(c)
			}
			p.fillAgain(again)
		}
	}
}

// followsBy reports whether what is kept follows the rows by a column.
func (p *planner) followsBy(string, string) bool { return false }

// addAgain lists columns of after that have the name of one that is dropped.
func (p *planner) addAgain() []*schema.Column {
	var list []*schema.Column
	for _, c := range p.After.Columns {
		if p.From(c) == nil && p.Table.Column(c.Name) != nil {
			list = append(list, c)
		}
	}
	return list
}

func (p *planner) fillAgain(list []*schema.Column) {
	for _, c := range list {
		if _, ok := p.filling(c); ok {
			p.Fail(&engine.Refused{Message: fmt.Sprintf("column %s is dropped and added with values for its rows in one statement", c.Name), Cure: "do it in two statements, or set the type or the expression of the column"})
		}
	}
}

// dropRemade takes away generated columns that come again: what they are computed from
// could not change under them.
func (p *planner) dropRemade() {
	for _, c := range p.After.Columns {
		if p.isRemade(c) {
			p.alterTable(engine.Catalog, 0, "drop "+c.Name+", which is computed anew", "drop column "+quote(c.Name))
		}
	}
}

// remakeColumns gives generated columns their new expressions.
func (p *planner) remakeColumns() {
	for _, c := range p.After.Columns {
		if p.isRemade(c) {
			def := *c
			def.Limit = ""
			s := p.alterTable(engine.Rewrite, rewriteRate, "compute "+c.Name+" anew", "add column "+columnSQL(p.After, &def))
			s.Why = "the server writes every row anew to store a computed column"
			s.Preview = p.PreviewAdded()
		}
	}
}

// rename gives columns and the table their new names; the server follows them
// everywhere. The triggers that keep times are named after both, and are made anew.
func (p *planner) rename() {
	final := p.Change.After
	was := map[string]bool{}
	for _, c := range p.Table.Columns {
		if c.OnUpdateNow && !slices.Contains(p.Dropped(), c) {
			was[onUpdateName(p.Table, c)] = true
		}
	}
	var added []*schema.Column
	for _, c := range final.Columns {
		if !c.OnUpdateNow {
			continue
		}
		if n := onUpdateName(final, c); was[n] {
			delete(was, n)
		} else {
			added = append(added, c)
		}
	}
	for _, n := range slices.Sorted(maps.Keys(was)) {
		p.Add(engine.Sync, 0, "drop trigger "+n, dropOnUpdate(p.Table, n)...).Strong = []string{p.Table.Name}
	}
	for _, from := range slices.Sorted(maps.Keys(p.Renames)) {
		to := p.Renames[from]
		p.alterTable(engine.Catalog, 0, "rename column "+from+" to "+to, "rename column "+quote(from)+" to "+quote(to))
	}
	if final.Name != p.Table.Name {
		p.alterTable(engine.Catalog, 0, "rename table "+p.Table.Name+" to "+final.Name, "rename to "+quote(tableOf(final).Name))
	}
	for _, c := range added {
		s := p.Add(engine.Sync, 0, "keep the time of each update in "+c.Name, onUpdateSQL(final, c)...)
		s.Strong, s.Lock = []string{final.Name}, lockWriters
	}
}

// comments writes what changed of them.
func (p *planner) comments() {
	var sql []string
	table := p.Change.After
	if p.Table.Comment != p.After.Comment {
		sql = append(sql, commentSQL("table "+name(table.Name), p.After.Comment))
	}
	for _, c := range table.Columns {
		old := ""
		if from, ok := p.Change.From[c.Name]; ok && !schema.HasName(p.remade, from) {
			old = p.Table.Column(from).Comment
		}
		if old != c.Comment {
			sql = append(sql, commentSQL("column "+name(table.Name)+"."+quote(c.Name), c.Comment))
		}
	}
	if len(sql) > 0 {
		s := p.Add(engine.Catalog, 0, "write the comment", sql...)
		s.Lock, s.WritersWait, s.Strong = lockShared, engine.WaitNo, []string{}
		s.Table = table.Name
	}
}

// rewriteWhole writes the table anew, which gives back the room that nothing uses.
func (p *planner) rewriteWhole() {
	s := p.outside(engine.Rewrite, rewriteRate, lockExclusive, "write "+p.Change.After.Name+" anew", "", nil, engine.Statement{SQL: "vacuum (full) " + name(p.Change.After.Name), Direct: true})
	s.Rewrites, s.WritersWait = true, engine.WaitBriefly
	if s.Seconds > p.Facts.Short {
		s.WritersWait = engine.WaitThroughout
	}
}
