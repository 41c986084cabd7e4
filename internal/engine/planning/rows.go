package planning

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// KeptSQL names the columns of a table of kept values: k1… is the key, o1… the
// old values, w1… what the migration wrote.
func KeptSQL(letter string, n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("%s%d", letter, i+1)
	}
	return strings.Join(list, ", ")
}

// KeptMatch gives the condition that a kept row k belongs to a row of the table.
func (p *Planner) KeptMatch(t *schema.Table, keys []string) string {
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = fmt.Sprintf("k.k%d = %s.%s", i+1, p.Name(t.Name), p.Column(k))
	}
	return strings.Join(parts, " and ")
}

// Short reports whether a change of every row fits into the time for which
// writers may wait.
func (p *Planner) Short(rate float64) bool { return float64(p.Rows)/rate <= p.Facts.Short }

// Update adds the step that runs statements over the whole table: at once for a
// table that is small enough, else in batches. Each statement holds the mark
// engine.Range.
func (p *Planner) Update(what string, statements ...string) *engine.Step {
	standing := p.Table
	if p.Standing != nil {
		standing = p.Standing
	}
	statements = p.Quietly(standing, statements)
	if p.Short(p.Rates.Update) || p.Cursor(p.Table) == nil {
		return p.Add(engine.Backfill, p.Rates.Update, what, Everywhere(statements)...)
	}
	s := p.Add(engine.Backfill, p.Rates.Update, what)
	p.InBatches(s, p.Batch(p.Table, statements...))
	return s
}

// InBatches makes a step one of batches. Those beside applications leave most of the time
// to them.
func (p *Planner) InBatches(s *engine.Step, b *engine.Batch) {
	rate := p.Rates.Update
	if p.Facts.Live {
		rate = p.Rates.Paced
	}
	s.WritersWait, s.Lock, s.Seconds, s.Batch, s.SQL = engine.WaitBriefly, p.BatchLock, p.takes(rate), b, b.Do
}

// Everywhere lets statements of a batch act on every row at once.
func Everywhere(statements []string) []string {
	list := make([]string, len(statements))
	for i, s := range statements {
		list[i] = strings.ReplaceAll(strings.ReplaceAll(s, " where "+engine.Range+" and ", " where "), " where "+engine.Range, "")
	}
	return list
}

// Backfill computes values for rows that are there, and keeps the old ones.
func (p *Planner) Backfill(c *schema.RowChange) []*engine.Step {
	t := c.Table
	load := p.ReadSource(c) // before the proofs, which read what it makes
	condition := ""
	if c.Where != nil {
		condition = "(" + p.Render(c.Where, Computed) + ")"
	}
	p.RowProofs(c, condition)
	f := p.filling(c, condition)
	keys := t.Key()
	if !c.Discard && keys == nil {
		p.Fail(&engine.Refused{
			Message: fmt.Sprintf("table %s has no primary key, so that its old values could not be put back to the right rows", t.Name),
			Cure:    "add a primary key first, or write discard to give the old values up",
		})
		return nil
	}
	var statements []string
	if c.Discard {
		statements = []string{"update " + p.Name(t.Name) + " set " + strings.Join(f.sets, ", ") + f.where}
		if f.others != "" {
			statements = []string{p.UpdateFrom(p.Name(t.Name), f.others, f.columns, f.values, f.where)}
		}
	} else {
		kept := p.Facts.KeptTable()
		place := p.Add(engine.Catalog, 0, "make a place for the old values of "+t.Name, p.CreateKept(t, kept, keys, f.columns))
		place.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, Keys: keys, Columns: f.columns, What: engine.KeptValues}}
		p.Dialect.Follow(p, place, true)
		statements = f.keeping(p, t, kept, keys)
	}
	s := p.Update("fill "+strings.Join(f.columns, ", ")+" of "+t.Name, statements...)
	if s.Batch != nil && p.Source != nil {
		for i, k := range s.Batch.Keys {
			s.Batch.Keys[i] = p.Name(t.Name) + "." + k
		}
	}
	var preview []string
	for i, column := range f.columns {
		preview = append(preview, p.Own(column)+" as "+p.Column(column+" before"), f.values[i]+" as "+p.Column(column+" after"))
	}
	s.Preview = p.Preview(preview, condition)
	if load != nil {
		p.Add(engine.Catalog, 0, "let go of what was read", load.Undo...)
	}
	return p.Steps
}

// filling is what a backfill writes, as SQL.
type filling struct {
	columns, values, sets []string
	others, where         string
	steady                bool // computed again, it gives the same
}

