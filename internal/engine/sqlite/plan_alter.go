package sqlite

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// alter changes a table: what SQLite does in place is done in place, the rest by
// a rebuild in one transaction. Columns get their new names last, by SQLite
// itself, which then rewrites views, triggers and foreign keys.
func (p *planner) alter() ([]*engine.Step, error) {
	c := p.change
	p.table, p.rows = c.Before, p.facts.Rows[c.Before.Name]
	p.after, p.renames = c.BeforeRenames()
	p.alterProofs()
	why := p.needsRebuild()
	p.indexKept()
	p.keepDropped(why != "")
	if why != "" {
		p.rebuild(why)
	} else {
		p.inPlace()
	}
	p.putNullsBack()
	p.rename()
	p.comments()
	return p.steps, p.err
}

// from gives the column of before that a column of p.after was; nil if added.
func (p *planner) from(c *schema.Column) *schema.Column {
	name := c.Name
	if to, ok := p.renames[name]; ok {
		name = to
	}
	if from, ok := p.change.From[name]; ok {
		return p.table.Column(from)
	}
	return nil
}

// fill gives what existing rows get in a column of p.after.
func (p *planner) fill(c *schema.Column) (schema.Fill, bool) {
	name := c.Name
	if to, ok := p.renames[name]; ok {
		name = to
	}
	f, ok := p.change.Fill[name]
	return f, ok
}

func (p *planner) text(e schema.Expr) string { return (Engine{}).Text(e) }

func (p *planner) sameExpr(a, b *schema.Expr) bool {
	if a == nil || b == nil {
		return a == b
	}
	return p.text(*a) == p.text(*b)
}

// needsRebuild says why the table has to be copied; "" if SQLite can do all of
// it in place (engine facts for 3.54: alter table).
func (p *planner) needsRebuild() string {
	b, a := p.table, p.after
	if p.change.Rebuild {
		return "it was asked for"
	}
	if !maps.Equal(b.Options, a.Options) {
		return "the table's options change"
	}
	position := 0
	seen := false
	for _, c := range a.Columns {
		old := p.from(c)
		if old == nil {
			seen = true
			if why := p.addNeedsRebuild(c); why != "" {
				return why
			}
			continue
		}
		i := slices.Index(b.Columns, old)
		if seen || i < position {
			return "the columns' order changes"
		}
		position = i
		if why := p.changeNeedsRebuild(old, c); why != "" {
			return why
		}
	}
	if !sameKey(b.PrimaryKey, a.PrimaryKey) {
		return "the primary key changes"
	}
	return p.constraintsNeedRebuild()
}

func (p *planner) addNeedsRebuild(c *schema.Column) string {
	switch {
	case p.table.Column(c.Name) != nil:
		return "a column of the same name is dropped"
	case c.Generated != nil && c.Generated.Stored:
		return "SQLite adds no stored generated column to a table"
	case c.Default != nil && (c.Default.Tree == nil || !schema.Constant(c.Default.Tree)) && !(c.Default.Tree == nil && plainConstant(c.Default.Native)):
		return "SQLite adds no column whose default is computed"
	case c.Identity != nil:
		return "SQLite adds no column that numbers itself"
	}
	return ""
}

func plainConstant(text string) bool {
	w := schema.Words(text)
	return plainDefault(text) && w != "current_timestamp" && w != "current_date" && w != "current_time"
}

func (p *planner) changeNeedsRebuild(old, c *schema.Column) string {
	sameGenerated := (old.Generated == nil) == (c.Generated == nil)
	if sameGenerated && old.Generated != nil {
		sameGenerated = old.Generated.Stored == c.Generated.Stored && p.sameExpr(&old.Generated.Expr, &c.Generated.Expr)
	}
	options := func(o map[string]string) map[string]string {
		o = maps.Clone(o)
		maps.DeleteFunc(o, func(k, _ string) bool { return strings.Contains(k, "not null") })
		return o
	}
	switch {
	case !old.Type.Equal(c.Type) || old.Declared != c.Declared || (old.Limit == "") != (c.Limit == ""):
		return "the type of " + c.Name + " changes"
	case !p.sameExpr(old.Default, c.Default):
		return "SQLite changes no default"
	case !sameGenerated:
		return "the expression of " + c.Name + " changes"
	case (old.Identity == nil) != (c.Identity == nil) || old.Collate != c.Collate || !maps.Equal(options(old.Options), options(c.Options)):
		return "the definition of " + c.Name + " changes"
	case old.NotNull != c.NotNull && (c.Options["not null name"] != "" || c.Options["not null on conflict"] != ""):
		return "the named not null of " + c.Name + " comes back"
	}
	return ""
}

