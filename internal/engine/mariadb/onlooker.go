package mariadb

import (
	"context"
	"strings"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

const (
	selectAsked = `select user, info, unix_timestamp() from information_schema.processlist where db = database() and id <> connection_id()
		and info is not null order by id`
	selectSeesAll = `select 1 from information_schema.user_privileges where privilege_type in ('PROCESS', 'SUPER')
		and replace(grantee, '''', '') = current_user()`
	selectCounted = `select digest_text, count_star, unix_timestamp(last_seen), unix_timestamp(first_seen) from performance_schema.events_statements_summary_by_digest
		where schema_name = database() and digest_text is not null order by count_star desc limit 5000`
	selectCode = `select concat('view ', table_name), view_definition from information_schema.views where table_schema = database()
		union all select concat(lower(routine_type), ' ', routine_name, '()'), coalesce(routine_definition, '') from information_schema.routines where routine_schema = database()
		union all select concat('trigger ', trigger_name), concat('on ', event_object_table, ' ', action_statement) from information_schema.triggers
			where event_object_schema = database() and trigger_name not regexp '^lastboard_'
		union all select concat('event ', event_name), event_definition from information_schema.events where event_schema = database()
		order by 1`
)

// Now implements engine.Onlooker.
func (d *database) Now(ctx context.Context) (time.Time, error) {
	r, err := d.query(ctx, "select unix_timestamp()")
	if err != nil {
		return time.Time{}, err
	}
	return time.Unix(number(r.Values[0][0]), 0), nil
}

// Seen implements engine.Onlooker: nothing is counted here, for a sequence that a trigger asks costs a
// third of what the write costs, and a row that counts makes writers wait for each other.
func (d *database) Seen(context.Context, *schema.Table, string) (engine.Seen, error) {
	return engine.Seen{}, nil
}

// Asked implements engine.Onlooker.
func (d *database) Asked(ctx context.Context) (list []engine.Asked, unseen string, err error) {
	r, err := d.query(ctx, selectAsked)
	if err != nil {
		return nil, "", err
	}
	for _, v := range r.Values {
		list = append(list, engine.Asked{SQL: text(v[1]), By: "user " + text(v[0]), Last: time.Unix(number(v[2]), 0).UTC()})
	}
	var why []string
	if r, err = d.query(ctx, selectSeesAll); err != nil {
		return nil, "", err
	} else if len(r.Values) == 0 {
		why = append(why, "statements of other users' sessions are not shown to you (the right PROCESS)")
	}
	r, err = d.query(ctx, "select @@performance_schema")
	if err != nil {
		return nil, "", err
	}
	counts := number(r.Values[0][0]) == 1
	if counts {
		r, err = d.query(ctx, selectCounted)
	}
	if !counts || err != nil {
		why = append(why, "the server keeps no statistics of statements that you can read (performance_schema)")
		return list, strings.Join(why, "; "), nil
	}
	for _, v := range r.Values {
		list = append(list, engine.Asked{SQL: text(v[0]), By: "a program", Times: number(v[1]),
			Last: time.Unix(number(v[2]), 0).UTC(), Since: time.Unix(number(v[3]), 0).UTC()})
	}
	return list, strings.Join(why, "; "), nil
}

// Code implements engine.Onlooker.
func (d *database) Code(ctx context.Context) (list []engine.Code, err error) {
	r, err := d.query(ctx, selectCode)
	if err != nil {
		return nil, err
	}
	for _, v := range r.Values {
		list = append(list, engine.Code{What: text(v[0]), SQL: text(v[1])})
	}
	return list, nil
}
