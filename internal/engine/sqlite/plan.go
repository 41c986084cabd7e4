package sqlite

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// Rows a second on an ordinary machine: what a forecast counts with until it
// knows better. Only orders of magnitude matter to a decision.
const (
	scanRate    = 4_000_000.0
	updateRate  = 400_000.0
	keepRate    = 800_000.0
	rewriteRate = 600_000.0
	rebuildRate = 250_000.0
	indexRate   = 600_000.0
	checkRate   = 1_500_000.0 // of a foreign key
	checkedRate = 900_000.0   // of a check while a row is written
)

const writeLock = "the file's write lock"

// Steps implements engine.Planner.
func (Engine) Steps(c *schema.Change, f engine.Facts) ([]*engine.Step, error) {
	switch {
	case c.Table != nil:
		p := &planner{change: c.Table, facts: f}
		switch {
		case c.Table.Before == nil:
			return p.create(), p.err
		case c.Table.After == nil:
			return p.drop(), p.err
		}
		return p.alter()
	case c.View != nil:
		return viewSteps(c.View), nil
	case c.Rows != nil:
		p := &planner{facts: f, table: c.Rows.Table, rows: f.Rows[c.Rows.Table.Name]}
		if c.Rows.PutBack != nil {
			return p.putBack(c.Rows), p.err
		}
		return p.backfill(c.Rows), p.err
	case c.Insert != nil:
		p := &planner{facts: f, table: c.Insert.Table, rows: f.Rows[c.Insert.Table.Name]}
		return p.insert(c.Insert), p.err
	case c.Delete != nil:
		p := &planner{facts: f, table: c.Delete.Table, rows: f.Rows[c.Delete.Table.Name]}
		return p.delete(c.Delete), p.err
	case c.Assert != nil:
		return assertSteps(c.Assert)
	case c.Native != nil:
		if c.Native.SQL == "" {
			return nil, nil
		}
		return []*engine.Step{{Kind: engine.Catalog, What: "run the statement as written", SQL: splitStatements(c.Native.SQL), Lock: writeLock, WritersWait: engine.WaitBriefly}}, nil
	}
	return nil, nil
}

// planner makes the steps for one change of one table.
type planner struct {
	change    *schema.TableChange
	facts     engine.Facts
	table     *schema.Table     // as it stands before the steps
	after     *schema.Table     // as it is meant to be, under the names of before
	renames   map[string]string // from after to what the change leads to
	set       map[string]string // what a backfill will give columns, as SQL
	rows      int64
	source    *schema.Source // what a backfill reads beside the table
	standing  *schema.Table  // table once it is changed, under the names of before; nil until then
	indexed   []string       // tables of kept values that become searchable first
	followers []string       // statements that have to wait until the table is copied
	off       bool           // foreign keys do not act in any transaction of the change
	steps     []*engine.Step
	err       error
}

func (p *planner) fail(err error) {
	if p.err == nil {
		p.err = err
	}
}

// add appends a step; rate is rows a second, 0 for a step that takes no time.
func (p *planner) add(kind engine.Kind, rate float64, what string, sql ...string) *engine.Step {
	s := &engine.Step{Kind: kind, What: what, SQL: sql, Lock: writeLock, WritersWait: engine.WaitBriefly, ForeignKeysOff: p.off}
	if p.table != nil {
		s.Table = p.table.Name
		s.Bytes = p.facts.Bytes[p.table.Name]
	}
	if rate > 0 {
		s.Rows = p.rows
		s.Seconds = math.Round(float64(p.rows)/rate*1000) / 1000
		if s.Seconds > p.facts.Short {
			s.WritersWait = engine.WaitThroughout
		}
	}
	s.Rewrites = kind == engine.Rebuild || kind == engine.Rewrite
	p.steps = append(p.steps, s)
	return s
}

// render gives an expression that Lastboard itself sends, over the table.
func (p *planner) render(e sqltext.Expr, strict bool) string {
	r := renderer{table: p.table, source: p.source, strict: strict, now: p.now()}
	text := r.expr(e, bindOr)
	if r.err != nil {
		p.fail(&engine.Refused{Message: r.err.Error()})
	}
	return text
}

func (p *planner) now() string {
	if p.facts.Now == "" {
		return ""
	}
	return literal(p.facts.Now)
}

