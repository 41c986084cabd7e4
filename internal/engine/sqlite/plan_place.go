package sqlite

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// value gives what existing rows get in a column, as SQL over before; ok is false
// when SQLite's own default says it.
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
	from := p.keptFor(c, f.Kept)
	value := "(select k." + f.Kept.Column + from + ")"
	if rest == "null" {
		return value, true
	}
	return "case when exists (select 1" + from + ") then " + value + " else " + rest + " end", true
}

// keptFor gives the part of a query that finds the kept row for a row's column.
func (p *planner) keptFor(c *schema.Column, k *schema.Kept) string {
	from := " from " + quote(k.Table) + " k where " + keptMatch(p.table, k.Keys)
	if k.Wrote != "" {
		from += " and k." + k.Wrote + " is " + quote(p.table.Name) + "." + quote(p.from(c).Name)
	}
	return from
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
		if c.OnUpdateNow {
			p.add(engine.Sync, 0, "keep no time in "+c.Name, "drop trigger "+quote(onUpdateName(p.table, c)))
		}
		for _, tr := range p.table.Own {
			if (&schema.Expr{Native: tr.SQL}).Mentions(c.Name) {
				p.add(engine.Sync, 0, "let go of "+tr.Name, "drop trigger if exists "+quote(tr.Name))
			}
		}
		var sql []string
		if c.Limit != "" { // which may stand behind the columns, where it would name one that is gone
			sql = append(sql, "alter table "+name+" drop constraint "+quote(c.Limit))
		}
		p.add(engine.Rewrite, rewriteRate, "drop column "+c.Name, append(sql, "alter table "+name+" drop column "+quote(c.Name), dropNote(p.table.Name, c.Name, "comment"))...)
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
	for _, c := range p.after.Columns {
		if old := p.from(c); old != nil && p.limitChanges(old, c) {
			p.add(engine.Catalog, 0, "let "+c.Name+" hold other values", "alter table "+name+" drop constraint "+quote(old.Limit))
		}
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
		if !ok || f.OnlyNull || p.from(c) != nil {
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
		if p.recomputed(c) && c.Generated.Expr.Tree != nil {
			for _, name := range p.after.Mentioned(c.Generated.Expr) {
				if col := p.table.Column(name); col != nil && !slices.Contains(sources, quote(name)) && !slices.Contains(sample(p.table), quote(name)) {
					sources = append(sources, quote(name))
				}
			}
			name := c.Name
			if p.from(c) != nil {
				sources = append(sources, quote(p.from(c).Name))
				name += " after"
			}
			values = append(values, p.substituted(c.Generated.Expr.Tree)+" as "+quote(name))
			continue
		}
		f, ok := p.fill(c)
		if !ok || f.OnlyNull || f.Kept != nil || f.Expr == nil || p.from(c) != nil && p.limitChanges(p.from(c), c) {
			continue
		}
		for _, r := range sqltext.Refs(f.Expr) {
			if col := p.table.Column(r.Column); col != nil && !slices.Contains(sources, quote(col.Name)) && !slices.Contains(sample(p.table), quote(col.Name)) {
				sources = append(sources, quote(col.Name))
			}
		}
		value, _ := p.value(c, true)
		name := c.Name
		if to, ok := p.renames[name]; ok {
			name = to
		} else if p.from(c) != nil {
			name += " after"
		}
		values = append(values, value+" as "+quote(name))
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
	remember := p.rememberNulls(name, c, value, where)
	p.update("fill "+c.Name+" where it is null", append(remember, "update "+name+" set "+quote(c.Name)+" = "+value+where)...)
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
		s := p.add(engine.Catalog, 0, "let go of what was kept", forget(t)...)
		s.PutsBack = []string{t}
	}
}

// notNulls ends with the engine's own proof. Rows that came while a backfill ran
// are filled by a second pass where applications write; one that came after that
// is filled when the proof meets it.
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
	if n := len(p.steps); len(late) == 0 || n == 0 || p.steps[n-1].Batch == nil {
		clear(mend) // nobody could write since
	} else if p.facts.Live {
		s := p.update("fill rows that came meanwhile", late...)
		s.Seconds = s.Seconds / (scanRate / updateRate)
	}
	for _, c := range p.after.Columns {
		if !p.becomesNotNull(c) {
			continue
		}
		s := p.add(engine.Scan, scanRate, "make "+c.Name+" not null", "alter table "+name+" alter column "+quote(c.Name)+" set not null")
		if m := mend[c.Name]; m != "" {
			s.Mend = quietly(p.table, []string{m})
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
	for _, c := range p.after.Columns {
		if old := p.from(c); old != nil && p.limitChanges(old, c) {
			p.add(engine.Scan, scanRate, "let "+c.Name+" hold "+c.Type.String(), "alter table "+name+" add constraint "+quote(c.Limit)+" check ("+limit(c.Type, c.Name)+")")
		}
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

// rename gives columns and the table their new names; SQLite rewrites everything
// that uses them. The triggers that keep times are named after both, and are made
// anew.
func (p *planner) rename() {
	final := p.change.After
	gone, added := onUpdateChanges(p.standing, final)
	for _, name := range gone {
		p.add(engine.Sync, 0, "drop trigger "+name, "drop trigger "+quote(name))
	}
	for _, from := range slices.Sorted(maps.Keys(p.renames)) {
		to := p.renames[from]
		p.add(engine.Catalog, 0, "rename column "+from+" to "+to,
			"alter table "+quote(p.table.Name)+" rename column "+quote(from)+" to "+quote(to),
			"update lastboard_note set object = "+literal(to)+" where table_name = "+literal(p.table.Name)+" and object = "+literal(from)+" and kind = 'comment'")
	}
	if final.Name != p.table.Name {
		p.add(engine.Catalog, 0, "rename table "+p.table.Name+" to "+final.Name,
			"alter table "+quote(p.table.Name)+" rename to "+quote(final.Name),
			"update lastboard_note set table_name = "+literal(final.Name)+" where table_name = "+literal(p.table.Name))
	}
	for _, c := range added {
		p.add(engine.Sync, 0, "keep the time of each update in "+c.Name, onUpdateSQL(final, c))
	}
}

// surviving gives the table of before without the columns that are dropped.
func (p *planner) surviving() *schema.Table {
	t := *p.table
	dropped := p.dropped()
	t.Columns = slices.DeleteFunc(slices.Clone(t.Columns), func(c *schema.Column) bool { return slices.Contains(dropped, c) })
	return &t
}

// comments writes what changed of them.
func (p *planner) comments() {
	var sql []string
	name := p.change.After.Name
	one := func(object, old, text string) {
		switch {
		case old == text:
		case text == "":
			sql = append(sql, dropNote(name, object, "comment"))
		default:
			sql = append(sql, note(name, object, "comment", text))
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