func sameKey(a, b *schema.Key) bool {
	if a == nil || b == nil {
		return a == b
	}
	return slices.EqualFunc(a.Columns, b.Columns, schema.SameName) && maps.Equal(a.Options, b.Options)
}

// split compares two lists of named parts: which are gone, and which are new.
func split[T any](before, after []T, same func(a, b T) bool) (gone, added []T) {
	for _, b := range before {
		if !slices.ContainsFunc(after, func(a T) bool { return same(a, b) }) {
			gone = append(gone, b)
		}
	}
	for _, a := range after {
		if !slices.ContainsFunc(before, func(b T) bool { return same(a, b) }) {
			added = append(added, a)
		}
	}
	return gone, added
}

func (p *planner) uniques() (gone, added []*schema.Key) {
	return split(p.table.Uniques, p.after.Uniques, func(a, b *schema.Key) bool {
		return schema.SameName(a.Name, b.Name) && sameKey(a, b) && a.AsIndex == b.AsIndex
	})
}

func (p *planner) checks() (gone, added []*schema.Check) {
	return split(p.table.Checks, p.after.Checks, func(a, b *schema.Check) bool {
		return schema.SameName(a.Name, b.Name) && p.sameExpr(&a.Expr, &b.Expr)
	})
}

func (p *planner) foreignKeys() (gone, added []*schema.ForeignKey) {
	return split(p.table.ForeignKeys, p.after.ForeignKeys, func(a, b *schema.ForeignKey) bool {
		return schema.SameName(a.Name, b.Name) && references(a) == references(b) && slices.EqualFunc(a.Columns, b.Columns, schema.SameName)
	})
}

func (p *planner) indexes() (gone, added []*schema.Index) {
	return split(p.table.Indexes, p.after.Indexes, func(a, b *schema.Index) bool {
		return a.Name == b.Name && schema.Words(createIndex(p.table, a)) == schema.Words(createIndex(p.table, b))
	})
}

func (p *planner) constraintsNeedRebuild() string {
	gone, added := p.uniques()
	for _, k := range append(gone, added...) {
		if !k.AsIndex {
			return "a unique constraint that is part of the table changes"
		}
	}
	goneChecks, addedChecks := p.checks()
	for _, k := range append(goneChecks, addedChecks...) {
		if k.Implied || len(k.Options) > 0 {
			return "a check without a name changes"
		}
	}
	goneKeys, addedKeys := p.foreignKeys()
	for _, k := range goneKeys {
		if k.Implied {
			return "a foreign key without a name changes"
		}
	}
	for _, k := range addedKeys {
		if !p.inline(k) {
			return "SQLite adds no foreign key to a table"
		}
	}
	for _, c := range p.dropped() {
		for _, k := range p.table.Uniques {
			if !k.AsIndex && schema.HasName(k.Columns, c.Name) {
				return "a unique constraint that is part of the table goes with column " + c.Name
			}
		}
	}
	return ""
}

// inline reports whether a foreign key can come with the column it is on.
func (p *planner) inline(k *schema.ForeignKey) bool {
	if len(k.Columns) != 1 {
		return false
	}
	c := p.after.Column(k.Columns[0])
	return p.from(c) == nil && c.Default == nil && !k.Implied && (!c.NotNull || p.filled(c))
}

func (p *planner) filled(c *schema.Column) bool {
	_, ok := p.fill(c)
	return ok
}

// dropped lists the columns of before that are gone, generated ones first.
func (p *planner) dropped() []*schema.Column {
	list := p.change.Dropped()
	slices.SortStableFunc(list, func(a, b *schema.Column) int {
		switch {
		case a.Generated != nil && b.Generated == nil:
			return -1
		case a.Generated == nil && b.Generated != nil:
			return 1
		}
		return 0
	})
	return list
}