func (p *planner) create() []*engine.Step {
	t := p.change.After
	p.table = t
	s := p.add(engine.Catalog, 0, "create table "+t.Name, (Engine{}).CreateSQL(t)...)
	s.Table = t.Name
	if k := p.change.Rows; k != nil {
		// Rows first: the table's own triggers must not act on them.
		sql := []string{createTable(t, t.Name), p.restoreRows(k)}
		if sequenced(t) {
			sql = append(sql, "update sqlite_sequence set seq = max(seq, coalesce((select cast(text as integer) from lastboard_note where table_name = "+
				literal(t.Name)+" and kind = 'sequence'), 0)) where name = "+literal(t.Name), dropNote(t.Name, "", "sequence"))
		}
		s.SQL = append(sql, s.SQL[1:]...)
		s.SQL = append(append(s.SQL, ownAgain(t, p.facts, nil)...), "drop table "+quote(k.Table))
		s.What = "create table " + t.Name + " again, with its rows"
		s.Kind = engine.Rebuild
		s.PutsBack = []string{k.Table}
		s.ForeignKeysOff = true
	}
	p.restart(t)
	return p.steps
}

// restart lets the column that numbers itself go on from a number. A way back
// leaves the numbers where they are, so that none is given twice.
func (p *planner) restart(t *schema.Table) {
	if p.change.Start == nil {
		return
	}
	n := *p.change.Start
	column := ""
	for _, c := range t.Columns {
		if c.Identity != nil {
			column = c.Name
		}
	}
	if p.change.Before != nil && p.change.Before.Column(column) != nil {
		query := fmt.Sprintf("select max(%s) from %s having max(%s) >= %d", quote(column), quote(p.change.Before.Name), quote(column), n)
		p.addProof(fmt.Sprintf("prove that no row has a %s of %d or above", column, n), engine.Proof{
			SQL: query, Count: fmt.Sprintf("select count(*) from %s where %s >= %d", quote(p.change.Before.Name), quote(column), n),
			Rule: "number-in-use", Column: column, Message: fmt.Sprintf("%%d rows of %s have a %s of %d or above: the numbers would meet them", p.change.Before.Name, column, n),
			Cure: "go on from a number above the greatest in use, which is shown",
		})
		// A proof reads the rows as they are before the change.
		last := len(p.steps) - 1
		p.steps = slices.Insert(p.steps[:last], 0, p.steps[last])
	}
	s := p.add(engine.Catalog, 0, fmt.Sprintf("go on numbering from %d", n),
		fmt.Sprintf("insert into sqlite_sequence (name, seq) select %s, 0 where not exists (select 1 from sqlite_sequence where name = %s)", literal(t.Name), literal(t.Name)),
		fmt.Sprintf("update sqlite_sequence set seq = %d where name = %s", n-1, literal(t.Name)))
	s.Table = t.Name
}

// keptRow is the column that keeps the row's number for a table whose key does not.
const keptRow = "lastboard_row"

// sequenced reports whether the table remembers the greatest number it gave.
func sequenced(t *schema.Table) bool {
	for _, c := range t.Columns {
		if c.Identity != nil {
			return true
		}
	}
	return false
}

func (p *planner) drop() []*engine.Step {
	t := p.change.Before
	p.table, p.rows = t, p.facts.Rows[t.Name]
	if len(p.change.Discard) == 0 {
		kept := p.facts.KeptTable()
		sql := []string{"create table " + quote(kept) + " as select " + p.wholeRow() + " from " + quote(t.Name)}
		if sequenced(t) {
			sql = append(sql, "insert or replace into lastboard_note (table_name, object, kind, text) select name, '', 'sequence', seq from sqlite_sequence where name = "+literal(t.Name))
		}
		s := p.add(engine.Scan, keepRate, "keep the rows of "+t.Name, sql...)
		s.ForeignKeysOff = true // one transaction with the drop
		s.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, What: "table"}}
	}
	s := p.add(engine.Catalog, 0, "drop table "+t.Name, "drop table "+quote(t.Name),
		"delete from lastboard_note where table_name = "+literal(t.Name)+" and kind <> 'sequence'")
	s.ForeignKeysOff = true
	return p.steps
}

func viewSteps(c *schema.ViewChange) []*engine.Step {
	s := &engine.Step{Kind: engine.Catalog, Lock: writeLock, WritersWait: engine.WaitBriefly}
	if c.Before != nil {
		s.What = "drop view " + c.Before.Name
		s.SQL = append(s.SQL, "drop view "+quote(c.Before.Name))
	}
	if c.After != nil {
		s.What = "create view " + c.After.Name
		sql := c.After.SQL
		if sql == "" {
			sql = "create view " + quote(c.After.Name) + " as " + c.After.Query
		}
		// Reading it once finds a name that is not there, which SQLite takes as it is.
		s.SQL = append(s.SQL, sql, "explain select * from "+quote(c.After.Name))
	}
	return []*engine.Step{s}
}

