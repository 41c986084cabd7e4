package postgres

import (
	"context"
	"time"

	"lastboard/internal/engine"
)

// written is how far the log of the server had come at a time.
type written struct {
	at  time.Time
	lsn int64
}

// longestPast bounds how far back the log's positions are remembered.
const longestPast = time.Hour

// selectReplicas gives how far the log is, and how far each replica has come with it; a
// slot that no replica uses just now stands for one that has stopped.
const selectReplicas = `
	select null, pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')::bigint, true
	union all
	select coalesce(nullif(application_name, ''), client_addr::text, 'a replica'), pg_wal_lsn_diff(replay_lsn, '0/0')::bigint, true from pg_stat_replication where state is not null and application_name <> 'pg_basebackup'
	union all
	select slot_name, pg_wal_lsn_diff(restart_lsn, '0/0')::bigint, false from pg_replication_slots where slot_type = 'physical' and not active and restart_lsn is not null and not temporary`

// selectWaiting lists sessions that wait for a lock on a table.
const selectWaiting = `select distinct a.pid, coalesce(a.usename, ''), coalesce(a.application_name, ''), 'waiting', coalesce(extract(epoch from clock_timestamp() - a.state_change), 0)::float8 as age, left(coalesce(a.query, ''), 80), a.backend_type
	from pg_locks l join pg_stat_activity a using (pid)
	where l.locktype = 'relation' and l.relation = to_regclass(?) and not l.granted and l.database = (select oid from pg_database where datname = current_database()) order by age desc limit 5`

// Pressure implements engine.Pressed. How far a replica is behind in time is worked out
// from where the log was when: the server's own figure stands still while nothing is
// replayed.
func (d *database) Pressure(ctx context.Context, table string) (engine.Pressure, error) {
	var p engine.Pressure
	r, err := d.Query(ctx, selectReplicas)
	if err != nil {
		return p, err
	}
	now := time.Now()
	for _, v := range r.Values {
		if v[0] == nil {
			d.log = append(d.log, written{now, number(v[1])})
		}
	}
	for _, v := range r.Values {
		if v[0] == nil || v[1] == nil && yes(v[2]) {
			continue // its position is not ours to see
		}
		replica := engine.Replica{Name: text(v[0]), Stopped: !yes(v[2])}
		for _, w := range d.log {
			if w.lsn > number(v[1]) {
				replica.Behind = now.Sub(w.at)
				break
			}
		}
		p.Replicas = append(p.Replicas, replica)
	}
	for len(d.log) > 1 && now.Sub(d.log[0].at) > longestPast {
		d.log = d.log[1:]
	}
	if table != "" {
		if r, err = d.Query(ctx, selectWaiting, name(table)); err != nil {
			return p, err
		}
		p.Waiting = sessions(r)
	}
	if r, err = d.Query(ctx, selectOld); err != nil {
		return p, err
	}
	p.Old = sessions(r)
	return p, nil
}

// Behind implements engine.Follower.
func (d *database) Behind(ctx context.Context) (engine.Replica, error) {
	r, err := d.Query(ctx, `select pg_is_in_recovery() and (select count(*) > 0 from pg_stat_wal_receiver),
		case when pg_last_wal_receive_lsn() = pg_last_wal_replay_lsn() then 0 else coalesce(extract(epoch from clock_timestamp() - pg_last_xact_replay_timestamp()), 0) end::float8`)
	if err != nil {
		return engine.Replica{}, err
	}
	seconds, _ := r.Values[0][1].(float64)
	return engine.Replica{Stopped: !yes(r.Values[0][0]), Behind: time.Duration(seconds * float64(time.Second))}, nil
}
