package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"lastboard/internal/engine"
	"lastboard/internal/mishap"
)

// A script is statements that run while tables are locked. All that follow the lock are sent in
// one message: whatever becomes of this program or of the line to the server, they come to their
// end, so that nobody meets the table half way between two of them.

// script runs one. A table that has run out of instant changes is written anew before it is tried
// again.
func (d *database) script(ctx context.Context, text string, b bounds) error {
	err := d.locked(ctx, text, b.wait)
	if !refusedWay(err) {
		return err
	}
	table, _, _ := strings.Cut(strings.TrimPrefix(text, "lock tables "), " write")
	if _, err := d.define(ctx, "alter table "+table+" force, algorithm=inplace, lock=none", b); err != nil {
		return err
	}
	return d.locked(ctx, text, b.wait)
}

// scripting gives the session that runs scripts: it alone takes several statements in one message.
func (d *database) scripting(ctx context.Context) (*session, error) {
	if d.scripts == nil {
		s, err := d.connect(ctx, d.config.DBName, func(c *mysql.Config) { c.MultiStatements = true })
		if err != nil {
			return nil, err
		}
		d.scripts = s
	}
	return d.scripts, nil
}

// locked runs a script once, and unlocks the tables whatever happens.
func (d *database) locked(ctx context.Context, text string, wait time.Duration) error {
	if _, err := d.exec(ctx, "commit"); err != nil { // as what defines something does by itself
		return err
	}
	s, err := d.scripting(ctx)
	if err != nil {
		return err
	}
	lock, rest, _ := strings.Cut(text, engine.Between)
	after := "unlock tables"
	if wait > 0 { // and a program that is frozen meanwhile keeps nobody waiting for longer
		before := "set max_statement_time = " + seconds(wait+work) + ", wait_timeout = 1"
		after += "; set max_statement_time = 0, wait_timeout = " + forever
		_, err = s.exec(ctx, before)
	}
	if err == nil {
		err = s.endable(ctx, lock, func() error { _, err := s.exec(ctx, lock); return err })
	}
	if err == nil {
		err = s.together(context.WithoutCancel(ctx), strings.Split(rest, engine.Between))
	}
	_, e := s.exec(context.WithoutCancel(ctx), after)
	var gone *engine.CannotOpen
	if errors.As(e, &gone) {
		s.close()
		d.scripts = nil
	}
	return d.named(ctx, errors.Join(err, e))
}

// together sends statements in one message. Where one is refused the way that it asks for, those
// that are left are sent again, with another.
func (s *session) together(ctx context.Context, list []string) error {
	way := 0
	for at := 0; at < len(list); {
		n := len(list)
		if mishap.Chosen("locked-statement") { // as a server that dies between them parts them
			mishap.Place("locked-statement")
			n = at + 1
		}
		message := "set max_statement_time = 0"
		for i, sql := range list[at:n] {
			sql = s.defined(translate(sql))
			if i == 0 { // which was refused in the ways before
				sql = strings.ReplaceAll(sql, algorithm, ways[way])
			}
			sql = strings.ReplaceAll(sql, algorithm, ways[0])
			message += fmt.Sprintf("; set @lastboard_at = %d; ", at+i) + sql
		}
		_, err := s.exec(ctx, message)
		if err == nil {
			at, way = n, 0
			continue
		}
		r, e := s.query(ctx, "select @lastboard_at")
		if e != nil {
			return err
		}
		if stood := int(number(r.Values[0][0])); stood != at {
			at, way = stood, 0
		}
		switch {
		case !refusedWay(err):
			return err
		case strings.Contains(list[at], algorithm) && way < len(ways)-1:
			way++
		case isAnew(list[at]):
			if err := s.notAnew(ctx, list[at]); err != nil {
				return err
			}
			at++
		default:
			return err
		}
	}
	return nil
}
