package sqlite

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// meaning is a random expression together with what the language says it gives:
// nil, int64, float64, string or bool. It knows nothing of SQLite.
type meaning struct {
	expr  sqltext.Expr
	value any
}

// speaker makes expressions of a kind and computes them at the same time.
type speaker struct{ *rand.Rand }

func (g *speaker) chance(percent int) bool { return g.IntN(100) < percent }

// numbers are the columns of the one row that expressions are computed on.
var numbers = &schema.Table{Name: "numbers", Columns: []*schema.Column{
	{Name: "i", Type: sqltext.Type{Name: "integer"}}, {Name: "n", Type: sqltext.Type{Name: "integer"}},
	{Name: "d", Type: sqltext.Type{Name: "numeric", Args: []int{8, 2}}},
	{Name: "s", Type: sqltext.Type{Name: "text"}}, {Name: "z", Type: sqltext.Type{Name: "text"}},
	{Name: "b", Type: sqltext.Type{Name: "boolean"}},
}}

var rowValues = map[string]any{"i": int64(7), "n": nil, "d": 20.0, "s": "Größe Tern", "z": nil, "b": true}

func ref(column string) meaning { return meaning{&sqltext.Ref{Column: column}, rowValues[column]} }

func lit(v any) meaning {
	switch v := v.(type) {
	case int64:
		if v < 0 {
			return meaning{&sqltext.Unary{Op: "-", X: lit(-v).expr}, v}
		}
		return meaning{&sqltext.Literal{Kind: sqltext.NumberLiteral, Text: strconv.FormatInt(v, 10)}, v}
	case float64:
		text := strconv.FormatFloat(v, 'f', -1, 64)
		if !strings.Contains(text, ".") {
			text += ".0"
		}
		return meaning{&sqltext.Literal{Kind: sqltext.NumberLiteral, Text: text}, v}
	case string:
		return meaning{&sqltext.Literal{Kind: sqltext.StringLiteral, Text: v}, v}
	}
	return meaning{&sqltext.Literal{Kind: sqltext.NullLiteral}, nil}
}

func binary(op string, l, r meaning, compute func(a, b any) any) meaning {
	e := &sqltext.Binary{Op: op, L: l.expr, R: r.expr}
	if l.value == nil || r.value == nil {
		return meaning{e, nil}
	}
	return meaning{e, compute(l.value, r.value)}
}

func (g *speaker) whole(depth int) meaning {
	if depth == 0 {
		return []meaning{ref("i"), ref("n"), lit(int64(g.IntN(20))), lit(int64(-3)), lit(int64(0))}[g.IntN(5)]
	}
	d := depth - 1
	a, b := g.whole(d), g.whole(d)
	switch g.IntN(9) {
	case 0:
		return binary("+", a, b, func(x, y any) any { return x.(int64) + y.(int64) })
	case 1:
		return binary("-", a, b, func(x, y any) any { return x.(int64) - y.(int64) })
	case 2:
		return binary("*", a, b, func(x, y any) any { return x.(int64) * y.(int64) })
	case 3:
		divisor := lit(int64(g.IntN(5) + 1))
		return binary("/", a, divisor, func(x, y any) any { return x.(int64) / y.(int64) })
	case 4:
		divisor := lit(int64(g.IntN(5) + 1))
		return binary("%", a, divisor, func(x, y any) any { return x.(int64) % y.(int64) })
	case 5:
		t := g.text(d)
		m := meaning{expr: &sqltext.Call{Name: "char_length", Args: []sqltext.Expr{t.expr}}}
		if t.value != nil {
			m.value = int64(len([]rune(t.value.(string))))
		}
		return m
	case 6:
		t := g.text(d)
		m := meaning{expr: &sqltext.Position{Needle: lit("r").expr, X: t.expr}}
		if t.value != nil {
			before, _, found := strings.Cut(t.value.(string), "r")
			m.value = int64(0)
			if found {
				m.value = int64(len([]rune(before)) + 1)
			}
		}
		return m
	case 7:
		f := g.fraction(d)
		m := meaning{expr: &sqltext.Cast{X: f.expr, Type: sqltext.Type{Name: "integer"}}}
		if f.value != nil {
			m.value = int64(math.Round(f.value.(float64)))
		}
		return m
	}
	return g.either(a, b, depth)
}

