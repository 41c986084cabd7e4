package planning

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Whether values can be what their column's type wants: converted, computed, or as they are.

// ExactProof asserts that no value is cut, rounded or changed by becoming another
// type.
func (p *Planner) ExactProof(old, c *schema.Column, value, only string) {
	x := p.Column(old.Name)
	condition := p.Changed(old, c, x, fresh)
	if condition == "" {
		return
	}
	if only != "" {
		only = " where " + only
	}
	keys := p.Sample(p.Table)
	source := "(select " + aliased(keys) + ", " + x + ", " + value + " as " + fresh + " from " + p.Name(p.Table.Name) +
		only + p.Once() + ") as lastboard_rows"
	where := " where " + x + " is not null and (" + condition + ")"
	p.AddProof("prove that every "+c.Name+" stays what it is", engine.Proof{
		SQL:   "select " + KeptSQL("lastboard_key", len(keys)) + ", " + x + " from " + source + where + " limit 5",
		Count: "select count(*) from " + source + where, Keys: len(keys),
		Rule: "rows-would-break", Column: c.Name, Message: fmt.Sprintf(
			"%s would be cut, rounded or changed by becoming %s in %%d rows of %s", c.Name, c.Type, p.Table.Name),
		Cure: "say what they become, as in using (" + become(old, c) + "); or correct those rows with a backfill first",
	})
}

// become gives an expression that makes of every value of a column one of another type.
func become(old, c *schema.Column) string {
	name := sqltext.PrintExpr(&sqltext.Ref{Column: old.Name})
	switch {
	case c.Type.IsText() && len(c.Type.Args) > 0:
		return fmt.Sprintf("left(%s, %d)", name, c.Type.Args[0])
	case c.Type.IsInteger():
		return "round(" + name + ")"
	case c.Type.Name == "numeric" && len(c.Type.Args) == 2:
		return fmt.Sprintf("round(%s, %d)", name, c.Type.Args[1])
	}
	return "cast(" + name + " as " + c.Type.String() + ")"
}

// CastProof asserts that no text is cast to a number that it is not.
func (p *Planner) CastProof(column string, e sqltext.Expr, only string) {
	failed, err := p.Unconverted(e, p.scope(Proven))
	if err != nil {
		p.Fail(&engine.Refused{Message: err.Error()})
	}
	if failed == "" {
		return
	}
	p.Proof("prove that every text for "+column+" can be converted", failed, fresh+" is not null", only, engine.Proof{
		Rule: "rows-would-break", Column: column, Message: "the text for column " + column + " is no number in %d rows of " +
			p.Table.Name,
		Cure: "correct those rows with a backfill first, or say what they get with case",
	})
}

// FitProof asserts that a column can hold what is computed for it.
func (p *Planner) FitProof(col *schema.Column, value, only string, e sqltext.Expr) {
	if col.Options["sequence"] != "" {
		return // its numbers fit, and to look at one takes it
	}
	var breaks []string
	if col.NotNull && (e == nil || p.MayBeNull(e)) {
		breaks = append(breaks, fresh+" is null")
	}
	// What was there may come back, whatever it was, where the engine lets the column hold it.
	any := p.Change != nil && p.Change.Back && !p.Enforces(p.After, col)
	if f := p.Fits(col.Type, p.scope(Proven).Kind(e), fresh); f != "" && !surelyFits(col.Type, e) &&
		(col.Limit != "" || e != nil && col.Declared == "" && !any) {
		breaks = append(breaks, "not ("+f+")")
	}
	if len(breaks) == 0 {
		return
	}
	holds := col.Type.String()
	if col.NotNull {
		holds += " not null"
	}
	p.Proof(fmt.Sprintf("prove that %s can hold every value", col.Name), value, strings.Join(breaks, " or "), only,
		engine.Proof{
			Rule: "rows-would-break", Column: col.Name, Message: fmt.Sprintf(
				"column %s (%s) cannot hold what %%d rows of %s would get", col.Name, holds, p.Table.Name),
			Cure: "change the expression, or correct those rows with a backfill first",
		})
}

// surelyFits reports whether a plain value is one of the type: then no row has to be
// read to know.
func surelyFits(t sqltext.Type, e sqltext.Expr) bool {
	l, ok := e.(*sqltext.Literal)
	if !ok {
		return false
	}
	switch {
	case t.IsInteger() && l.Kind == sqltext.NumberLiteral:
		n, err := strconv.ParseInt(l.Text, 10, 64)
		return err == nil && n >= 0 && n <= 127
	case t.Name == "numeric" && l.Kind == sqltext.NumberLiteral:
		return !strings.ContainsAny(l.Text, ".eE") && (len(t.Args) == 0 || len(t.Args) == 2 &&
			len(l.Text) <= t.Args[0]-t.Args[1])
	case t.Name == "enum":
		return slices.Contains(t.Values, l.Text)
	case t.IsText() && l.Kind == sqltext.StringLiteral:
		return len(t.Args) == 0 || len(l.Text) <= t.Args[0]
	}
	return false
}
