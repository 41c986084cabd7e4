package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// Columns that are made from each other are kept equal as mirrors are: triggers that are the first of
// their rows find out which were written, and make the old ones of the new; those that are the last
// make the new ones of what all others have made of the old, unless they agree already. They agree
// where the new ones are what comes of the old, or the old what comes of the new: the side that was
// written stays as it is. A column that wants a value has a placeholder by default, for the server asks
// for it before it runs a trigger.

// CannotLink implements engine.Planner.
func (e Engine) CannotLink(as *schema.TableChange, l schema.Link, _ *schema.Schema) string {
	old, fresh := l.Columns()
	for _, n := range old {
		if why := e.CannotMirror(as.Before, n); why != "" {
			return why
		}
	}
	p := newPlanner(engine.Facts{}, as.Before)
	for _, n := range append(old, fresh...) {
		c := as.Before.Column(n)
		if c == nil {
			c = as.After.Column(n)
		}
		if c.NotNull && c.Default == nil && placeholder(c) == "" {
			return "the type of " + n + " has no value that could stand where a program leaves it out"
		}
		if asColumn("", c) == "" {
			return "values of the type of " + n + " are not compared as they are computed"
		}
		if x := l.New[n]; x != nil && p.numbers(x) {
			return n + " is computed from the number of the row, which no trigger knows"
		}
	}
	return ""
}

// asColumn gives a value as one of a column's type, to compare it with one; "" for a type for which
// that is not possible.
func asColumn(value string, c *schema.Column) string {
	switch t := c.Type; {
	case t.Native:
		return ""
	case isText(c):
		charset, _, _ := strings.Cut(c.Collate, "_")
		if charset == "" {
			charset = "utf8mb4"
		}
		return "convert((" + value + ") using " + quote(charset) + ")"
	case t.IsInteger() && t.Unsigned:
		return "cast((" + value + ") as unsigned)"
	case t.IsInteger(), t.Name == "boolean":
		return "cast((" + value + ") as signed)"
	case t.Name == "numeric" && len(t.Args) == 2:
		return fmt.Sprintf("cast((%s) as decimal(%d, %d))", value, t.Args[0], t.Args[1])
	case t.Name == "numeric" && len(t.Args) == 1:
		return fmt.Sprintf("cast((%s) as decimal(%d, 0))", value, t.Args[0])
	case t.Name == "date":
		return "cast((" + value + ") as date)"
	case t.Name == "double precision":
		return "cast((" + value + ") as double)"
	}
	return ""
}

// isNot gives the condition that what a column has, as x, is not a value.
func isNot(c *schema.Column, x, value string) string {
	if isText(c) {
		return "not (binary " + x + " <=> binary " + asColumn(value, c) + ")"
	}
	return "not (" + x + " <=> " + asColumn(value, c) + ")"
}

// Linked implements engine.Planner. Where a program leaves a new column out, it is by default what comes
// of the old ones, so that whatever else it has was written; not so one of several that has a default of
// its own, which programs that write the others expect.
func (Engine) Linked(l schema.Link, c *schema.Column, at schema.LinkStage) schema.Column {
	out := *c
	switch {
	case at == schema.LinkFilled && (len(l.New) == 1 || c.NotNull && c.Default == nil):
		out.Default = &schema.Expr{Tree: l.New[c.Name]}
	case out.NotNull && out.Default == nil:
		out.Default = &schema.Expr{Native: placeholder(c)}
	}
	return out
}

// computes reports whether a column is by default what comes of the others of its row.
func computes(t *schema.Table, c *schema.Column) bool {
	return c.Default != nil && slices.ContainsFunc(t.Columns,
		func(o *schema.Column) bool { return c.Default.Mentions(o.Name) })
}

// Links implements engine.Planner.
func (Engine) Links(t *schema.Table, l schema.Link) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, t)
	return linkTriggers(t, l), p.linkSQL(l)
}

// setDefaults lets columns be what comes of others where an insert leaves them out.
func (p *planner) setDefaults(columns []*schema.Column) {
	var names, actions []string
	for _, c := range columns {
		names = append(names, c.Name)
		actions = append(actions, "alter column "+quote(c.Name)+" set default "+defaultSQL(p.After, c))
	}
	if len(actions) > 0 {
		p.alterTable(engine.Catalog, 0, "compute "+strings.Join(names, ", ")+" where an insert leaves it out", actions...)
	}
}

