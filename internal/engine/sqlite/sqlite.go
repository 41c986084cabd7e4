// Package sqlite is Lastboard's engine for SQLite, by way of a pure Go build of
// SQLite itself, so that nothing has to be installed.
//
// SQLite has one writer at a time: every step holds the only write lock, and what
// a step does while it holds it is what other writers wait for. What SQLite does
// in place is done in place; the rest by a rebuild in one transaction.
//
// Start reading at [Engine] for connections, read.go for how a schema is read,
// plan.go for how a change becomes steps, and trial.go for how the steps are tried
// on an empty copy first.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/mishap"
	"lastboard/internal/schema"
)

// Engine is SQLite.
type Engine struct{}

var _ engine.Engine = Engine{}

// busyTimeout is how long one try for the write lock may take, in milliseconds.
// Waiting for it keeps nobody else from working.
const busyTimeout = 1000

// Open implements engine.Engine. The URL is sqlite: and a path.
func (Engine) Open(ctx context.Context, target string, mode engine.Mode) (engine.Database, error) {
	if err := registerFunctions(); err != nil {
		return nil, err
	}
	path, err := filepath.Abs(strings.TrimPrefix(target, "sqlite:"))
	if err != nil {
		return nil, err
	}
	d := &database{path: path}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist) && mode == engine.Read:
		d.missing = true
	case errors.Is(err, os.ErrNotExist) && mode == engine.Write:
		return nil, &engine.CannotOpen{Message: "there is no file " + path,
			Cure: "check the url of the database in lastboard.toml", Err: err}
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return nil, &engine.CannotOpen{Message: "the file " + path + " cannot be opened: " + err.Error(), Err: err}
	case err == nil && info.IsDir():
		return nil, &engine.CannotOpen{Message: path + " is a folder, not a database"}
	}
	if err := d.connect(ctx, mode); err != nil {
		return nil, d.explain(err)
	}
	return d, nil
}

func (d *database) connect(ctx context.Context, mode engine.Mode) error {
	dsn := "file::memory:?_pragma=foreign_keys(1)"
	if !d.missing {
		m := map[engine.Mode]string{engine.Read: "ro", engine.Write: "rw", engine.Create: "rwc"}[mode]
		file := (&url.URL{Path: d.path}).EscapedPath()
		dsn = fmt.Sprintf("file:%s?mode=%s&_pragma=busy_timeout(%d)&_pragma=foreign_keys(1)", file, m, busyTimeout)
	}
	pool, err := sql.Open("sqlite", dsn)
	if err != nil {
		return err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		pool.Close()
		return err
	}
	d.pool, d.conn = pool, conn
	// The first read finds out whether the file is a database at all.
	row := conn.QueryRowContext(ctx, "select sqlite_version(), (select count(*) from sqlite_schema)")
	var n int
	if err := row.Scan(&d.version, &n); err != nil {
		d.Close()
		return err
	}
	return nil
}

// explain turns an error of opening into one that says what to do.
func (d *database) explain(err error) error {
	var se *sqlite.Error
	if !errors.As(err, &se) {
		return &engine.CannotOpen{Message: "the file " + d.path + " cannot be opened: " + err.Error(), Err: err}
	}
	switch se.Code() & 0xff {
	case sqlite3.SQLITE_NOTADB:
		return &engine.CannotOpen{Message: d.path + " is not a SQLite database", Cure: "check the url; nothing was changed",
			Err: err}
	case sqlite3.SQLITE_CANTOPEN:
		return &engine.CannotOpen{Message: "the file " + d.path + " cannot be opened",
			Cure: "check that its folder exists and that you may read and write there", Err: err}
	case sqlite3.SQLITE_CORRUPT:
		return &engine.CannotOpen{Message: d.path + " is damaged: " + se.Error(),
			Cure: "restore it from a backup; Lastboard changes nothing in it", Err: err}
	case sqlite3.SQLITE_BUSY:
		return &engine.Busy{Err: err}
	}
	return &engine.CannotOpen{Message: "the file " + d.path + " cannot be read: " + se.Error(), Err: err}
}

