package sqlite

import (
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Rows a second on an ordinary machine: what a forecast counts with until it
// knows better. Only orders of magnitude matter to a decision.
const (
	scanRate    = 4_000_000.0
	updateRate  = 400_000.0
	pacedRate   = 200_000.0
	keepRate    = 800_000.0
	rewriteRate = 600_000.0
	rebuildRate = 250_000.0
	indexRate   = 600_000.0
	restoreRate = 130_000.0
	checkRate   = 1_500_000.0 // of a foreign key
	checkedRate = 900_000.0   // of a check while a row is written
)

const writeLock = "the file's write lock"

// planner makes the steps for one change of one table.
type planner struct {
	planning.Planner
	followers *waiting // what has to wait until the table is copied
	filler    bool     // triggers fill rows that are written
}

func newPlanner(f engine.Facts, t *schema.Table) *planner {
	later := &waiting{}
	p := &planner{followers: later, Planner: planning.Planner{
		Dialect: dialect{later}, Facts: f, Table: t, Lock: writeLock, BatchLock: writeLock + ", for a batch at a time",
		Apart: "materialized ",
		Rates: planning.Rates{Scan: scanRate, Update: updateRate, Paced: pacedRate, Keep: keepRate, Rewrite: rewriteRate,
			Index: indexRate, Restore: restoreRate, Keeps: 1, Back: 0.6, Goes: 0.4, Noted: 0.15, Nulls: 0.4},
	}}
	if t != nil {
		p.Rows = f.Rows[t.Name]
	}
	return p
}

// Steps implements engine.Planner.
func (Engine) Steps(c *schema.Change, f engine.Facts) ([]*engine.Step, error) {
	switch {
	case c.Table != nil:
		p := newPlanner(f, nil)
		p.Change = c.Table
		switch {
		case c.Table.Before == nil:
			p.create()
			return p.Steps, p.Err
		case c.Table.After == nil:
			p.drop()
			return p.Steps, p.Err
		}
		return p.alter()
	case c.Mirror != nil:
		p := newPlanner(f, c.Mirror.Before)
		p.mirror(c.Mirror)
		return p.Steps, p.Err
	case c.View != nil:
		return viewSteps(c.View), nil
	case c.Rows != nil:
		p := newPlanner(f, c.Rows.Table)
		if c.Rows.PutBack != nil {
			p.PutBack(c.Rows)
			return p.Steps, p.Err
		}
		p.Backfill(c.Rows)
		return p.Steps, p.Err
	case c.Insert != nil:
		p := newPlanner(f, c.Insert.Table)
		p.insert(c.Insert)
		return p.Steps, p.Err
	case c.Delete != nil:
		p := newPlanner(f, c.Delete.Table)
		p.Delete(c.Delete)
		return p.Steps, p.Err
	case c.Assert != nil:
		return assertSteps(c.Assert)
	case c.Native != nil:
		if c.Native.SQL == "" {
			return nil, nil
		}
		return []*engine.Step{{Native: true, Kind: engine.Catalog, What: "run the statement as written",
			SQL: splitStatements(c.Native.SQL), Lock: writeLock, WritersWait: engine.WaitBriefly}}, nil
	}
	return nil, nil
}

func (p *planner) create() []*engine.Step {
	t := p.Change.After
	p.Table = t
	s := p.Add(engine.Catalog, 0, "create table "+t.Name, (Engine{}).CreateSQL(t)...)
	s.Table = t.Name
	if k := p.Change.Rows; k != nil {
		// Rows first: the table's own triggers must not act on them.
		sql := []string{createTable(t, t.Name), p.RestoreRows(t, k)}
		if sequenced(t) {
			sql = append(sql, "update sqlite_sequence set seq = max(seq, coalesce((select cast(text as integer) from "+
				"lastboard_note where table_name = "+
				literal(t.Name)+" and kind = 'sequence'), 0)) where name = "+literal(t.Name), dropNote(t.Name, "", "sequence"))
		}
		s.SQL = append(sql, s.SQL[1:]...)
		s.SQL = append(append(s.SQL, ownAgain(t, p.Facts, nil)...), "drop table "+quote(k.Table))
		s.What = "create table " + t.Name + " again, with its rows"
		s.Kind = engine.Rebuild
		s.PutsBack = []string{k.Table}
		s.ForeignKeysOff = true
	}
	p.restart(t)
	return p.Steps
}

// restart lets the column that numbers itself go on from a number. A way back
// leaves the numbers where they are, so that none is given twice.
func (p *planner) restart(t *schema.Table) {
	if p.Change.Start == nil {
		return
	}
	n := *p.Change.Start
	column := ""
	for _, c := range t.Columns {
		if c.Identity != nil {
			column = c.Name
		}
	}
	if p.Change.Before != nil && p.Change.Before.Column(column) != nil {
		p.ProveNumber(column, n)
	}
	s := p.Add(engine.Catalog, 0, fmt.Sprintf("go on numbering from %d", n),
		fmt.Sprintf("insert into sqlite_sequence (name, seq) select %s, 0 where not exists (select 1 from "+
			"sqlite_sequence where name = %s)", literal(t.Name), literal(t.Name)),
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
	t := p.Change.Before
	p.Table, p.Rows = t, p.Facts.Rows[t.Name]
	if len(p.Change.Discard) == 0 {
		kept := p.Facts.KeptTable()
		sql := []string{"create table " + quote(kept) + " as select " + p.WholeRow(t) + " from " + quote(t.Name)}
		if sequenced(t) {
			sql = append(sql, "insert or replace into lastboard_note (table_name, object, kind, text) select name, '', "+
				"'sequence', seq from sqlite_sequence where name = "+literal(t.Name))
		}
		s := p.Add(engine.Scan, keepRate, "keep the rows of "+t.Name, sql...)
		s.ForeignKeysOff = true // one transaction with the drop
		s.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, What: "table"}}
	}
	s := p.Add(engine.Catalog, 0, "drop table "+t.Name, "drop table "+quote(t.Name),
		"delete from lastboard_note where table_name = "+literal(t.Name)+" and kind <> 'sequence'")
	s.ForeignKeysOff = true
	return p.Steps
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
	return []*engine.Step{planning.Assertion(a, "select 1 where not coalesce(("+text+"), 0)")}, nil
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

// rowNames are those of a row's number, where no column has them.
var rowNames = []string{"rowid", "_rowid_", "oid"}

// rowName gives the name under which the table's row numbers can be read; "" for
// a table without them.
func rowName(t *schema.Table) string {
	if t.Options["without rowid"] != "" {
		return ""
	}
	for _, n := range rowNames {
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
