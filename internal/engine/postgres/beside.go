package postgres

import (
	"context"

	"lastboard/internal/engine"
)

// selectBeside lists objects of the database's own schemas that belong to no table and no extension,
// with what makes each, those first that others may need.
const selectBeside = `
	select what, coalesce(sql, ''), place from (
		select 'pg_type'::regclass as class, t.oid, typnamespace as space, typname as name, 1 as place, 'enum type ' || t.oid::regtype as what,
			'create type ' || t.oid::regtype || ' as enum (' || (select string_agg(quote_literal(enumlabel), ', ' order by
				enumsortorder) from pg_enum where enumtypid = t.oid) || ')' as sql from pg_type t where typtype = 'e'
		union all select 'pg_type'::regclass, t.oid, typnamespace, typname, 2, 'domain ' || t.oid::regtype, 'create domain ' ||
				t.oid::regtype || ' as ' || format_type(typbasetype, typtypmod) || case when typcollation not in (0, b.collation)
				then ' collate ' || typcollation::regcollation else '' end || coalesce(' default ' || typdefault, '') || case when
				typnotnull then ' not null' else '' end || coalesce((select string_agg(' constraint ' || quote_ident(conname) ||
				' ' || pg_get_constraintdef(k.oid), '' order by conname) from pg_constraint k where contypid = t.oid and
				contype = 'c'), '')
			from pg_type t join (select oid as base, typcollation as collation from pg_type) b on base = typbasetype
			where typtype = 'd'
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 3, 'sequence ' || c.oid::regclass,
				'create sequence ' || c.oid::regclass || ' as ' || seqtypid::regtype || ' increment by ' || seqincrement ||
				' minvalue ' || seqmin || ' maxvalue ' || seqmax || ' start with ' || seqstart || ' cache ' || seqcache ||
				case when seqcycle then ' cycle' else '' end
			from pg_class c join pg_sequence on seqrelid = c.oid where not exists (select 1 from pg_depend d where
				d.classid = 'pg_class'::regclass and d.objid = c.oid and d.refclassid = 'pg_class'::regclass and
				d.deptype in ('a', 'i'))
		union all select 'pg_proc'::regclass, p.oid, pronamespace, proname, 4, case prokind when 'p' then 'procedure ' when 'a'
				then 'aggregate ' else 'function ' end || p.oid::regprocedure, case when prokind <> 'a' then
				pg_get_functiondef(p.oid) end from pg_proc p where pronamespace not in ('pg_catalog'::regnamespace,
				'information_schema'::regnamespace)
		union all select 'pg_type'::regclass, t.oid, typnamespace, typname, 5, case typtype when 'r' then 'range type ' else
				'composite type ' end || t.oid::regtype, null from pg_type t left join pg_class c on c.oid = typrelid
			where typtype = 'r' or typtype = 'c' and c.relkind = 'c'
		union all select 'pg_statistic_ext'::regclass, s.oid, stxnamespace, stxname, 5, 'statistics ' || quote_ident(stxname),
			null from pg_statistic_ext s
		union all select 'pg_policy'::regclass, p.oid, relnamespace, polname, 5, 'policy ' || quote_ident(polname) || ' on ' ||
				c.oid::regclass, null from pg_policy p join pg_class c on c.oid = polrelid
	) o join pg_namespace n on n.oid = space
	where nspname not in ('information_schema', 'lastboard') and nspname !~ '^pg_' and name not like 'lastboard\_%' and
		not exists (select 1 from pg_depend d where d.classid = class and d.objid = o.oid and d.deptype = 'e')
	union all select 'extension ' || quote_ident(extname), 'create extension if not exists ' || quote_ident(extname), 0
		from pg_extension where extname <> 'plpgsql'
	union all select 'event trigger ' || quote_ident(evtname), '', 5 from pg_event_trigger
	order by 3, 1`

// Beside implements engine.Database.
func (d *database) Beside(ctx context.Context) ([]engine.Beside, error) {
	r, err := d.Query(ctx, selectBeside)
	if err != nil {
		return nil, err
	}
	var list []engine.Beside
	for _, v := range r.Values {
		list = append(list, engine.Beside{What: text(v[0]), SQL: text(v[1]), First: number(v[2]) < 4})
	}
	return list, nil
}
