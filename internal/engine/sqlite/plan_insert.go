package sqlite

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/engine"
)

// watcher notes the keys of rows while they are inserted, on this connection alone.
const watcher = engine.Prefix + "inserted"

// insert adds rows and notes their keys, so that the way back takes exactly these.
func (p *planner) insert(c *schema.InsertChange) []*engine.Step {
	t := c.Table
	if c.Back {
		p.putRowsBack(c.PutBack)
		return p.steps
	}
	source := p.inserted(c)
	p.newKeys(c, source)
	what, rate := fmt.Sprintf("insert %d rows into %s", len(c.Rows), t.Name), 0.0
	if len(c.Rows) == 1 {
		what = "insert a row into " + t.Name
	}
	if c.Query != nil {
		what, rate = "insert rows into "+t.Name, rewriteRate
	}
	keys := t.Key()
	kept := p.facts.KeptTable()
	columns := make([]string, len(keys))
	values := make([]string, len(keys))
	for i, k := range keys {
		columns[i] = fmt.Sprintf("k%d %s", i+1, declaration(t.Column(k), t.Options["strict"] != ""))
		values[i] = "new." + quote(k)
	}
	sql := []string{
		"create table " + quote(kept) + " (" + strings.Join(columns, ", ") + ", primary key (" + keptSQL("k", len(keys)) + ")) without rowid",
		"create temp trigger " + watcher + " after insert on main." + quote(t.Name) + " begin insert into " + quote(kept) + " values (" + strings.Join(values, ", ") + "); end",
	}
	if c.PutBack != nil {
		sql = append(sql, p.restoreRows(c.PutBack))
	} else {
		sql = append(sql, "insert into "+quote(t.Name)+" ("+quoteAll(c.Columns)+") "+source)
	}
	s := p.add(engine.Backfill, rate, what, append(sql, "drop trigger temp."+watcher)...)
	s.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, Keys: keys, What: engine.KeptKeys}}
	if c.PutBack != nil {
		p.letGo([]string{c.PutBack.Table})
	}
	return p.steps
}

// inserted gives the rows of an insert, as SQL.
func (p *planner) inserted(c *schema.InsertChange) string {
	if c.Query != nil {
		return c.Query.Text
	}
	rows := make([]string, len(c.Rows))
	r := renderer{strict: true, now: p.now()}
	for i, row := range c.Rows {
		rows[i] = "(" + r.list(row) + ")"
	}
	if r.err != nil {
		p.fail(&engine.Refused{Message: r.err.Error()})
	}
	return "values " + strings.Join(rows, ", ")
}

// newKeys asserts that no row has a key that is inserted, and that none is inserted
// twice.
func (p *planner) newKeys(c *schema.InsertChange, source string) {
	t := c.Table
	keys := []*schema.Key{}
	if t.PrimaryKey != nil {
		keys = append(keys, t.PrimaryKey)
	}
	names := make([]string, len(c.Columns))
	for i := range names {
		names[i] = fmt.Sprintf("v%d", i+1)
	}
	with := "with v (" + strings.Join(names, ", ") + ") as (" + source + ") "
	value := func(column string) string {
		if i := slices.Index(c.Columns, column); i >= 0 {
			return "v." + names[i]
		}
		return ""
	}
	p.newReferences(c, with, value)
	for _, k := range append(keys, t.Uniques...) {
		var values, match []string
		for _, column := range k.Columns {
			if v := value(column); v != "" {
				values = append(values, v)
				match = append(match, quote(t.Name)+"."+quote(column)+" = "+v)
			}
		}
		if len(values) < len(k.Columns) {
			continue // a default or a number makes it
		}
		list := strings.Join(values, ", ")
		taken := "v where exists (select 1 from " + quote(t.Name) + " where " + strings.Join(match, " and ") + ")"
		p.addProof("prove that no row of "+t.Name+" has the "+strings.Join(k.Columns, ", ")+" of a new one", engine.Proof{
			SQL: with + "select " + list + " from " + taken + " limit 5", Count: with + "select count(*) from " + taken, Keys: len(values), Rule: "key-exists",
			Message: fmt.Sprintf("%%d of the rows to insert have the %s of a row that %s has", strings.Join(k.Columns, ", "), t.Name),
			Cure:    "insert reference rows that are not there yet; change others with a backfill",
		})
	}
}

// newReferences asserts that rows to insert refer to rows that are there.
func (p *planner) newReferences(c *schema.InsertChange, with string, value func(column string) string) {
	for _, k := range c.Table.ForeignKeys {
		var values, present, match []string
		for i, column := range k.Columns {
			v := value(column)
			if v == "" || i >= len(k.References) {
				break
			}
			values, present = append(values, v), append(present, v+" is not null")
			match = append(match, "p."+quote(k.References[i])+" = "+v)
		}
		if len(values) < len(k.Columns) || k.Table == c.Table.Name {
			continue
		}
		orphans := "v where " + strings.Join(present, " and ") + " and not exists (select 1 from " + quote(k.Table) + " p where " + strings.Join(match, " and ") + ")"
		p.addProof("prove that every new row refers to a row of "+k.Table, engine.Proof{
			SQL: with + "select " + strings.Join(values, ", ") + " from " + orphans + " limit 5", Count: with + "select count(*) from " + orphans, Keys: len(values),
			Rule: "rows-would-break", Reads: []string{k.Table},
			Message: fmt.Sprintf("no row of %s has the %s of %%d rows to insert (foreign key %s)", k.Table, strings.Join(k.Columns, ", "), k.Name),
			Cure:    "insert the row that they refer to first",
		})
	}
}

