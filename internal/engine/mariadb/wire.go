package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"lastboard/internal/engine"
	"lastboard/internal/engine/bounded"
	"lastboard/internal/pattern"
)

// session is one connection to the server that nobody else uses.
type session struct {
	pool  *sql.DB // of this one connection
	conn  *sql.Conn
	id    int64
	line  *bounded.Conn
	role  bool   // it acts as a role
	place *place // of the ledger; nil for a session that has none
	// end asks the server from elsewhere to end what this session does.
	end func(id int64)
}

func (s *session) close() error { return errors.Join(s.conn.Close(), s.pool.Close()) }

// whole lets a statement come to its end at the server before its context's end is
// heeded: the driver alone would leave it running there.
func (s *session) whole(ctx context.Context, do func(context.Context) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { s.end(s.id) })
	defer stop()
	err := sane(func() error { return do(context.WithoutCancel(ctx)) })
	if passed := s.line.Passed(); passed != nil {
		return bounded.NotTaken(passed.Error(), err)
	}
	return failure(ctx, err)
}

// sane gives an error where the driver does not survive what the server says.
func sane(do func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = bounded.NotTaken("it is none that MariaDB gives", fmt.Errorf("%v", r))
		}
	}()
	return do()
}

// translate writes a statement of the core for the server.
func translate(text string) string {
	if rest, ok := strings.CutSuffix(text, " for share"); ok {
		return rest + " lock in share mode"
	}
	rest, ok := strings.CutPrefix(text, "create table ")
	rest = strings.TrimPrefix(rest, "if not exists ")
	if !ok || !strings.HasPrefix(strings.TrimPrefix(rest, `"`), engine.Prefix) || !strings.Contains(rest, "(") &&
		!strings.Contains(rest, " as select ") {
		return text
	}
	if rest[0] != '"' { // the ledger's: a text there may be of any length
		rest = strings.ReplaceAll(rest, " text not null", " longtext not null")
	}
	// Lastboard's own tables are the same whatever the database's defaults.
	if head, query, ok := strings.Cut(rest, " as select "); ok {
		return "create table if not exists " + head + ownOptions + " as select " + query
	}
	return "create table if not exists " + rest + ownOptions
}

// defined lets a trigger of Lastboard's own act as the role by whose rights all is done: it
// outlives the logins that have it.
func (s *session) defined(text string) string {
	const head = "create or replace "
	if rest, ok := strings.CutPrefix(text, head); ok && s.role && strings.HasPrefix(rest, `trigger "`+engine.Prefix) {
		return head + "definer = current_role " + rest
	}
	return text
}

// ownOptions are those of Lastboard's own tables.
const ownOptions = " engine=InnoDB character set utf8mb4 collate " + bytewise

func (s *session) exec(ctx context.Context, text string, args ...any) (n int64, err error) {
	err = s.whole(ctx, func(ctx context.Context) error {
		r, err := s.conn.ExecContext(ctx, s.place.of(s.defined(translate(text))), args...)
		if err == nil {
			n, err = r.RowsAffected()
		}
		return err
	})
	return n, err
}

func (s *session) query(ctx context.Context, text string, args ...any) (out *engine.Rows, err error) {
	err = s.whole(ctx, func(ctx context.Context) error {
		rows, err := s.conn.QueryContext(ctx, s.place.of(translate(text)), args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		out, err = read(rows)
		return err
	})
	return out, err
}

func read(rows *sql.Rows) (*engine.Rows, error) {
	types, err := rows.ColumnTypes()
	if err != nil {
		return nil, err
	}
	out := &engine.Rows{}
	for _, t := range types {
		out.Columns = append(out.Columns, t.Name())
	}
	for rows.Next() {
		row, places := make([]any, len(types)), make([]any, len(types))
		for i := range row {
			places[i] = &row[i]
		}
		if err := rows.Scan(places...); err != nil {
			return nil, err
		}
		for i, v := range row {
			row[i] = value(types[i].DatabaseTypeName(), v)
		}
		out.Values = append(out.Values, row)
	}
	return out, rows.Err()
}

// value gives what a column holds in the form of [engine.Rows].
func value(kind string, v any) any {
	switch v := v.(type) {
	case []byte:
		switch {
		case strings.Contains(kind, "BLOB"), strings.Contains(kind, "BINARY"), kind == "BIT", kind == "GEOMETRY":
			return v
		case strings.HasPrefix(kind, "UNSIGNED BIGINT"):
			if n, err := strconv.ParseInt(string(v), 10, 64); err == nil {
				return n
			}
		case kind == "DATETIME", kind == "TIMESTAMP", kind == "TIME":
			if s := string(v); strings.Contains(s, ".") {
				return strings.TrimRight(strings.TrimRight(s, "0"), ".")
			}
		}
		return string(v)
	case uint64:
		if v <= 1<<63-1 {
			return int64(v)
		}
		return strconv.FormatUint(v, 10)
	case float32:
		f, _ := strconv.ParseFloat(strconv.FormatFloat(float64(v), 'g', -1, 32), 64)
		return f
	}
	return v
}

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []byte:
		return string(v)
	}
	return fmt.Sprint(v)
}

