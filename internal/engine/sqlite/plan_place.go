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

// keepDropped keeps the values of columns that are dropped, in the transaction
// that drops them.
func (p *planner) keepDropped() {
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
	kept := p.facts.KeptTable()
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
	kept := p.facts.KeptTable()
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