// fraction gives numbers whose fractions are quarters, so that sums are exact.
func (g *speaker) fraction(depth int) meaning {
	if depth == 0 {
		return []meaning{ref("d"), lit(float64(g.IntN(40)) / 4), lit(2.5), lit(0.25)}[g.IntN(4)]
	}
	d := depth - 1
	a, b := g.fraction(d), g.fraction(d)
	switch g.IntN(6) {
	case 0:
		return binary("+", a, b, func(x, y any) any { return x.(float64) + y.(float64) })
	case 1:
		return binary("-", a, b, func(x, y any) any { return x.(float64) - y.(float64) })
	case 2:
		w := g.whole(d)
		return binary("*", a, w, func(x, y any) any { return x.(float64) * float64(y.(int64)) })
	case 3:
		return binary("/", a, lit(int64(8)), func(x, y any) any { return x.(float64) / 8 })
	case 4:
		w := g.whole(d)
		return binary("/", w, lit(2.0), func(x, y any) any { return float64(x.(int64)) / 2 })
	}
	return g.either(a, b, depth)
}

func (g *speaker) text(depth int) meaning {
	if depth == 0 {
		return []meaning{ref("s"), ref("z"), lit(""), lit("it's"), lit("Tern "), lit("100%")}[g.IntN(6)]
	}
	d := depth - 1
	a, b := g.text(d), g.text(d)
	switch g.IntN(8) {
	case 0:
		return binary("||", a, b, func(x, y any) any { return x.(string) + y.(string) })
	case 1:
		m := meaning{&sqltext.Call{Name: "concat", Args: []sqltext.Expr{a.expr, b.expr}}, ""}
		for _, x := range []meaning{a, b} {
			if x.value != nil {
				m.value = m.value.(string) + x.value.(string)
			}
		}
		return m
	case 2:
		from, n := int64(g.IntN(8)-3), int64(g.IntN(6))
		m := meaning{expr: &sqltext.Substring{X: a.expr, From: lit(from).expr, For: lit(n).expr}}
		if a.value != nil {
			m.value = cut(a.value.(string), from, n)
		}
		return m
	case 3:
		from, n := g.whole(d), g.whole(d)
		m := meaning{expr: &sqltext.Substring{X: a.expr, From: from.expr, For: n.expr}}
		if a.value != nil && from.value != nil && n.value != nil {
			m.value = cut(a.value.(string), from.value.(int64), n.value.(int64))
		}
		return m
	case 4:
		m := meaning{expr: &sqltext.Call{Name: "replace", Args: []sqltext.Expr{a.expr, lit("r").expr, lit("RR").expr}}}
		if a.value != nil {
			m.value = strings.ReplaceAll(a.value.(string), "r", "RR")
		}
		return m
	case 5:
		m := meaning{expr: &sqltext.Trim{X: a.expr}}
		if a.value != nil {
			m.value = strings.Trim(a.value.(string), " ")
		}
		return m
	case 6:
		w := g.whole(d)
		m := meaning{expr: &sqltext.Cast{X: w.expr, Type: sqltext.Type{Name: "text"}}}
		if w.value != nil {
			m.value = strconv.FormatInt(w.value.(int64), 10)
		}
		return m
	}
	return g.either(a, b, depth)
}

// cut gives n characters from position from, where positions below 1 are before
// the text and count.
func cut(s string, from, n int64) string {
	r := []rune(s)
	end := min(from+max(n, 0), int64(len(r))+1)
	from = max(from, 1)
	if from >= end {
		return ""
	}
	return string(r[from-1 : end-1])
}

