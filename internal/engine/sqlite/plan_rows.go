package sqlite

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// keptSQL names the columns of a table of kept values: k1… is the key, o1… the
// old values, w1… what the migration wrote.
func keptSQL(letter string, n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("%s%d", letter, i+1)
	}
	return strings.Join(list, ", ")
}

// createKept gives the statement that makes such a table for a backfill. Keys have
// the types of their columns, or SQLite could not look a row up by them; so has
// what was written, so that it compares equal to what the column made of it.
func createKept(t *schema.Table, name string, keys, values []string) string {
	typed := func(letter string, columns []string) string {
		list := make([]string, len(columns))
		for i, c := range columns {
			list[i] = fmt.Sprintf("%s%d %s", letter, i+1, declaration(t.Column(c), t.Options["strict"] != ""))
		}
		return strings.Join(list, ", ")
	}
	return "create table " + quote(name) + " (" + typed("k", keys) + ", " + keptSQL("o", len(values)) + ", " + typed("w", values) +
		", primary key (" + keptSQL("k", len(keys)) + ")) without rowid"
}

// keptMatch gives the condition that a kept row k belongs to a row of the table.
func keptMatch(t *schema.Table, keys []string) string {
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = fmt.Sprintf("k.k%d = %s.%s", i+1, quote(t.Name), quote(k))
	}
	return strings.Join(parts, " and ")
}

// short reports whether a change of every row fits into the time for which
// writers may wait.
func (p *planner) short(rate float64) bool { return float64(p.rows)/rate <= p.facts.Short }

// update adds the step that runs statements over the whole table: at once for a
// table that is small enough, else in batches. Each statement holds the mark
// engine.Range.
func (p *planner) update(what string, statements ...string) *engine.Step {
	standing := p.table
	if p.standing != nil {
		standing = p.standing
	}
	statements = quietly(standing, statements)
	if p.short(updateRate) || cursor(p.table) == nil {
		return p.add(engine.Backfill, updateRate, what, everywhere(statements)...)
	}
	s := p.add(engine.Backfill, updateRate, what)
	s.WritersWait = engine.WaitBriefly
	s.Lock = "the file's write lock, for a batch at a time"
	s.Batch = batch(p.table, statements...)
	s.SQL = statements
	return s
}

// everywhere lets statements of a batch act on every row at once.
func everywhere(statements []string) []string {
	list := make([]string, len(statements))
	for i, s := range statements {
		list[i] = strings.ReplaceAll(strings.ReplaceAll(s, " where "+engine.Range+" and ", " where "), " where "+engine.Range, "")
	}
	return list
}

// backfill computes values for rows that are there, and keeps the old ones.
func (p *planner) backfill(c *schema.RowChange) []*engine.Step {
	t := c.Table
	load := p.readSource(c) // before the proofs, which read what it makes
	condition := ""
	if c.Where != nil {
		condition = "(" + p.render(c.Where, true) + ")"
	}
	p.rowProofs(c, condition)
	f := p.filling(c, condition)
	keys := t.Key()
	if !c.Discard && keys == nil {
		p.fail(&engine.Refused{
			Message: fmt.Sprintf("table %s has no primary key, so that its old values could not be put back to the right rows", t.Name),
			Cure:    "add a primary key first, or write discard to give the old values up",
		})
		return nil
	}
	var statements []string
	if c.Discard {
		statements = []string{"update " + quote(t.Name) + " set " + strings.Join(f.sets, ", ") + f.from + f.where}
	} else {
		kept := p.facts.KeptTable()
		place := p.add(engine.Catalog, 0, "make a place for the old values of "+t.Name, createKept(t, kept, keys, f.columns))
		place.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, Keys: keys, Columns: f.columns, What: engine.KeptValues}}
		p.follow(place, true)
		statements = f.keeping(p, t, kept, keys)
	}
	s := p.update("fill "+strings.Join(f.columns, ", ")+" of "+t.Name, statements...)
	if s.Batch != nil && p.source != nil {
		for i, k := range s.Batch.Keys {
			s.Batch.Keys[i] = quote(t.Name) + "." + k
		}
	}
	var preview []string
	for i, column := range f.columns {
		preview = append(preview, p.own(column)+" as "+quote(column+" before"), f.values[i]+" as "+quote(column+" after"))
	}
	s.Preview = p.preview(preview, condition)
	if load {
		p.add(engine.Catalog, 0, "let go of what was read", "drop table main."+quote(p.source.Table.Name))
	}
	return p.steps
}

