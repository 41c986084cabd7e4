package mariadb

import (
	"fmt"
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
	for _, w := range list {
		for _, event := range []string{"insert", "update"} {
			condition := p.AsBefore(w, event, planning.Writes{Differ: differs, Unwritten: p.unwritten})
			if condition == "" {
				continue
			}
			n := quote(planning.TriggerName(t, strings.TrimPrefix(refuseSuffix, "_"), w.Named(event)...))
			before := ""
			if first := firstTrigger(append(t.Own, t.Triggers...), event); first != "" {
				before = "precedes " + quote(first) + " "
			}
			on = append(on, engine.Statement{SQL: "create or replace trigger " + n + " before " + event + " on " + p.table() +
				" for each row " + before + "begin if unix_timestamp() < " + fmt.Sprint(until.Unix()) + " and " + condition +
				" then signal sqlstate '45000' set message_text = " + literal(cut(engine.RefusedMessage(t, w, until))) +
				"; end if; end"})
			off = append(off, engine.Statement{SQL: "drop trigger if exists " + n})
		}
	}
	return on, off
}
