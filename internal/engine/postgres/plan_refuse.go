package postgres

import (
	"fmt"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// For a trial of a settling, triggers refuse what programs of before write, until a moment that stands
// in them. They come behind those that count it, which count what is refused as well, and before all
// others.

const (
	refuseTrigger = "!#" // what begins their names
	refuseKind    = "trial"
)

// Refuse implements engine.Planner.
func (Engine) Refuse(t *schema.Table, list []schema.Watched, until time.Time) (on, off []engine.Statement) {
	p := newPlanner(engine.Facts{}, t)
	for _, w := range list {
		function := name(watchName(t, "", refuseKind, w.Column))
		triggers := 0
		for _, event := range []string{"insert", "update"} {
			condition := p.writesAsBefore(w, event)
			if condition == "" {
				continue
			}
			if triggers++; triggers == 1 {
				on = append(on, engine.Statement{SQL: "create or replace function " + function + "() returns trigger language " +
					"plpgsql set search_path = '' as " + dollar("begin if pg_catalog.clock_timestamp() < pg_catalog.to_timestamp("+
					fmt.Sprint(until.Unix())+") then raise exception using errcode = '23514', schema = tg_table_schema, table = "+
					"tg_table_name, column = "+literal(w.Column)+", message = "+literal(engine.RefusedMessage(t, w, until))+
					"; end if; return new; end"), Patient: true})
			}
			n := quote(watchName(t, refuseTrigger, refuseKind+"_"+event, w.Column))
			on = append(on, engine.Statement{SQL: "create or replace trigger " + n + " before " + event + " on " + p.table() +
				" for each row when (" + othersWrite + " and " + condition + ") execute function " + function + "()"})
			off = append(off, engine.Statement{SQL: "drop trigger if exists " + n + " on " + p.table()})
		}
		if triggers > 0 {
			off = append(off, engine.Statement{SQL: "drop function if exists " + function + "()", Patient: true})
		}
	}
	return on, off
}
