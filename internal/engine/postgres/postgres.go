// Package postgres is Lastboard's engine for PostgreSQL 14 and later.
//
// Applications write while Lastboard works. What takes a lock that keeps writers
// waiting is metadata alone and tried within lock_wait; what reads every row takes
// none of them, or runs where nobody waits for it. DDL is transactional, but for the
// concurrent builds of indexes, whose outcome is asked of the catalog.
//
// Start reading at [Engine] for connections, read.go for how a schema is read,
// plan.go for how a change becomes steps, and trial.go for how the steps are tried on
// empty copies first.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/mishap"
	"lastboard/internal/schema"
)

// Engine is PostgreSQL.
type Engine struct {
	// Unproven lets a server be used that answers like PostgreSQL and is another.
	Unproven bool
	// RunsAs is the role by whose rights all is done, and which several logins share; "" is
	// the login's own.
	RunsAs string
}

var _ engine.Engine = Engine{}

// own is the schema of everything that Lastboard makes for itself.
const own = "lastboard"

type database struct {
	config   *pgconn.Config
	conn     *pgconn.PgConn
	second   *pgconn.PgConn // looks on while the first waits; nil until it is needed
	log      []written      // how far the log was when, while a backfill goes on
	claim    *pgconn.PgConn // has the runner's lock; nil unless this is the runner
	role     string         // by whose rights all is done; "" for the login's own
	home     string         // the schema of tables that are named without one
	makers   []string       // who else may make things there
	version  string
	number   int    // 150018
	host     string // with the port
	pid      uint32
	readOnly bool
	memory   memory
	idled    bool // the server has ended the session, since a transaction did nothing
}

func (d *database) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	err := d.conn.Close(ctx)
	for _, c := range []*pgconn.PgConn{d.second, d.claim} {
		if c != nil {
			c.Close(ctx)
		}
	}
	return err
}

func (d *database) Info() engine.Info {
	return engine.Info{Engine: "postgres", Title: "PostgreSQL", Version: d.version, Host: d.host, Name: d.config.Database}
}

// Schema implements engine.Database.
func (d *database) Schema(ctx context.Context) (*schema.Schema, error) {
	return d.memory.read(ctx, d.Query, d.home, nil)
}

// HasTable implements engine.Database.
func (d *database) HasTable(ctx context.Context, table string) (bool, error) {
	ns, n := d.split(table)
	r, err := d.Query(ctx, "select 1 from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname = "+
		"? and c.relname = ? and c.relkind in ('r', 'p')", ns, n)
	return err == nil && len(r.Values) > 0, err
}

// Sample implements engine.Database.
func (d *database) Sample(ctx context.Context, t *schema.Table, columns []string, n int) (*engine.Rows, error) {
	keys := (&planning.Planner{Dialect: dialect{}}).Sample(t)
	list := slices.Clone(keys)
	if len(columns) == 0 {
		columns, list = t.ColumnNames(), nil
	}
	for _, c := range columns {
		if q := quote(c); !slices.Contains(list, q) {
			list = append(list, q)
		}
	}
	order := ""
	if len(keys) > 0 {
		order = " order by " + strings.Join(keys, ", ")
	}
	return d.Query(ctx, "select "+strings.Join(list, ", ")+" from "+name(t.Name)+" as lastboard_rows"+order+" limit ?",
		int64(n))
}

// Nulls implements engine.Database.
func (d *database) Nulls(ctx context.Context, t *schema.Table) ([]int64, error) {
	if t.Opaque == elsewhere {
		return nil, nil
	}
	parts := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		parts[i] = "count(*) - count(" + quote(c.Name) + ")"
	}
	r, err := d.Query(ctx, "select "+strings.Join(parts, ", ")+" from "+name(t.Name)+" as lastboard_rows")
	if err != nil {
		return nil, err
	}
	nulls := make([]int64, len(parts))
	for i, v := range r.Values[0] {
		nulls[i] = number(v)
	}
	return nulls, nil
}

