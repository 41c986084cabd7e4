// Package mariadb is Lastboard's engine for MariaDB 10.6 and later.
//
// What defines a table commits by itself: each such statement is a step of its own,
// written down before it is done, and asked of the catalog after a crash. Every alter
// names its algorithm and its lock: the cheapest that an empty copy of the table has
// accepted, so that a wrong forecast fails at once instead of keeping writers waiting.
//
// Start reading at [Engine] for connections, read.go for how a schema is read,
// plan.go for how a change becomes steps, and trial.go for how the steps are tried on
// empty copies first.
package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/mishap"
	"lastboard/internal/schema"
)

// Engine is MariaDB.
type Engine struct {
	// Unproven lets a server be used that answers like MariaDB and is another.
	Unproven bool
	// RunsAs is the role by whose rights all is done, and which several logins share; "" is
	// the login's own.
	RunsAs string
	// Here lets the ledger stand in the database that is changed, where applications may
	// write to it.
	Here bool
}

var _ engine.Engine = Engine{}

type database struct {
	*session
	config       *mysql.Config
	second       *session // looks on while the first waits; nil until it is needed
	claim        *session // has the runner's lock; nil unless this is the runner
	scripts      *session // takes several statements in one message; nil until it is needed
	version      string
	role         string // by whose rights all is done; "" for the user's own
	account      string // that the server takes the user for, as it is written in a grant
	logs, trusts bool   // whether there is a binary log, and users may make triggers all the same
	cluster      bool
	readOnly     bool
	here         bool // the ledger is to stand in the database itself
	place        *place
	locks        *bool // whether the server shows metadata locks; nil until it is known
	ends         bool  // transactions that do nothing end by themselves
	waited       bool  // transactions were let end that are older than the last table of kept values
	memory       memory
}

func (d *database) Close() error {
	err := d.session.close()
	for _, s := range []*session{d.second, d.claim, d.scripts} {
		if s != nil {
			s.close()
		}
	}
	return err
}

func (d *database) host() string { return d.config.Addr }

func (d *database) Info() engine.Info {
	return engine.Info{Engine: "mariadb", Title: "MariaDB", Version: d.version, Host: d.host(), Name: d.config.DBName}
}

// Schema implements engine.Database.
func (d *database) Schema(ctx context.Context) (*schema.Schema, error) {
	s, err := (&reader{query: d.query, database: d.config.DBName}).read(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the tables: %w", err)
	}
	return d.memory.keep(s), nil
}

// HasTable implements engine.Database.
func (d *database) HasTable(ctx context.Context, table string) (bool, error) {
	r, err := d.query(ctx, "select 1 from information_schema.tables where table_schema = database() and table_name = ?",
		table)
	return err == nil && len(r.Values) > 0, err
}

// Up to how many rows and bytes a table is counted exactly.
const (
	exactRows  = 2_000_000
	exactBytes = 256 << 20
)

// Count counts a small table, and takes the engine's own estimate for a large one.
func (d *database) Count(ctx context.Context, table string, _ bool) (rows, bytes int64, err error) {
	r, b, err := d.CountAll(ctx, []string{table})
	return r[table], b[table], err
}

// CountAll implements engine.Counter, with two statements for some hundred tables.
func (d *database) CountAll(ctx context.Context, tables []string) (rows, bytes map[string]int64, err error) {
	rows, bytes = map[string]int64{}, map[string]int64{}
	for chunk := range slices.Chunk(tables, 200) {
		list := make([]string, len(chunk))
		for i, t := range chunk {
			list[i] = planning.Literal(t)
		}
		r, err := d.query(ctx, "select table_name, coalesce(table_rows, 0), coalesce(data_length, 0) + "+
			"coalesce(index_length, 0) from information_schema.tables where table_schema = database() and table_name in ("+
			strings.Join(list, ", ")+")")
		if err != nil {
			return nil, nil, err
		}
		var counts []string
		for _, v := range r.Values {
			n := text(v[0])
			rows[n], bytes[n] = number(v[1]), number(v[2])
			if rows[n] < exactRows && bytes[n] < exactBytes {
				counts = append(counts, "select "+planning.Literal(n)+", count(*) from "+quote(n))
			}
		}
		if len(counts) == 0 {
			continue
		}
		if r, err = d.query(ctx, strings.Join(counts, " union all ")); err != nil {
			return nil, nil, err
		}
		for _, v := range r.Values {
			rows[text(v[0])] = number(v[1])
		}
	}
	return rows, bytes, nil
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
	if t.Key() != nil {
		order = " order by " + strings.Join(keys, ", ")
	}
	return d.query(ctx, "select "+strings.Join(list, ", ")+" from "+quote(t.Name)+" as lastboard_rows"+order+" limit ?",
		int64(n))
}