func number(v any) int64 {
	switch v := v.(type) {
	case int64:
		return v
	case string:
		n, _ := strconv.ParseInt(v, 10, 64)
		return n
	case float64:
		return int64(v)
	}
	return 0
}

// Errors of the server that mean something to Lastboard (the manual, MariaDB error
// codes).
const (
	errLockWait        = 1205
	errDeadlock        = 1213
	errTimeout         = 1969 // max_statement_time
	errInterrupted     = 1317
	errSyntax          = 1064
	errNoTable         = 1146
	errNoRoutine       = 1305
	errNoDatabase      = 1049
	errNotEmpty        = 1010 // the folder of a database
	errNoDatabaseRight = 1044
	errNoTableRight    = 1142
	errNoColumn        = 1054
	errNotSupported    = 1845 // the algorithm, or the lock
	errNotSupported2   = 1846
	errRowTooLong      = 1118
	errViewBroken      = 1356
)

func code(err error) uint16 {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		return e.Number
	}
	return 0
}

func message(err error) string {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		return e.Message
	}
	return err.Error()
}

// lost reports whether an error means that there is no connection any more.
func lost(err error) bool {
	var e net.Error
	return errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, sql.ErrConnDone) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &e)
}

const goOn = "run the command again: it goes on where it stopped"

// failure gives an error its type: [engine.Busy] where trying again helps,
// [engine.Violation] where a constraint stops a statement.
func failure(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	if lost(err) {
		return &engine.CannotOpen{Message: "the connection to the server was lost: " + err.Error(), Cure: goOn, Err: err}
	}
	switch code(err) {
	case errInterrupted, errTimeout:
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &engine.Busy{Err: err}
	case errLockWait, errDeadlock, 1020: // and a row that changed since it was read
		return &engine.Busy{Err: err}
	case errSyntax:
		if halfRead(err) { // it may be of its user's own: then it is said
			return &engine.Busy{Err: &engine.CannotOpen{Message: "the server cannot read the triggers of a table: " +
				message(err), Cure: "look at the trigger; if nothing is wrong with it, flush tables lets the server read it again",
				Err: err}}
		}
	case errNoTable, errNoDatabase:
		return &engine.NoTable{Err: err}
	case 1290, 1792, 1836:
		return &engine.CannotOpen{Message: "the database can be read but not written",
			Cure: "connect to the primary server, not to a replica", Err: err}
	case 1021, 1026, 1114:
		return &engine.CannotOpen{Message: "the server's disk is full",
			Cure: "make room and run the command again: it goes on where it stopped", Err: err}
	case 1053, 1927:
		return &engine.CannotOpen{Message: "the server has ended the connection: " + message(err), Cure: goOn, Err: err}
	case errNoDatabaseRight, errNoTableRight, 1143, 1227, 1370:
		return &engine.CannotOpen{Message: message(err), Cure: "grant it, or connect as a user who may", Err: err}
	case 1419:
		return &engine.CannotOpen{Message: "the server writes a binary log and lets this user make no trigger",
			Cure: triggerCure, Err: err}
	}
	if v := violation(err); v != nil {
		return v
	}
	return err
}

var (
	duplicateKey = pattern.Of(`for key '(?:[^']*\.)?([^']*)'`)
	inQuotes     = pattern.Of("[`'\"]([^`'\"]*)[`'\"]")
	failedCheck  = pattern.Of("CONSTRAINT [`\"](.*?)[`\"] failed for [`\"].*?[`\"]\\.[`\"](.*?)[`\"]")
	brokenKey    = pattern.Of("\\([`\"].*?[`\"]\\.[`\"](.*?)[`\"], CONSTRAINT [`\"](.*?)[`\"] FOREIGN KEY")
)

// violation says which constraint stopped a statement; nil for another error.
func violation(err error) *engine.Violation {
	first := func(r *regexp.Regexp) string {
		if m := r.FindStringSubmatch(message(err)); m != nil {
			return m[1]
		}
		return ""
	}
	switch code(err) {
	case 1048, 1364, 1263:
		return &engine.Violation{Rule: "not null", Columns: []string{first(inQuotes())}, Err: err}
	case 1062, 1586:
		key := first(duplicateKey())
		return &engine.Violation{Rule: "unique", Name: key, Columns: []string{key}, Err: err}
	case 4025:
		v := &engine.Violation{Rule: "check", Err: err}
		if m := failedCheck().FindStringSubmatch(message(err)); m != nil {
			v.Name, v.Table = m[1], m[2]
		}
		return v
	case 1451, 1452, 1216, 1217:
		v := &engine.Violation{Rule: "foreign key", Err: err}
		if m := brokenKey().FindStringSubmatch(message(err)); m != nil {
			v.Table, v.Name = m[1], m[2]
		}
		return v
	}
	return nil
}

// seconds writes a bound of a statement; one of nothing would mean none at all.
func seconds(d time.Duration) string {
	return strconv.FormatFloat(max(d, time.Millisecond).Seconds(), 'f', 3, 64)
}