// restoreRows gives the statement that puts whole rows back.
func (p *planner) restoreRows(k *schema.Kept) string {
	t := p.table
	columns := t.Stored()
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = quote(c.Name)
	}
	list := strings.Join(names, ", ")
	target, source := list, list
	if name := rowName(t); name != "" && alias(t) == "" {
		target, source = name+", "+list, quote(keptRow)+", "+list
	}
	return "insert into " + quote(t.Name) + " (" + target + ") select " + source + " from " + quote(k.Table)
}

// putRowsBack brings deleted rows back. A row that has the key of one since then is
// another row.
func (p *planner) putRowsBack(k *schema.Kept) {
	t := p.table
	match := make([]string, len(k.Keys))
	for i, key := range k.Keys {
		match[i] = quote(t.Name) + "." + quote(key) + " = k." + quote(key)
	}
	taken := quote(k.Table) + " k where exists (select 1 from " + quote(t.Name) + " where " + strings.Join(match, " and ") + ")"
	names := make([]string, len(k.Keys))
	for i, key := range k.Keys {
		names[i] = "k." + quote(key)
	}
	p.addProof("prove that no deleted key of "+t.Name+" is in use again", engine.Proof{
		SQL: "select " + strings.Join(names, ", ") + " from " + taken + " limit 5", Count: "select count(*) from " + taken, Keys: len(names), Rule: "key-exists",
		Message: fmt.Sprintf("%%d rows of %s have the keys of rows that would come back", t.Name),
		Cure:    "give those rows other keys, or discard what is kept of this migration",
	})
	p.add(engine.Backfill, rewriteRate, "put the deleted rows of "+t.Name+" back", p.restoreRows(k))
	p.letGo([]string{k.Table})
}

// delete takes rows away in batches and keeps them.
func (p *planner) delete(c *schema.DeleteChange) []*engine.Step {
	t := p.table
	condition := ""
	if c.Where != nil {
		condition = "(" + p.render(c.Where, true) + ")"
	}
	if n := c.Noted; n != nil {
		condition = "exists (select 1 from " + quote(n.Table) + " k where " + keptMatch(t, n.Keys) + ")"
	}
	where := " where " + engine.Range + " and " + condition
	guards := p.unreferred(condition, where)
	var statements []string
	if keys := t.Key(); !c.Discard && keys != nil {
		kept := p.facts.KeptTable()
		columns := p.wholeRow()
		p.add(engine.Catalog, 0, "make a place for the rows that go", "create table "+quote(kept)+" as select "+columns+" from "+quote(t.Name)+" where false").Keeps =
			[]*engine.Keeping{{Table: t.Name, Kept: kept, Keys: keys, What: engine.KeptRows}}
		statements = append(statements, "insert into "+quote(kept)+" select "+columns+" from "+quote(t.Name)+where)
	}
	statements = unfollowed(t, append(append(guards, statements...), "delete from "+quote(t.Name)+where))
	var s *engine.Step
	if refersToItself(t) {
		s = p.add(engine.Backfill, updateRate, "delete rows of "+t.Name, everywhere(statements)...)
	} else {
		s = p.update("delete rows of "+t.Name, statements...)
	}
	s.Preview = "select * from " + quote(t.Name) + " where " + condition + " limit ?"
	if c.Noted != nil {
		s.Preview = ""
		p.letGo([]string{c.Noted.Table})
	}
	return p.steps
}

// wholeRow lists what is kept of a row that goes.
func (p *planner) wholeRow() string {
	var list []string
	if name := rowName(p.table); name != "" && alias(p.table) == "" {
		list = append(list, name+" as "+quote(keptRow))
	}
	for _, c := range p.table.Stored() {
		list = append(list, quote(c.Name))
	}
	return strings.Join(list, ", ")
}

func refersToItself(t *schema.Table) bool {
	return slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool { return schema.SameName(k.Table, t.Name) })
}

// unreferred asserts that no row elsewhere refers to one that goes: before anything
// is changed, and in each batch.
func (p *planner) unreferred(condition, where string) (guards []string) {
	t := p.table
	for _, r := range p.facts.Schema.References(t.Name) {
		var match []string
		for i, column := range r.Key.Columns {
			if i < len(r.Key.References) {
				match = append(match, "c."+quote(column)+" = "+quote(t.Name)+"."+quote(r.Key.References[i]))
			}
		}
		refers := "exists (select 1 from " + quote(r.Table.Name) + " c where " + strings.Join(match, " and ")
		if r.Table.Name == t.Name {
			keys := sample(t)
			list := make([]string, len(keys))
			for i, k := range keys {
				list[i] = "c." + k
			}
			refers += " and (" + strings.Join(list, ", ") + ") not in (select " + strings.Join(keys, ", ") + " from " + quote(t.Name) + " where " + condition + ")"
		}
		refers += ")"
		keys := sample(t)
		source := " from " + quote(t.Name) + " where " + condition + " and " + refers
		p.addProof("prove that no row of "+r.Table.Name+" refers to a row that goes", engine.Proof{
			SQL: "select " + strings.Join(keys, ", ") + source + " limit 5", Count: "select count(*)" + source, Keys: len(keys), Rule: "rows-would-break",
			Reads:   []string{r.Table.Name},
			Message: fmt.Sprintf("rows of %s refer to %%d rows of %s that would be deleted (foreign key %s)", r.Table.Name, t.Name, r.Key.Name),
			Cure:    "let them refer to other rows with a backfill first, or delete them before",
		})
		guards = append(guards, "select 'a row of "+strings.ReplaceAll(r.Table.Name, "'", "''")+" refers to a row that would be deleted' from "+quote(t.Name)+where+" and "+refers+" limit 1")
	}
	return guards
}
