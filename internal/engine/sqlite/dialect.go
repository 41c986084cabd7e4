package sqlite

import (
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// dialect is how SQLite writes what planners share.
type dialect struct {
	waiting *waiting // what has to wait until a table is copied
}

var _ planning.Dialect = dialect{}

func (dialect) Name(table string) string  { return quote(table) }
func (dialect) Column(name string) string { return quote(name) }

// Expr implements planning.Dialect.
func (dialect) Expr(e sqltext.Expr, s planning.Scope) (string, error) {
	r := renderer{table: s.Table, source: s.Source, strict: s.Mode != planning.Stored, now: s.Now, column: s.Value}
	text := r.expr(e, bindOr)
	if s.Mode == planning.Proven {
		text = strings.ReplaceAll(text, failFunction+"(", markFunction+"(")
	}
	return text, r.err
}

// Unconverted implements planning.Dialect: a cast that fails is remembered.
func (d dialect) Unconverted(e sqltext.Expr, s planning.Scope) (string, error) {
	marked, err := d.Expr(e, s)
	if !strings.Contains(marked, markFunction+"(") {
		return "", err
	}
	return failedFunction + "(" + marked + ")", err
}

// UpdateFrom implements planning.Dialect.
func (dialect) UpdateFrom(table, others string, columns, values []string, where string) string {
	return planning.UpdateFrom(table, others, columns, values, where, quote)
}

func (dialect) Text(e schema.Expr) string { return (Engine{}).Text(e) }

func (dialect) Same(a, b string) string { return a + " is " + b }

// Once implements planning.Dialect: without a limit SQLite may compute a value more
// than once a row.
func (dialect) Once() string { return " limit -1" }

func (dialect) Declaration(t *schema.Table, c *schema.Column) string {
	return declaration(c, t.Options["strict"] != "")
}

func (dialect) As(value string, _ *schema.Column) string { return value }

func (dialect) Fits(t sqltext.Type, _, v string) string { return fits(t, v) }

// Changed implements planning.Dialect.
func (dialect) Changed(_, c *schema.Column, x, v string) string {
	number := "(case when typeof(" + x + ") = 'text' then cast(trim(" + x + ") as numeric) else " + x + " end)"
	switch t := c.Type; {
	case t.IsInteger(), t.Name == "numeric", t.Name == "real", t.Name == "double precision":
		return number + " <> " + v
	case t.Name == "boolean":
		return "lower(" + x + ") not in ('0', '1', 'true', 'false')"
	case t.Name == "date":
		return "typeof(" + x + ") <> 'text' or datetime(" + x + ") is null or datetime(" + x + ") <> datetime(" + v + ")"
	case t.Name == "timestamp", t.Name == "timestamp with time zone":
		return "typeof(" + x + ") <> 'text' or datetime(" + x + ") is null or strftime('%f', " + x + ") <> strftime('%f', " +
			v + ")"
	case t.Name == "time":
		return "typeof(" + x + ") <> 'text' or time(" + x + ") is null or strftime('%f', " + x + ") <> strftime('%f', " + v +
			")"
	}
	return ""
}

func (dialect) Cursor(t *schema.Table) []string { return cursor(t) }

func (dialect) Place(t *schema.Table) []string { return cursor(t) }

// Plain implements planning.Dialect: the plus keeps the driver from making a time of a
// key that looks like one.
func (dialect) Plain(columns []string) string { return "+" + strings.Join(columns, ", +") }

func (dialect) Index(t *schema.Table, x *schema.Index) string { return createIndex(t, x) }

func (dialect) References(k *schema.ForeignKey) string { return references(k) }

func (dialect) Forget(kept string) []string { return forget(kept) }

func (dialect) Quietly(t *schema.Table, statements []string) []string { return quietly(t, statements) }

func (dialect) Unfollowed(t *schema.Table, statements []string) []string {
	return unfollowed(t, statements)
}

// CreateKept gives the statement that makes such a table for a backfill. Keys have
// the types of their columns, or SQLite could not look a row up by them; so has
// what was written, so that it compares equal to what the column made of it.
func (dialect) CreateKept(t *schema.Table, name string, keys, values []string, counted bool) string {
	typed := func(letter string, columns []string) string {
		list := make([]string, len(columns))
		for i, c := range columns {
			list[i] = fmt.Sprintf("%s%d %s", letter, i+1, declaration(t.Column(c), t.Options["strict"] != ""))
		}
		return strings.Join(list, ", ")
	}
	f := ""
	if counted {
		f = ", f integer"
	}
	return "create table " + quote(name) + " (" + typed("k", keys) + ", " + planning.KeptSQL("o", len(values)) + ", " +
		typed("w", values) + f +
		", primary key (" + planning.KeptSQL("k", len(keys)) + ")) without rowid"
}

// RestoreRows gives the statement that puts whole rows back.
func (dialect) RestoreRows(t *schema.Table, k *schema.Kept) string {
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

// WholeRow lists what is kept of a row that goes.
func (dialect) WholeRow(t *schema.Table) string {
	var list []string
	if name := rowName(t); name != "" && alias(t) == "" {
		list = append(list, name+" as "+quote(keptRow))
	}
	for _, c := range t.Stored() {
		list = append(list, quote(c.Name))
	}
	return strings.Join(list, ", ")
}

// Load gives the step that makes a table of a file.
func (d dialect) Load(p *planning.Planner, s *schema.Source) *engine.Step {
	t := s.Table
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(t.Columns)), ", ")
	columns := quoteAll(t.ColumnNames())
	create := createTable(t, t.Name)
	var on []string
	l := &engine.Load{File: s.File}
	for _, c := range t.Columns {
		l.Types = append(l.Types, c.Type)
	}
	for _, pair := range s.On {
		on = append(on, quote(pair.Other))
		for i, c := range t.Columns {
			if c.Name == pair.Other {
				l.Keys = append(l.Keys, i)
			}
		}
	}
	index := func(database string) string {
		return "create index " + database + quote(t.Name+"_key") + " on " + quote(t.Name) + " (" + strings.Join(on, ", ") +
			")"
	}
	l.Insert = "insert into main." + quote(t.Name) + " (" + columns + ") values (" + marks + ")"
	l.Lend = []string{"drop table if exists temp." + quote(t.Name),
		strings.Replace(create, "create table ", "create temp table ", 1), index("temp.")}
	l.LendRow = "insert into temp." + quote(t.Name) + " (" + columns + ") values (" + marks + ")"
	l.Unmatched = "select count(*) from " + quote(t.Name) + " as " + quote(s.Alias) + " where not exists (select 1 from " +
		quote(p.Table.Name) + " where " + p.Joined() + ")"
	step := &engine.Step{
		Kind: engine.Catalog, Table: p.Table.Name, What: "read " + s.File, SQL: []string{create, index("main.")},
		Lock: writeLock, WritersWait: engine.WaitBriefly, Load: l,
		Undo: []string{"drop table if exists main." + quote(t.Name)},
	}
	return step
}