type database struct {
	path    string
	missing bool
	version string
	pool    *sql.DB
	conn    *sql.Conn
	memory  memory // of what was read of the schema
}

func (d *database) Close() error {
	return errors.Join(d.conn.Close(), d.pool.Close())
}

func (d *database) Info() engine.Info {
	return engine.Info{Engine: "sqlite", Title: "SQLite", Version: d.version, Name: d.path, Missing: d.missing}
}

func (d *database) Schema(ctx context.Context) (*schema.Schema, error) {
	return d.memory.read(ctx, d.Query)
}

// Count reads the size from the pages that the table itself fills.
func (d *database) Count(ctx context.Context, table string, size bool) (rows, bytes int64, err error) {
	r, err := d.Query(ctx, "select count(*) from "+quote(table))
	if err != nil {
		return 0, 0, err
	}
	rows = number(r.Values[0][0])
	if !size {
		return rows, 0, nil
	}
	r, err = d.Query(ctx, "select coalesce(sum(pgsize), 0) from dbstat where name = ? and aggregate = 1", table)
	if err != nil {
		return rows, 0, err
	}
	return rows, number(r.Values[0][0]), nil
}

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
	for i, c := range list {
		list[i] = "+" + c + " as " + c // as it is stored: else the driver makes times of texts
	}
	return d.Query(ctx, "select "+strings.Join(list, ", ")+" from "+quote(t.Name)+order+" limit ?", n)
}

func (d *database) Nulls(ctx context.Context, t *schema.Table) ([]int64, error) {
	parts := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		parts[i] = "count(*) - count(" + quote(c.Name) + ")"
	}
	r, err := d.Query(ctx, "select "+strings.Join(parts, ", ")+" from "+quote(t.Name))
	if err != nil {
		return nil, err
	}
	nulls := make([]int64, len(parts))
	for i, v := range r.Values[0] {
		nulls[i] = number(v)
	}
	return nulls, nil
}

// HasTable implements engine.Database.
func (d *database) HasTable(ctx context.Context, table string) (bool, error) {
	r, err := d.Query(ctx, "select 1 from main.sqlite_schema where type = 'table' and name = ? collate nocase", table)
	return err == nil && len(r.Values) > 0, err
}

func (d *database) Query(ctx context.Context, text string, args ...any) (*engine.Rows, error) {
	return query(ctx, d.conn, text, args)
}

func query(ctx context.Context, conn *sql.Conn, statement string, args []any) (*engine.Rows, error) {
	rows, err := conn.QueryContext(ctx, statement, args...)
	if err != nil {
		return nil, failure(err)
	}
	defer rows.Close()
	out := &engine.Rows{}
	if out.Columns, err = rows.Columns(); err != nil {
		return nil, err
	}
	for rows.Next() {
		values := make([]any, len(out.Columns))
		places := make([]any, len(values))
		for i := range values {
			places[i] = &values[i]
		}
		if err := rows.Scan(places...); err != nil {
			return nil, err
		}
		for i, v := range values {
			if t, ok := v.(time.Time); ok {
				values[i] = timeText(t)
			}
		}
		out.Values = append(out.Values, values)
	}
	return out, failure(rows.Err())
}

// timeText writes a time that the driver has made of a text.
func timeText(t time.Time) string {
	layout := "2006-01-02 15:04:05.999999999"
	switch _, offset := t.Zone(); {
	case offset != 0:
		layout += "-07:00"
	case t.Equal(t.Truncate(24 * time.Hour)):
		layout = time.DateOnly
	}
	return t.Format(layout)
}