// Query implements engine.Database.
func (d *database) Query(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
	if err := d.reopen(ctx); err != nil {
		return nil, err
	}
	found := d.watch(ctx, patience)
	r, err := query(ctx, d.conn, sql, args)
	who := found()
	var busy *engine.Busy
	if errors.As(err, &busy) {
		busy.Who = who
	}
	return r, err
}

// Exec implements engine.Database. Waiting for others, the statement keeps nobody
// waiting, so that it may wait for as long as it takes.
func (d *database) Exec(ctx context.Context, sql string) error {
	if err := d.reopen(ctx); err != nil {
		return err
	}
	if _, err := exec(ctx, d.conn, "set lock_timeout = 0", nil); err != nil {
		return err
	}
	_, err := exec(ctx, d.conn, sql, nil)
	if _, e := exec(context.WithoutCancel(ctx), d.conn, "set lock_timeout = "+milliseconds(patience), nil); err == nil {
		err = e
	}
	return err
}

// Lend implements engine.Database: the table is a temporary one.
func (d *database) Lend(ctx context.Context, statements []string, insert string,
	rows func(add func([]any) error) error) error {
	for _, s := range statements {
		if _, err := exec(ctx, d.conn, s, nil); err != nil {
			return err
		}
	}
	return rows(func(values []any) error {
		_, err := exec(ctx, d.conn, insert, values)
		return err
	})
}

// attachedSince is the condition that a part was attached since the trigger t was made by which what is kept
// is let go of when other rows come with its keys: rows of that part came past it. A part that was made as one
// had none.
const attachedSince = `t.tgname ~ '_came$' and exists (select 1 from pg_trigger x join pg_inherits i on i.inhrelid = x.tgrelid join pg_attribute a on a.attrelid = x.tgrelid and a.attnum = -6
		where x.tgparentid <> 0 and x.tgname = t.tgname and x.tgfoid = t.tgfoid and x.xmin <> t.xmin and i.xmin <> a.xmin)`

const ownTables = `select 'table' as kind, n.nspname, c.relname, '', '', false, '' from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('r', 'p') and (n.nspname = 'lastboard'
		or left(c.relname, 14) = 'lastboard_csv_' and c.relname ~ '^lastboard_csv_[0-9]+$' and c.relkind = 'r' and n.nspname !~ '^pg_'
		or left(n.nspname, 15) = 'lastboard_kept_' and n.nspname ~ '^lastboard_kept_[0-9]+$' and not c.relispartition)`

// selectOwnTables lists its tables, and says by a row of its own whether there may be more: the server takes
// long to plan how it would look for that.
const selectOwnTables = ownTables + `
	union all
	select 'more', '', '', '', '', false, '' where exists (select 1 from pg_proc where oid >= 16384 and pronamespace = to_regnamespace('lastboard'))
		or exists (select 1 from pg_namespace where nspname ~ '^` + scratch + `')
	order by 1, 3`

// selectOwn lists what Lastboard has made for itself: its kind, schema and name, and the
// schema and table that it is on. A trigger of Lastboard's calls a function of its own
// place; a copy whose trial has died belongs to the user who would take it away.
const selectOwn = `
	` + ownTables + `
	union all
	select 'trigger', '', t.tgname, cn.nspname, c.relname, (t.tgname ~ '^(lastboard_kept_|!)' or t.tgname ~ '^zz_' and t.tgname !~ '_fill$') and t.tgname !~ '^!#' and (t.tgenabled <> 'A' or ` + attachedSince + `), p.prosrc from pg_trigger t join pg_class c on c.oid = t.tgrelid join pg_namespace cn on cn.oid = c.relnamespace
		join pg_proc p on p.oid = t.tgfoid join pg_namespace pn on pn.oid = p.pronamespace
		where t.tgname ~ '^lastboard_(kept_[0-9]+_(gone|moved|new|came)|.*_fill)$|^(zz_|!|!!|!#)lastboard_' and not t.tgisinternal and t.tgparentid = 0 and pn.nspname = 'lastboard'
	union all
	select 'function', n.nspname, p.proname, '', '', false, p.prosrc from pg_proc p join pg_namespace n on n.oid = p.pronamespace where p.oid >= 16384 and n.nspname = 'lastboard' and p.prorettype = 'trigger'::regtype and p.proname ~ '^kept_[0-9]+_|_fill$|_trial$'
	union all
	select 'schema', nspname, nspname, '', '', false, '' from pg_namespace where nspname ~ '^` + scratch + `' and nspowner = (select oid from pg_roles where rolname = current_user) and not exists (` + probeHeld + `)
	order by 1 desc, 3` // a function goes after what calls it