// keepDropped keeps the values of columns that are dropped, in the transaction
// that drops them.
func (p *planner) keepDropped(rebuild bool) {
	var columns []string
	for _, c := range p.dropped() {
		if c.Generated == nil && !p.change.Discard[c.Name] {
			columns = append(columns, c.Name)
		}
	}
	if len(columns) == 0 {
		return
	}
	keys := p.table.Key()
	if keys == nil || slices.ContainsFunc(keys, func(k string) bool { return slices.Contains(columns, k) }) {
		if p.change.Back {
			// What was added since cannot be told apart by row, so it cannot be kept.
			return
		}
		p.fail(&engine.Refused{
			Message: fmt.Sprintf("table %s has no primary key, so that the values of %s could not be put back to the right rows", p.table.Name, strings.Join(columns, ", ")),
			Cure:    "add a primary key first, or write discard to give the values up",
		})
		return
	}
	kept := p.facts.KeptTable("column")
	var list []string
	for i, k := range keys {
		list = append(list, fmt.Sprintf("%s as k%d", quote(k), i+1))
	}
	for i, c := range columns {
		list = append(list, fmt.Sprintf("%s as o%d", quote(c), i+1))
	}
	// Without an index, which only putting back needs: this is half as long.
	s := p.add(engine.Rewrite, keepRate, "keep the values of "+strings.Join(columns, ", "),
		"create table "+quote(kept)+" as select "+strings.Join(list, ", ")+" from "+quote(p.table.Name))
	s.Rewrites = false
	s.Keeps = []*engine.Keeping{{Table: p.table.Name, Kept: kept, Keys: keys, Columns: columns, What: "column"}}
}

// indexKept makes kept values searchable by their keys before they are put back.
func (p *planner) indexKept() {
	var done []string
	for _, c := range p.after.Columns {
		f, ok := p.fill(c)
		if !ok || f.Kept == nil || slices.Contains(done, f.Kept.Table) {
			continue
		}
		done = append(done, f.Kept.Table)
		p.add(engine.Build, indexRate, "make what was kept searchable", "create unique index if not exists "+quote(f.Kept.Table+"_key")+
			" on "+quote(f.Kept.Table)+" ("+keptSQL("k", len(f.Kept.Keys))+")")
	}
}

// value gives what existing rows get in an added column, as SQL over before;
// ok is false when SQLite's own default says it.
func (p *planner) value(c *schema.Column, marked bool) (sql string, ok bool) {
	f, ok := p.fill(c)
	if !ok {
		return p.defaultValue(c), false
	}
	rest := p.defaultValue(c)
	switch {
	case f.Expr != nil && marked:
		rest = p.renderMarked(f.Expr)
	case f.Expr != nil:
		rest = p.render(f.Expr, true)
	}
	if f.Kept == nil {
		return rest, true
	}
	from := " from " + quote(f.Kept.Table) + " k where " + keptMatch(p.table, f.Kept.Keys)
	value := "(select k." + f.Kept.Column + from + ")"
	if rest == "null" {
		return value, true
	}
	return "case when exists (select 1" + from + ") then " + value + " else " + rest + " end", true
}

func (p *planner) defaultValue(c *schema.Column) string {
	switch {
	case c.Default == nil:
		return "null"
	case c.Default.Tree != nil:
		return p.render(c.Default.Tree, false)
	}
	return "(" + c.Default.Native + ")"
}

// inPlace changes the table by statements that SQLite carries out itself.
func (p *planner) inPlace() {
	name := quote(p.table.Name)
	p.dropParts(name)
	p.addColumns(name)
	p.fillColumns(name)
	p.notNulls(name)
	p.addParts(name)
	for _, c := range p.dropped() {
		p.add(engine.Rewrite, rewriteRate, "drop column "+c.Name, "alter table "+name+" drop column "+quote(c.Name), dropNote(p.table.Name, c.Name, "comment"))
	}
}