// Lend implements engine.Database: the table is one of SQLite's temporary ones.
func (d *database) Lend(ctx context.Context, statements []string, insert string,
	rows func(add func([]any) error) error) error {
	for _, s := range statements {
		if _, err := d.conn.ExecContext(ctx, s); err != nil {
			return failure(err)
		}
	}
	if _, err := d.conn.ExecContext(ctx, "begin"); err != nil {
		return failure(err)
	}
	err := rows(func(values []any) error {
		_, err := d.conn.ExecContext(ctx, insert, values...)
		return failure(err)
	})
	end := "commit"
	if err != nil {
		end = "rollback"
	}
	_, e := d.conn.ExecContext(context.WithoutCancel(ctx), end)
	return errors.Join(err, e)
}

// Own implements engine.Database.
func (d *database) Own(ctx context.Context) ([]engine.OwnObject, error) {
	r, err := d.Query(ctx, `select type, name, tbl_name, sql from main.sqlite_schema where name like 'lastboard\_%' escape '\' and type in ('table', 'trigger') order by rowid`)
	if err != nil {
		return nil, err
	}
	var list []engine.OwnObject
	for _, v := range r.Values {
		o := engine.OwnObject{Kind: text(v[0]), Name: text(v[1]),
			Drop: "drop " + text(v[0]) + " if exists main." + quote(text(v[1]))}
		if o.Kind == "trigger" {
			o.Table = text(v[2])
			o.Mirrors = strings.HasSuffix(o.Name, mirrorSuffix) || strings.HasSuffix(o.Name, supplySuffix)
			if strings.HasSuffix(o.Name, refuseSuffix) {
				o.Refuses = planning.RefusesUntil(text(v[3]))
			}
		}
		list = append(list, o)
	}
	return list, nil
}

// Exec implements engine.Database.
func (d *database) Exec(ctx context.Context, text string) error {
	_, err := d.conn.ExecContext(ctx, text)
	return failure(err)
}

// Old implements engine.Database: no step of SQLite's waits for one.
func (d *database) Old(context.Context, string) ([]engine.Session, error) { return nil, nil }

// InTheWay implements engine.Database: SQLite does not know who has its one lock.
func (d *database) InTheWay(context.Context, []string) ([]engine.Session, error) { return nil, nil }

// Advice implements engine.Database.
func (d *database) Advice(ctx context.Context) []string {
	r, err := d.Query(ctx, "pragma journal_mode")
	if err != nil || d.missing || len(r.Values) == 0 || text(r.Values[0][0]) == "wal" {
		return nil
	}
	return []string{"the file uses a rollback journal, so that readers wait, too, while a step writes; pragma " +
		"journal_mode = wal lets them read on"}
}

// failure gives an error its type: [engine.Busy] where waiting helps.
func failure(err error) error {
	var se *sqlite.Error
	if errors.As(err, &se) {
		switch se.Code() & 0xff {
		case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
			return &engine.Busy{Err: err}
		case sqlite3.SQLITE_READONLY:
			return &engine.CannotOpen{Message: "the database can be read but not written",
				Cure: "check the permissions of the file and of its folder", Err: err}
		case sqlite3.SQLITE_FULL:
			return &engine.CannotOpen{Message: "the disk is full",
				Cure: "make room and run the command again: it goes on where it stopped", Err: err}
		case sqlite3.SQLITE_CONSTRAINT:
			return violation(se)
		case sqlite3.SQLITE_ERROR:
			if strings.Contains(se.Error(), "no such table: ") {
				return &engine.NoTable{Err: err}
			}
		}
	}
	return err
}

// violation reads from SQLite's message what is violated: "UNIQUE constraint failed:
// vessel.name, vessel.flag".
func violation(err *sqlite.Error) error {
	v := &engine.Violation{Err: err}
	_, what, _ := strings.Cut(err.Error(), "constraint failed: ")
	what = strings.TrimPrefix(what, "UNIQUE constraint failed: ")
	if i := strings.LastIndex(what, " ("); i >= 0 {
		what = what[:i] // the code
	}
	_, object, _ := strings.Cut(what, " constraint failed: ")
	if object == "" {
		object = what
	}
	switch err.Code() {
	case sqlite3.SQLITE_CONSTRAINT_NOTNULL:
		v.Rule = "not null"
	case sqlite3.SQLITE_CONSTRAINT_UNIQUE, sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY, sqlite3.SQLITE_CONSTRAINT_ROWID:
		v.Rule = "unique"
	case sqlite3.SQLITE_CONSTRAINT_CHECK:
		v.Rule, v.Name = "check", object
		return v
	case sqlite3.SQLITE_CONSTRAINT_FOREIGNKEY:
		v.Rule = "foreign key"
		return v
	default:
		return err
	}
	for part := range strings.SplitSeq(object, ", ") {
		table, column, found := strings.Cut(part, ".")
		if found {
			v.Table = table
			v.Columns = append(v.Columns, column)
		} else {
			v.Name = part
			v.Columns = append(v.Columns, part)
		}
	}
	return v
}

