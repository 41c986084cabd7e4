package postgres

import (
	"context"
	"strings"
	"time"

	"lastboard/internal/engine"
)

const (
	selectAsked = `select coalesce(usename, ''), coalesce(nullif(application_name, ''), 'an application'), query,
			coalesce(extract(epoch from case when state = 'active' then clock_timestamp() else state_change end), 0)::bigint
		from pg_stat_activity where datname = current_database() and backend_type = 'client backend' and pid <> pg_backend_pid()
			and application_name not like 'lastboard%' and query <> '' order by 4 desc`
	selectStatisticsPlace = `select quote_ident(n.nspname) from pg_extension e join pg_namespace n on n.oid = e.extnamespace where e.extname = 'pg_stat_statements'`
	// selectCode lists views, functions and what they are on, policies and rules of others.
	selectCode = `
		select case c.relkind when 'm' then 'materialized view ' else 'view ' end || c.relname, pg_get_viewdef(c.oid)
			from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('v', 'm') and ` + othersPlace + `
		union all
		select case p.prokind when 'p' then 'procedure ' else 'function ' end || p.proname || '()', coalesce(p.prosrc, '') || ' ' ||
				coalesce((select string_agg(' on ' || t.tgrelid::regclass, ' ') from pg_trigger t where t.tgfoid = p.oid and not t.tgisinternal), '')
			from pg_proc p join pg_namespace n on n.oid = p.pronamespace join pg_language l on l.oid = p.prolang
			where p.oid >= 16384 and l.lanname not in ('c', 'internal') and ` + othersPlace + `
			and not exists (select 1 from pg_depend d where d.classid = 'pg_proc'::regclass and d.objid = p.oid and d.deptype = 'e')
		union all
		select 'policy ' || p.polname, 'on ' || p.polrelid::regclass || ' ' || coalesce(pg_get_expr(p.polqual, p.polrelid), '') || ' ' ||
			coalesce(pg_get_expr(p.polwithcheck, p.polrelid), '') from pg_policy p
		order by 1`
	othersPlace = `n.nspname not in ('pg_catalog', 'information_schema') and n.nspname !~ '^(pg_|lastboard)'`
)

// Now implements engine.Onlooker.
func (d *database) Now(ctx context.Context) (time.Time, error) {
	r, err := d.Query(ctx, "select extract(epoch from clock_timestamp())::bigint")
	if err != nil {
		return time.Time{}, err
	}
	return time.Unix(number(r.Values[0][0]), 0), nil
}

// notShown is what the server shows of statements that the user may not see.
const notShown = "<insufficient privilege>"

// Asked implements engine.Onlooker.
func (d *database) Asked(ctx context.Context) (list []engine.Asked, unseen string, err error) {
	r, err := d.Query(ctx, selectAsked)
	if err != nil {
		return nil, "", err
	}
	var why []string
	hidden := false
	for _, v := range r.Values {
		if text(v[2]) == notShown {
			hidden = true
			continue
		}
		list = append(list, engine.Asked{SQL: text(v[2]), By: "user " + text(v[0]) + " with " + text(v[1]),
			Last: time.Unix(number(v[3]), 0).UTC()})
	}
	if hidden {
		why = append(why, "statements of other users' sessions are not shown to you (the role pg_read_all_stats)")
	}
	counted, err := d.statistics(ctx)
	if err != nil {
		return nil, "", err
	}
	if counted == nil {
		why = append(why, "the server keeps no statistics of statements that you can read (the extension pg_stat_statements)")
	}
	return append(list, counted...), strings.Join(why, "; "), nil
}

// statistics lists the statements that the server has counted; nil where it counts none.
func (d *database) statistics(ctx context.Context) ([]engine.Asked, error) {
	r, err := d.Query(ctx, selectStatisticsPlace)
	if err != nil || len(r.Values) == 0 {
		return nil, err
	}
	place := text(r.Values[0][0])
	r, err = d.Query(ctx, "select extract(epoch from stats_reset)::bigint from "+place+".pg_stat_statements_info")
	if err != nil || len(r.Values) == 0 {
		return nil, nil // it is not loaded, or not for this user
	}
	since := time.Unix(number(r.Values[0][0]), 0).UTC()
	r, err = d.Query(ctx, "select s.query, s.calls, coalesce(u.rolname, '') from "+place+".pg_stat_statements s left "+
		"join pg_roles u on u.oid = s.userid join pg_database d on d.oid = s.dbid where d.datname = current_database() "+
		"order by s.calls desc limit 5000")
	if err != nil {
		return nil, nil
	}
	list := []engine.Asked{}
	for _, v := range r.Values {
		if text(v[0]) != notShown {
			list = append(list, engine.Asked{SQL: text(v[0]), Times: number(v[1]), By: "user " + text(v[2]),
				Since: since})
		}
	}
	return list, nil
}

// Code implements engine.Onlooker.
func (d *database) Code(ctx context.Context) (list []engine.Code, err error) {
	r, err := d.Query(ctx, selectCode)
	if err != nil {
		return nil, err
	}
	for _, v := range r.Values {
		list = append(list, engine.Code{What: text(v[0]), SQL: text(v[1])})
	}
	return list, nil
}
