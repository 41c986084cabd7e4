package sqltext_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"lastboard/internal/sqltext"
)

// grower makes random trees: every node that the language has, in every place
// where it may stand.
type grower struct{ *rand.Rand }

func (g *grower) chance(percent int) bool { return g.IntN(100) < percent }

func pick[T any](g *grower, list ...T) T { return list[g.IntN(len(list))] }

func (g *grower) name() string {
	return pick(g, "a", "b2", "größe", "order", "Two Words", `q"q`, "_x", "x", "first", "date", "using", "группа",
		"SELECT", "1st", "rebuild", "csv")
}

func (g *grower) text() string {
	return pick(g, "", "x", "it's", "a;b", "-- no comment", "$$", "größe", "line\nend", "%_\\", `"`)
}

func (g *grower) qualified() sqltext.Name {
	n := sqltext.Name{Name: g.name()}
	if g.chance(20) {
		n.Schema = g.name()
	}
	return n
}

func (g *grower) names() []string {
	first, second := g.name(), g.name()
	if first == second || g.chance(50) {
		return []string{first}
	}
	return []string{first, second}
}

func (g *grower) typ() sqltext.Type {
	return pick(g, sqltext.Type{Name: "integer"}, sqltext.Type{Name: "bigint", Unsigned: true},
		sqltext.Type{Name: "numeric", Args: []int{9, 2}}, sqltext.Type{Name: "varchar", Args: []int{40}},
		sqltext.Type{Name: "enum", Values: []string{"in", "it's out"}}, sqltext.Type{Name: "timestamp with time zone"},
		sqltext.Type{Name: "double precision"},
		sqltext.Type{Name: "geometry", Native: true, Args: []int{4}}, sqltext.Type{Name: "Odd Type", Native: true},
		sqltext.Type{Name: "int", Native: true}, sqltext.Type{Name: "text"})
}

func (g *grower) query() sqltext.Query {
	return sqltext.Query{Text: pick(g, "select 1", `select "a", 'b;' from t where (x) in (select y from z)`,
		"with q as (select 1) select * from q", "values (1, 2)")}
}

// subquery leaves out what may not stand between parentheses.
func (g *grower) subquery() sqltext.Query {
	return sqltext.Query{Text: pick(g, "select 1", "with q as (select 1) select max(a) from q",
		"select a from t where b = ')'")}
}

func (g *grower) exprs(depth int) []sqltext.Expr {
	list := []sqltext.Expr{g.expr(depth)}
	for range g.IntN(3) {
		list = append(list, g.expr(depth))
	}
	return list
}

func (g *grower) maybe(depth int) sqltext.Expr {
	if g.chance(50) {
		return nil
	}
	return g.expr(depth)
}

func (g *grower) leaf() sqltext.Expr {
	return pick[sqltext.Expr](g,
		&sqltext.Literal{Kind: sqltext.NullLiteral}, &sqltext.Literal{Kind: sqltext.BoolLiteral, Text: "true"},
		&sqltext.Literal{Kind: sqltext.NumberLiteral, Text: pick(g, "0", "42", "1.5", ".5", "1e10", "0x1F")},
		&sqltext.Literal{Kind: sqltext.StringLiteral, Text: g.text()},
		&sqltext.Literal{Kind: sqltext.BlobLiteral, Text: pick(g, "", "00ff")},
		&sqltext.Typed{Type: pick(g, "date", "time", "timestamp"), Text: "2031-05-01"}, &sqltext.Ref{Column: g.name()},
		&sqltext.Ref{Table: g.name(), Column: g.name()},
		&sqltext.Now{Name: pick(g, "current_date", "current_time", "current_timestamp")},
		&sqltext.Interval{Amount: "1", Unit: pick(g, "year", "month", "day", "hour", "minute", "second")})
}

