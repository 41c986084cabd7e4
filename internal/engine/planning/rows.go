package planning

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
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
func (p *Planner) KeptMatch(t *schema.Table, keys []string) string { return p.rowMatch("k", t, keys) }

// rowMatch gives the condition that a row with keys k1… belongs to a row of the table.
func (p *Planner) rowMatch(alias string, t *schema.Table, keys []string) string {
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = fmt.Sprintf("%s.k%d = %s.%s", alias, i+1, p.Name(t.Name), p.Column(k))
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
	if p.atOnce() {
		s := p.Add(engine.Backfill, p.Rates.Update, what, Everywhere(statements)...)
		s.Try = p.try()
		return s
	}
	s := p.Add(engine.Backfill, p.Rates.Update, what)
	s.Try = p.try()
	p.InBatches(s, p.Batch(p.Table, statements...))
	return s
}

// try gives the statement that writes one row as it is, where triggers of the table's own act on
// what is written.
func (p *Planner) try() string {
	keys := p.Cursor(p.Table)
	at := slices.IndexFunc(p.Table.Columns, func(c *schema.Column) bool { return c.Generated == nil && c.Identity == nil })
	if len(p.Table.Triggers) == 0 || len(keys) == 0 || at < 0 {
		return ""
	}
	list, column, name := strings.Join(keys, ", "), p.Column(p.Table.Columns[at].Name), p.Name(p.Table.Name)
	return "update " + name + " set " + column + " = " + column + " where (" + list + ") = (select " + list + " from " +
		name + " order by " + list + " limit 1)"
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
		list[i] = strings.ReplaceAll(strings.ReplaceAll(s, " where "+engine.Range+" and ", " where "), " where "+engine.Range,
			"")
	}
	return list
}

// Beside reports whether applications write to the table while it is walked in batches.
func (p *Planner) Beside() bool { return p.Facts.Live && p.Table.Key() != nil && !p.atOnce() }

// Alone keeps others from writing to the table while one statement does all rows by what is kept of them:
// a row whose key changes just then would be looked for under another one.
func (p *Planner) Alone(s *engine.Step) {
	if !p.Facts.Live || s.Batch != nil {
		return
	}
	p.Dialect.Alone(p.Table, s)
	if s.Seconds > p.Facts.Short {
		s.WritersWait = engine.WaitThroughout
	}
}

// atOnce reports whether one statement does all rows of the table: those of one that is small enough.
// Where no lock holds from step to step, a row whose key changes meanwhile could come to stand where the
// statement has been already; beside applications such rows are noted, in a small table, too.
func (p *Planner) atOnce() bool {
	noted := p.StepsCommit && p.Facts.Live && p.Rows > 0 && p.Table.Key() != nil
	return p.Cursor(p.Table) == nil || p.Short(p.Rates.Update) && !noted
}

// Backfill computes values for existing rows, and keeps the old ones. Beside
// applications each row is done exactly once, known by what is kept of it, which follows
// its key.
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
			Message: fmt.Sprintf("table %s has no primary key, so that its old values could not be put back to the right rows",
				t.Name),
			Cure: "add a primary key first, or write discard to give the old values up",
		})
		return nil
	}
	var statements []string
	n := Noting{Keys: keys, Came: true}
	if c.Discard && !p.Beside() {
		statements = []string{"update " + p.Name(t.Name) + " set " + strings.Join(f.sets, ", ") + f.where}
		if f.others != "" {
			statements = []string{p.UpdateFrom(p.Name(t.Name), f.others, f.columns, f.values, f.where)}
		}
	} else {
		n.Kept = p.Facts.KeptTable()
		p.placeFor(c, n, f.columns)
		statements = f.keeping(p, n)
	}
	s := p.Update("fill "+strings.Join(f.columns, ", ")+" of "+t.Name, statements...)
	if condition != "" && !sqltext.HasSubquery(c.Where) && sqltext.OnlyKnown(c.Where) && p.Source == nil {
		s.Counted = "select count(*) from " + p.Name(t.Name) + " where " + condition
	}
	s.Equal = n.Kept != ""
	if p.Beside() && (condition == "" || s.Counted != "") { // else few rows may be written, for all that is known
		p.Faster(s, p.Rates.Noted)
	}
	if s.Batch != nil {
		s.Batch.Equal = s.Equal
	}
	if s.Batch != nil && p.Source != nil {
		for i, k := range s.Batch.Keys {
			s.Batch.Keys[i] = p.Name(t.Name) + "." + k
		}
	}
	var preview []string
	for i, column := range f.columns {
		preview = append(preview, p.Own(column)+" as "+p.Column(column+" before"),
			f.values[i]+" as "+p.Column(column+" after"))
	}
	s.Preview = p.Preview(preview, condition)
	if p.Beside() {
		p.last("fill "+strings.Join(f.columns, ", ")+" of rows whose key changed meanwhile", n,
			func(n Noting) []string { return f.moved(p, n) })
		if c.Discard {
			p.Add(engine.Catalog, 0, "let go of the notes", p.Forget(n.Kept)...)
		}
	}
	if load != nil {
		p.Add(engine.Catalog, 0, "let go of what was read", load.Undo...)
	}
	return p.Steps
}

