package planning

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

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

// TriggerName names a trigger of Lastboard's on a table, by what it is about and, at its end, what it is for:
// another than for any other table and parts that read alike when they are put together.
func TriggerName(t *schema.Table, kind string, parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(append([]string{t.Name}, parts...), "\x00")))
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + t.Name}, append(parts, hex.EncodeToString(sum[:4])),
		kind)
}
