package mariadb

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// refuseSuffix ends the names of triggers that refuse, for a trial of a settling, what programs of
// before write, until a moment that stands in them. They come before all others.
const refuseSuffix = "_trial"

// Refuse implements engine.Planner.
func (Engine) Refuse(t *schema.Table, list []schema.Watched, until time.Time) (on, off []engine.Statement) {
	p := newPlanner(engine.Facts{}, t)
	p.EachAsBefore(list, planning.Writes{Differ: differs, Unwritten: p.unwritten}, func(w schema.Watched, event,
		condition string) {
		n := quote(planning.TriggerName(t, strings.TrimPrefix(refuseSuffix, "_"), w.Named(event)...))
		before := ""
		if first := firstTrigger(slices.Concat(t.Own, t.Triggers), event); first != "" {
			before = "precedes " + quote(first) + " "
		}
		on = append(on, engine.Statement{SQL: "create or replace trigger " + n + " before " + event + " on " + p.table() +
			" for each row " + before + "begin if unix_timestamp() < " + fmt.Sprint(until.Unix()) + " and " + condition +
			" then signal sqlstate '45000' set message_text = " + literal(cut(planning.RefusedMessage(t, w, until))) +
			"; end if; end"})
		off = append(off, engine.Statement{SQL: "drop trigger if exists " + n})
	})
	return on, off
}
