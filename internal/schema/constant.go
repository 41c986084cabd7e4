package schema

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"lastboard/internal/pattern"
	"lastboard/internal/sqltext"
)

// valueOf gives a constant as a column of a type holds it: in a column of text a number or a
// truth value is the text of it, and in a column of truth values or numbers a text is what
// it says.
func valueOf(t sqltext.Type, e sqltext.Expr) sqltext.Expr {
	l, ok := e.(*sqltext.Literal)
	if !ok {
		return e
	}
	said := strings.ToLower(strings.TrimSpace(l.Text))
	truth, isTruth := truths[said]
	switch {
	case t.IsText() && (l.Kind == sqltext.NumberLiteral || l.Kind == sqltext.BoolLiteral):
		return &sqltext.Literal{Kind: sqltext.StringLiteral, Text: l.Text}
	case t.Name == "boolean" && isTruth && (l.Kind == sqltext.NumberLiteral || l.Kind == sqltext.StringLiteral):
		return &sqltext.Literal{Kind: sqltext.BoolLiteral, Text: strconv.FormatBool(truth)}
	case ofNumbers(t) && l.Kind == sqltext.StringLiteral && numberText().MatchString(said):
		number := &sqltext.Literal{Kind: sqltext.NumberLiteral, Text: strings.TrimLeft(said, "+-")}
		if strings.HasPrefix(said, "-") {
			return &sqltext.Unary{Op: "-", X: number}
		}
		return number
	}
	return e
}

// truths are the constants that a column of truth values takes.
var truths = map[string]bool{"true": true, "1": true, "false": false, "0": false}

// valueIn gives a constant of a column that gets another type, as the rows get theirs.
func valueIn(t sqltext.Type, e sqltext.Expr) sqltext.Expr {
	l, ok := e.(*sqltext.Literal)
	if ok && l.Kind == sqltext.BoolLiteral && ofNumbers(t) {
		return &sqltext.Literal{Kind: sqltext.NumberLiteral,
			Text: map[bool]string{true: "1", false: "0"}[truths[strings.ToLower(l.Text)]]}
	}
	return valueOf(t, e)
}

// ofNumbers reports whether a type is one of numbers.
func ofNumbers(t sqltext.Type) bool {
	return t.IsInteger() || slices.Contains([]string{"numeric", "real", "double precision"}, t.Name)
}

// wholeBits is how many bits an integer type has.
var wholeBits = map[string]uint{"tinyint": 8, "smallint": 16, "integer": 32, "bigint": 64}

// Unfit says why a constant cannot be the default of a column of a type; "" where it can,
// or where it is no constant.
func Unfit(t sqltext.Type, e sqltext.Expr) string {
	kind, text, ok := constantText(e)
	if !ok || t.Native {
		return ""
	}
	number, isNumber := new(big.Rat), numberText().MatchString(strings.TrimSpace(text))
	if isNumber {
		number, isNumber = number.SetString(strings.TrimSpace(text))
	}
	switch {
	case t.IsInteger():
		if !isNumber || !number.IsInt() {
			return "it is no whole number"
		}
		bits := wholeBits[t.Name]
		low, high := new(big.Int).Neg(new(big.Int).Lsh(big.NewInt(1), bits-1)), new(big.Int).Lsh(big.NewInt(1), bits-1)
		if t.Unsigned {
			low, high = new(big.Int), new(big.Int).Lsh(big.NewInt(1), bits)
		}
		if n := number.Num(); n.Cmp(low) < 0 || n.Cmp(high) >= 0 {
			return fmt.Sprintf("%s holds %s to %s", t, low, new(big.Int).Sub(high, big.NewInt(1)))
		}
	case ofNumbers(t):
		if !isNumber {
			return "it is no number"
		}
		if len(t.Args) > 0 {
			scale := append(slices.Clone(t.Args), 0)[1]
			most := new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(t.Args[0]-scale)), nil))
			if new(big.Rat).Abs(number).Cmp(most) >= 0 {
				return fmt.Sprintf("%s has no room for it", t)
			}
		}
	case t.Name == "boolean":
		if _, ok := truths[strings.ToLower(strings.TrimSpace(text))]; !ok {
			return "it is neither true nor false"
		}
	case t.Name == "enum":
		if kind == sqltext.StringLiteral && !slices.Contains(t.Values, text) {
			return "it is none of the values"
		}
	case t.IsText() && len(t.Args) > 0 && utf8.RuneCountInString(text) > t.Args[0]:
		return fmt.Sprintf("%s holds %d characters", t, t.Args[0])
	case t.Name == "date" || t.Name == "time" || strings.HasPrefix(t.Name, "timestamp"):
		if !isMoment(t.Name, text) {
			return "there is no such " + strings.TrimSuffix(t.Name, " with time zone")
		}
	}
	return ""
}

// numberText is how a number is written in SQL.
var numberText = pattern.Of(`^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$`)

// defaultFits refuses a default that no row could ever get.
func (c *Column) defaultFits(at sqltext.Pos) error {
	if c.Default == nil || c.Default.Tree == nil {
		return nil
	}
	why := Unfit(c.Type, c.Default.Tree)
	if why == "" {
		return nil
	}
	return problem(at, "default-does-not-fit", "write a default that the column can hold",
		"the default of column %s cannot stand in it: %s", c.Name, why)
}

// constantText gives a constant's text; ok is false for another expression, and for null.
func constantText(e sqltext.Expr) (kind sqltext.LiteralKind, text string, ok bool) {
	switch e := e.(type) {
	case *sqltext.Literal:
		return e.Kind, e.Text, e.Kind != sqltext.NullLiteral && e.Kind != sqltext.BlobLiteral
	case *sqltext.Typed:
		return sqltext.StringLiteral, e.Text, true
	case *sqltext.Unary:
		if l, is := e.X.(*sqltext.Literal); is && e.Op == "-" && l.Kind == sqltext.NumberLiteral {
			return l.Kind, "-" + l.Text, true
		}
	}
	return 0, "", false
}

// isMoment reports whether a text is a date or a time that there is.
func isMoment(kind, text string) bool {
	layouts := []string{time.DateOnly, "2006-01-02 15:04", "2006-01-02 15:04:05.999999999",
		"2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999Z07:00", time.RFC3339Nano,
		"2006-01-02 15:04:05.999999999-07"}
	if kind == "time" {
		layouts = []string{"15:04", "15:04:05.999999999"}
	}
	return slices.ContainsFunc(layouts, func(l string) bool {
		_,
			err := time.Parse(l, strings.TrimSpace(text))
		return err == nil
	})
}
