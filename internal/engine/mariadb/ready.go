package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"lastboard/internal/engine"
)

const (
	// selectReady gives what a run depends on, in one row.
	selectReady = `select unix_timestamp(now(6)), @@max_connections, @@max_connections - (select count(*) from information_schema.processlist), @@global.read_only`
	// selectEngines lists tables that Lastboard does not change.
	selectEngines = `select table_name, engine, count(*) over () from information_schema.tables where table_schema = database() and table_type = 'BASE TABLE' and engine <> 'InnoDB' and table_name not like 'lastboard!_%' escape '!' order by 1 limit 1`
)

// Ready implements engine.Database.
func (d *database) Ready(ctx context.Context) ([]engine.Standing, error) {
	r, err := d.query(ctx, selectReady)
	if err != nil {
		return nil, err
	}
	v := r.Values[0]
	list := []engine.Standing{{What: "database", Found: "can be written to"}}
	if number(v[3]) == 1 {
		list[0] = engine.Standing{What: "database", Level: engine.Wrong, Found: "the server is set to be read only",
			Cure: "name its primary in lastboard.toml, or set global read_only = 0"}
	}
	rights, err := d.rights(ctx)
	if err != nil {
		return nil, err
	}
	list = append(list, rights...)
	seconds, err := strconv.ParseFloat(text(v[0]), 64)
	if err != nil {
		return nil, err
	}
	list = append(list, engine.Free(number(v[2]), number(v[1]), "max_connections"),
		engine.Clock(time.UnixMicro(int64(seconds*1e6))))
	e, err := d.query(ctx, selectEngines)
	if err != nil {
		return nil, err
	}
	if len(e.Values) > 0 {
		v := e.Values[0]
		found := fmt.Sprintf("table %s is of engine %s, which has no transactions", text(v[0]), text(v[1]))
		if n := number(v[2]); n > 1 {
			found += fmt.Sprintf("; so are %d others", n-1)
		}
		list = append(list, engine.Standing{What: "tables", Level: engine.Look, Found: found,
			Cure: "alter table " + quote(text(v[0])) + " engine = InnoDB; until then Lastboard does not change it"})
	}
	return list, nil
}

// rights says what the user may do: what is refused is found by trying, on places of Lastboard's
// own that go again.
func (d *database) rights(ctx context.Context) ([]engine.Standing, error) {
	var list []engine.Standing
	refused := func(level engine.Level, err error) error {
		var cannot *engine.CannotOpen
		var no *engine.Refused
		switch {
		case errors.As(err, &cannot):
			list = append(list, engine.Standing{What: "rights", Level: level, Found: cannot.Message, Cure: cannot.Cure})
		case errors.As(err, &no):
			list = append(list, engine.Standing{What: "rights", Level: level, Found: no.Message, Cure: no.Cure})
		default:
			return err
		}
		return nil
	}
	t, err := d.Trial(ctx)
	if err == nil {
		err = t.Close()
	}
	if err := refused(engine.Wrong, err); err != nil {
		return nil, err
	}
	if err := refused(engine.Look, d.mayMake(ctx, []*engine.Step{{SQL: []string{aTrigger}}})); err != nil {
		return nil, err
	}
	if len(list) == 0 {
		list = append(list, engine.Standing{What: "rights", Found: "user " + d.account + " may make copies, and triggers"})
	}
	return list, nil
}

// aTrigger begins as every statement that makes one.
const aTrigger = "create or replace trigger "