// linkTriggers names the triggers: the first and the last of an insert, and those of an update.
func linkTriggers(t *schema.Table, l schema.Link) (list []string) {
	old, fresh := l.Columns()
	for _, kind := range []string{"first_insert", "last_insert", "first_update", "last_update"} {
		list = append(list, schema.ConstraintName(&schema.Table{Name: engine.Prefix + t.Name},
			append(append([]string{"link"}, append(old, fresh...)...), kind), strings.TrimPrefix(mirrorSuffix, "_")))
	}
	return list
}

// linkParts gives the parts of statements about columns that are made from each other.
func (p *planner) linkParts(l schema.Link, row func(column string) string) planning.Linked {
	return p.LinkParts(l, row, isNot, func(x, value string) string { return "set " + x + " = " + value + ";" })
}

// linkSQL gives the statements that make the triggers.
func (p *planner) linkSQL(l schema.Link) (list []string) {
	old, fresh := l.Columns()
	x := p.linkParts(l, p.newValue)
	or := func(list []string) string { return "(" + strings.Join(list, " or ") + ")" }
	written := func(columns []string, none func(c *schema.Column) string) string {
		var list []string
		for _, n := range columns {
			c := p.Table.Column(n)
			list = append(list, isNot(c, "new."+quote(n), none(c)))
		}
		return or(list)
	}
	came := func(c *schema.Column) string {
		if c.Default == nil {
			return "null"
		}
		return p.written(c.Default)
	}
	was := func(c *schema.Column) string { return "old." + quote(c.Name) }
	var brought []string
	for i, n := range fresh {
		if c := p.Table.Column(n); computes(p.Table, c) {
			brought = append(brought, x.NewDiffer[i])
		} else {
			brought = append(brought, isNot(c, "new."+quote(n), came(c)))
		}
	}
	carry := func(wrote string, none func(*schema.Column) string) string {
		return "if " + wrote + " then if " + written(old, none) + " then if " + or(x.OldDiffer) + " then if " +
			or(x.NewDiffer) + " then signal sqlstate '45000' set message_text = " +
			literal(cut(strings.Join(old, ", ")+" of "+p.Table.Name+" and "+strings.Join(fresh, ", ")+
				" are made from each other, and were both written with other values")) + "; end if; end if; else " +
			strings.Join(x.OldSet, " ") + " end if; end if;"
	}
	last := "if " + or(x.OldDiffer) + " then if " + or(x.NewDiffer) + " then " + strings.Join(x.NewSet, " ") +
		" end if; end if;"
	names := linkTriggers(p.Table, l)
	for i, body := range []string{carry(or(brought), came), last, carry(written(fresh, was), was), last} {
		event, before := []string{"insert", "update"}[i/2], ""
		if first := firstTrigger(p.Table.Triggers, event); i%2 == 0 && first != "" {
			before = "precedes " + quote(first) + " "
		}
		list = append(list, "create or replace trigger "+quote(names[i])+" before "+event+" on "+p.table()+
			" for each row "+before+"begin "+body+" end")
	}
	return list
}

// link lets columns be made from each other from now on.
func (p *planner) link(c *schema.LinkChange) {
	p.After = c.After
	l := c.Link
	old, fresh := l.Columns()
	of, what := strings.Join(old, ", "), strings.Join(fresh, ", ")
	for _, n := range fresh {
		p.CastProof(n, l.New[n], "")
		p.FitProof(c.After.Column(n), p.Render(l.New[n], planning.Proven), "", l.New[n])
	}
	var computed []*schema.Column
	for _, n := range fresh {
		if col := c.After.Column(n); computes(c.After, col) {
			computed = append(computed, col)
		}
	}
	p.setDefaults(computed)
	p.Table = c.After // whose defaults the triggers read
	p.underLock("keep "+what+" equal to "+of, "", p.linkSQL(l)...)
	p.Steps[len(p.Steps)-1].Why = "programs of before write " + of + ", those of after " + what
	x := p.linkParts(l, quote)
	differ := "((" + strings.Join(x.OldDiffer, " or ") + ") and (" + strings.Join(x.NewDiffer, " or ") + "))"
	var sets []string
	for _, n := range old {
		sets = append(sets, quote(n)+" = "+quote(n))
	}
	p.Update("fill "+what, "update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range+" and "+differ).
		Why = "the triggers compute it: to write it would look as if a program had"
	s := p.define(engine.Scan, scanRate, "prove that each row has the same in "+of+" and "+what, "", "select 'a row has "+
		"not the same in the columns that are made from each other' from "+p.table()+" where "+differ+" limit 1")
	s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, nil
	p.PutLinkedBack(c, func(row func(string) string) []string { return p.linkParts(l, row).OldDiffer })
}