// filling is what a backfill writes, as SQL.
type filling struct {
	columns, values, sets []string
	from, where           string
	steady                bool // computed again, it gives the same
}

func (p *planner) filling(c *schema.RowChange, condition string) *filling {
	f := &filling{where: " where " + engine.Range, steady: true}
	for _, set := range c.Set {
		value := p.render(set.Value, true)
		f.sets = append(f.sets, quote(set.Column)+" = "+value)
		f.columns = append(f.columns, set.Column)
		f.values = append(f.values, value)
		f.steady = f.steady && schema.Unsteady(set.Value) == "" && !sqltext.HasSubquery(set.Value)
	}
	if p.source != nil {
		f.steady = false
		f.from = " from " + quote(p.source.Table.Name) + " as " + quote(p.source.Alias)
		f.where += " and " + p.joined()
	}
	if condition != "" {
		f.where += " and " + condition
	}
	return f
}

// keeping gives the statements that keep old values with what is written, and write
// it.
func (f *filling) keeping(p *planner, t *schema.Table, kept string, keys []string) []string {
	list := make([]string, 0, len(keys)+2*len(f.columns))
	for _, k := range append(slices.Clone(keys), f.columns...) {
		list = append(list, p.own(k))
	}
	insert := "insert into " + quote(kept) + " select " + strings.Join(append(list, f.values...), ", ") + " from " + p.tables() + f.where
	sets, where := f.sets, f.where
	if !f.steady {
		// What is written must be what is kept as written, so it is computed once.
		sets = nil
		for i, column := range f.columns {
			sets = append(sets, fmt.Sprintf("%s = (select k.w%d from %s k where %s)", quote(column), i+1, quote(kept), keptMatch(t, keys)))
		}
		where = " where " + engine.Range + " and exists (select 1 from " + quote(kept) + " k where " + keptMatch(t, keys) + ")"
	}
	return []string{insert, "update " + quote(t.Name) + " set " + strings.Join(sets, ", ") + where}
}

// preview gives the query that shows what some rows would get.
func (p *planner) preview(values []string, condition string) string {
	keys := p.keys()
	where := ""
	if condition != "" {
		where = " where " + condition
	}
	order := ""
	if len(keys) > 0 {
		order = " order by " + strings.Join(keys, ", ")
	}
	return "select " + strings.Join(append(slices.Clone(keys), values...), ", ") + " from " + p.rowsOf() + where + order + " limit ?"
}

// putBackSQL gives rows the i-th kept value where they still hold what was
// written.
func putBackSQL(t *schema.Table, column string, k *schema.Kept, i int) string {
	name, kept, match := quote(t.Name), quote(k.Table), keptMatch(t, k.Keys)
	return fmt.Sprintf("update %s set %s = (select k.o%d from %s k where %s) where %s and exists (select 1 from %s k where %s and k.w%d is %s.%s)",
		name, quote(column), i, kept, match, engine.Range, kept, match, i, name, quote(column))
}

// putBack gives rows their kept values again where they still hold what was
// written.
func (p *planner) putBack(c *schema.RowChange) []*engine.Step {
	t, k := c.Table, c.PutBack
	var columns, statements []string
	for i, set := range c.Set {
		columns = append(columns, set.Column)
		statements = append(statements, putBackSQL(t, set.Column, k, i+1))
	}
	p.update("put the old values of "+strings.Join(columns, ", ")+" back", statements...)
	p.letGo([]string{k.Table})
	return p.steps
}