func (p *Planner) filling(c *schema.RowChange, condition string) *filling {
	f := &filling{where: " where " + engine.Range, steady: true}
	for _, set := range c.Set {
		value := p.Render(set.Value, Computed)
		f.sets = append(f.sets, p.Column(set.Column)+" = "+value)
		f.columns = append(f.columns, set.Column)
		f.values = append(f.values, value)
		f.steady = f.steady && schema.Unsteady(set.Value) == "" && !sqltext.HasSubquery(set.Value)
	}
	if p.Source != nil {
		f.steady = false
		f.others = p.Name(p.Source.Table.Name) + " as " + p.Column(p.Source.Alias)
		f.where += " and " + p.Joined()
	}
	if condition != "" {
		f.where += " and " + condition
	}
	return f
}

// keeping gives the statements that keep old values with what is written, and write
// it.
func (f *filling) keeping(p *Planner, t *schema.Table, kept string, keys []string) []string {
	list := make([]string, 0, len(keys)+2*len(f.columns))
	for _, k := range append(slices.Clone(keys), f.columns...) {
		list = append(list, p.Own(k))
	}
	insert := "insert into " + p.Name(kept) + " select " + strings.Join(append(list, f.values...), ", ") + " from " + p.Tables() + f.where
	sets, where := f.sets, f.where
	if !f.steady {
		// What is written must be what is kept as written, so it is computed once.
		sets = nil
		for i, column := range f.columns {
			sets = append(sets, fmt.Sprintf("%s = (select k.w%d from %s k where %s)", p.Column(column), i+1, p.Name(kept), p.KeptMatch(t, keys)))
		}
		where = " where " + engine.Range + " and exists (select 1 from " + p.Name(kept) + " k where " + p.KeptMatch(t, keys) + ")"
	}
	return []string{insert, "update " + p.Name(t.Name) + " set " + strings.Join(sets, ", ") + where}
}

// UpdateFrom writes an update of joined rows as SQLite and PostgreSQL have it.
func UpdateFrom(table, others string, columns, values []string, where string, quote func(string) string) string {
	sets := make([]string, len(columns))
	for i, c := range columns {
		sets[i] = quote(c) + " = " + values[i]
	}
	return "update " + table + " set " + strings.Join(sets, ", ") + " from " + others + where
}

// Preview gives the query that shows what some rows would get.
func (p *Planner) Preview(values []string, condition string) string {
	keys := p.Keys()
	where := ""
	if condition != "" {
		where = " where " + condition
	}
	order := ""
	if len(keys) > 0 {
		order = " order by " + strings.Join(keys, ", ")
	}
	return "select " + strings.Join(append(slices.Clone(keys), values...), ", ") + " from " + p.RowsOf() + where + order + " limit ?"
}

// PutBackSQL gives rows the i-th kept value where they still hold what was
// written.
func (p *Planner) PutBackSQL(t *schema.Table, column string, k *schema.Kept, i int) string {
	name, kept, match := p.Name(t.Name), p.Name(k.Table), p.KeptMatch(t, k.Keys)
	return fmt.Sprintf("update %s set %s = (select k.o%d from %s k where %s) where %s and exists (select 1 from %s k where %s and %s)",
		name, p.Column(column), i, kept, match, engine.Range, kept, match, p.Same(fmt.Sprintf("k.w%d", i), name+"."+p.Column(column)))
}

// PutBack gives rows their kept values again where they still hold what was
// written.
func (p *Planner) PutBack(c *schema.RowChange) []*engine.Step {
	t, k := c.Table, c.PutBack
	var columns, statements []string
	for i, set := range c.Set {
		columns = append(columns, set.Column)
		statements = append(statements, p.PutBackSQL(t, set.Column, k, i+1))
	}
	p.Update("put the old values of "+strings.Join(columns, ", ")+" back", statements...)
	p.LetGo([]string{k.Table})
	return p.Steps
}

// Batch gives the statements that walk a table.
func (p *Planner) Batch(t *schema.Table, do ...string) *engine.Batch {
	keys := p.Cursor(t)
	list := strings.Join(keys, ", ")
	down := strings.Join(keys, " desc, ") + " desc"
	name := p.Name(t.Name)
	plain := p.Plain(keys)
	return &engine.Batch{
		Keys:  keys,
		Upper: "select " + plain + " from " + name + " order by " + down + " limit 1",
		Next:  "select " + plain + " from " + name + " where " + engine.Range + " order by " + list + " limit 1 offset ?",
		Ahead: "select " + plain + " from " + name + " where " + engine.Range + " order by " + list + " limit ?",
		Do:    do,
	}
}
