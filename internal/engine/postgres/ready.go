package postgres

import (
	"context"
	"errors"
	"fmt"
	"time"

	"lastboard/internal/engine"
)

// selectReady gives what a run depends on, in one row.
const selectReady = `select pg_is_in_recovery(), current_setting('default_transaction_read_only')::bool, current_user, session_user,
	(select rolsuper from pg_roles where rolname = current_user), has_schema_privilege(?, 'create'),
	extract(epoch from clock_timestamp())::float8, current_setting('max_connections')::bigint,
	current_setting('max_connections')::bigint - current_setting('superuser_reserved_connections')::bigint - (select count(*) from pg_stat_activity where backend_type = 'client backend'),
	current_setting('autovacuum')::bool and current_setting('track_counts')::bool`

// selectUnowned lists tables that the user may not change.
const selectUnowned = `select quote_ident(c.relname), pg_get_userbyid(c.relowner), count(*) over () from pg_class c join pg_namespace n on n.oid = c.relnamespace
	where c.relkind in ('r', 'p') and n.nspname !~ '^(pg_|lastboard|information_schema$)' and not pg_has_role(c.relowner, 'usage') order by 1 limit 1`

// Ready implements engine.Database.
func (d *database) Ready(ctx context.Context) ([]engine.Standing, error) {
	r, err := d.Query(ctx, selectReady, d.home)
	if err != nil {
		return nil, err
	}
	v := r.Values[0]
	user, login := text(v[2]), text(v[3])
	list := []engine.Standing{d.writable(yes(v[0]), yes(v[1]))}
	if list[0].Level == engine.Wrong { // a replica has the rights of its primary, and nothing can be done here
		return list, nil
	}
	rights, err := d.ready(ctx, user, login, yes(v[4]), yes(v[5]))
	if err != nil {
		return nil, err
	}
	list = append(list, rights...)
	seconds, _ := v[6].(float64)
	list = append(list, engine.Free(number(v[8]), number(v[7]), "max_connections"),
		engine.Clock(time.UnixMicro(int64(seconds*1e6))))
	if !yes(v[9]) {
		list = append(list, engine.Standing{What: "vacuum", Level: engine.Look,
			Found: "the server cleans up no table by itself: a backfill leaves an old version of each row",
			Cure:  "set autovacuum = on and track_counts = on"})
	}
	return list, nil
}

// writable says whether the database can be written to.
func (d *database) writable(replica, readOnly bool) engine.Standing {
	s := engine.Standing{What: "database", Found: "can be written to"}
	switch {
	case replica:
		s.Level, s.Found, s.Cure = engine.Wrong, "is a replica, or still recovering", "name its primary in lastboard.toml"
	case readOnly:
		s.Level, s.Found = engine.Look, "default_transaction_read_only is on"
		s.Cure = "alter role " + quote(d.config.User) + " set default_transaction_read_only = off"
	}
	return s
}

// ready says what the user may do.
func (d *database) ready(ctx context.Context, user, login string, super, makes bool) ([]engine.Standing, error) {
	who := "user " + user
	if login != user {
		who = "user " + login + " as " + user
	}
	var list []engine.Standing
	add := func(level engine.Level, found, cure string) {
		list = append(list, engine.Standing{What: "rights", Level: level, Found: found, Cure: cure})
	}
	var cannot *engine.CannotOpen
	if err := d.mayTry(ctx); errors.As(err, &cannot) {
		add(engine.Wrong, cannot.Message, cannot.Cure)
	} else if err != nil {
		return nil, err
	}
	if !makes {
		add(engine.Look, who+" may make nothing in schema "+d.home,
			"grant create on schema "+quote(d.home)+" to "+quote(user))
	}
	r, err := d.Query(ctx, selectUnowned)
	if err != nil {
		return nil, err
	}
	if len(r.Values) > 0 {
		v := r.Values[0]
		found := fmt.Sprintf("table %s belongs to %s, and %s may not change it", text(v[0]), text(v[1]), who)
		if n := number(v[2]); n > 1 {
			found += fmt.Sprintf("; nor %d others", n-1)
		}
		add(engine.Look, found, "grant "+quote(text(v[1]))+" to "+quote(user))
	}
	if super {
		add(engine.Look, who+" is a superuser: triggers and defaults of tables run with these rights while rows are changed",
			"use a login that is a member of the tables' owner, and no superuser")
	}
	list = append(list, d.keptOut(who)...)
	if len(list) == 0 {
		add(engine.Good, who+" may change every table", "")
	}
	return list, nil
}