// Own implements engine.Database.
func (d *database) Own(ctx context.Context) ([]engine.OwnObject, error) {
	r, err := d.Query(ctx, selectOwnTables)
	if err == nil && len(r.Values) > 0 && text(r.Values[0][0]) == "more" {
		r, err = d.Query(ctx, selectOwn)
	}
	if err != nil {
		return nil, err
	}
	var list []engine.OwnObject
	for _, v := range r.Values {
		o := engine.OwnObject{Kind: text(v[0]), Name: text(v[2]), Table: text(v[4]), Off: yes(v[5])}
		o.Mirrors = strings.HasPrefix(o.Name, firstTrigger) && !strings.HasPrefix(o.Name, refuseTrigger) ||
			strings.HasPrefix(o.Name, lastTrigger) && !strings.HasSuffix(o.Name, "_fill")
		if strings.HasPrefix(o.Name, refuseTrigger) || o.Kind == "function" && strings.HasSuffix(o.Name, "_"+refuseKind) {
			o.Refuses = planning.RefusesUntil(text(v[6]))
		}
		called := o.Name
		if strings.HasPrefix(o.Name, lastTrigger+engine.Prefix+"kept_") { // of what is kept, as the others
			o.Name, o.Mirrors = strings.TrimPrefix(o.Name, lastTrigger), false
		}
		ns, on := text(v[1]), quote(text(v[3]))+"."+quote(o.Table)
		there := quote(ns) + "." + quote(o.Name)
		switch o.Kind {
		case "table":
			o.Drop = "drop table if exists " + there
		case "trigger":
			o.Drop = "drop trigger if exists " + quote(called) + " on " + on
			if text(v[3]) != d.home {
				o.Table = text(v[3]) + "." + o.Table
			}
		case "function":
			o.Drop = "drop function if exists " + there + "()"
		case "schema":
			o.Drop, o.Copy = "drop schema if exists "+quote(ns)+" cascade", true
		}
		switch {
		case o.Kind == "table" && strings.HasPrefix(ns, engine.Prefix+"kept_"):
			o.Name = ns + "." + o.Name
		case (o.Kind == "table" || o.Kind == "function") && ns == own && !strings.HasPrefix(o.Name, engine.Prefix):
			o.Name = engine.Prefix + o.Name
		}
		list = append(list, o)
	}
	return list, nil
}

// Advice implements engine.Database.
func (d *database) Advice(context.Context) []string { return nil }

// Users lists other clients of the database.
func (d *database) Users() []string {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	r, err := d.Query(ctx, `
		select usename, coalesce(nullif(application_name, ''), 'an application'), count(*) from pg_stat_activity
		where datname = current_database() and backend_type = 'client backend' and pid <> pg_backend_pid() and application_name not like 'lastboard%'
		group by 1, 2 order by 3 desc, 1, 2`)
	if err != nil {
		return nil
	}
	var list []string
	for _, v := range r.Values {
		list = append(list, fmt.Sprintf("%s with %s (%d sessions)", text(v[0]), text(v[1]), number(v[2])))
	}
	return list
}

