package mariadb

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
	updateRate  = 100_000.0
	pacedRate   = 10_000.0
	keepRate    = 250_000.0
	rewriteRate = 150_000.0
	indexRate   = 400_000.0
)

// awayRate is how many bytes of a table the server takes away in a second, once it has
// written it anew and while nobody may use it.
const awayRate = 500e6

// briefPause is for how long in seconds writers wait for rows that are rarely there.
const briefPause = 0.001

// The locks of steps.
const (
	lockMetadata = "metadata"  // for an instant, at the beginning and the end
	lockShared   = "shared"    // writers wait
	lockTable    = "exclusive" // readers wait, too
	lockRows     = "rows"      // those that are written
)

type planner struct {
	planning.Planner
	// small means that all of the change takes less time than writers may wait.
	small bool
	// remade are generated columns that are dropped and added again.
	remade []string
	// swapped are columns that are computed beside the old ones and then take their places.
	swapped []*schema.Column
	// hidden are added columns that are filled under another name, where nobody sees them
	// before they have their values.
	hidden []*schema.Column
	parts  planning.Parts
	placed []*schema.Check // are new checks that stand in the definitions of columns
	// keyed means that the keys have come with a column that numbers itself.
	keyed, keyDone bool // keyDone is of the primary key alone
	// window are statements that want the table locked while they run, one after the
	// other, before what is dropped goes; windowKeeps are the places that they fill, and
	// windowFollow what is there that has to follow its rows.
	window       []string
	windowKeeps  []string
	windowFollow []*engine.Keeping
	// swapFollowed means that triggers compute the swapped columns.
	swapFollowed bool
	shown        bool              // the hidden ones have got their names
	defined      []*schema.Column  // those that are as they will be since others have gone
	keptBeside   []*engine.Keeping // values that are kept beside applications
	fillers      []string          // events of triggers that fill rows which come or lose a value
}