func (p *planner) dropParts(name string) {
	goneIndexes, _ := p.indexes()
	for _, x := range goneIndexes {
		p.add(engine.Catalog, 0, "drop index "+x.Name, "drop index "+quote(x.Name))
	}
	goneKeys, _ := p.uniques()
	for _, k := range goneKeys {
		p.add(engine.Catalog, 0, "drop constraint "+k.Name, "drop index "+quote(k.Name), dropNote(p.table.Name, k.Name, "unique"))
	}
	goneChecks, _ := p.checks()
	for _, k := range goneChecks {
		p.add(engine.Catalog, 0, "drop constraint "+k.Name, "alter table "+name+" drop constraint "+quote(k.Name))
	}
	goneRefs, _ := p.foreignKeys()
	for _, k := range goneRefs {
		p.add(engine.Catalog, 0, "drop constraint "+k.Name, "alter table "+name+" drop constraint "+quote(k.Name))
	}
	for _, c := range p.after.Columns {
		if old := p.from(c); old != nil && old.NotNull && !c.NotNull {
			p.add(engine.Catalog, 0, "let "+c.Name+" be null", "alter table "+name+" alter column "+quote(c.Name)+" drop not null")
		}
	}
}

func (p *planner) addColumns(name string) {
	_, refs := p.foreignKeys()
	for _, c := range p.after.Columns {
		if p.from(c) != nil {
			continue
		}
		def := *c
		if _, filled := p.fill(c); filled && c.Default == nil {
			def.NotNull = false
		}
		sql := columnSQL(p.after, &def, p.after.Options["strict"] != "")
		for _, k := range refs {
			if k.Columns[0] == c.Name {
				sql += " constraint " + quote(k.Name) + " " + references(k)
			}
		}
		// SQLite reads every row when it has something to check.
		kind, rate := engine.Catalog, 0.0
		if def.Limit != "" || def.NotNull || def.Generated != nil {
			kind, rate = engine.Scan, scanRate
		}
		p.add(kind, rate, "add column "+c.Name, "alter table "+name+" add column "+sql)
	}
}

// fillColumns gives existing rows their values: first where every row gets one,
// then where only null is filled.
func (p *planner) fillColumns(name string) {
	var sets, names, putsBack []string
	for _, c := range p.after.Columns {
		f, ok := p.fill(c)
		if !ok || f.OnlyNull {
			continue
		}
		value, _ := p.value(c, false)
		if f.Kept == nil && f.Expr == nil {
			continue // its default is all there is to say
		}
		sets, names = append(sets, quote(c.Name)+" = "+value), append(names, c.Name)
		if f.Kept != nil && !slices.Contains(putsBack, f.Kept.Table) {
			putsBack = append(putsBack, f.Kept.Table)
		}
	}
	if len(sets) > 0 {
		s := p.update("fill "+strings.Join(names, ", "), "update "+name+" set "+strings.Join(sets, ", ")+" where "+engine.Range)
		s.Preview = p.previewAdded()
	}
	for _, c := range p.after.Columns {
		if f, ok := p.fill(c); ok && f.OnlyNull {
			p.fillNulls(name, c, f)
		}
	}
	p.letGo(putsBack)
}

// previewAdded shows what added columns get beside what that is made of.
func (p *planner) previewAdded() string {
	var sources, values []string
	for _, c := range p.after.Columns {
		f, ok := p.fill(c)
		if !ok || f.OnlyNull || f.Kept != nil {
			continue
		}
		for _, r := range sqltext.Refs(f.Expr) {
			if col := p.table.Column(r.Column); col != nil && !slices.Contains(sources, quote(col.Name)) && !slices.Contains(sample(p.table), quote(col.Name)) {
				sources = append(sources, quote(col.Name))
			}
		}
		value, _ := p.value(c, true)
		values = append(values, value+" as "+quote(c.Name))
	}
	if len(values) == 0 {
		return ""
	}
	return p.preview(append(sources, values...), "")
}

// fillNulls fills the rows that have null, and remembers which they were.
func (p *planner) fillNulls(name string, c *schema.Column, f schema.Fill) {
	value := p.render(f.Expr, true)
	where := " where " + engine.Range + " and " + quote(c.Name) + " is null"
	remember, keeps := p.rememberNulls(name, c, value, where)
	s := p.update("fill "+c.Name+" where it is null", append(remember, "update "+name+" set "+quote(c.Name)+" = "+value+where)...)
	s.Keeps = keeps
}