// Begin implements engine.Database. It locks what is wanted strongly first.
func (d *database) Begin(ctx context.Context, o engine.TxOptions) (engine.Tx, error) {
	wait := o.LockWait
	if wait <= 0 {
		wait = patience
	}
	if err := d.reopen(ctx); err != nil {
		return nil, err
	}
	t := &tx{d: d, wait: wait, limit: o.Limit}
	// Lastboard's own triggers leave rows alone that Lastboard itself writes.
	words := "begin; set local lock_timeout = " + milliseconds(wait) + "; set local lastboard.writes = 'on'"
	if o.LockWait > 0 { // a program that is frozen meanwhile keeps nobody waiting for longer
		idle := idleWithRows
		if len(o.Strong) > 0 {
			idle = idleWithLock
		}
		words += "; set local idle_in_transaction_session_timeout = " + milliseconds(wait+idle)
	}
	if len(o.Strong) > 0 {
		_, _ = d.watcher(ctx) // before anything is locked; without it nobody is named
	}
	if o.Limit > 0 {
		words += "; set local statement_timeout = " + milliseconds(o.Limit+wait)
	}
	if o.Lazy {
		words += "; set local synchronous_commit = off"
	}
	if err := script(ctx, d.conn, words); err != nil {
		_ = t.Rollback() // there need not be one
		return nil, err
	}
	err := t.prepare(ctx, o)
	if err == nil && len(d.makers) > 0 {
		err = d.alone(ctx, d.conn)
	}
	if err != nil {
		return nil, errors.Join(t.ended(err), t.Rollback())
	}
	return t, nil
}

// For how long a transaction can do nothing before the server ends it: one for which all who
// write to a table wait, and one for which those wait who write the same rows.
const (
	idleWithLock = time.Second
	idleWithRows = 3 * time.Second
)

// endedIdle is the server's code for a session that it ended for that.
const endedIdle = "25P03"

// patience is the lock timeout of statements that keep nobody waiting while they wait
// themselves.
const patience = 30 * time.Second

func (t *tx) prepare(ctx context.Context, o engine.TxOptions) error {
	for _, table := range o.Strong {
		r, err := t.Query(ctx, "select relkind = 'p' from pg_class where oid = to_regclass(?) and relkind in ('r', 'p')",
			name(table))
		if err != nil {
			return err
		}
		if len(r.Values) == 0 {
			continue
		}
		only := "only "
		if yes(r.Values[0][0]) {
			only, t.parts = "", true
		}
		// Autovacuum gives way after a second to whom it keeps waiting. This lock keeps no
		// writer waiting meanwhile, and autovacuum, too, has to let go for it.
		if err := t.patiently(ctx, "lock table "+only+name(table)+" in share update exclusive mode"); err != nil {
			return err
		}
	}
	return nil
}

// patiently runs a statement that keeps nobody waiting while it waits.
func (t *tx) patiently(ctx context.Context, sql string) error {
	if _, err := exec(ctx, t.d.conn, "set local lock_timeout = "+milliseconds(autovacuumYields), nil); err != nil {
		return err
	}
	if _, err := exec(ctx, t.d.conn, sql, nil); err != nil {
		return err
	}
	_, err := exec(ctx, t.d.conn, "set local lock_timeout = "+milliseconds(t.wait), nil)
	return err
}

// autovacuumYields is somewhat longer than the time after which a running autovacuum
// gives way (deadlock_timeout, a second unless set).
const autovacuumYields = 2500 * time.Millisecond

// milliseconds writes a timeout; one of nothing would mean none at all.
func milliseconds(d time.Duration) string { return fmt.Sprintf("'%dms'", max(d.Milliseconds(), 1)) }

type tx struct {
	d     *database
	wait  time.Duration
	limit time.Duration // of one statement, beside what it waits for a lock
	parts bool          // it locks a table with all its parts
	done  bool
}