func newPlanner(f engine.Facts, t *schema.Table) *planner {
	p := &planner{Planner: planning.Planner{
		Dialect: dialect{}, Facts: f, Table: t, Lock: lockMetadata, BatchLock: lockRows, StepsCommit: true,
		Rates: planning.Rates{Scan: scanRate, Update: updateRate, Paced: pacedRate, Keep: keepRate, Rewrite: rewriteRate,
			Index: indexRate, Restore: rewriteRate, Keeps: 4, Back: 1.3, Goes: 1.5, Noted: 1, Nulls: 1},
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
		p.exchange(c.Swap)
	case c.Link != nil:
		p = newPlanner(f, c.Link.Before)
		p.link(c.Link)
	case c.View != nil:
		p = newPlanner(f, nil)
		p.view(c.View)
	case c.Rows != nil:
		p = newPlanner(f, c.Rows.Table)
		if c.Rows.PutBack != nil {
			p.PutBack(c.Rows)
		} else {
			p.keysMoveUnseen(c.Rows)
			p.Backfill(c.Rows)
		}
	case c.Insert != nil:
		p = newPlanner(f, c.Insert.Table)
		p.insert(c.Insert)
	case c.Delete != nil:
		p = newPlanner(f, c.Delete.Table)
		p.Delete(c.Delete)
	case c.Assert != nil:
		text, err := (dialect{}).Expr(c.Assert.Expr, planning.Scope{})
		if err != nil {
			return nil, &engine.Refused{Message: err.Error()}
		}
		return []*engine.Step{planning.Assertion(c.Assert, "select 1 from dual where not coalesce(("+text+"), false)")}, nil
	case c.Native != nil && c.Native.SQL != "":
		p = newPlanner(f, nil)
		p.native(c.Native)
	default:
		return nil, nil
	}
	if c.Table != nil && c.Table.After != nil {
		p.refuse(c.Table.After)
	}
	p.comers()
	return p.settle(), p.Err
}

// refuse says what the server has no equal for.
func (p *planner) refuse(t *schema.Table) {
	for _, x := range t.Indexes {
		switch {
		case x.Where != nil:
			p.Fail(&engine.Refused{Message: "index " + x.Name + " is for some rows alone, and MariaDB has no such index",
				Cure: "leave out where, or give the rows a computed column that is null where they do not count"})
		case slices.ContainsFunc(x.Parts, func(part schema.IndexPart) bool { return part.Expr != nil }):
			p.Fail(&engine.Refused{Message: "index " + x.Name + " is of an expression, and MariaDB indexes columns alone",
				Cure: "add a generated column with the expression, and index that"})
		}
	}
	for _, c := range t.Columns {
		if c.Generated != nil && c.NotNull {
			p.Fail(&engine.Refused{Message: "column " + c.Name + " is computed, and MariaDB lets no such column be not null",
				Cure: "leave out not null, or add check (" + c.Name + " is not null)"})
		}
		if p.misread(t, c) {
			p.Fail(&engine.Refused{Message: fmt.Sprintf("column %s is %s and its expression gives a text, of which MariaDB "+
				"takes what it can", c.Name, c.Type), Cure: fmt.Sprintf("write cast(… as %s)", c.Type)})
		}
	}
	for _, k := range t.ForeignKeys {
		parent := p.Facts.Schema.Table(k.Table)
		for i, n := range k.Columns {
			if parent == nil || i >= len(k.References) {
				break
			}
			c, other := t.Column(n), parent.Column(k.References[i])
			if c != nil && other != nil && (declaration(c) != declaration(other) && !(isText(c) && isText(other)) || isText(c) &&
				c.Collate != other.Collate) {
				p.Fail(&engine.Refused{Message: fmt.Sprintf("column %s is %s and refers to %s of %s, which is %s: MariaDB "+
					"wants both to be of one type and collation", n, kind(c), other.Name, parent.Name, kind(other)),
					Cure: "give the column the type of what it refers to"})
			}
		}
	}
	if k := t.PrimaryKey; k != nil {
		for _, n := range k.Columns {
			if c := t.Column(n); c != nil && unbounded(c) {
				p.Fail(&engine.Refused{Message: "column " + n +
					" is a text or blob without a greatest length, and cannot be the key of a table on MariaDB",
					Cure: "make it varchar(n) or varbinary(n)"})
			}
		}
	}
}

// misread reports whether a column is newly computed of a text and holds none: the server
// makes something of any text, and refuses the row when it next copies the table.
func (p *planner) misread(t *schema.Table, c *schema.Column) bool {
	if c.Generated == nil || c.Type.Native || isText(c) || c.Type.Name == "json" {
		return false
	}
	if b := p.Change.Before; b != nil {
		if old := b.Column(p.Change.From[c.Name]); old != nil && old.Generated != nil && old.Type.Equal(c.Type) {
			return false
		}
	}
	return planning.Scope{Table: t}.Kind(c.Generated.Expr.Tree) == "text"
}

func kind(c *schema.Column) string {
	if isText(c) && c.Collate != "" {
		return c.Type.String() + " collate " + c.Collate
	}
	return c.Type.String()
}

// define adds a step of statements that define something. done gives a row once they
// have run; "" means that they can run again as they are.
func (p *planner) define(kind engine.Kind, rate float64, what, done string, sql ...string) *engine.Step {
	s := p.Add(kind, rate, what, sql...)
	s.Outside = &engine.Outside{Done: done}
	if p.Table != nil {
		s.Strong = []string{p.Table.Name}
	}
	return s
}

// alterTable adds a step of one alter, whose algorithm an empty copy will tell.
func (p *planner) alterTable(kind engine.Kind, rate float64, what string, actions ...string) *engine.Step {
	if rate == 0 {
		rate = rewriteRate // if an empty copy shows that the server copies the table
	}
	return p.define(kind, rate, what, "", p.alterSQL(actions...))
}

func (p *planner) alterSQL(actions ...string) string {
	return "alter table " + p.table() + " " + strings.Join(actions, ", ") + ", " + algorithm
}

func (p *planner) table() string { return quote(p.Table.Name) }

// hasTable gives a row when there is a table.
func hasTable(name string) string {
	return "select 1 from information_schema.tables where table_schema = database() and table_name = " + literal(name)
}

func (p *planner) create() {
	t := p.Change.After
	if k := p.Change.Rows; k != nil {
		p.createAgain(t, k)
		return
	}
	s := p.define(engine.Catalog, 0, "create table "+t.Name, "", (Engine{}).CreateSQL(t)...)
	s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, nil
	for _, k := range t.ForeignKeys {
		if k.Table != t.Name && !schema.HasName(s.Strong, k.Table) {
			s.Strong = append(s.Strong, k.Table)
			s.Lock, s.WritersWait = lockMetadata, engine.WaitBriefly
		}
	}
	p.restart(t)
}

// createAgain brings a table back as it was, with its rows.
func (p *planner) createAgain(t *schema.Table, k *schema.Kept) {
	s := p.define(engine.Catalog, 0, "bring table "+t.Name+" back, with its rows", hasTable(t.Name),
		"rename table "+quote(k.Table)+" to "+quote(t.Name))
	s.PutsBack = []string{k.Table}
	s.WritersWait, s.Lock, s.Strong = engine.WaitNo, "none", nil
	for _, key := range t.ForeignKeys {
		p.foreignKey(key)
	}
}

// drop moves the table out of sight. Its foreign keys go, since they would still act on
// the tables that they refer to.
func (p *planner) drop() {
	t := p.Change.Before
	if len(p.Change.Discard) > 0 {
		p.define(engine.Catalog, 0, "drop table "+t.Name, "", "drop table if exists "+quote(t.Name))
		return
	}
	for _, k := range t.ForeignKeys {
		s := p.alterTable(engine.Catalog, 0, "drop constraint "+k.Name, dropForeignKey(k)...)
		s.Strong = []string{t.Name, k.Table}
	}
	hidden := p.Facts.KeptTable()
	s := p.define(engine.Catalog, 0, "move table "+t.Name+" out of sight", hasTable(hidden),
		"rename table "+quote(t.Name)+" to "+quote(hidden))
	s.Why = "so that it comes back as it was; it is dropped when what is kept is discarded"
	s.Keeps = []*engine.Keeping{{Table: t.Name, Kept: hidden, What: engine.KeptTable}}
}

// dropForeignKey gives the actions that take a foreign key away, with the index that it
// has for itself.
func dropForeignKey(k *schema.ForeignKey) []string {
	return []string{"drop foreign key if exists " + quote(k.Name), "drop key if exists " + quote(k.Name)}
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
		s := p.define(engine.Catalog, 0, fmt.Sprintf("go on numbering from %d", n), "",
			fmt.Sprintf("alter table %s auto_increment = %d, %s", quote(t.Name), n, algorithm))
		s.Table, s.Strong = t.Name, []string{t.Name}
	}
}