// rememberNulls gives the statement that keeps which rows have null in a column
// and what they get, and adds the step that makes room for it. A table whose rows
// cannot be told apart has none.
func (p *planner) rememberNulls(name string, c *schema.Column, value, where string) ([]string, []*engine.Keeping) {
	keys := p.table.Key()
	if keys == nil {
		return nil, nil
	}
	kept := p.facts.KeptTable("values")
	p.add(engine.Catalog, 0, "make a place to remember which rows were null", createKept(p.table, kept, keys, []string{p.from(c).Name}))
	return []string{"insert into " + quote(kept) + " select " + quoteAll(keys) + ", " + quote(c.Name) + ", " + value + " from " + name + where},
		[]*engine.Keeping{{Table: p.table.Name, Kept: kept, Keys: keys, Columns: []string{c.Name}, What: "values"}}
}

// putNullsBack takes a fill of nulls back, where the rows still hold it.
func (p *planner) putNullsBack() {
	for _, c := range p.after.Columns {
		name := c.Name
		if to, ok := p.renames[name]; ok {
			name = to
		}
		if k := p.change.PutBack[name]; k != nil {
			p.update("put null back into "+c.Name, putBackSQL(p.table, c.Name, k, 1))
			p.letGo([]string{k.Table})
		}
	}
}

// letGo drops tables of kept values that were put back.
func (p *planner) letGo(tables []string) {
	for _, t := range tables {
		s := p.add(engine.Catalog, 0, "let go of what was kept", "drop table "+quote(t))
		s.PutsBack = []string{t}
	}
}

// notNulls ends with the engine's own proof. Rows that came while a backfill ran
// are filled by a second pass; one that came after that is filled when the proof
// meets it.
func (p *planner) notNulls(name string) {
	var late []string
	mend := map[string]string{}
	for _, c := range p.after.Columns {
		if f, filled := p.fill(c); p.becomesNotNull(c) && filled && f.Kept == nil && f.Expr != nil {
			set := "update " + name + " set " + quote(c.Name) + " = " + p.render(f.Expr, true) + " where "
			late = append(late, set+engine.Range+" and "+quote(c.Name)+" is null")
			mend[c.Name] = set + quote(c.Name) + " is null"
		}
	}
	if n := len(p.steps); len(late) > 0 && n > 0 && p.steps[n-1].Batch != nil {
		s := p.update("fill rows that came meanwhile", late...)
		s.Seconds = s.Seconds / (scanRate / updateRate)
	} else {
		clear(mend) // nobody could write since
	}
	for _, c := range p.after.Columns {
		if !p.becomesNotNull(c) {
			continue
		}
		s := p.add(engine.Scan, scanRate, "make "+c.Name+" not null", "alter table "+name+" alter column "+quote(c.Name)+" set not null")
		if m := mend[c.Name]; m != "" {
			s.Mend = []string{m}
		}
	}
}

// becomesNotNull reports whether a column still has to be made not null once its
// rows are filled.
func (p *planner) becomesNotNull(c *schema.Column) bool {
	_, filled := p.fill(c)
	if old := p.from(c); old != nil {
		return c.NotNull && !old.NotNull
	}
	return c.NotNull && filled && c.Default == nil
}

func (p *planner) addParts(name string) {
	_, keys := p.uniques()
	for _, k := range keys {
		p.add(engine.Build, indexRate, "build the index of constraint "+k.Name, createUnique(p.table, k), noteUnique(p.table, k))
	}
	_, checks := p.checks()
	for _, k := range checks {
		p.add(engine.Scan, scanRate, "add constraint "+k.Name, "alter table "+name+" add constraint "+quote(k.Name)+" check ("+stored(p.after, k.Expr)+")")
	}
	_, indexes := p.indexes()
	for _, x := range indexes {
		p.add(engine.Build, indexRate, "build index "+x.Name, createIndex(p.after, x))
	}
}