func (d *database) Begin(ctx context.Context, o engine.TxOptions) (engine.Tx, error) {
	if o.ForeignKeysOff {
		if err := d.foreignKeys(ctx, false); err != nil {
			return nil, err
		}
	}
	if _, err := d.conn.ExecContext(ctx, "begin immediate"); err != nil {
		if o.ForeignKeysOff {
			err = errors.Join(err, d.foreignKeys(context.WithoutCancel(ctx), true))
		}
		return nil, failure(err)
	}
	return &tx{d: d, off: o.ForeignKeysOff, limit: o.Limit}, nil
}

// foreignKeys switches their enforcement and reads the switch back: inside a
// transaction SQLite would ignore it without a word.
func (d *database) foreignKeys(ctx context.Context, on bool) error {
	want := int64(0)
	if on {
		want = 1
	}
	if _, err := d.conn.ExecContext(ctx, fmt.Sprintf("pragma foreign_keys = %d", want)); err != nil {
		return failure(err)
	}
	r, err := d.Query(ctx, "pragma foreign_keys")
	if err != nil {
		return err
	}
	if len(r.Values) != 1 || number(r.Values[0][0]) != want {
		return fmt.Errorf("foreign_keys could not be set to %d", want)
	}
	return nil
}

type tx struct {
	d     *database
	off   bool
	limit time.Duration // of one statement
	done  bool
}

func (t *tx) Exec(ctx context.Context, text string, args ...any) (int64, error) {
	mishap.Place("sent")
	bounded := ctx
	if t.limit > 0 && !engine.OfLedger(text) {
		var stop context.CancelFunc
		bounded, stop = context.WithTimeout(ctx, t.limit)
		defer stop()
	}
	r, err := t.d.conn.ExecContext(bounded, text, args...)
	if err != nil && bounded.Err() != nil && ctx.Err() == nil {
		return 0, &engine.Slow{Limit: t.limit, Err: err}
	}
	if err != nil {
		return 0, failure(err)
	}
	return r.RowsAffected()
}

func (t *tx) Query(ctx context.Context, text string, args ...any) (*engine.Rows, error) {
	mishap.Place("sent")
	return query(ctx, t.d.conn, text, args)
}

func (t *tx) Schema(ctx context.Context) (*schema.Schema, error) {
	return t.d.memory.read(ctx, t.Query)
}

func (t *tx) Commit() error {
	mishap.Place("sent")
	_, err := t.d.conn.ExecContext(context.Background(), "commit")
	if err != nil {
		return errors.Join(failure(err), t.Rollback())
	}
	t.done = true
	return t.restore()
}

// Rollback takes everything back; after a commit it does nothing.
func (t *tx) Rollback() error {
	if t.done {
		return nil
	}
	t.done = true
	_, err := t.d.conn.ExecContext(context.Background(), "rollback")
	if err != nil && strings.Contains(err.Error(), "no transaction is active") {
		err = nil // SQLite has taken it back itself, as it does when the disk is full
	}
	return errors.Join(err, t.restore())
}

// restore puts switches back that a transaction does not.
func (t *tx) restore() error {
	_, err := t.d.conn.ExecContext(context.Background(), "pragma legacy_alter_table = off")
	if t.off {
		err = errors.Join(err, t.d.foreignKeys(context.Background(), true))
	}
	return err
}
