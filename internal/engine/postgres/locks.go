package postgres

import (
	"context"
	"fmt"
	"sync"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
)

// selectBlockers lists the sessions that keep one from its lock.
const selectBlockers = `select a.pid, coalesce(a.usename, ''), coalesce(a.application_name, ''), coalesce(a.state, ''),
		coalesce(extract(epoch from clock_timestamp() - a.xact_start), 0)::float8, left(coalesce(a.query, ''), 80), a.backend_type
	from unnest(pg_blocking_pids(%d)) b(pid) join pg_stat_activity a using (pid) order by a.xact_start nulls last limit 5`

// selectPrepared lists transactions that stand prepared in this database: their lock l has to
// meet a condition.
const selectPrepared = `select p.gid, p.owner, extract(epoch from clock_timestamp() - p.prepared)::float8
	from pg_prepared_xacts p where p.database = current_database() and exists (select 1
		from pg_locks x join pg_locks l using (virtualtransaction)
		where x.pid is null and x.locktype = 'transactionid' and x.transactionid = p.transaction and l.pid is null and l.granted and %s) order by p.prepared limit 5`

// blocking is the condition that a session waits for the lock.
const blocking = `exists (select 1 from pg_locks w where w.pid = %d and not w.granted and w.locktype = l.locktype
	and (w.database, w.relation, w.page, w.tuple, w.transactionid) is not distinct from (l.database, l.relation, l.page, l.tuple, l.transactionid))`

// ofTable is the condition that the lock l is on a table or one of its parts.
const ofTable = `(l.relation = to_regclass(?) or l.relation in (select relid from pg_partition_tree(to_regclass(?))))`

// holding is the condition that the lock is on a table, and is held for longer than some seconds.
const holding = `l.locktype = 'relation' and ` + ofTable + ` and p.prepared < clock_timestamp() - interval '%d seconds'`

// prepared gives such transactions as sessions. A session's numbers say nothing of them.
func prepared(r *engine.Rows) []engine.Session {
	var list []engine.Session
	for _, v := range r.Values {
		since, _ := v[2].(float64)
		list = append(list, engine.Session{User: text(v[1]), Since: time.Duration(since * float64(time.Second)),
			Prepared: "rollback prepared " + planning.Literal(text(v[0]))})
	}
	return list
}

// watch looks from a second connection who keeps the first waiting, once it has waited
// for a good part of the time that it may. What it gives ends the watch.
func (d *database) watch(ctx context.Context, wait time.Duration) (found func() []engine.Session) {
	done := make(chan struct{})
	var who []engine.Session
	var w sync.WaitGroup
	look := wait
	if wait >= patience {
		look = 2 * time.Second
	}
	w.Go(func() {
		select {
		case <-done:
			return
		case <-time.After(look / 2):
		}
		conn := d.second
		if conn == nil && wait >= patience/10 {
			conn, _ = d.watcher(ctx) // nothing that others wait for is held
		}
		if conn == nil || conn.IsClosed() {
			return
		}
		if r, err := query(ctx, conn, fmt.Sprintf(selectBlockers, d.pid), nil); err == nil {
			who = sessions(r)
		}
		if r, err := query(ctx, conn, fmt.Sprintf(selectPrepared, fmt.Sprintf(blocking, d.pid)), nil); err == nil {
			who = append(who, prepared(r)...)
		}
	})
	return func() []engine.Session {
		close(done)
		w.Wait()
		return who
	}
}

func sessions(r *engine.Rows) []engine.Session {
	var list []engine.Session
	for _, v := range r.Values {
		since, _ := v[4].(float64)
		s := engine.Session{ID: number(v[0]), User: text(v[1]), Application: text(v[2]), State: text(v[3]),
			Since: time.Duration(since * float64(time.Second)), Query: text(v[5])}
		if kind := text(v[6]); kind != "client backend" {
			s.Background = kind
		}
		list = append(list, s)
	}
	return list
}

// InTheWay lists sessions that have held any lock on the tables for more than a
// second: who waits behind them makes others wait in turn.
func (d *database) InTheWay(ctx context.Context, tables []string) ([]engine.Session, error) {
	for _, t := range tables {
		r, err := d.Query(ctx, `select distinct a.pid, coalesce(a.usename, ''), coalesce(a.application_name, ''), coalesce(a.state, ''),
				coalesce(extract(epoch from clock_timestamp() - a.xact_start), 0)::float8 as age, left(coalesce(a.query, ''), 80), a.backend_type
			from pg_locks l join pg_stat_activity a using (pid)
			where l.locktype = 'relation' and `+ofTable+` and l.granted and l.pid <> pg_backend_pid()
				and l.database = (select oid from pg_database where datname = current_database())
				and a.backend_type <> 'autovacuum worker' and a.xact_start < clock_timestamp() - interval '1 second'
			order by age desc limit 5`, name(t), name(t))
		if err != nil {
			return nil, err
		}
		if list := sessions(r); len(list) > 0 {
			return list, nil
		}
		if r, err = d.Query(ctx, fmt.Sprintf(selectPrepared, fmt.Sprintf(holding, 1)), name(t), name(t)); err != nil {
			return nil, err
		}
		if list := prepared(r); len(list) > 0 {
			return list, nil
		}
	}
	return nil, nil
}