// rename gives columns their new names; SQLite rewrites everything that uses them.
func (p *planner) rename() {
	for _, from := range slices.Sorted(maps.Keys(p.renames)) {
		to := p.renames[from]
		p.add(engine.Catalog, 0, "rename column "+from+" to "+to,
			"alter table "+quote(p.table.Name)+" rename column "+quote(from)+" to "+quote(to),
			"update lastboard_note set object = "+literal(to)+" where table_name = "+literal(p.table.Name)+" and object = "+literal(from)+" and kind = 'comment'")
	}
}

// comments writes what changed of them.
func (p *planner) comments() {
	var sql []string
	one := func(object, old, text string) {
		switch {
		case old == text:
		case text == "":
			sql = append(sql, dropNote(p.table.Name, object, "comment"))
		default:
			sql = append(sql, note(p.table.Name, object, "comment", text))
		}
	}
	one("", p.table.Comment, p.after.Comment)
	for _, c := range p.change.After.Columns {
		old := ""
		if from, ok := p.change.From[c.Name]; ok {
			old = p.table.Column(from).Comment
		}
		one(c.Name, old, c.Comment)
	}
	if len(sql) > 0 {
		p.add(engine.Catalog, 0, "write the comment", sql...)
	}
}

// alterProofs asserts, on the rows as they are before anything is changed, that
// they can become what they are meant to be.
func (p *planner) alterProofs() {
	for _, c := range p.after.Columns {
		old := p.from(c)
		f, filled := p.fill(c)
		value, _ := p.value(c, true)
		switch {
		case old == nil && c.Generated == nil && c.NotNull && !filled && c.Default == nil:
			p.proof("prove that "+p.table.Name+" is empty", "", "true", "", engine.Proof{
				Rule: "rows-need-value", Column: c.Name, Message: fmt.Sprintf("table %s has %%d rows, and column %s is not null and says nothing for them", p.table.Name, c.Name),
				Cure: "give it a default, or using (expression), or add it nullable now and set not null later",
			})
		case filled && f.OnlyNull:
			p.castProof(c.Name, f.Expr, quote(c.Name)+" is null")
			p.fitProof(c, p.renderMarked(f.Expr), quote(c.Name)+" is null", f.Expr)
		case filled:
			if f.Expr != nil {
				p.castProof(c.Name, f.Expr, "")
			}
			known := f.Expr
			if f.Kept != nil {
				known = nil
			}
			p.fitProof(c, value, "", known)
		case old != nil && c.NotNull && !old.NotNull:
			p.proof("prove that "+c.Name+" has no null", "", quote(c.Name)+" is null", "", engine.Proof{
				Rule: "rows-would-break", Column: c.Name, Message: fmt.Sprintf("%s is null in %%d rows of %s", c.Name, p.table.Name),
				Cure: "say what they get: set not null using (expression), or fill them with a backfill first",
			})
		}
	}
	_, uniques := p.uniques()
	_, indexes := p.indexes()
	_, checks := p.checks()
	_, keys := p.foreignKeys()
	p.proveUnique(uniques, indexes)
	p.proveChecks(checks)
	p.proveReferences(keys)
}

// columnValue gives what a column of after will hold, as SQL over before.
func (p *planner) columnValue(name string) string {
	c := p.after.Column(name)
	if value, ok := p.set[c.Name]; ok {
		return value
	}
	if old := p.from(c); old != nil {
		if f, ok := p.fill(c); ok && f.OnlyNull {
			return "coalesce(" + quote(old.Name) + ", " + p.renderMarked(f.Expr) + ")"
		}
		return quote(old.Name)
	}
	if c.Generated != nil {
		if c.Generated.Expr.Tree == nil {
			return "null"
		}
		return p.substituted(c.Generated.Expr.Tree)
	}
	value, _ := p.value(c, true)
	return value
}

// substituted renders an expression over after as one over before.
func (p *planner) substituted(e sqltext.Expr) string {
	r := renderer{table: p.after, now: p.now(), column: p.columnValue}
	return r.expr(e, bindOr)
}

