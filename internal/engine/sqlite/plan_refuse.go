package sqlite

import (
	"fmt"
	"strings"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// refuseSuffix ends the names of triggers that refuse, for a trial of a settling, what programs of
// before write, until a moment that stands in them.
const refuseSuffix = "_trial"

// Refuse implements engine.Planner.
func (Engine) Refuse(t *schema.Table, list []schema.Watched, until time.Time) (on, off []engine.Statement) {
	p := newPlanner(engine.Facts{}, t)
	p.EachAsBefore(list, planning.Writes{Differ: differs, Unwritten: p.unwritten}, func(w schema.Watched, event,
		condition string) {
		n := quote(planning.TriggerName(t, strings.TrimPrefix(refuseSuffix, "_"), w.Named(event)...))
		gone := engine.Statement{SQL: "drop trigger if exists " + n}
		on = append(on, gone, engine.Statement{SQL: "create trigger " + n + " before " + event + " on " + quote(t.Name) +
			" when unixepoch() < " + fmt.Sprint(until.Unix()) + " and " + condition + " begin select raise(abort, " +
			literal(planning.RefusedMessage(t, w, until)) + "); end"})
		off = append(off, gone)
	})
	return on, off
}