func assertSteps(a *sqltext.Assert) ([]*engine.Step, error) {
	r := renderer{}
	text := r.expr(a.Expr, bindOr)
	if r.err != nil {
		return nil, &engine.Refused{Message: r.err.Error()}
	}
	message := a.Message
	if message == "" {
		message = "this does not hold: " + sqltext.PrintExpr(a.Expr)
	}
	query := "select 1 where not coalesce((" + text + "), 0)"
	return []*engine.Step{{
		Kind: engine.ProofOf, What: "assert " + sqltext.PrintExpr(a.Expr), SQL: []string{query}, Lock: "none", WritersWait: engine.WaitNo,
		Proof: &engine.Proof{SQL: query, Count: query, Keys: 1, Message: message, Rule: "assertion-fails", Cure: "put the rows right, or the assertion"},
	}}, nil
}

// splitStatements splits SQL at the semicolons between its statements; a
// trigger's body stays whole.
func splitStatements(sql string) []string {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	var list []string
	start, depth := 0, 0
	trigger := false
	for i, t := range tokens {
		switch {
		case t.Is("trigger") && i > 0 && (tokens[i-1].Is("create") || tokens[i-1].Is("temp") || tokens[i-1].Is("temporary")):
			trigger = true
		case t.Is("begin") && trigger, t.Is("case"):
			depth++
		case t.Is("end") && depth > 0:
			depth--
		case t.Is(";") && depth == 0, t.Kind == sqltext.EOF:
			if part := strings.TrimSpace(sql[start:t.Pos.Offset]); part != "" {
				list = append(list, part)
			}
			start, trigger = t.End(), false
		}
	}
	return list
}

// rowName gives the name under which the table's row numbers can be read; "" for
// a table without them.
func rowName(t *schema.Table) string {
	if t.Options["without rowid"] != "" {
		return ""
	}
	for _, n := range []string{"rowid", "_rowid_", "oid"} {
		if t.Column(n) == nil {
			return n
		}
	}
	return ""
}

// alias gives the column that is the row's number; "" if none is.
func alias(t *schema.Table) string {
	if k := t.PrimaryKey; k != nil && len(k.Columns) == 1 && t.Options["without rowid"] == "" {
		if c := t.Column(k.Columns[0]); strings.EqualFold(declaration(c, t.Options["strict"] != ""), "integer") {
			return c.Name
		}
	}
	return ""
}

// cursor gives the columns in whose order a table is walked, as SQL: the row's
// number where there is one, else the primary key.
func cursor(t *schema.Table) []string {
	if a := alias(t); a != "" {
		return []string{quote(a)}
	}
	if n := rowName(t); n != "" {
		return []string{n}
	}
	if t.PrimaryKey == nil {
		return nil
	}
	keys := make([]string, len(t.PrimaryKey.Columns))
	for i, c := range t.PrimaryKey.Columns {
		keys[i] = quote(c)
	}
	return keys
}

// batch gives the statements that walk a table.
func batch(t *schema.Table, do ...string) *engine.Batch {
	keys := cursor(t)
	list := strings.Join(keys, ", ")
	down := strings.Join(keys, " desc, ") + " desc"
	name := quote(t.Name)
	// The plus keeps the driver from making a time of a key that looks like one.
	plain := "+" + strings.Join(keys, ", +")
	return &engine.Batch{
		Keys:  keys,
		Upper: "select " + plain + " from " + name + " order by " + down + " limit 1",
		Next: "select " + plain + " from (select " + list + " from " + name + " where " + engine.Range + " order by " + list +
			" limit ?) order by " + down + " limit 1",
		Do: do,
	}
}

// keys gives the columns that show which row is meant, for statements that read
// the table and perhaps its source.
func (p *planner) keys() []string {
	keys := sample(p.table)
	if p.source == nil {
		return keys
	}
	list := make([]string, len(keys))
	for i, k := range keys {
		list[i] = quote(p.table.Name) + "." + k
	}
	return list
}

// rowsOf gives the table, joined with its source if it has one, as SQL.
func (p *planner) rowsOf() string {
	if p.source == nil {
		return quote(p.table.Name)
	}
	return quote(p.table.Name) + " join " + quote(p.source.Table.Name) + " as " + quote(p.source.Alias) + " on " + p.joined()
}

// joined gives the condition that a row of the source belongs to a row.
func (p *planner) joined() string {
	parts := make([]string, len(p.source.On))
	for i, on := range p.source.On {
		parts[i] = quote(p.table.Name) + "." + quote(on.Column) + " = " + quote(p.source.Alias) + "." + quote(on.Other)
	}
	return strings.Join(parts, " and ")
}

// sample gives the columns that show a person which row is meant.
func sample(t *schema.Table) []string {
	if k := t.Key(); k != nil {
		list := make([]string, len(k))
		for i, c := range k {
			list[i] = quote(c)
		}
		return list
	}
	return cursor(t)
}
