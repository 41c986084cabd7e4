package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// A probe is a trial whose empty copies are committed: then the server shows for each
// step which lock it takes, whether it writes the table anew, and whether it reads it.

// probeKey is the advisory lock of the one probe of a database.
const probeKey = "hashtextextended('lastboard probe:' || current_database(), 0)"

// Probe implements engine.Prober.
func (d *database) Probe(ctx context.Context) (engine.Trial, error) {
	if err := d.mayTry(ctx); err != nil {
		return nil, err
	}
	base, err := d.Schema(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	r, err := query(ctx, conn, "select pg_try_advisory_lock("+probeKey+")", nil)
	if err == nil && !yes(r.Values[0][0]) {
		err = &engine.Busy{Err: errors.New("another probe is at work in this database")}
	}
	if err == nil {
		err = errors.Join(clearProbe(ctx, conn), script(ctx, conn, "set lock_timeout = '2s'; set lastboard.writes = 'on'"))
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close(ctx))
	}
	t := &trial{d: d, conn: conn, base: base, made: map[string]bool{}, places: map[string]bool{},
		left: map[string][]*schema.ForeignKey{}, probing: true}
	return t.open(ctx)
}

// clearProbe takes away what a probe has made, or one that died has left.
func clearProbe(ctx context.Context, conn *pgconn.PgConn) error {
	r, err := query(ctx, conn, "select nspname from pg_namespace where nspname ~ '^"+scratch+
		"' and nspowner = (select oid from pg_roles where rolname = current_user)", nil)
	if err != nil {
		return err
	}
	for _, v := range r.Values {
		if _, err := exec(ctx, conn, "drop schema if exists "+quote(text(v[0]))+" cascade", nil); err != nil {
			return err
		}
	}
	return nil
}

// strength orders the locks of tables (the manual, 13.3.1).
var strength = []string{"none", "access share", "row share", "row exclusive", "share update exclusive", "share",
	"share row exclusive", "exclusive", "access exclusive"}

// seen is what a step did to its table.
type seen struct {
	lock              string
	rewrites, scanned bool
}

// probe does a step on the copies, and gives it what was seen.
func (t *trial) probe(ctx context.Context, s *engine.Step, statements []string) error {
	var all seen
	groups := [][]string{statements}
	if s.Outside != nil {
		groups = nil
		for _, sql := range statements {
			groups = append(groups, []string{sql})
		}
	}
	for _, group := range groups {
		one, err := t.watched(ctx, s, group)
		if err != nil {
			return t.wouldNot(s, err)
		}
		all.rewrites, all.scanned = all.rewrites || one.rewrites, all.scanned || one.scanned
		if slices.Index(strength, one.lock) > slices.Index(strength, all.lock) {
			all.lock = one.lock
		}
	}
	t.believe(s, all)
	return nil
}

// believe corrects a step by what was seen. Reading under a lock that keeps nobody
// waiting is no harm, and rows that are written were not there to be seen.
func (t *trial) believe(s *engine.Step, all seen) {
	if all.lock == "" || s.Kind == engine.Backfill || s.Kind == engine.ProofOf || s.Outside != nil &&
		s.Kind == engine.Build {
		return
	}
	if slices.Index(strength, all.lock) >= slices.Index(strength, lockShared) {
		s.Lock = all.lock
	} else {
		s.Lock = "none"
	}
	switch {
	case all.rewrites && !s.Rewrites:
		s.Rewrites, s.Kind, s.Why = true, engine.Rewrite,
			"the server has shown on an empty copy that it writes every row anew"
	case !all.rewrites && s.Rewrites && s.Kind == engine.Rewrite && s.Outside == nil:
		s.Rewrites, s.Kind, s.Why = false, engine.Catalog,
			"the server has shown on an empty copy that it changes the catalog alone"
		s.Seconds, s.WritersWait = 0, engine.WaitBriefly
	case all.scanned && s.Kind == engine.Catalog:
		s.Kind, s.Why = engine.Scan, "the server has shown on an empty copy that it reads every row"
	}
}

const selectSeen = `select coalesce((select relfilenode from pg_class where oid = %[1]s), 0), coalesce(pg_stat_get_xact_numscans(%[1]s), 0),
		coalesce((select string_agg(distinct l.mode, ',') from pg_locks l where l.pid = pg_backend_pid() and l.relation = %[1]s and l.granted), '')`

// watched runs statements in a transaction and tells what they did to the step's table.
func (t *trial) watched(ctx context.Context, s *engine.Step, statements []string) (seen, error) {
	out := seen{}
	if slices.ContainsFunc(statements, func(sql string) bool { return !transactional(sql) }) {
		for _, sql := range statements {
			if _, err := exec(ctx, t.conn, t.there(sql), nil); err != nil {
				return out, err
			}
		}
		return out, nil
	}
	if err := script(ctx, t.conn, "begin"); err != nil {
		return out, err
	}
	defer command(ctx, t.conn, "rollback")
	oid := ""
	if s.Table != "" {
		ns, n := t.d.split(s.Table)
		r, err := query(ctx, t.conn, "select c.oid from pg_class c join pg_namespace n on n.oid = c.relnamespace where "+
			"n.nspname = ? and c.relname = ?", []any{scratch + ns, n})
		if err != nil {
			return out, err
		}
		if len(r.Values) > 0 {
			oid = fmt.Sprint(r.Values[0][0])
		}
	}
	look := func() ([]any, error) {
		if oid == "" {
			return nil, nil
		}
		r, err := query(ctx, t.conn, fmt.Sprintf(selectSeen, oid), nil)
		if err != nil || len(r.Values) == 0 {
			return nil, err
		}
		return r.Values[0], nil
	}
	before, err := look()
	if err != nil {
		return out, err
	}
	for _, sql := range statements {
		sql = t.there(engine.Whole(sql))
		if writes(sql) {
			sql = "explain " + sql
		}
		if _, err := exec(ctx, t.conn, sql, nil); err != nil {
			return out, err
		}
	}
	after, err := look()
	if err != nil {
		return out, err
	}
	if before != nil && after != nil {
		gone := number(after[0]) == 0
		out.rewrites, out.scanned = !gone && number(before[0]) != number(after[0]),
			!gone && number(after[1]) > number(before[1])
		out.lock = strongest(text(after[2]))
	}
	_, err = command(ctx, t.conn, "commit")
	return out, err
}

// strongest gives the strongest of the modes that pg_locks lists, in the words of the
// manual.
func strongest(modes string) string {
	found := "none"
	for mode := range strings.SplitSeq(modes, ",") {
		var b strings.Builder
		for i, c := range strings.TrimSuffix(mode, "Lock") {
			if i > 0 && c >= 'A' && c <= 'Z' {
				b.WriteByte(' ')
			}
			b.WriteRune(c)
		}
		if words := strings.ToLower(b.String()); slices.Index(strength, words) > slices.Index(strength, found) {
			found = words
		}
	}
	return found
}