// Exec implements engine.Tx. While a statement waits for a lock, a second connection
// looks who is in the way.
func (t *tx) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	mishap.Place("sent")
	watch, began := t.d.watch(ctx, t.wait), time.Now()
	n, err := t.within(ctx, sql, args)
	who := watch()
	err = t.ended(t.slow(ctx, began, err))
	var busy *engine.Busy
	if errors.As(err, &busy) {
		busy.Who = who
	}
	return n, err
}

// within runs a statement. One that locks a table with all its parts has no longer for all of them than for
// one, since the server would wait for each as long.
func (t *tx) within(ctx context.Context, sql string, args []any) (int64, error) {
	if !t.parts || len(args) > 0 || !strings.HasPrefix(sql, "lock table ") {
		return exec(ctx, t.d.conn, sql, args)
	}
	before, err := query(ctx, t.d.conn, "select current_setting('statement_timeout')", nil)
	if err != nil {
		return 0, err
	}
	n := int64(0)
	for _, sql := range []string{"set local statement_timeout = " + milliseconds(t.wait), sql,
		"set local statement_timeout = " + literal(text(before.Values[0][0]))} {
		if n, err = exec(ctx, t.d.conn, sql, nil); err != nil {
			break
		}
	}
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "57014" && ctx.Err() == nil {
		err = &engine.Busy{Err: err}
	}
	return n, err
}

// slow gives the error of a statement that passed its limit its type.
func (t *tx) slow(ctx context.Context, began time.Time, err error) error {
	var pe *pgconn.PgError
	if t.limit > 0 && errors.As(err, &pe) && pe.Code == "57014" && ctx.Err() == nil && time.Since(began) >= t.limit {
		return &engine.Slow{Limit: t.limit, Err: err}
	}
	return err
}

func (t *tx) Query(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
	mishap.Place("sent")
	began := time.Now()
	r, err := query(ctx, t.d.conn, sql, args)
	return r, t.ended(t.slow(ctx, began, err))
}

// ended notes that the server has ended the session, since the transaction did nothing for
// too long. All that it did is taken back: it can be done again, in another session.
func (t *tx) ended(err error) error {
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == endedIdle {
		t.d.idled = true
		return &engine.Busy{Err: err}
	}
	return err
}

// reopen opens another session where the server has ended the first, since a transaction did
// nothing for too long.
func (d *database) reopen(ctx context.Context) error {
	if !d.idled {
		return nil
	}
	conn, err := d.connect(ctx)
	if err != nil {
		return err
	}
	d.conn, d.pid, d.idled = conn, conn.PID(), false
	return nil
}

func (t *tx) Schema(ctx context.Context) (*schema.Schema, error) {
	// What fails since a table has just gone is taken back to here, not the whole transaction.
	if _, err := exec(ctx, t.d.conn, "savepoint lastboard_read", nil); err != nil {
		return nil, t.ended(err)
	}
	s, err := t.d.memory.read(ctx, t.Query, t.d.home, func() error {
		_, err := exec(ctx, t.d.conn, "rollback to savepoint lastboard_read", nil)
		return err
	})
	if err == nil {
		_, err = exec(ctx, t.d.conn, "release savepoint lastboard_read", nil)
	}
	return s, err
}

func (t *tx) Commit() error {
	mishap.Place("sent")
	t.done = true
	n, err := command(context.Background(), t.d.conn, "commit")
	if err == nil && n == "ROLLBACK" {
		err = errors.New("the transaction was taken back by the server")
	}
	if err = t.ended(err); t.d.idled {
		return err // not one part of it was done
	}
	return engine.Committed(err)
}

// Rollback takes everything back; after a commit it does nothing.
func (t *tx) Rollback() error {
	if t.done {
		return nil
	}
	t.done = true
	_, err := command(context.Background(), t.d.conn, "rollback")
	return err
}
