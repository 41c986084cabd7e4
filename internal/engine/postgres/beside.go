package postgres

import "context"

// selectBeside lists objects of the database's own schemas that belong to no table and no extension.
const selectBeside = `
	select what from (
		select 'pg_proc'::regclass as class, p.oid, pronamespace as space, case prokind when 'p' then 'procedure ' when 'a' then
				'aggregate ' else 'function ' end || p.oid::regprocedure as what, proname as name from pg_proc p
		union all select 'pg_type'::regclass, t.oid, typnamespace, case typtype when 'e' then 'enum type ' when 'd' then 'domain '
				when 'r' then 'range type ' else 'composite type ' end || t.oid::regtype, typname
			from pg_type t left join pg_class c on c.oid = typrelid
			where typtype in ('e', 'd', 'r') or typtype = 'c' and c.relkind = 'c'
		union all select 'pg_class'::regclass, c.oid, relnamespace, 'sequence ' || c.oid::regclass, relname from pg_class c
			where relkind = 'S' and not exists (select 1 from pg_depend d where d.classid = 'pg_class'::regclass and
				d.objid = c.oid and d.refclassid = 'pg_class'::regclass and d.deptype in ('a', 'i'))
		union all select 'pg_statistic_ext'::regclass, s.oid, stxnamespace, 'statistics ' || quote_ident(stxname), stxname
			from pg_statistic_ext s
		union all select 'pg_policy'::regclass, p.oid, relnamespace, 'policy ' || quote_ident(polname) || ' on ' ||
				c.oid::regclass, polname from pg_policy p join pg_class c on c.oid = polrelid
	) o join pg_namespace n on n.oid = space
	where nspname not in ('information_schema', 'lastboard') and nspname !~ '^pg_' and name not like 'lastboard\_%' and
		not exists (select 1 from pg_depend d where d.classid = class and d.objid = o.oid and d.deptype = 'e')
	union all select 'extension ' || quote_ident(extname) from pg_extension where extname <> 'plpgsql'
	union all select 'event trigger ' || quote_ident(evtname) from pg_event_trigger
	order by 1`

// Beside implements engine.Database.
func (d *database) Beside(ctx context.Context) ([]string, error) {
	r, err := d.Query(ctx, selectBeside)
	if err != nil {
		return nil, err
	}
	var list []string
	for _, v := range r.Values {
		list = append(list, text(v[0]))
	}
	return list, nil
}
