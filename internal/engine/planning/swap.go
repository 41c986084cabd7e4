package planning

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Total reports whether what existing rows get in a column can be computed of every value that the
// column's type has.
func Total(as *schema.TableChange, column string) bool {
	f, old, c := as.Fill[column], as.Before.Column(as.From[column]), as.After.Column(column)
	if _, constant := f.Expr.(*sqltext.Literal); constant {
		return true
	}
	return f.Cast && (schema.Widens(old.Type, c.Type) || c.Type.Name == "text")
}

// Exact reports whether every value of a column gives back, by a plain cast, what it came from.
func Exact(as *schema.TableChange, column string) bool {
	_, restored := as.Restore[column]
	return as.Fill[column].Cast && !restored && schema.Widens(as.Before.Column(column).Type, as.After.Column(column).Type)
}

// PutsBack reports whether anything was kept of columns as their old types.
func PutsBack(as *schema.TableChange) bool {
	return slices.ContainsFunc(as.Converted(), func(n string) bool { return as.Fill[n].Kept != nil })
}

// putAside adds the steps that give columns what is kept of rows, beside applications also of those whose
// key changes meanwhile. where gives the condition, and values what they get, of what is kept as a
// statement calls it.
func (p *Planner) putAside(what string, k *schema.Kept, columns []string, values func(kept string) []string,
	where func(kept string) string) {
	n := Noting{Kept: k.Table, Keys: k.Keys}
	if p.Beside() {
		p.Dialect.Note(p, p.Add(engine.Sync, 0, "note rows of "+p.Table.Name+" whose key changes"), n)
	}
	// Each row is locked before what is kept of it, as by programs and their triggers.
	from := p.keptRow(n)
	sets := values("k")
	for i, c := range columns {
		sets[i] = p.Column(c) + " = (select " + sets[i] + from + ")"
	}
	p.Alone(p.Faster(p.Update(what, "update "+p.Name(p.Table.Name)+" set "+strings.Join(sets, ", ")+" where "+
		engine.Range+" and exists (select 1"+from+" and "+where("k")+")"), p.Rates.Back))
	if p.Beside() {
		p.last(what+" into rows whose key changed meanwhile", n, func(n Noting) []string {
			_, kept := p.kept(n)
			return []string{p.fromKept(n, columns, values(kept), where(kept))}
		})
	}
	p.LetGo([]string{k.Table})
}

// PutAsideBack puts what was kept of columns as their old types went into those out of sight, where
// the rows still hold what they held then.
func (p *Planner) PutAsideBack(c *schema.SwapChange) {
	for _, n := range c.Columns() {
		k := c.As.Fill[n].Kept
		if k == nil {
			continue
		}
		p.putAside("put what was kept of "+n+" back", k, []string{schema.Aside(n)},
			func(kept string) []string { return []string{kept + "." + k.Column} },
			func(kept string) string {
				return p.Same(kept+"."+p.Column(k.Wrote), p.Name(p.Table.Name)+"."+p.Column(n))
			})
	}
}

// ProvenBy adds the proofs of a planner of the change as it would be made at once: that the rows can
// become what they are meant to be.
func (p *Planner) ProvenBy(q *Planner) {
	q.AlterProofs()
	p.Steps = append(p.Steps, q.Steps...)
	if q.Err != nil {
		p.Fail(q.Err)
	}
}

// Linked are the parts of statements about columns that are made from each other: for those of each
// side, that they are not what comes of the other, and what they get.
type Linked struct{ OldDiffer, NewDiffer, OldSet, NewSet []string }

// LinkParts gives them; row writes a column of a row, isNot gives the condition that what a column has,
// as x, is not a value, and set the statement that gives it one.
func (p *Planner) LinkParts(l schema.Link, row func(column string) string,
	isNot func(c *schema.Column, x, value string) string, set func(x, value string) string) (x Linked) {
	side := func(columns []string, of map[string]sqltext.Expr, differ, sets *[]string) {
		for _, n := range columns {
			value := p.write(of[n], Scope{Table: p.Table, Value: row})
			*differ = append(*differ, isNot(p.Table.Column(n), row(n), value))
			*sets = append(*sets, set(row(n), value))
		}
	}
	old, fresh := l.Columns()
	side(old, l.Old, &x.OldDiffer, &x.OldSet)
	side(fresh, l.New, &x.NewDiffer, &x.NewSet)
	return x
}

// PutLinkedBack puts what was kept of the new columns of a link back, in rows whose old ones are still
// what comes of it. differ gives the conditions that they are not, with columns as row writes them.
func (p *Planner) PutLinkedBack(c *schema.LinkChange, differ func(row func(column string) string) []string) {
	_, fresh := c.Columns()
	if len(fresh) == 0 || c.Kept[fresh[0]] == nil {
		return
	}
	k := c.Kept[fresh[0]]
	for _, n := range fresh {
		if c.Kept[n] == nil || c.Kept[n].Table != k.Table {
			return
		}
	}
	values := func(kept string) (list []string) {
		for _, n := range fresh {
			list = append(list, kept+"."+c.Kept[n].Column)
		}
		return list
	}
	p.putAside("put what was kept of "+strings.Join(fresh, ", ")+" back", k, fresh, values, func(kept string) string {
		return "not (" + strings.Join(differ(func(column string) string {
			if i := slices.Index(fresh, column); i >= 0 {
				return values(kept)[i]
			}
			return p.Name(p.Table.Name) + "." + p.Column(column)
		}), " or ") + ")"
	})
}
