package postgres

import (
	"fmt"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
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
	p.EachAsBefore(list, p.writes(), func(w schema.Watched, event, condition string) {
		function := name(watchName(t, "", refuseKind, w.Column))
		n := quote(watchName(t, refuseTrigger, refuseKind+"_"+event, w.Column))
		on = append(on, engine.Statement{SQL: "create or replace function " + function + "() returns trigger language " +
			"plpgsql set search_path = '' as " + dollar("begin if pg_catalog.clock_timestamp() < pg_catalog.to_timestamp("+
			fmt.Sprint(until.Unix())+") then raise exception using errcode = '23514', schema = tg_table_schema, table = "+
			"tg_table_name, column = "+literal(w.Column)+", message = "+literal(planning.RefusedMessage(t, w, until))+
			"; end if; return new; end"), Patient: true},
			engine.Statement{SQL: "create or replace trigger " + n + " before " + event + " on " + p.table() +
				" for each row when (" + othersWrite + " and " + condition + ") execute function " + function + "()"})
		off = append(off, engine.Statement{SQL: "drop trigger if exists " + n + " on " + p.table()})
	})
	for _, w := range list { // once no trigger calls it
		off = append(off, engine.Statement{SQL: "drop function if exists " + name(watchName(t, "", refuseKind, w.Column)) +
			"()", Patient: true})
	}
	return on, off
}