func (p *planner) view(c *schema.ViewChange) {
	var sql []string
	what := ""
	if c.Before != nil {
		what = "drop view " + c.Before.Name
		sql = append(sql, "drop view if exists "+quote(c.Before.Name))
	}
	if c.After != nil {
		what = "create view " + c.After.Name
		text := c.After.SQL
		if text == "" {
			text = "create or replace view " + quote(c.After.Name) + " as " + c.After.Query
		}
		sql = append(sql, text)
	}
	s := p.define(engine.Catalog, 0, what, "", sql...)
	s.Lock, s.WritersWait = "none", engine.WaitNo
}

// native runs SQL as it is written.
func (p *planner) native(n *schema.NativeChange) {
	s := p.Add(engine.Catalog, 0, "run the statement as written", inTheirMode(splitStatements(n.SQL))...)
	s.Lock, s.Native = "as the statement takes", true
	if len(s.SQL) > 0 && defines(s.SQL[0]) {
		s.Outside = &engine.Outside{}
		if n.Statement.DoneWhen != nil {
			if text, err := (dialect{}).Expr(n.Statement.DoneWhen, planning.Scope{}); err == nil {
				s.Outside.Done = "select 1 from dual where " + text
			}
		}
	}
}

// modeHead begins the statement that sets the mode in which those behind it are read, in a native
// statement.
const modeHead = "set session sql_mode = "

// inTheirMode puts what sets the mode before each statement that it holds for.
func inTheirMode(statements []string) (list []string) {
	head := ""
	for _, sql := range statements {
		switch {
		case setsMode(sql):
			head = modeHead + sql[len(modeHead):] + engine.Between // in lower case
		default:
			list = append(list, head+sql)
		}
	}
	return list
}

// modeOf parts a statement from what sets the mode for it; head is "" where nothing does.
func modeOf(sql string) (head, rest string) {
	if head, rest, ok := strings.Cut(sql, engine.Between); ok && strings.HasPrefix(head, modeHead) {
		return head, rest
	}
	return "", sql
}

// setsMode reports whether a statement is one that sets the mode, with a text in single quotes.
func setsMode(sql string) bool {
	if len(sql) <= len(modeHead) || !strings.EqualFold(sql[:len(modeHead)], modeHead) {
		return false
	}
	tokens, _ := sqltext.Scan(sql[len(modeHead):], sqltext.Engine)
	return len(tokens) == 2 && tokens[0].Kind == sqltext.String && tokens[1].Kind == sqltext.EOF
}

// splitStatements splits SQL at the semicolons between its statements: one inside a
// trigger or a routine ends none.
func splitStatements(sql string) []string {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	var list []string
	start, depth := 0, 0
	for i, t := range tokens {
		switch {
		case t.Is("begin") && i > 0, t.Is("case") && depth > 0 && !tokens[i-1].Is("end"),
			t.Is("if") && depth > 0 && !tokens[i-1].Is("end"), t.Is("loop") && depth > 0 && !tokens[i-1].Is("end"):
			depth++
		case t.Is("end") && depth > 0:
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
	insert := "insert into " + quote(t.Name) + " (" + quoteAll(c.Columns) + ") " + source + " returning " + quoteAll(keys)
	if c.PutBack != nil {
		insert = p.RestoreRows(t, c.PutBack) + " returning " + quoteAll(keys)
	}
	place := p.PlaceForKeys(kept, "create table "+quote(kept)+" ("+keptSQL("k", t, keys)+", "+keptKey(t, keys)+")")
	place.Undo = forget(kept)
	p.Add(engine.Backfill, rate, what, noting(insert, kept)).WritersWait = engine.WaitNo
	if c.PutBack != nil {
		p.LetGo([]string{c.PutBack.Table})
	}
}
