package mariadb

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// watcher gives the second session, which looks on.
func (d *database) watcher(ctx context.Context) (*session, error) {
	if d.second == nil {
		s, err := d.connect(ctx, d.config.DBName)
		if err != nil {
			return nil, err
		}
		d.second = s
	}
	return d.second, nil
}

// selectOld lists transactions of others in this database.
const selectOld = `select p.id, p.user, p.command, timestampdiff(microsecond, t.trx_started, now(6)) / 1e6, left(coalesce(p.info, ''), 80)
	from information_schema.innodb_trx t join information_schema.processlist p on p.id = t.trx_mysql_thread_id
	where p.id <> connection_id() and (p.db = database() or p.db is null) and t.trx_started < now(6) - interval ? second order by t.trx_started limit 5`

// transactions lists those that are older than some seconds. Without the right PROCESS
// the server shows none.
func (d *database) transactions(ctx context.Context, s *session, age float64) []engine.Session {
	r, err := s.query(ctx, selectOld, age)
	if err != nil {
		return nil
	}
	return append(sessions(r), d.prepared(ctx, s, age)...)
}

// selectDetached tells for how long the oldest transaction lasts that belongs to no session.
const selectDetached = `select timestampdiff(microsecond, min(trx_started), now(6)) / 1e6 from information_schema.innodb_trx
	where trx_mysql_thread_id = 0 and trx_started < now(6) - interval ? second`

// prepared lists transactions that stand prepared and belong to no session. The server does not
// say in which database they wrote, nor for how long each has lasted: only the oldest.
func (d *database) prepared(ctx context.Context, s *session, age float64) []engine.Session {
	r, err := s.query(ctx, selectDetached, age)
	if err != nil || len(r.Values) == 0 || r.Values[0][0] == nil {
		return nil
	}
	since, _ := r.Values[0][0].(float64)
	if r, err = s.query(ctx, "xa recover format = 'SQL'"); err != nil {
		return nil
	}
	var list []engine.Session
	for _, v := range r.Values {
		list = append(list, engine.Session{Background: "of a session that is gone",
			Since: time.Duration(since * float64(time.Second)), Prepared: "xa rollback " + text(v[3])})
	}
	return list
}

func sessions(r *engine.Rows) []engine.Session {
	var list []engine.Session
	for _, v := range r.Values {
		since, _ := v[3].(float64)
		if since == 0 {
			since = float64(number(v[3]))
		}
		state := "active"
		if text(v[2]) == "Sleep" {
			state = "idle in transaction"
		}
		list = append(list, engine.Session{ID: number(v[0]), User: text(v[1]), State: state,
			Since: time.Duration(since * float64(time.Second)), Query: text(v[4])})
	}
	return list
}

// suspects lists who may hold what was not given: the server itself does not say.
func (d *database) suspects(ctx context.Context) []engine.Session {
	s, err := d.watcher(ctx)
	if err != nil {
		return nil
	}
	list := d.transactions(ctx, s, 0.1)
	if len(list) == 0 { // the server may have shown those of a moment ago
		select {
		case <-ctx.Done():
		case <-time.After(trxCache):
		}
		list = d.transactions(ctx, s, 0.1)
	}
	return list
}

// selectHolders lists sessions that have held a lock on a table for more than a second.
const selectHolders = `select p.id, p.user, p.command, p.time_ms / 1e3, left(coalesce(p.info, ''), 80)
	from information_schema.metadata_lock_info b join information_schema.processlist p on p.id = b.thread_id
	where b.table_schema = database() and b.table_name = ? and b.thread_id <> connection_id()
		and b.lock_mode not in ('MDL_INTENTION_EXCLUSIVE') and exists (select 1 from information_schema.innodb_trx t where t.trx_mysql_thread_id = p.id and t.trx_started < now(6) - interval 1 second)
	limit 5`