func (g *speaker) truth(depth int) meaning {
	if depth == 0 {
		return ref("b")
	}
	d := depth - 1
	switch g.IntN(8) {
	case 0:
		return binary("<", g.whole(d), g.whole(d), func(x, y any) any { return x.(int64) < y.(int64) })
	case 1:
		return binary("=", g.text(d), g.text(d), func(x, y any) any { return x == y })
	case 2:
		a, b := g.truth(d), g.truth(d)
		m := meaning{expr: &sqltext.Binary{Op: "and", L: a.expr, R: b.expr}}
		switch {
		case a.value == false || b.value == false:
			m.value = false
		case a.value != nil && b.value != nil:
			m.value = true
		}
		return m
	case 3:
		a, b := g.truth(d), g.truth(d)
		m := meaning{expr: &sqltext.Binary{Op: "or", L: a.expr, R: b.expr}}
		switch {
		case a.value == true || b.value == true:
			m.value = true
		case a.value != nil && b.value != nil:
			m.value = false
		}
		return m
	case 4:
		a := g.truth(d)
		m := meaning{expr: &sqltext.Unary{Op: "not", X: a.expr}}
		if a.value != nil {
			m.value = !a.value.(bool)
		}
		return m
	case 5:
		a := g.text(d)
		return meaning{&sqltext.IsNull{X: a.expr}, a.value == nil}
	case 6:
		a, b := g.whole(d), g.whole(d)
		return meaning{&sqltext.Binary{Op: "is distinct from", L: a.expr, R: b.expr}, a.value != b.value}
	}
	a := g.text(d)
	m := meaning{expr: &sqltext.Like{X: a.expr, Pattern: lit("%T_r%").expr}}
	if a.value != nil {
		m.value = false
		r := []rune(a.value.(string))
		for i := 0; i+2 < len(r); i++ {
			if r[i] == 'T' && r[i+2] == 'r' {
				m.value = true
			}
		}
	}
	return m
}

// either chooses between two of a kind by a case or a coalesce.
func (g *speaker) either(a, b meaning, depth int) meaning {
	if g.chance(50) {
		m := meaning{&sqltext.Call{Name: "coalesce", Args: []sqltext.Expr{a.expr, b.expr}}, a.value}
		if a.value == nil {
			m.value = b.value
		}
		return m
	}
	t := g.truth(depth - 1)
	m := meaning{&sqltext.Case{Whens: []sqltext.When{{If: t.expr, Then: a.expr}}, Else: b.expr}, b.value}
	if t.value == true {
		m.value = a.value
	}
	return m
}

// TestRandomExpressionsMeanWhatTheLanguageSays computes random expressions on
// SQLite and by the rules of the language, and wants the same.
func TestRandomExpressionsMeanWhatTheLanguageSays(t *testing.T) {
	m := memoryWith(t, createTable(numbers, "numbers"),
		"insert into numbers values (7, null, 20, 'Größe Tern', null, true)")
	for seed := range uint64(8000) {
		g := &speaker{rand.New(rand.NewPCG(seed, 3))}
		var want meaning
		switch depth := 1 + int(seed%4); seed % 3 {
		case 0:
			want = g.whole(depth)
		case 1:
			want = g.text(depth)
		default:
			want = g.fraction(depth)
		}
		r := renderer{table: numbers}
		sql := r.expr(want.expr, bindOr)
		rows, err := m.query(context.Background(), "select "+sql+" from numbers")
		if err != nil {
			t.Fatalf("seed %d: %s, as %s: %v", seed, sqltext.PrintExpr(want.expr), sql, err)
		}
		if got := rows.Values[0][0]; !sameValue(got, want.value) {
			t.Fatalf("seed %d: %s, as %s: wanted %v, got %v", seed, sqltext.PrintExpr(want.expr), sql, want.value, got)
		}
	}
}

// sameValue compares what SQLite gave, where a numeric column may hold a whole
// number, with what the language says.
func sameValue(got, want any) bool {
	if f, ok := want.(float64); ok {
		switch g := got.(type) {
		case int64:
			return float64(g) == f
		case float64:
			return math.Abs(g-f) <= 1e-9*max(1, math.Abs(f))
		}
		return false
	}
	return fmt.Sprint(got) == fmt.Sprint(want)
}
