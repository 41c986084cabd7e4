package postgres

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Rows a second on an ordinary server: what a forecast counts with until it knows
// better. Only orders of magnitude matter to a decision.
const (
	scanRate    = 3_000_000.0
	updateRate  = 60_000.0
	pacedRate   = 10_000.0
	keepRate    = 500_000.0
	rewriteRate = 400_000.0
	indexRate   = 700_000.0
)

// The locks of steps (the manual, 13.3.1).
const (
	lockExclusive = "access exclusive"
	lockShared    = "share update exclusive" // keeps neither readers nor writers waiting
	lockWriters   = "share row exclusive"
	lockRows      = "row exclusive" // and the rows that are written
)

type planner struct {
	planning.Planner
	// small means that all of the change takes less time than writers may wait: it is
	// made at once.
	small bool
	// remade are columns that are dropped and added again, with what uses them.
	remade []string
	// changing are columns that the server gives another type.
	changing []string
	// followers are statements that let what is kept follow its rows.
	followers []string
	keeping   []string // what ends that values are kept beside applications
	parts     planning.Parts
	filler    bool         // a trigger fills rows that come
	retypes   *engine.Step // gives columns other types, as the last so far
}

func newPlanner(f engine.Facts, t *schema.Table) *planner {
	p := &planner{Planner: planning.Planner{
		Dialect: dialect{}, FirstRowTypes: true, Facts: f, Table: t, Lock: lockExclusive, BatchLock: lockRows,
		Rates: planning.Rates{Scan: scanRate, Update: updateRate, Paced: pacedRate, Keep: keepRate, Rewrite: rewriteRate,
			Index: indexRate, Restore: rewriteRate, Keeps: 3, Back: 0.6, Goes: 3, Noted: 1, Nulls: 1},
	}}
	if t != nil {
		p.Rows = f.Rows[t.Name]
		p.small = p.Short(updateRate)
	}
	return p
}

// Steps implements engine.Planner.
func (Engine) Steps(c *schema.Change, f engine.Facts) ([]*engine.Step, error) {
	var p *planner
	switch {
	case c.Table != nil:
		t := c.Table.Before
		if t == nil {
			t = c.Table.After
		}
		p = newPlanner(f, t)
		p.Change = c.Table
		switch {
		case c.Table.Before == nil:
			p.Rows, p.small = 0, true
			p.create()
		case c.Table.After == nil:
			p.drop()
		default:
			p.alter()
		}
	case c.Mirror != nil:
		p = newPlanner(f, c.Mirror.Before)
		p.mirror(c.Mirror)
	case c.Swap != nil:
		p = newPlanner(f, c.Swap.Before)
		p.swap(c.Swap)
	case c.Link != nil:
		p = newPlanner(f, c.Link.Before)
		p.link(c.Link)
	case c.Watch != nil:
		p = newPlanner(f, c.Watch.Table)
		p.watch(c.Watch)
	case c.View != nil:
		return viewSteps(c.View), nil
	case c.Rows != nil:
		p = newPlanner(f, c.Rows.Table)
		if c.Rows.PutBack != nil {
			p.PutBack(c.Rows)
		} else {
			p.Backfill(c.Rows)
		}
	case c.Insert != nil:
		p = newPlanner(f, c.Insert.Table)
		p.insert(c.Insert)
	case c.Delete != nil:
		p = newPlanner(f, c.Delete.Table)
		p.Delete(c.Delete)
	case c.Assert != nil:
		return assertSteps(c.Assert)
	case c.Native != nil && c.Native.SQL != "":
		return []*engine.Step{nativeStep(c.Native)}, nil
	default:
		return nil, nil
	}
	p.settle()
	return p.Steps, p.Err
}

// settle says of each step what follows from its kind: rows that are written keep
// nobody else waiting, and what reads a large table has a transaction of its own.
func (p *planner) settle() {
	for _, s := range p.Steps {
		if s.Batch != nil && s.Batch.Keys[0] != "ctid" {
			keys := strings.Join(s.Batch.Keys, ", ")
			rows := name(s.Table)
			s.Batch.Middle = "select " + keys + " from " + rows + " order by " + keys + " offset (select count(*) / 2 from " +
				rows + ") limit 1"
		}
		switch {
		case s.Kind == engine.Backfill && s.Batch == nil:
			s.Lock = lockRows
			s.Alone = !p.small && len(s.Keeps) == 0
		case s.Kind == engine.ProofOf:
			s.Alone = !p.small
		case s.Kind == engine.Catalog && s.Strong == nil && !slices.ContainsFunc(s.SQL, func(sql string) bool {
			return !strings.HasPrefix(sql, "create table ") && !strings.HasPrefix(sql, "create unique index if not exists ")
		}):
			s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, []string{} // a place of Lastboard's own
		case s.Outside == nil && s.Strong == nil && s.Table != "" && (s.Kind == engine.Catalog && s.Lock == lockExclusive ||
			(s.Kind == engine.Build || s.Kind == engine.Scan) && s.WritersWait != engine.WaitNo):
			s.Strong = []string{s.Table}
		}
		if partitioned(p.Table) {
			p.lockParts(s)
		}
	}
}