func (g *grower) expr(depth int) sqltext.Expr {
	if depth <= 0 || g.chance(15) {
		return g.leaf()
	}
	d := depth - 1
	switch g.IntN(16) {
	case 0:
		return &sqltext.Unary{Op: pick(g, "-", "+", "not"), X: g.expr(d)}
	case 1, 2, 3, 4:
		op := pick(g, "+", "-", "*", "/", "%", "||", "=", "<>", "<", "<=", ">", ">=", "and", "or", "is distinct from",
			"is not distinct from")
		return &sqltext.Binary{Op: op, L: g.expr(d), R: g.expr(d)}
	case 5:
		return &sqltext.IsNull{X: g.expr(d), Not: g.chance(50)}
	case 6:
		in := &sqltext.In{X: g.expr(d), Not: g.chance(50)}
		if g.chance(30) {
			q := g.subquery()
			in.Query = &q
		} else {
			in.List = g.exprs(d)
		}
		return in
	case 7:
		return &sqltext.Between{X: g.expr(d), Low: g.expr(d), High: g.expr(d), Not: g.chance(50)}
	case 8:
		return &sqltext.Like{X: g.expr(d), Pattern: g.expr(d), Escape: g.maybe(d), Not: g.chance(50)}
	case 9:
		c := &sqltext.Case{Operand: g.maybe(d), Else: g.maybe(d)}
		for range 1 + g.IntN(2) {
			c.Whens = append(c.Whens, sqltext.When{If: g.expr(d), Then: g.expr(d)})
		}
		return c
	case 10:
		return &sqltext.Cast{X: g.expr(d), Type: g.typ()}
	case 11:
		return &sqltext.Substring{X: g.expr(d), From: g.expr(d), For: g.maybe(d)}
	case 12:
		return pick[sqltext.Expr](g, &sqltext.Position{Needle: g.expr(d), X: g.expr(d)},
			&sqltext.Extract{Field: "year", X: g.expr(d)},
			&sqltext.Trim{X: g.expr(d)}, &sqltext.Trim{Side: "leading", X: g.expr(d)},
			&sqltext.Trim{Side: "both", Chars: g.expr(d), X: g.expr(d)})
	case 13:
		return &sqltext.Collate{X: g.expr(d), Name: g.name()}
	case 14:
		return &sqltext.Subquery{Exists: g.chance(50), Query: g.subquery()}
	}
	return pick[sqltext.Expr](g, &sqltext.Call{Name: "count", Star: true}, &sqltext.Call{Name: "f"},
		&sqltext.Call{Name: pick(g, "coalesce", "left", "größte"), Args: g.exprs(d), Distinct: g.chance(20)})
}

func (g *grower) reference() *sqltext.Reference {
	r := &sqltext.Reference{Table: g.qualified(), OnDelete: pick(g, "", "cascade", "set null", "no action"),
		OnUpdate: pick(g, "", "restrict", "set default")}
	if g.chance(50) {
		r.Columns = []string{g.name()}
	}
	return r
}

func (g *grower) column() *sqltext.ColumnDef {
	c := &sqltext.ColumnDef{Name: g.name(), Type: g.typ(), NotNull: g.chance(30), PrimaryKey: g.chance(10),
		Unique: g.chance(20), OnUpdateNow: g.chance(10)}
	if g.chance(30) {
		c.Default = g.expr(2)
	}
	if g.chance(30) {
		c.Checks = g.exprs(2)
	}
	switch g.IntN(6) {
	case 0:
		c.Generated = &sqltext.Generated{Expr: g.expr(2), Kind: pick(g, "", "virtual", "stored")}
	case 1:
		n := int64(-5)
		c.Identity = &sqltext.Identity{Always: g.chance(50), Start: pick(g, nil, &n)}
	case 2:
		c.References = g.reference()
	}
	if g.chance(20) {
		c.Collate = g.name()
	}
	if g.chance(20) {
		c.Comment = pick(g, "why", "it's", "-- $$")
	}
	if g.chance(20) {
		c.Position = &sqltext.Place{After: pick(g, "", g.name()), Rebuild: g.chance(50)}
	}
	return c
}

func (g *grower) constraint() *sqltext.Constraint {
	c := &sqltext.Constraint{Name: pick(g, "", g.name()), Kind: sqltext.ConstraintKind(g.IntN(4))}
	switch c.Kind {
	case sqltext.Check:
		c.Expr = g.expr(3)
	case sqltext.ForeignKey:
		c.Columns, c.Ref = []string{g.name()}, g.reference()
	default:
		c.Columns = g.names()
	}
	return c
}