// Nulls implements engine.Database.
func (d *database) Nulls(ctx context.Context, t *schema.Table) ([]int64, error) {
	parts := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		parts[i] = "count(*) - count(" + quote(c.Name) + ")"
	}
	r, err := d.query(ctx, "select "+strings.Join(parts, ", ")+" from "+quote(t.Name)+" as lastboard_rows")
	if err != nil {
		return nil, err
	}
	nulls := make([]int64, len(parts))
	for i, v := range r.Values[0] {
		nulls[i] = number(v)
	}
	return nulls, nil
}

// Exec implements engine.Database.
func (d *database) Exec(ctx context.Context, sql string) error {
	_, err := d.define(ctx, sql, bounds{mayWait: true})
	return err
}

// Lend implements engine.Database: the table is a temporary one.
func (d *database) Lend(ctx context.Context, statements []string, insert string,
	rows func(add func([]any) error) error) error {
	for _, s := range statements {
		if _, err := d.exec(ctx, s); err != nil {
			return err
		}
	}
	return rows(func(values []any) error {
		_, err := d.exec(ctx, insert, values...)
		return err
	})
}

// Own implements engine.Database.
func (d *database) Own(ctx context.Context) ([]engine.OwnObject, error) {
	r, err := d.query(ctx, `
		select if(table_type = 'VIEW', 'view', 'table'), table_name, '', '' from information_schema.tables where table_schema = database()
			and table_name like 'lastboard!_%' escape '!'
		union all
		select 'trigger', trigger_name, event_object_table, if(trigger_name like '%!_trial' escape '!', action_statement, '')
			from information_schema.triggers where event_object_schema = database() and trigger_name like 'lastboard!_%' escape '!' order by 1, 2`)
	if err != nil {
		return nil, err
	}
	var list []engine.OwnObject
	for _, v := range r.Values {
		list = append(list, engine.OwnObject{Kind: text(v[0]), Name: text(v[1]), Table: text(v[2]),
			Drop:    "drop " + text(v[0]) + " if exists " + quote(text(v[1])),
			Refuses: planning.RefusesUntil(text(v[3])),
			Mirrors: text(v[0]) == "trigger" && strings.HasSuffix(text(v[1]), mirrorSuffix)})
	}
	if err := d.ownerless(ctx, list); err != nil {
		return nil, err
	}
	dead, err := deadTrials(ctx, d.session, d.config.DBName)
	for _, name := range dead {
		list = append(list, engine.OwnObject{Kind: "database", Name: name, Drop: "drop database if exists " + quote(name),
			Copy: true})
	}
	return list, err
}

// ownerless marks the triggers that act as accounts which are there no more, as far as the user
// may see accounts.
func (d *database) ownerless(ctx context.Context, own []engine.OwnObject) error {
	r, err := d.query(ctx, `
		select trigger_name, definer, lower(action_timing), lower(event_manipulation), event_object_table, action_statement from information_schema.triggers t
		where event_object_schema = database() and trigger_name like 'lastboard!_%' escape '!'
			and not exists (select 1 from mysql.global_priv p where t.definer in (p.user, concat(p.user, '@'), concat(p.user, '@', p.host)))`)
	if c := code(err); c == errNoTableRight || c == errNoDatabaseRight {
		return nil
	}
	if err != nil {
		return err
	}
	for _, v := range r.Values {
		i := slices.IndexFunc(own, func(o engine.OwnObject) bool { return o.Kind == "trigger" && o.Name == text(v[0]) })
		if i >= 0 {
			own[i].Gone = text(v[1])
			own[i].Again = "delimiter //\ncreate or replace trigger " + quote(text(v[0])) + " " + text(v[2]) + " " + text(v[3]) +
				" on " + quote(text(v[4])) + " for each row " + text(v[5]) + "//\ndelimiter ;"
		}
	}
	return nil
}

// Actor implements engine.Actor.
func (d *database) Actor(ctx context.Context, view string) (account, again string, err error) {
	r, err := d.query(ctx, `
		select definer, view_definition from information_schema.views v where table_schema = database() and table_name = ?
			and not exists (select 1 from mysql.global_priv p where v.definer in (p.user, concat(p.user, '@'), concat(p.user, '@', p.host)))`,
		view)
	if c := code(err); c == errNoTableRight || c == errNoDatabaseRight {
		return "", "", nil
	}
	if err != nil || len(r.Values) == 0 {
		return "", "", err
	}
	return text(r.Values[0][0]), "create or replace sql security definer view " + quote(view) + " as " +
		text(r.Values[0][1]), nil
}

// Advice implements engine.Database.
func (d *database) Advice(context.Context) []string { return nil }