func (p *planner) create() {
	t := p.Change.After
	if k := p.Change.Rows; k != nil {
		p.createAgain(t, k)
		return
	}
	var parents []string
	for _, k := range t.ForeignKeys {
		if k.Table != t.Name && !schema.HasName(parents, k.Table) {
			parents = append(parents, k.Table)
		}
	}
	s := p.Add(engine.Catalog, 0, "create table "+t.Name, (Engine{}).CreateSQL(t)...)
	s.Strong, s.Lock = parents, "none"
	if len(parents) > 0 {
		s.Lock = lockWriters
	} else {
		s.WritersWait = engine.WaitNo
		s.Strong = []string{}
	}
	p.restart(t)
}

// createAgain brings a table back as it was, with its rows.
func (p *planner) createAgain(t *schema.Table, k *schema.Kept) {
	hidden, _, _ := strings.Cut(k.Table, ".")
	to, _, qualified := strings.Cut(t.Name, ".")
	if !qualified {
		to = p.Facts.Schema.Home
	}
	sql := slices.Concat([]string{"alter table " + name(k.Table) + " set schema " + quote(to)}, moveParts(t, to),
		[]string{"drop schema " + quote(hidden)})
	for _, c := range t.Columns {
		if callsDefault(c) {
			sql = append(sql, "alter table "+name(t.Name)+" alter column "+quote(c.Name)+" set default "+
				defaultSQL(t, *c.Default))
		}
	}
	s := p.Add(engine.Catalog, 0, "bring table "+t.Name+" back, with its rows", sql...)
	s.PutsBack = []string{k.Table}
	s.WritersWait, s.Lock, s.Strong = engine.WaitNo, "none", []string{}
	for _, key := range t.ForeignKeys {
		p.foreignKey(t, key)
	}
}

// drop moves the table out of sight. Its foreign keys go, since they would still act on
// the tables that they refer to.
func (p *planner) drop() {
	t := p.Change.Before
	if len(p.Change.Discard) > 0 {
		p.Add(engine.Catalog, 0, "drop table "+t.Name, "drop table "+name(t.Name))
		return
	}
	var sql, strong []string
	for _, k := range t.ForeignKeys {
		sql = append(sql, "alter table "+name(t.Name)+" drop constraint "+quote(k.Name))
		if !schema.HasName(strong, k.Table) && k.Table != t.Name {
			strong = append(strong, k.Table)
		}
	}
	// Its defaults go: they would hold on to the sequences and functions that they call.
	for _, c := range t.Columns {
		if callsDefault(c) {
			sql = append(sql, "alter table "+name(t.Name)+" alter column "+quote(c.Name)+" drop default")
		}
	}
	hidden := p.Facts.KeptTable()
	kept := hidden + "." + tableOf(t).Name
	p.togetherWithParts()
	sql = append(append(sql, hide(t, hidden)...), moveParts(&schema.Table{Name: kept, Options: t.Options}, hidden)...)
	s := p.Add(engine.Catalog, 0, "move table "+t.Name+" out of sight", sql...)
	s.Why = "so that it comes back as it was; it is dropped when what is kept is discarded"
	s.Strong = append([]string{t.Name}, strong...)
	s.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, What: engine.KeptTable}}
}

// hide gives the statements that move a table out of sight, into a schema of its own which
// nobody else may use, whatever rights the database gives to new ones by default.
func hide(t *schema.Table, hidden string) []string {
	return []string{"create schema " + quote(hidden),
		"do " + dollar("declare who text; begin "+
			"for who in select case grantee when 0 then 'public' else quote_ident(pg_get_userbyid(grantee)) end from "+
			"pg_namespace, aclexplode(nspacl) where nspname = "+literal(hidden)+" and grantee <> nspowner "+
			"loop execute "+literal("revoke all on schema "+quote(hidden)+" from ")+" || who; end loop; end"),
		"alter table " + name(t.Name) + " set schema " + quote(hidden)}
}

// callsDefault reports whether a column has a default that calls something, other than for
// the numbers of a sequence of its own, which goes where its table goes.
func callsDefault(c *schema.Column) bool {
	return c.Default != nil && c.Options["sequence"] == "" && c.Generated == nil && c.Identity == nil && !instantDefault(c)
}

// restart lets the column that numbers itself go on from a number.
func (p *planner) restart(t *schema.Table) {
	if p.Change.Start == nil {
		return
	}
	n := *p.Change.Start
	for _, c := range t.Columns {
		if c.Identity == nil {
			continue
		}
		if p.Change.Before != nil && p.Change.Before.Column(c.Name) != nil {
			p.ProveNumber(c.Name, n)
		}
		s := p.Add(engine.Catalog, 0, fmt.Sprintf("go on numbering from %d", n),
			fmt.Sprintf("alter table %s alter column %s restart with %d", name(t.Name), quote(c.Name), n))
		s.Table = t.Name
	}
}

