package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// dialect is how MariaDB writes what planners share.
type dialect struct{}

var _ planning.Dialect = dialect{}

func (dialect) Name(table string) string { return quote(table) }
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
	sets := make([]string, len(columns))
	for i, c := range columns {
		sets[i] = table + "." + quote(c) + " = " + values[i]
	}
	return "update " + table + ", " + others + " set " + strings.Join(sets, ", ") + where
}

func (dialect) Text(e schema.Expr) string { return (Engine{}).Text(e) }

// Same implements planning.Dialect: byte for byte, whatever the collation.
func (dialect) Same(a, b string) string { return "binary " + a + " <=> binary " + b }

// Once implements planning.Dialect: what would keep a subquery apart here would write all
// its rows to a temporary table.
func (dialect) Once() string { return "" }

func (dialect) Declaration(_ *schema.Table, c *schema.Column) string { return declaration(c) }

// As implements planning.Dialect.
func (dialect) As(value string, _ *schema.Column) string { return value }

// Fits implements planning.Dialect. A text that a number is wanted of is looked at
// first.
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
	number := "cast(" + x + " as " + exact + ")"
	if old.Type.IsText() || old.Type.Native {
		number = "(case when " + asText(x) + " regexp " + numberPattern + " then cast(" + asText(x) + " as " + exact +
			") end)"
	}
	from := old.Type.Name
	switch t := c.Type; {
	case from == "boolean":
		return ""
	case t.IsInteger(), t.Name == "numeric":
		return number + " <> cast(" + v + " as " + exact + ")"
	case t.Name == "real", t.Name == "double precision":
		return number + " <> cast(" + v + " as " + exact + ")"
	case t.Name == "boolean" && !old.Type.IsText():
		return number + " not in (0, 1)"
	case t.Name == "date" && strings.HasPrefix(from, "timestamp"):
		return "cast(" + x + " as datetime(6)) <> cast(" + v + " as datetime(6))"
	case t.Name == "date" && old.Type.IsText():
		return "char_length(" + x + ") > 10 and substr(" + x + ", 12) not regexp '^[0:.]*$'"
	}
	return ""
}

// Cursor implements planning.Dialect: rows are walked by a key.
func (dialect) Cursor(t *schema.Table) []string {
	key := t.Key()
	if !slices.ContainsFunc(key, func(n string) bool { return unbounded(t.Column(n)) }) {
		return strings.Split(quoteAll(key), ", ")[:len(key)]
	}
	return nil
}

// Place implements planning.Dialect: there is nothing by which a row without a key could
// be found, so all of it is shown.
func (dialect) Place(t *schema.Table) []string {
	return strings.Split(quoteAll(t.ColumnNames()), ", ")
}

func (dialect) Plain(columns []string) string { return strings.Join(columns, ", ") }

func (dialect) Index(t *schema.Table, x *schema.Index) string { return indexSQL(t, x) }

func (dialect) References(k *schema.ForeignKey) string { return references(k) }

// CreateKept implements planning.Dialect.
func (dialect) CreateKept(t *schema.Table, kept string, keys, values []string, counted bool) string {
	f := ""
	if counted {
		f = ", f bigint null"
	}
	return "create table " + quote(kept) + " (" + keptSQL("k", t, keys) + ", " + keptSQL("o", t, values) + ", " +
		keptSQL("w", t, values) + f + ", " + keptKey(t, keys) + ")"
}

// keptKey gives the key of a table of kept values.
func keptKey(t *schema.Table, keys []string) string {
	words := "primary key"
	if slices.ContainsFunc(keys, func(n string) bool { return unbounded(t.Column(n)) }) {
		words = "unique key"
	}
	return words + " (" + planning.KeptSQL("k", len(keys)) + ")"
}

func (dialect) Forget(kept string) []string { return forget(kept) }

// Forget implements engine.Planner.
func (Engine) Forget(k *engine.Keeping) []string { return forget(k.Kept) }

// Quietly implements planning.Dialect: a column that notes the time of each update keeps
// it, since Lastboard's own updates write it as it is.
func (dialect) Quietly(t *schema.Table, statements []string) []string {
	list := slices.Clone(statements)
	for i, sql := range list {
		fromKept := strings.HasPrefix(sql, "update "+quote(t.Name)+", "+strings.TrimSuffix(quote(engine.Prefix+"kept_"), `"`))
		if head, rest, ok := strings.Cut(sql, " set "); ok && fromKept {
			for _, c := range t.Columns {
				if c.OnUpdateNow && !strings.Contains(rest, quote(t.Name)+"."+quote(c.Name)+" = ") {
					rest = quote(t.Name) + "." + quote(c.Name) + " = " + quote(t.Name) + "." + quote(c.Name) + ", " + rest
				}
			}
			list[i] = head + " set " + rest
		}
		rest, ok := strings.CutPrefix(sql, "update "+quote(t.Name)+" set ")
		if !ok {
			continue
		}
		for _, c := range t.Columns {
			if c.OnUpdateNow && !strings.Contains(rest, quote(c.Name)+" = ") {
				rest = quote(c.Name) + " = " + quote(c.Name) + ", " + rest
			}
		}
		list[i] = "update " + quote(t.Name) + " set " + rest
	}
	return list
}

// Unfollowed implements planning.Dialect.
func (dialect) Unfollowed(_ *schema.Table, statements []string) []string { return statements }

func (dialect) WholeRow(t *schema.Table) string { return quoteAll(storedNames(t)) }

func storedNames(t *schema.Table) []string {
	var list []string
	for _, c := range t.Stored() {
		list = append(list, c.Name)
	}
	return list
}

func (dialect) RestoreRows(t *schema.Table, k *schema.Kept) string {
	list := quoteAll(storedNames(t))
	return "insert into " + quote(t.Name) + " (" + list + ") select " + list + " from " + quote(k.Table)
}

// Load implements planning.Dialect.
func (dialect) Load(p *planning.Planner, s *schema.Source) *engine.Step {
	t := s.Table
	var on []string
	l := &engine.Load{File: s.File}
	definitions := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		l.Types = append(l.Types, c.Type)
		definitions[i] = quote(c.Name) + " " + declaration(c)
		if isText(c) {
			definitions[i] += collated(c)
		}
		definitions[i] += " null"
	}
	for _, pair := range s.On {
		on = append(on, pair.Other)
		for i, c := range t.Columns {
			if c.Name == pair.Other {
				l.Keys = append(l.Keys, i)
			}
		}
	}
	table := quote(t.Name)
	columns := " (" + strings.Join(definitions, ", ") + ", key (" + keyParts(t, on, false) + "))"
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(t.Columns)), ", ")
	l.Insert = "insert into " + table + " (" + quoteAll(t.ColumnNames()) + ") values (" + marks + ")"
	l.Lend = []string{"drop temporary table if exists " + table, "create temporary table " + table + columns + ownOptions}
	l.LendRow = l.Insert
	l.Unmatched = "select count(*) from " + table + " as " + quote(s.Alias) + " where not exists (select 1 from " +
		quote(p.Table.Name) + " where " + p.Joined() + ")"
	return &engine.Step{
		Kind: engine.Catalog, Table: p.Table.Name, What: "read " + s.File, WritersWait: engine.WaitNo, Lock: "none",
		SQL:     []string{"drop temporary table if exists " + table, "create table " + table + columns},
		Outside: &engine.Outside{},
		Load:    l, Undo: []string{"drop table if exists " + table},
	}
}