// Users lists other clients of the database, as far as the user may see them.
func (d *database) Users() []string {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	r, err := d.query(ctx, `select user, count(*) from information_schema.processlist where db = database() and id <> connection_id() group by user order by 2 desc, 1`)
	if err != nil {
		return nil
	}
	var list []string
	for _, v := range r.Values {
		list = append(list, fmt.Sprintf("%s (%d sessions)", text(v[0]), number(v[1])))
	}
	return list
}

// mayIdle lets the server end the session's transactions that do nothing for some seconds, or
// takes that back: a program that is frozen meanwhile keeps nobody waiting for longer.
func (d *database) mayIdle(ctx context.Context, bounded bool) error {
	if d.ends == bounded {
		return nil
	}
	seconds := "0"
	if bounded {
		seconds = "3"
	}
	_, err := d.exec(ctx, "set session idle_transaction_timeout = "+seconds)
	if err == nil {
		d.ends = bounded
	}
	return err
}

// Begin implements engine.Database.
func (d *database) Begin(ctx context.Context, o engine.TxOptions) (engine.Tx, error) {
	words := "start transaction"
	if d.readOnly {
		words += " read only"
	}
	if err := d.mayIdle(ctx, o.LockWait > 0); err != nil {
		return nil, err
	}
	if _, err := d.exec(ctx, words); err != nil {
		return nil, err
	}
	return &tx{d: d, bounds: bounds{o.LockWait, o.MayWait}, limit: o.Limit, givesWay: o.GivesWay}, nil
}

type tx struct {
	d        *database
	bounds   bounds
	limit    time.Duration // of one statement that writes rows
	givesWay bool
	done     bool
	half     string // a statement that met a table whose triggers are half read
}

// Exec implements engine.Tx. A statement that defines something commits what was done
// before it.
func (t *tx) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	mishap.Place("sent")
	if len(args) == 0 && defines(sql) {
		return t.d.define(ctx, sql, t.bounds)
	}
	if head, rest := modeOf(sql); head != "" {
		return t.d.inMode(ctx, head, func() (int64, error) { return t.Exec(ctx, rest, args...) })
	}
	if insert, kept, ok := strings.Cut(sql, engine.Noted); ok {
		return t.note(ctx, insert, kept)
	}
	began := time.Now()
	limit := t.limit
	var with []string
	if engine.OfLedger(sql) {
		limit = 0
	} else if t.givesWay {
		with = append(with, "innodb_lock_wait_timeout = 0")
	}
	if limit > 0 { // the time for which it may wait for a row counts, too
		limit += rowWait
		with = append(with, "max_statement_time = "+seconds(limit))
	}
	if len(with) > 0 {
		sql = "set statement " + strings.Join(with, ", ") + " for " + sql
	}
	n, err := t.d.exec(ctx, sql, args...)
	if halfRead(err) {
		t.half = sql
	}
	if limit > 0 && code(err) == errTimeout && ctx.Err() == nil && time.Since(began) >= t.limit {
		return 0, &engine.Slow{Limit: t.limit, Err: err}
	}
	return n, t.d.named(ctx, err)
}

func (t *tx) Query(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
	mishap.Place("sent")
	r, err := t.d.query(ctx, sql, args...)
	return r, t.d.named(ctx, err)
}

func (t *tx) Schema(ctx context.Context) (*schema.Schema, error) { return t.d.Schema(ctx) }

func (t *tx) Commit() error {
	mishap.Place("sent")
	t.done = true
	_, err := t.d.exec(context.Background(), "commit")
	return engine.Committed(err)
}

// Rollback takes everything back; after a commit it does nothing.
func (t *tx) Rollback() error {
	if t.done {
		return nil
	}
	t.done = true
	_, err := t.d.exec(context.Background(), "rollback")
	var gone *engine.CannotOpen
	if errors.As(err, &gone) {
		return nil // with the connection
	}
	if t.half != "" {
		t.d.reread(context.Background(), t.half)
	}
	return err
}

// rowWait is a little more than a statement may wait for the lock of a row: a second, and
// which is then told as that (see settings).
const rowWait = 1200 * time.Millisecond

// noting gives an insert whose keys it returns, and the table in which they are noted: the
// server can give them to a client alone.
func noting(insert, kept string) string { return insert + engine.Noted + kept }

// note runs such an insert and notes the keys.
func (t *tx) note(ctx context.Context, insert, kept string) (int64, error) {
	r, err := t.d.query(ctx, insert)
	if err != nil {
		return 0, err
	}
	for rows := range slices.Chunk(r.Values, 500) {
		marks := make([]string, len(rows))
		var values []any
		for i, row := range rows {
			marks[i] = "(" + strings.TrimSuffix(strings.Repeat("?, ", len(row)), ", ") + ")"
			values = append(values, row...)
		}
		if _, err := t.d.exec(ctx, "insert into "+quote(kept)+" values "+strings.Join(marks, ", "), values...); err != nil {
			return 0, err
		}
	}
	return int64(len(r.Values)), nil
}