// placeFor adds the step that makes the place for the old values of a backfill, and lets it
// follow the rows.
func (p *Planner) placeFor(c *schema.RowChange, n Noting, columns []string) {
	t := p.Table
	place := p.Add(engine.Catalog, 0, "make a place for the old values of "+t.Name,
		p.CreateKept(t, n.Kept, n.Keys, columns, p.Beside()))
	place.Keeps = []*engine.Keeping{{Table: t.Name, Kept: n.Kept, Keys: n.Keys, Columns: columns, What: engine.KeptValues}}
	if !p.Beside() {
		p.Dialect.Follow(p, place, true)
		return
	}
	place.Keeps[0].Followed = true
	place.What = "note which rows of " + t.Name + " are done, and their old values"
	p.Dialect.Note(p, place, n)
	place.Undo = p.Forget(n.Kept)
	if c.Discard {
		place.Keeps = nil
	}
}

// filling is what a backfill writes, as SQL.
type filling struct {
	columns, values, sets []string
	others, where         string
	steady                bool // computed again, it gives the same
	found                 bool // looked for again, the same rows are found, as they are locked
}

func (p *Planner) filling(c *schema.RowChange, condition string) *filling {
	f := &filling{where: " where " + engine.Range, steady: true}
	for _, set := range c.Set {
		value := p.Render(set.Value, Computed)
		f.sets = append(f.sets, p.Column(set.Column)+" = "+value)
		f.columns = append(f.columns, set.Column)
		f.values = append(f.values, value)
		p.ReadsOthers = p.ReadsOthers || sqltext.HasSubquery(set.Value)
		f.steady = f.steady && schema.Unsteady(set.Value) == "" && !sqltext.HasSubquery(set.Value)
	}
	if p.Source != nil {
		f.steady = false
		f.others = p.Name(p.Source.Table.Name) + " as " + p.Column(p.Source.Alias)
		f.where += " and " + p.Joined()
	}
	f.found = p.Source == nil
	if condition != "" {
		f.found = f.found && schema.Unsteady(c.Where) == "" && !sqltext.HasSubquery(c.Where)
		f.where += " and " + condition
		p.ReadsOthers = p.ReadsOthers || sqltext.HasSubquery(c.Where)
	}
	return f
}

// keeping gives the statements that keep old values with what is written, and write it: the
// rows are locked as they are kept, and those alone are written.
func (f *filling) keeping(p *Planner, n Noting) []string {
	switch {
	case p.Beside():
	case f.steady && f.found && !p.atOnce(): // others that come in between are told by their number: all is done again
		return []string{f.keep(p, n, f.where, ""), "update " + p.Name(p.Table.Name) + " set " + strings.Join(f.sets, ", ") +
			f.where}
	default:
		return []string{f.keep(p, n, f.where, ""), f.write(p, n, engine.Range, "1", "1")}
	}
	return []string{f.keep(p, n, f.where+p.undone(n), engine.Turn), f.write(p, n, engine.Range, "k.f", engine.Turn)}
}

// keptRow gives the part of a query that finds what is kept of a row.
func (p *Planner) keptRow(n Noting) string {
	from, k := p.kept(n)
	return " from " + from + " where " + p.rowMatch(k, p.Table, n.Keys)
}

