package planning

import (
	"crypto/sha256"
	"encoding/hex"
	"strconv"
	"strings"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/pattern"
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

// EachAsBefore calls do for each way in which programs of before alone write columns, with its condition.
func (p *Planner) EachAsBefore(list []schema.Watched, x Writes, do func(w schema.Watched, event, condition string)) {
	for _, w := range list {
		for _, event := range []string{"insert", "update"} {
			if condition := p.AsBefore(w, event, x); condition != "" {
				do(w, event, condition)
			}
		}
	}
}

// RefusedMessage is the error of a program that writes a column as before while that is refused.
func RefusedMessage(t *schema.Table, w schema.Watched, until time.Time) string {
	what := w.Column + " of " + t.Name + " cannot be written"
	switch {
	case w.Column == "":
		what = t.Name + " cannot be written"
	case w.Supplied:
		what = w.Column + " of " + t.Name + " cannot be left out"
	}
	return what + " until " + until.UTC().Format(time.TimeOnly) + " UTC: a trial of lastboard settle"
}

// RefusesUntil gives the moment that stands in a trigger that refuses what programs of before write.
func RefusesUntil(body string) time.Time {
	if m := refusesUntil().FindStringSubmatch(body); m != nil {
		if seconds, err := strconv.ParseInt(m[1], 10, 64); err == nil {
			return time.Unix(seconds, 0)
		}
	}
	return time.Time{}
}

var refusesUntil = pattern.Of(`(?:_timestamp|unixepoch)\(\) < (?:pg_catalog\.to_timestamp\()?([0-9]+)`)