// InTheWay implements engine.Database: with the server's plugin metadata_lock_info alone
// can it be told which table a transaction holds.
func (d *database) InTheWay(ctx context.Context, tables []string) ([]engine.Session, error) {
	if len(tables) == 0 {
		return nil, nil
	}
	if d.locks == nil {
		r, err := d.query(ctx, "select 1 from information_schema.plugins where plugin_name = 'METADATA_LOCK_INFO' and "+
			"plugin_status = 'ACTIVE'")
		if err != nil {
			return nil, err
		}
		shows := len(r.Values) > 0
		d.locks = &shows
	}
	if !*d.locks {
		return nil, nil
	}
	for _, t := range tables {
		r, err := d.query(ctx, selectHolders, t)
		if err != nil {
			return nil, nil // without PROCESS; the tries are bounded all the same
		}
		if list := sessions(r); len(list) > 0 {
			return list, nil
		}
	}
	return nil, nil
}

// Old implements engine.Database.
func (d *database) Old(ctx context.Context, _ string) ([]engine.Session, error) {
	return d.transactions(ctx, d.session, 2), nil
}

// claimName is the lock of the one runner of a database: 64 characters at most.
func (d *database) claimName() string {
	return schema.ConstraintName(&schema.Table{Name: "lastboard:" + d.config.DBName}, nil, "runner")
}

// Claim implements engine.Database: a named lock on a session of its own, which has to
// be another than the first: behind a pooler that shares sessions it would not.
func (d *database) Claim() (release func(), ok bool, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	s, err := d.connect(ctx, d.config.DBName)
	if err != nil {
		return nil, false, err
	}
	take := "select get_lock(" + planning.Literal(d.claimName()) + ", 0), connection_id()"
	r, err := s.query(ctx, take)
	if err != nil || number(r.Values[0][0]) != 1 {
		return nil, false, errors.Join(err, s.close())
	}
	own := number(r.Values[0][1])
	if r, err = d.query(ctx, take); err == nil && (number(r.Values[0][0]) == 1 || number(r.Values[0][1]) == own ||
		number(r.Values[0][1]) != d.id) {
		d.query(ctx, "select release_lock("+planning.Literal(d.claimName())+")")
		err = d.cannot("a pooler shares the sessions of the server between its clients",
			"connect to the server itself, or to a pool that keeps a session for each client", nil)
	}
	if err != nil {
		return nil, false, errors.Join(err, s.close())
	}
	d.claim = s
	stop := make(chan struct{})
	var alive sync.WaitGroup
	alive.Go(func() { keepAwake(s, stop) })
	return func() {
		close(stop)
		alive.Wait()
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		// a session that is closed ends a little later
		s.query(ctx, "select release_lock("+planning.Literal(d.claimName())+")")
		s.close()
		d.claim = nil
	}, true, nil
}

// sayAlive is how often the session that holds a claim says that it lives.
const sayAlive = time.Minute

// keepAwake lets a session that does nothing else outlast what the server allows.
func keepAwake(s *session, stop chan struct{}) {
	tick := time.NewTicker(sayAlive)
	defer tick.Stop()
	for {
		select {
		case <-stop:
			return
		case <-tick.C:
			ctx, cancel := context.WithTimeout(context.Background(), sayAlive)
			s.exec(ctx, "do 0") // one that is lost is found out by the next transaction
			cancel()
		}
	}
}

// Claimed implements engine.Database.
func (d *database) Claimed() bool {
	r, err := d.query(context.Background(), "select is_used_lock("+planning.Literal(d.claimName())+") is not null")
	return err == nil && number(r.Values[0][0]) != 0
}

// Claimant implements engine.Claimant.
func (d *database) Claimant(ctx context.Context) (*engine.Session, string) {
	r, err := d.query(ctx, "select u.id, coalesce(p.user, ''), coalesce(p.command, ''), coalesce(p.time, 0), "+
		"coalesce(p.info, '') from (select is_used_lock("+planning.Literal(d.claimName())+
		") as id) u left join information_schema.processlist p on p.id = u.id where u.id is not null")
	if err != nil || len(r.Values) == 0 {
		return nil, ""
	}
	s := sessions(r)[0]
	if s.State == "idle in transaction" {
		s.State = "idle"
	}
	return &s, fmt.Sprintf("kill %d", s.ID)
}
