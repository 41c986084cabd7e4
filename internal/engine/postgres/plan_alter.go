package postgres

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// alter changes a table in place. What is metadata is done at once; what has to read
// or write every row of a large table is done where no writer waits for it.
func (p *planner) alter() {
	c := p.Change
	p.After, p.Renames = c.BeforeRenames()
	p.remake()
	p.AlterProofs()
	p.ProofsFirst()
	p.unsupply()
	p.ownParts()
	p.dropParts()
	p.addColumns()
	p.fill()
	p.supply()
	converted := p.converted()
	p.notNulls(slices.DeleteFunc(slices.Clone(p.After.Columns),
		func(c *schema.Column) bool { return slices.Contains(converted, c) }))
	p.keepDropped()
	p.endKeeping()
	p.unlink()
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
	p.reorder()
	p.rename()
	p.comments()
	p.restart(c.After)
	if c.Rebuild && !reorders(c) {
		p.rewriteWhole()
	}
}

func (p *planner) table() string { return name(p.Table.Name) }

// alterTable adds a step of one statement on the table.
func (p *planner) alterTable(kind engine.Kind, rate float64, what string, actions ...string) *engine.Step {
	return p.Add(kind, rate, what, "alter table "+p.table()+" "+strings.Join(actions, ", "))
}

// outside adds a step whose statements are each a transaction of their own.
func (p *planner) outside(kind engine.Kind, rate float64, lock, what, done string, clean []engine.Statement,
	statements ...engine.Statement) *engine.Step {
	s := p.Add(kind, rate, what)
	for _, st := range statements {
		if st.First != "" {
			s.SQL = append(s.SQL, st.First)
		}
		s.SQL = append(s.SQL, st.SQL)
	}
	s.Outside = &engine.Outside{Statements: statements, Done: done, Clean: clean}
	s.Lock, s.WritersWait = lock, engine.WaitBriefly
	s.Strong = []string{p.Table.Name}
	return s
}

// hasConstraint gives a row when a constraint stands and has been proven.
func (p *planner) hasConstraint(constraint string) string {
	return "select 1 from pg_constraint where conrelid = to_regclass(" + literal(p.table()) + ") and conname = " +
		literal(constraint) + " and convalidated"
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
		uses := slices.ContainsFunc(p.changing, func(n string) bool {
			return old.Generated != nil && old.Generated.Expr.Mentions(n)
		})
		if p.Recomputed(c) || uses || declaration(old) != declaration(c) {
			p.remade = append(p.remade, c.Name)
		}
	}
}

// changingTypes lists the columns that the server gives another type.
func (p *planner) changingTypes() []string {
	var list []string
	for _, c := range p.After.Columns {
		if old := p.From(c); old != nil && c.Generated == nil &&
			(declaration(old) != declaration(c) || old.Collate != c.Collate) {
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
	for _, x := range p.parts.GoneIndexes {
		if !slices.ContainsFunc(p.Dropped(), func(c *schema.Column) bool { return x.Uses(c.Name) }) {
			p.Add(engine.Catalog, 0, "drop index "+x.Name, "drop index "+beside(p.Table.Name, x.Name))
		}
	}
	var names []string
	for _, k := range p.parts.GoneKeys {
		names = append(names, k.Name)
	}
	for _, k := range append(p.parts.GoneChecks, p.reworded(p.Table.Checks)...) {
		names = append(names, k.Name)
	}
	references := p.parts.GoneReferences
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

// dropColumns takes columns away, generated ones first.
// unfollow lets go of what follows rows by a column that goes. One trigger names it, the
// functions of all of them do.
func (p *planner) unfollow(column string) {
	for _, tr := range p.Table.Own {
		kept := keptBy(tr)
		if !schema.HasName(updatesOf(tr.SQL), column) {
			continue
		}
		for _, o := range p.Table.Own {
			if o == tr || kept != "" && keptBy(o) == kept {
				p.Add(engine.Sync, 0, "let go of "+o.Name, "drop trigger if exists "+quote(o.Name)+" on "+
					p.table()).Strong = []string{p.Table.Name}
			}
		}
	}
}

func (p *planner) dropColumns() {
	var actions []string
	p.endFill()
	for _, c := range p.Dropped() {
		if c.OnUpdateNow {
			s := p.Add(engine.Sync, 0, "keep no time in "+c.Name, dropOnUpdate(p.Table, onUpdateName(p.Table, c))...)
			s.Strong = []string{p.Table.Name}
		}
		p.unfollow(c.Name)
		if sql := p.unwatch(c.Name); len(sql) > 0 {
			p.Add(engine.Sync, 0, "count no more who writes "+c.Name, sql...).Strong = []string{p.Table.Name}
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
		s := p.alterTable(engine.Catalog, 0, "rename column "+from+" to "+to, "rename column "+quote(from)+" to "+quote(to))
		s.SQL = append(s.SQL, p.followRenamed(from)...)
	}
	if final.Name != p.Table.Name {
		s := p.alterTable(engine.Catalog, 0, "rename table "+p.Table.Name+" to "+final.Name,
			"rename to "+quote(tableOf(final).Name))
		p.standIn(s)
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
	s := p.outside(engine.Rewrite, rewriteRate, lockExclusive, "write "+p.Change.After.Name+" anew", "", nil,
		engine.Statement{SQL: "vacuum (full) " + name(p.Change.After.Name), Direct: true})
	s.Rewrites, s.WritersWait = true, engine.WaitBriefly
	if s.Seconds > p.Facts.Short {
		s.WritersWait = engine.WaitThroughout
	}
}