// selectOld lists the transactions that a concurrent build would wait for.
const selectOld = `select a.pid, coalesce(a.usename, ''), coalesce(a.application_name, ''), coalesce(a.state, ''),
		coalesce(extract(epoch from clock_timestamp() - a.xact_start), 0)::float8 as age, left(coalesce(a.query, ''), 80), a.backend_type
	from pg_stat_activity a where a.datname = current_database() and a.pid <> pg_backend_pid() and a.backend_type = 'client backend'
		and a.backend_xmin is not null and a.xact_start < clock_timestamp() - interval '2 seconds' order by age desc limit 5`

// Old lists transactions that are older than a few seconds: a concurrent build waits
// for them in its middle, and for those that stand prepared and have written to its table.
func (d *database) Old(ctx context.Context, table string) ([]engine.Session, error) {
	r, err := d.Query(ctx, selectOld)
	if err != nil {
		return nil, err
	}
	list := sessions(r)
	if r, err = d.Query(ctx, fmt.Sprintf(selectPrepared, fmt.Sprintf(holding, 0)), name(table), name(table)); err != nil {
		return nil, err
	}
	return append(list, prepared(r)...), nil
}

// claimKey is the advisory lock of the one runner of a database.
const claimKey = "hashtextextended('lastboard:' || current_database(), 0)"

// Claim implements engine.Database: an advisory lock on a connection of its own. That
// the first connection cannot have it, too, proves that both have a session of the
// server to themselves: behind a pooler that shares sessions it could.
func (d *database) Claim() (release func(), ok bool, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	conn, err := d.connect(ctx)
	if err != nil {
		return nil, false, err
	}
	r, err := query(ctx, conn, "select pg_try_advisory_lock("+claimKey+"), pg_backend_pid()", nil)
	if err != nil {
		conn.Close(ctx)
		return nil, false, err
	}
	if !yes(r.Values[0][0]) {
		conn.Close(ctx)
		return nil, false, nil
	}
	pid := uint32(number(r.Values[0][1]))
	if r, err = d.Query(ctx, "select pg_try_advisory_lock("+claimKey+"), pg_backend_pid()"); err != nil {
		conn.Close(ctx)
		return nil, false, err
	}
	if now := uint32(number(r.Values[0][1])); yes(r.Values[0][0]) || now == pid || now != d.pid {
		for range 2 {
			query(ctx, d.conn, "select pg_advisory_unlock("+claimKey+")", nil)
		}
		conn.Close(ctx)
		return nil, false, d.cannot("a pooler shares the sessions of the server between its clients",
			"connect to the server itself, or to a pool that keeps a session for each client", nil)
	}
	d.claim = conn
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		query(ctx, conn, "select pg_advisory_unlock("+claimKey+")", nil) // a session that is closed ends a little later
		conn.Close(ctx)
		d.claim = nil
	}, true, nil
}

// Claimed implements engine.Database.
func (d *database) Claimed() bool {
	r, err := d.Query(context.Background(), held(claimKey))
	return err == nil && len(r.Values) > 0
}

// Claimant implements engine.Claimant.
func (d *database) Claimant(ctx context.Context) (*engine.Session, string) {
	r, err := d.Query(ctx, `select a.pid, coalesce(a.usename, ''), coalesce(a.application_name, ''), coalesce(a.state, ''), coalesce(extract(epoch from clock_timestamp() - a.backend_start), 0)::float8, left(coalesce(a.query, ''), 80), coalesce(a.backend_type, 'client backend')
		from pg_stat_activity a where a.pid = (select pid from (`+held(claimKey)+`) h limit 1)`)
	if err != nil || len(r.Values) == 0 {
		return nil, ""
	}
	s := sessions(r)[0]
	return &s, fmt.Sprintf("select pg_terminate_backend(%d)", s.ID)
}

// held gives the session that has an advisory lock.
func held(key string) string { return heldBy + key }

const heldBy = `select pid from pg_locks where locktype = 'advisory' and granted and database = (select oid from pg_database where datname = current_database())
		and ((classid::bigint << 32) | objid::bigint) = `

// probeHeld gives a row while somebody probes.
const probeHeld = heldBy + probeKey
