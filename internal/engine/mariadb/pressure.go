package mariadb

import (
	"context"
	"slices"
	"strings"
	"time"

	"lastboard/internal/engine"
)

// selectWaiting lists sessions that wait for the metadata of a table. The server does not
// say which table it is but in their statements.
const selectWaiting = `select id, user, command, time_ms / 1e3, left(coalesce(info, ''), 80) from information_schema.processlist
	where db = database() and id <> connection_id() and state like 'Waiting for table%' and locate(?, info) > 0 order by time_ms desc limit 5`

// Pressure implements engine.Pressed. Of its replicas the server knows nothing: they are
// asked themselves.
func (d *database) Pressure(ctx context.Context, table string) (engine.Pressure, error) {
	var p engine.Pressure
	if table != "" {
		r, err := d.query(ctx, selectWaiting, table)
		if err != nil {
			return p, err
		}
		p.Waiting = sessions(r)
	}
	p.Old = d.transactions(ctx, d.session, 1)
	return p, nil
}

// Behind implements engine.Follower. The right REPLICA MONITOR is wanted for it.
func (d *database) Behind(ctx context.Context) (engine.Replica, error) {
	r, err := d.query(ctx, "show all slaves status")
	if err != nil {
		return engine.Replica{}, err
	}
	if len(r.Values) == 0 {
		return engine.Replica{Stopped: true}, nil
	}
	var out engine.Replica
	at := slices.IndexFunc(r.Columns, func(c string) bool { return strings.EqualFold(c, "Seconds_Behind_Master") })
	for _, v := range r.Values {
		if at < 0 || v[at] == nil {
			out.Stopped = true
			continue
		}
		out.Behind = max(out.Behind, time.Duration(number(v[at]))*time.Second)
	}
	return out, nil
}
