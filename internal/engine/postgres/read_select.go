package postgres

// The schema is read with one query for each kind of object, however many there are.
// {where} selects the schemas.

const selectTables = `
	select c.oid, n.nspname, c.relname, c.relkind::text, c.relispartition, c.reloftype <> 0,
		exists (select 1 from pg_inherits i where i.inhrelid = c.oid or i.inhparent = c.oid), c.relpersistence::text,
		array_to_string(c.reloptions, ', '), c.relrowsecurity, c.relforcerowsecurity, c.relreplident::text, obj_description(c.oid, 'pg_class'),
		(select spcname from pg_tablespace s where s.oid = c.reltablespace), case when c.relkind = 'p' then pg_get_partkeydef(c.oid) end,
		rn.nspname, rc.relname
	from pg_class c join pg_namespace n on n.oid = c.relnamespace
		left join pg_class rc on c.relispartition and rc.oid = pg_partition_root(c.oid) left join pg_namespace rn on rn.oid = rc.relnamespace
	where c.relkind in ('r', 'p', 'f') and {where} and not exists (select 1 from pg_depend d where d.classid = 'pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
	order by c.oid`

// collationName names a collation: plainly where that is found and is a plain name.
const collationName = `case when pg_collation_is_visible(co.oid) and co.collname !~ '[."]' then co.collname::text else quote_ident(cn.nspname) || '.' || quote_ident(co.collname) end`

const selectColumns = `
	select a.attrelid, a.attnum, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, pg_get_expr(ad.adbin, ad.adrelid), a.attgenerated::text, a.attidentity::text,
		case when a.attcollation <> t.typcollation then (select ` + collationName + `
			from pg_collation co join pg_namespace cn on cn.oid = co.collnamespace where co.oid = a.attcollation) end,
		col_description(a.attrelid, a.attnum), (select quote_ident(sn.nspname) || '.' || quote_ident(s.relname) from pg_depend d join pg_class s on s.oid = d.objid join pg_namespace sn on sn.oid = s.relnamespace
			where d.classid = 'pg_class'::regclass and d.refclassid = 'pg_class'::regclass and d.refobjid = a.attrelid and d.refobjsubid = a.attnum and d.deptype in ('a', 'i') and s.relkind = 'S' limit 1),
		(select 'operator(' || quote_ident(eqn.nspname) || '.=)' from pg_operator eq join pg_namespace eqn on eqn.oid = eq.oprnamespace
			where eq.oprname = '=' and eq.oprleft = a.atttypid and eq.oprright = a.atttypid and eqn.nspname <> 'pg_catalog' limit 1)
	from pg_attribute a join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace join pg_type t on t.oid = a.atttypid
		left join pg_attrdef ad on ad.adrelid = a.attrelid and ad.adnum = a.attnum
	where c.relkind in ('r', 'p', 'f', 'v', 'm') and a.attnum > 0 and not a.attisdropped and {where}
	order by a.attrelid, a.attnum`

const selectConstraints = `
	select k.conrelid, k.conname, k.contype::text, k.conkey::text, k.confrelid, k.confkey::text, k.confdeltype::text, k.confupdtype::text, k.confmatchtype::text,
		k.condeferrable, k.condeferred, k.convalidated, pg_get_expr(k.conbin, k.conrelid), pg_get_constraintdef(k.oid), k.connoinherit, x.indnkeyatts, x.indnatts,
		k.confrelid::regclass::text, k.coninhcount > 0
	from pg_constraint k join pg_class c on c.oid = k.conrelid join pg_namespace n on n.oid = c.relnamespace left join pg_index x on x.indexrelid = k.conindid
	where k.contype in ('p', 'u', 'c', 'f', 'x') and k.conparentid = 0 and {where}
	order by k.conrelid, k.conname`

const selectIndexes = `
	select x.indrelid, ic.relname, x.indisunique, x.indisvalid, am.amname, x.indnkeyatts, x.indnatts, pg_get_expr(x.indpred, x.indrelid),
		array_to_string(ic.reloptions, ', '), pg_get_indexdef(x.indexrelid, 0, true), x.indkey::text, x.indoption::text,
		array(select pg_get_indexdef(x.indexrelid, g, true) from generate_series(1, x.indnkeyatts) g)::text[] is not null,
		(select bool_and(o.opcdefault) from unnest(x.indclass) oc(id) join pg_opclass o on o.oid = oc.id),
		(select string_agg(coalesce(case when co.oid <> coalesce((select a.attcollation from pg_attribute a where a.attrelid = x.indrelid and a.attnum = ik.num), co.oid)
			then ` + collationName + ` end, ''), e'\x1f' order by l.i) from unnest(x.indcollation) with ordinality l(id, i) join unnest(x.indkey::int2[]) with ordinality ik(num, i) on ik.i = l.i left join pg_collation co on co.oid = l.id left join pg_namespace cn on cn.oid = co.collnamespace),
		(select string_agg(pg_get_indexdef(x.indexrelid, g, true), e'\x1f' order by g) from generate_series(1, x.indnkeyatts) g), {nulls}, ic.relispartition
	from pg_index x join pg_class ic on ic.oid = x.indexrelid join pg_class c on c.oid = x.indrelid join pg_namespace n on n.oid = c.relnamespace join pg_am am on am.oid = ic.relam
	where c.relkind in ('r', 'p') and {where} and not exists (select 1 from pg_constraint k where k.conindid = x.indexrelid and k.contype in ('p', 'u', 'x'))
	order by x.indrelid, ic.relname`

const selectTriggers = `
	select t.tgrelid, t.tgname, pg_get_triggerdef(t.oid, true)
	from pg_trigger t join pg_class c on c.oid = t.tgrelid join pg_namespace n on n.oid = c.relnamespace
	where not t.tgisinternal and coalesce(to_jsonb(t) ->> 'tgparentid', '0') = '0' and c.relkind in ('r', 'p', 'f') and {where}
	order by t.tgrelid, t.tgname`

const selectViews = `
	select c.oid, n.nspname, c.relname, c.relkind::text, pg_get_viewdef(c.oid, true), array_to_string(c.reloptions, ', '), c.relispopulated
	from pg_class c join pg_namespace n on n.oid = c.relnamespace
	where c.relkind in ('v', 'm') and {where} and not exists (select 1 from pg_depend d where d.classid = 'pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
	order by c.oid`

const selectPolicies = `
	select p.polrelid, p.polname from pg_policy p join pg_class c on c.oid = p.polrelid join pg_namespace n on n.oid = c.relnamespace where {where} order by 1, 2`

// users selects the schemas of the applications.
const users = `n.nspname !~ '^pg_' and n.nspname not in ('information_schema', 'lastboard') and n.nspname !~ '^lastboard_' and c.relname !~ '^lastboard_'`