func viewSteps(c *schema.ViewChange) []*engine.Step {
	s := &engine.Step{Kind: engine.Catalog, Lock: "none", WritersWait: engine.WaitNo}
	if c.Before != nil {
		s.What = "drop view " + c.Before.Name
		words := "drop view "
		if strings.HasPrefix(c.Before.SQL, "create materialized") {
			words = "drop materialized view "
		}
		s.SQL = append(s.SQL, words+name(c.Before.Name))
	}
	if c.After != nil {
		s.What = "create view " + c.After.Name
		sql := c.After.SQL
		if sql == "" {
			sql = "create view " + name(c.After.Name) + " as " + c.After.Query
		}
		s.SQL = append(s.SQL, sql)
	}
	return []*engine.Step{s}
}

func assertSteps(a *sqltext.Assert) ([]*engine.Step, error) {
	text, err := (dialect{}).Expr(a.Expr, planning.Scope{})
	if err != nil {
		return nil, &engine.Refused{Message: err.Error()}
	}
	return []*engine.Step{planning.Assertion(a, "select 1 where not coalesce(("+text+"), false)")}, nil
}

// nativeStep runs SQL as it is written. What cannot run in a transaction runs outside.
func nativeStep(n *schema.NativeChange) *engine.Step {
	s := &engine.Step{Native: true, Kind: engine.Catalog, What: "run the statement as written",
		SQL: splitStatements(n.SQL), Lock: "as the statement takes", WritersWait: engine.WaitBriefly}
	for _, sql := range s.SQL {
		if !transactional(sql) {
			s.Outside = &engine.Outside{}
		}
	}
	if s.Outside != nil {
		for _, sql := range s.SQL {
			s.Outside.Statements = append(s.Outside.Statements, engine.Statement{SQL: sql, Direct: true})
		}
		if n.Statement.DoneWhen != nil {
			if text, err := (dialect{}).Expr(n.Statement.DoneWhen, planning.Scope{}); err == nil {
				s.Outside.Done = "select 1 where " + text
			}
		}
	}
	return s
}

// transactional reports whether a statement can share a transaction.
func transactional(sql string) bool {
	words := strings.Fields(schema.Words(sql))
	for i, w := range words {
		if w == "concurrently" || i == 0 && (w == "vacuum" || w == "cluster" && len(words) == 1) || i < 2 &&
			(w == "system" || w == "database") && words[0] != "comment" {
			return false
		}
	}
	return true
}

// splitStatements splits SQL at the semicolons between its statements.
func splitStatements(sql string) []string {
	tokens, _ := sqltext.Scan(sql, sqltext.Migration)
	var list []string
	start, depth := 0, 0
	for i, t := range tokens {
		switch {
		case t.Is("begin") && i > 0 && tokens[i+1].Is("atomic"), t.Is("case") && depth > 0, t.Is("("): // as a rule's actions
			depth++
		case t.Is("end") && depth > 0, t.Is(")") && depth > 0:
			depth--
		case t.Is(";") && depth == 0, t.Kind == sqltext.EOF:
			if part := strings.TrimSpace(sql[start:t.Pos.Offset]); part != "" {
				list = append(list, part)
			}
			start = t.End()
		}
	}
	return list
}

// insert adds rows and notes their keys, so that the way back takes exactly these.
func (p *planner) insert(c *schema.InsertChange) {
	t := c.Table
	if c.Back {
		p.PutRowsBack(c.PutBack)
		return
	}
	source := p.Inserted(c)
	p.NewKeys(c, source)
	what, rate := planning.Inserting(c), 0.0
	if c.Query != nil {
		rate = rewriteRate
	}
	keys := t.Key()
	kept := p.Facts.KeptTable()
	insert := "insert into " + name(t.Name) + " (" + quoteAll(c.Columns) + ") overriding system value " + source
	if c.PutBack != nil {
		insert = p.RestoreRows(t, c.PutBack)
	}
	p.PlaceForKeys(kept, "create table "+name(kept)+" ("+keptSQL("k", t, keys)+", primary key ("+
		planning.KeptSQL("k", len(keys))+"))")
	sql := []string{
		"with inserted as (" + insert + " returning " + quoteAll(keys) + ") insert into " + name(kept) +
			" select * from inserted",
	}
	for _, column := range c.Columns {
		if col := t.Column(column); col.Identity != nil || col.Options["sequence"] != "" {
			sql = append(sql, advanceSequence(t, col))
		}
	}
	s := p.Add(engine.Backfill, rate, what, sql...)
	s.WritersWait = engine.WaitNo
	if c.PutBack != nil {
		p.LetGo([]string{c.PutBack.Table})
	}
}

// advanceSequence lets numbers go on above those that rows have, as on engines that
// look at the rows themselves.
func advanceSequence(t *schema.Table, c *schema.Column) string {
	n, column := name(t.Name), quote(c.Name)
	sequence := "pg_get_serial_sequence(" + literal(n) + ", " + literal(c.Name) + ")"
	return "do " + dollar("begin perform setval("+sequence+", greatest(nextval("+sequence+") - 1, (select max("+column+
		") from "+n+
		")), true) where exists (select 1 from "+n+"); end")
}
