package postgres

import (
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// dialect is how PostgreSQL writes what planners share.
type dialect struct{}

var _ planning.Dialect = dialect{}

func (dialect) Name(table string) string { return name(table) }
func (dialect) Column(n string) string   { return quote(n) }

// Expr implements planning.Dialect.
func (dialect) Expr(e sqltext.Expr, s planning.Scope) (string, error) {
	r := renderer{Scope: s}
	text := r.expr(e, bindOr)
	return text, r.err
}

// Unconverted implements planning.Dialect.
func (dialect) Unconverted(e sqltext.Expr, s planning.Scope) (string, error) {
	r := renderer{Scope: s}
	text := r.unconverted(e)
	return text, r.err
}

// UpdateFrom implements planning.Dialect.
func (dialect) UpdateFrom(table, others string, columns, values []string, where string) string {
	return planning.UpdateFrom(table, others, columns, values, where, quote)
}

func (dialect) Text(e schema.Expr) string { return (Engine{}).Text(e) }

func (dialect) Same(a, b string) string { return a + " is not distinct from " + b }

// Once implements planning.Dialect: an offset keeps a subquery apart.
func (dialect) Once() string { return " offset 0" }

func (dialect) Declaration(_ *schema.Table, c *schema.Column) string { return declaration(c) }

// As implements planning.Dialect.
func (dialect) As(value string, c *schema.Column) string {
	return "cast(" + value + " as " + bare(c.Type) + ")"
}

// Fits implements planning.Dialect. A text that a number is wanted of is looked at
// first: the server would fail.
func (dialect) Fits(t sqltext.Type, kind, v string) string {
	f := fits(t, kind, v)
	if kind != "text" {
		return f
	}
	r := renderer{}
	ok := r.convertible(&sqltext.Cast{X: &sqltext.Literal{Kind: sqltext.StringLiteral}, Type: t}, v)
	if ok == "" {
		return f
	}
	if f == "" {
		f = "true"
	}
	return "case when " + v + " is null then true when " + ok + " then " + f + " else false end"
}

// Changed implements planning.Dialect.
func (dialect) Changed(old, c *schema.Column, x, v string) string {
	number := "cast(" + x + " as numeric)"
	if old.Type.IsText() || old.Type.Native {
		number = "(case when cast(" + x + " as text) ~ " + numberPattern + " then cast(cast(" + x +
			" as text) as numeric) end)"
	}
	from := old.Type.Name
	switch t := c.Type; {
	case from == "boolean":
		return ""
	case t.IsInteger(), t.Name == "numeric", t.Name == "real", t.Name == "double precision":
		return number + " <> cast(" + v + " as numeric)"
	case t.Name == "boolean" && !old.Type.IsText():
		return number + " not in (0, 1)"
	case t.Name == "date" && strings.HasPrefix(from, "timestamp"):
		return "cast(" + x + " as timestamp) <> cast(" + v + " as timestamp)"
	case t.Name == "date" && old.Type.IsText():
		return "char_length(" + x + ") > 10 and substring(" + x + " from 12) !~ '^[0:.]*$'"
	}
	return ""
}

// Cursor implements planning.Dialect: rows are walked by a key.
func (dialect) Cursor(t *schema.Table) []string {
	var list []string
	for _, c := range t.Key() {
		list = append(list, quote(c))
	}
	return list
}

// Place implements planning.Dialect.
func (dialect) Place(*schema.Table) []string { return []string{"cast(ctid as text)"} }

func (dialect) Plain(columns []string) string { return strings.Join(columns, ", ") }

func (dialect) Index(t *schema.Table, x *schema.Index) string { return createIndex(t, x) }

func (dialect) References(k *schema.ForeignKey) string { return references(k) }

// CreateKept implements planning.Dialect.
func (dialect) CreateKept(t *schema.Table, kept string, keys, values []string, counted bool) string {
	f := ""
	if counted {
		f = ", f bigint"
	}
	return "create table " + name(kept) + " (" + keptSQL("k", t, keys) + ", " + keptSQL("o", t, values) + ", " +
		keptSQL("w", t, values) + f +
		", primary key (" + planning.KeptSQL("k", len(keys)) + "))"
}

func (dialect) Forget(kept string) []string { return forget(kept) }

// Forget implements engine.Planner.
func (Engine) Forget(k *engine.Keeping) []string { return forget(k.Kept) }

// Quietly implements planning.Dialect: the triggers know Lastboard's own transactions.
func (dialect) Quietly(_ *schema.Table, statements []string) []string { return statements }

// Unfollowed implements planning.Dialect.
func (dialect) Unfollowed(_ *schema.Table, statements []string) []string { return statements }

func (dialect) WholeRow(t *schema.Table) string {
	return quoteAll(storedNames(t))
}

func storedNames(t *schema.Table) []string {
	var list []string
	for _, c := range t.Stored() {
		list = append(list, c.Name)
	}
	return list
}

func (dialect) RestoreRows(t *schema.Table, k *schema.Kept) string {
	list := quoteAll(storedNames(t))
	return "insert into " + name(t.Name) + " (" + list + ") overriding system value select " + list + " from " +
		name(k.Table)
}

// Load implements planning.Dialect.
func (dialect) Load(p *planning.Planner, s *schema.Source) *engine.Step {
	t := s.Table
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(t.Columns)), ", ")
	var on []string
	l := &engine.Load{File: s.File}
	definitions := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		l.Types = append(l.Types, c.Type)
		definitions[i] = quote(c.Name) + " " + bare(c.Type)
	}
	for _, pair := range s.On {
		on = append(on, quote(pair.Other))
		for i, c := range t.Columns {
			if c.Name == pair.Other {
				l.Keys = append(l.Keys, i)
			}
		}
	}
	table := name(t.Name)
	columns := " (" + strings.Join(definitions, ", ") + ")"
	index := "create index on %s (" + strings.Join(on, ", ") + ")"
	l.Insert = "insert into " + table + " (" + quoteAll(t.ColumnNames()) + ") values (" + marks + ")"
	l.Lend = []string{"drop table if exists pg_temp." + table, "create temporary table " + table + columns,
		fmt.Sprintf(index, "pg_temp."+table)}
	l.LendRow = strings.Replace(l.Insert, table, "pg_temp."+table, 1)
	l.Unmatched = "select count(*) from " + table + " as " + quote(s.Alias) + " where not exists (select 1 from " +
		name(p.Table.Name) + " where " + p.Joined() + ")"
	return &engine.Step{
		Kind: engine.Catalog, Table: p.Table.Name, What: "read " + s.File, WritersWait: engine.WaitNo, Lock: "none",
		SQL:  []string{"drop table if exists pg_temp." + table, "create table " + table + columns, fmt.Sprintf(index, table)},
		Load: l, Undo: []string{"drop table if exists " + table},
	}
}