// keep gives the statement that keeps what rows have and get; turn counts those, "" where
// they are not counted.
func (f *filling) keep(p *Planner, n Noting, where, turn string) string {
	list := make([]string, 0, len(n.Keys)+2*len(f.columns)+1)
	for _, k := range append(slices.Clone(n.Keys), f.columns...) {
		list = append(list, p.Own(k))
	}
	list = append(list, f.values...)
	columns := KeptSQL("k", len(n.Keys)) + ", " + KeptSQL("o", len(f.columns)) + ", " + KeptSQL("w", len(f.columns))
	if turn != "" {
		list, columns = append(list, turn), columns+", f"
	}
	return "insert into " + p.Name(n.Kept) + " (" + columns + ") select " + strings.Join(list, ", ") + " from " +
		p.Tables() + where + p.Locked(p.Table, false)
}

// write gives the statement that writes what was kept as written to the rows of which mark,
// a column of what is kept, has a value. What gives the same when it is computed again is
// computed: to look it up takes longer.
func (f *filling) write(p *Planner, n Noting, where, mark, value string) string {
	sets := f.sets
	if !f.steady {
		sets = nil
		for i, column := range f.columns {
			sets = append(sets, fmt.Sprintf("%s = (select k.w%d%s)", p.Column(column), i+1, p.keptRow(n)))
		}
	}
	return "update " + p.Name(p.Table.Name) + " set " + strings.Join(sets, ", ") + " where " + where + " and (select " +
		mark + p.keptRow(n) + ") = " + value
}

// moved gives the statements that do the same for rows that got another key behind what was
// done.
func (f *filling) moved(p *Planner, n Noting) []string {
	where, keys := strings.Replace(f.where, engine.Range, p.Among(n), 1), KeptSQL("k", len(n.Keys))
	values := make([]string, len(f.columns))
	_, k := p.kept(n)
	for i := range values {
		values[i] = fmt.Sprintf("%s.w%d", k, i+1)
	}
	return []string{f.keep(p, n, where+p.undone(n), "1"), p.fromKept(n, f.columns, values, k+".f = 1"),
		"update " + p.Name(n.Kept) + " set f = 2 where (" + keys + ") in (select " + keys + " from " + p.Name(n.Moved()) +
			") and f = 1"}
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
	return "select " + strings.Join(append(slices.Clone(keys), values...), ", ") + " from " + p.RowsOf() + where + order +
		" limit ?"
}

// PutBackSQL gives rows the i-th kept value where they still hold what was
// written.
func (p *Planner) PutBackSQL(t *schema.Table, column string, k *schema.Kept, i int) string {
	name, kept, match := p.Name(t.Name), p.Name(k.Table), p.KeptMatch(t, k.Keys)
	return fmt.Sprintf("update %s set %s = (select k.o%d from %s k where %s) where %s and exists (select 1 from %s k "+
		"where %s and %s)",
		name, p.Column(column), i, kept, match, engine.Range, kept, match,
		p.Same(fmt.Sprintf("k.w%d", i), name+"."+p.Column(column)))
}

// PutBack gives rows their kept values again where they still hold what was
// written.
func (p *Planner) PutBack(c *schema.RowChange) []*engine.Step {
	k := c.PutBack
	var columns []string
	for _, set := range c.Set {
		columns = append(columns, set.Column)
	}
	p.putBack(k, "put the old values of "+strings.Join(columns, ", ")+" back", columns)
	p.LetGo([]string{k.Table})
	return p.Steps
}

// putBack does so for columns of the table as it is by then.
func (p *Planner) putBack(k *schema.Kept, what string, columns []string) {
	t := p.Table
	n := Noting{Kept: k.Table, Keys: k.Keys}
	beside := p.Beside()
	if beside {
		p.Dialect.Note(p, p.Add(engine.Sync, 0, "note rows of "+t.Name+" whose key changes"), n)
	}
	var statements []string
	for i, column := range columns {
		statements = append(statements, p.PutBackSQL(t, column, k, i+1))
	}
	p.Alone(p.Faster(p.Update(what, statements...), p.Rates.Back))
	if beside {
		p.last(what+" to rows whose key changed meanwhile", n, func(n Noting) (list []string) {
			_, k := p.kept(n)
			for i, column := range columns {
				list = append(list, p.fromKept(n, []string{column}, []string{fmt.Sprintf("%s.o%d", k, i+1)},
					p.Same(fmt.Sprintf("%s.w%d", k, i+1), p.Name(t.Name)+"."+p.Column(column))))
			}
			return list
		})
	}
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
