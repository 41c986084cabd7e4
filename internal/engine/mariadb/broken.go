package mariadb

import (
	"context"
	"errors"
	"strconv"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/pattern"
)

// When the server ends a statement (for its time, or by a kill) in the very moment in which it
// reads the triggers of a table, it keeps the table open with what it has read so far: every
// later write to the table, of anybody, fails with error 1064, a trigger that is made or dropped
// then is half there, and nothing mends that by itself. Another version of the table does.

// mark is a name in a statement.
var mark = pattern.Of(`"((?:[^"]|"")+)"`)

// halfRead reports whether an error is that of a table whose triggers are half read.
func halfRead(err error) bool {
	return code(err) == errSyntax && strings.Contains(message(err), "has an error in its body")
}

// opened counts the tables that a session has opened since it began.
func (s *session) opened(ctx context.Context) (n int64) {
	if r, err := s.query(ctx, "show session status like 'Opened_tables'"); err == nil && len(r.Values) == 1 {
		n, _ = strconv.ParseInt(text(r.Values[0][1]), 10, 64)
	}
	return n
}

// ended reports whether the server has ended a statement for its time, or because somebody
// wanted it.
func ended(err error) bool { return code(err) == errTimeout || code(err) == errInterrupted }

// endable runs a statement that the server may end, and lets it read the triggers of the tables
// that it names again where it has ended it after it began to open them: one that was ended
// while it waited for its lock has opened none.
func (s *session) endable(ctx context.Context, sql string, run func() error) error {
	before := s.opened(ctx)
	err := run()
	if halfRead(err) || ended(err) && s.opened(context.WithoutCancel(ctx)) > before {
		s.reread(ctx, sql)
	}
	return err
}

// reread makes the tables that a statement names other versions of themselves.
func (s *session) reread(ctx context.Context, sql string) {
	ctx = context.WithoutCancel(ctx) // applications may wait for it
	var names []string
	for _, m := range mark().FindAllStringSubmatch(sql, -1) {
		names = append(names, planning.Literal(strings.ReplaceAll(m[1], `""`, `"`)))
	}
	if len(names) == 0 {
		return
	}
	list := strings.Join(names, ", ")
	r, err := s.query(ctx, `set statement max_statement_time = 0 for select table_name, table_comment from information_schema.tables where table_schema = database() and table_type = 'BASE TABLE'
		and (table_name in (`+list+`) or table_name in (select event_object_table from information_schema.triggers where event_object_schema = database() and trigger_name in (`+list+`)))`)
	if err != nil {
		return
	}
	for _, v := range r.Values {
		for range rereadTries {
			_, err := s.exec(ctx, "set statement lock_wait_timeout = 1, max_statement_time = 0 for "+
				anew(text(v[0]), text(v[1])))
			if refusedWay(err) {
				_, err = s.exec(ctx, "flush tables "+quote(text(v[0]))) // where the user may
			}
			var busy *engine.Busy
			if !errors.As(err, &busy) {
				break
			}
		}
	}
}

// rereadTries is how often that is tried, a second each, where others have the table.
const rereadTries = 10

// dropTrigger drops a trigger of a table that applications use, once its triggers have been read
// again: somebody else's statement may have been ended, and the server says of a trigger that it
// has half read that it has dropped it, and leaves it in the table without a name.
func (d *database) dropTrigger(ctx context.Context, sql string, b bounds) error {
	name := strings.ReplaceAll(mark().FindStringSubmatch(sql)[1], `""`, `"`)
	r, err := d.query(ctx, `select table_name, table_comment from information_schema.tables join information_schema.triggers on event_object_schema = table_schema and event_object_table = table_name
		where table_schema = database() and event_object_schema = database() and trigger_name = ?`, name)
	if err != nil {
		return err
	}
	if len(r.Values) == 0 {
		return d.bounded(ctx, d.session, sql, b.wait)
	}
	table, comment := text(r.Values[0][0]), text(r.Values[0][1])
	err = d.locked(ctx, strings.Join([]string{"lock tables " + quote(table) + " write", anew(table, comment), sql},
		engine.Between), b.wait)
	var busy *engine.Busy
	var cannot *engine.CannotOpen
	if err == nil || errors.As(err, &busy) || errors.As(err, &cannot) {
		return err
	}
	return d.bounded(ctx, d.session, sql, b.wait) // its numbers are those of a sequence, say, which is not locked
}

// anew is the statement that changes nothing of a table but its version.
func anew(table, comment string) string {
	return "alter table " + quote(table) + " comment = " + literal(comment) + inAnInstant
}

const inAnInstant = ", algorithm=instant"

func isAnew(sql string) bool {
	return strings.HasPrefix(sql, "alter table ") && strings.Contains(sql, " comment = ") &&
		strings.HasSuffix(sql, inAnInstant)
}

// notAnew does what can be done in place of that while a table is locked which the server
// cannot alter in an instant: one with a unique key of long texts. Statements that were prepared
// in the hundredth of a second in which triggers are made are then of the one before.
func (s *session) notAnew(ctx context.Context, sql string) error {
	_, err := s.exec(ctx, "do sleep(0.02)")
	_, _ = s.exec(ctx, "flush tables "+mark().FindString(sql)) // where the user may
	return err
}