func (p *planner) proveUnique(uniques []*schema.Key, indexes []*schema.Index) {
	for _, k := range uniques {
		p.duplicates("constraint "+k.Name, k.Columns, nil, "")
	}
	for _, x := range indexes {
		if !x.Unique {
			continue
		}
		var columns []string
		var values []string
		for _, part := range x.Parts {
			if part.Expr != nil && part.Expr.Tree == nil {
				return
			}
			if part.Expr != nil {
				columns = append(columns, part.Expr.String())
				values = append(values, p.substituted(part.Expr.Tree))
			} else {
				columns = append(columns, part.Column)
				values = append(values, p.columnValue(part.Column))
			}
		}
		only := ""
		if x.Where != nil {
			if x.Where.Tree == nil {
				return
			}
			only = p.substituted(x.Where.Tree)
		}
		p.duplicates("index "+x.Name, columns, values, only)
	}
}

// duplicates asserts that no two rows have the same values; rows with a null are
// like no other. It shows the worst five values.
func (p *planner) duplicates(what string, columns, values []string, only string) {
	if values == nil {
		for _, c := range columns {
			values = append(values, p.columnValue(c))
		}
	}
	var names, present []string
	var list []string
	for i, v := range values {
		names = append(names, fmt.Sprintf("v%d", i+1))
		list = append(list, fmt.Sprintf("%s as v%d", v, i+1))
		present = append(present, fmt.Sprintf("v%d is not null", i+1))
	}
	where := ""
	if only != "" {
		where = " where " + only
	}
	groups := "(select " + strings.Join(names, ", ") + ", count(*) as n from (select " + strings.Join(list, ", ") + " from " + quote(p.table.Name) + where +
		" limit -1) where " + strings.Join(present, " and ") + " group by " + strings.Join(names, ", ") + " having count(*) > 1)"
	p.addProof("prove that no two rows have the same "+strings.Join(columns, ", "), engine.Proof{
		SQL:   "select " + strings.Join(names, ", ") + ", n || ' times' from " + groups + " order by n desc, 1 limit 5",
		Count: "select coalesce(sum(n), 0) from " + groups, Keys: len(names),
		Rule:    "rows-would-break",
		Message: fmt.Sprintf("%s allows each %s once, and %%d rows of %s share theirs with another", what, strings.Join(columns, ", "), p.table.Name),
		Cure:    "make them differ with a backfill first",
	})
}

func (p *planner) proveChecks(checks []*schema.Check) {
	for _, k := range checks {
		if k.Expr.Tree == nil {
			continue
		}
		p.proof("prove that every row passes check "+k.Name, "", "not ("+p.substituted(k.Expr.Tree)+")", "", engine.Proof{
			Rule: "rows-would-break", Message: fmt.Sprintf("check (%s) fails for %%d rows of %s", k.Expr, p.table.Name),
			Cure: "put them right with a backfill first",
		})
	}
}

func (p *planner) proveReferences(foreignKeys []*schema.ForeignKey) {
	for _, k := range foreignKeys {
		// The values are computed apart, where no column of the parent can be taken
		// for one of the table.
		var present, match, values, names []string
		for i, c := range k.Columns {
			name := fmt.Sprintf("lastboard_v%d", i+1)
			names = append(names, name)
			values = append(values, p.columnValue(c)+" as "+name)
			present = append(present, name+" is not null")
			if i < len(k.References) {
				match = append(match, "p."+quote(k.References[i])+" = "+name)
			}
		}
		keys := sample(p.table)
		source := " from (select " + aliased(keys) + ", " + strings.Join(values, ", ") + " from " + quote(p.table.Name) + " limit -1) where " +
			strings.Join(present, " and ") + " and not exists (select 1 from " + quote(k.Table) + " p where " + strings.Join(match, " and ") + ")"
		p.addProof("prove that every row of "+p.table.Name+" refers to a row of "+k.Table, engine.Proof{
			SQL:   "select " + keptSQL("key", len(keys)) + ", " + strings.Join(names, ", ") + source + " limit 5",
			Count: "select count(*)" + source, Keys: len(keys),
			Rule:    "rows-would-break",
			Message: fmt.Sprintf("no row of %s has the %s of %%d rows of %s", k.Table, strings.Join(k.Columns, ", "), p.table.Name),
			Cure:    "give them another with a backfill first, or take them away",
		})
	}
}
