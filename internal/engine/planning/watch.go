package planning

import "lastboard/internal/schema"

// Writes are the words of an engine for what a row's trigger sees.
type Writes struct {
	Differ    func(a, b string) string      // the condition that two values are not the same
	Unwritten func(c *schema.Column) string // what a column has where an insert leaves it out
	// Null is the condition that an insert leaves out a column which is supplied; nil where no trigger
	// sees that.
	Null func(value string) string
}

// AsBefore gives the condition, on the rows new and old of a trigger, that an insert or an update
// writes a column as programs of before do; "" where that cannot be told.
func (p *Planner) AsBefore(w schema.Watched, event string, x Writes) string {
	column, mirror := "new."+p.Column(w.Column), "new."+p.Column(w.Mirror)
	c := p.Table.Column(w.Column)
	switch {
	case w.Column == "":
		return "1 = 1"
	case w.Supplied && event == "insert" && x.Null != nil:
		return x.Null(column)
	case w.Supplied:
		return ""
	case event == "update" && w.Mirror != "":
		return x.Differ(column, "old."+p.Column(w.Column)) + " and not " + x.Differ(mirror, "old."+p.Column(w.Mirror))
	case event == "update":
		return x.Differ(column, "old."+p.Column(w.Column))
	case c.Default != nil && (c.Default.Tree == nil || !schema.Constant(c.Default.Tree)) &&
		(w.Mirror == "" || !c.Default.Mentions(w.Mirror)):
		return "" // who leaves it out cannot be told from who writes it
	}
	none := x.Unwritten(c)
	if w.Mirror != "" {
		return x.Differ(column, none) + " and not " + x.Differ(mirror, none)
	}
	return x.Differ(column, none)
}