func (g *grower) action() sqltext.Action {
	n := g.name()
	return pick[sqltext.Action](g,
		&sqltext.AddColumn{Column: g.column(), Using: g.maybe(3)},
		&sqltext.DropColumn{Column: n, Restore: g.maybe(3), Discard: g.chance(50)},
		&sqltext.RenameColumn{Column: n, To: g.name()}, &sqltext.RenameTable{To: n},
		&sqltext.SetType{Column: n, Type: g.typ(), Using: g.maybe(3), Restore: g.maybe(2), Discard: g.chance(50)},
		&sqltext.SetDefault{Column: n, Value: g.maybe(3)}, &sqltext.SetNotNull{Column: n, Using: g.maybe(3)},
		&sqltext.DropNotNull{Column: n}, &sqltext.SetExpression{Column: n, Value: g.maybe(3)},
		&sqltext.SetOnUpdate{Column: n, On: g.chance(50)},
		&sqltext.SetIdentity{Column: n, Identity: pick(g, nil, &sqltext.Identity{Always: true})},
		&sqltext.Restart{Column: n, With: int64(g.IntN(100000)) - 5},
		&sqltext.SetPosition{Column: n, Position: sqltext.Place{After: pick(g, "", g.name()), Rebuild: g.chance(50)}},
		&sqltext.AddConstraint{Constraint: g.constraint()},
		&sqltext.DropConstraint{Name: n}, &sqltext.DropPrimaryKey{}, &sqltext.RenameConstraint{Name: n, To: g.name()},
		&sqltext.Rebuild{})
}

func (g *grower) statement() sqltext.Statement {
	switch g.IntN(8) {
	case 0:
		s := &sqltext.CreateTable{Table: g.qualified(), Columns: []*sqltext.ColumnDef{g.column(), g.column()}}
		if g.chance(50) {
			s.Constraints = []*sqltext.Constraint{g.constraint()}
		}
		return s
	case 1, 2, 3:
		s := &sqltext.AlterTable{Table: g.qualified()}
		for range 1 + g.IntN(4) {
			s.Actions = append(s.Actions, g.action())
		}
		return s
	case 4:
		return &sqltext.CreateIndex{Unique: g.chance(50), Index: g.qualified(), Table: g.qualified(), Where: g.maybe(3),
			Parts: []sqltext.IndexPart{{Column: g.name(), Desc: g.chance(50)}, {Expr: g.expr(3), Desc: g.chance(50)}}}
	case 5:
		s := &sqltext.Backfill{Table: g.qualified(), Where: g.maybe(3), Discard: g.chance(50),
			Set: []sqltext.Assignment{{Column: g.name(), Value: g.expr(3)}}}
		if g.chance(40) {
			s.From = &sqltext.Source{Alias: pick(g, "", g.name()),
				On: []sqltext.JoinPair{{Column: g.name(), Table: g.name(), Other: g.name()}}}
			if g.chance(50) {
				s.From.CSV = pick(g, "a.csv", "it's.csv")
			} else {
				s.From.Table = g.qualified()
			}
		}
		return s
	}
	text, q := g.text(), g.query()
	row := g.exprs(2)
	columns := make([]string, len(row))
	for i := range columns {
		columns[i] = fmt.Sprintf("c%d", i)
	}
	return pick[sqltext.Statement](g,
		&sqltext.DropTable{Table: g.qualified(), Discard: g.chance(50)},
		&sqltext.DropIndex{Index: g.qualified(), Table: g.qualified()},
		&sqltext.RenameIndex{Index: g.qualified(), Table: g.qualified(), To: g.name()},
		&sqltext.CreateView{View: g.qualified(), Query: q}, &sqltext.DropView{View: g.qualified()},
		&sqltext.CommentOn{Table: g.qualified(), Text: pick(g, nil, &text)},
		&sqltext.CommentOn{Table: g.qualified(), Column: g.name(), Text: &text},
		&sqltext.Insert{Table: g.qualified(), Columns: columns, Rows: [][]sqltext.Expr{row, row}},
		&sqltext.Insert{Table: g.qualified(), Columns: columns, Query: &sqltext.Query{Text: "select 1 from t"}},
		&sqltext.Delete{Table: g.qualified(), Where: g.expr(3), Discard: g.chance(50)},
		&sqltext.Assert{Expr: g.expr(4), Message: pick(g, "", "it's wrong")},
		&sqltext.Native{Engines: pick(g, []string{"sqlite"}, []string{"mariadb", "postgres"}),
			SQL: pick(g, "x", "a $$ b", "c $sql1$ $$", "ends in $"), Touching: pick(g, nil, []sqltext.Name{g.qualified()}),
			DoneWhen: g.maybe(2), NoWayBack: true},
		&sqltext.Native{Engines: []string{"sqlite"}, SQL: "x", Back: pick(g, "y", "", "$$")})
}

// TestEveryTreeSurvivesPrinting prints random trees, parses what came out, and
// wants the same tree.
func TestEveryTreeSurvivesPrinting(t *testing.T) {
	for seed := range uint64(20_000) {
		g := &grower{rand.New(rand.NewPCG(seed, 1))}
		want := g.statement()
		text := sqltext.PrintStatement(want)
		f, err := sqltext.Parse("printed", text+";")
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		if len(f.Statements) != 1 {
			t.Fatalf("seed %d: wanted one statement, got %d from\n%s", seed, len(f.Statements), text)
		}
		if where := unequal(reflect.ValueOf(want), reflect.ValueOf(f.Statements[0]), "statement"); where != "" {
			t.Fatalf("seed %d: the tree differs at %s\n%s", seed, where, text)
		}
	}
}

// unequal says where two trees part; positions do not count, and neither does
// whether a list that is empty is there.
func unequal(a, b reflect.Value, path string) string {
	if a.Type() == reflect.TypeFor[sqltext.Pos]() {
		return ""
	}
	switch a.Kind() {
	case reflect.Pointer, reflect.Interface:
		if a.IsNil() || b.IsNil() {
			if a.IsNil() != b.IsNil() {
				return path
			}
			return ""
		}
		if a.Kind() == reflect.Interface && a.Elem().Type() != b.Elem().Type() {
			return fmt.Sprintf("%s: %s became %s", path, a.Elem().Type(), b.Elem().Type())
		}
		return unequal(a.Elem(), b.Elem(), path)
	case reflect.Struct:
		for i := range a.NumField() {
			if where := unequal(a.Field(i), b.Field(i), path+"."+a.Type().Field(i).Name); where != "" {
				return where
			}
		}
	case reflect.Slice:
		if a.Len() != b.Len() {
			return fmt.Sprintf("%s: %d became %d", path, a.Len(), b.Len())
		}
		for i := range a.Len() {
			if where := unequal(a.Index(i), b.Index(i), fmt.Sprintf("%s[%d]", path, i)); where != "" {
				return where
			}
		}
	default:
		if !a.Equal(b) {
			return fmt.Sprintf("%s: %v became %v", path, a, b)
		}
	}
	return ""
}

// TestRewriteReachesEverything renames every reference of random expressions, and
// leaves the expression itself as it was.
func TestRewriteReachesEverything(t *testing.T) {
	for seed := range uint64(3000) {
		g := &grower{rand.New(rand.NewPCG(seed, 2))}
		e := g.expr(5)
		before := sqltext.PrintExpr(e)
		out := sqltext.Rewrite(e, func(x sqltext.Expr) sqltext.Expr {
			if r, ok := x.(*sqltext.Ref); ok {
				r.Table, r.Column = "", "renamed"
			}
			return x
		})
		if sqltext.PrintExpr(e) != before {
			t.Fatalf("seed %d: the expression itself has changed: %s", seed, before)
		}
		if len(sqltext.Refs(out)) != len(sqltext.Refs(e)) {
			t.Fatalf("seed %d: references were lost: %s", seed, before)
		}
		for _, r := range sqltext.Refs(out) {
			if r.Column != "renamed" {
				t.Fatalf("seed %d: %s was not reached in %s", seed, r.Column, before)
			}
		}
		if has := strings.Contains(before, "(select ") || strings.Contains(before, "(with "); has != sqltext.HasSubquery(e) &&
			!strings.Contains(before, "'") {
			t.Fatalf("seed %d: whether it has a subquery: %s", seed, before)
		}
	}
}

func TestNearestWord(t *testing.T) {
	words := []string{"unique", "using", "references", "default"}
	for word, want := range map[string]string{"unqiue": "unique", "useing": "using", "REFERENCE": "references",
		"defualt": "default", "banana": "", "unique": "", "u": ""} {
		if got, ok := sqltext.Nearest(word, words); ok != (want != "") || ok && got != want {
			t.Errorf("%s is nearest to %q (%v), wanted %q", word, got, ok, want)
		}
	}
}
