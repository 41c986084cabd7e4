package postgres

import (
	"context"

	"lastboard/internal/engine"
)

// What stands beside the tables is read with one query for each place in which it has to be made. Each
// gives what it is, the statement that makes it, and, for what a table has that its model does not say,
// the table with the option. A statement that is null cannot be written.

// ofUsers is the condition that an object of a class stands in a schema of the database's own, and is of
// no extension. The server's own objects have smaller numbers than all that is made later.
const ofUsers = `o.oid >= 16384 and n.nspname !~ '^(pg_|lastboard_)' and n.nspname not in ('information_schema', 'lastboard') and not exists (select 1
	from pg_depend d where d.classid = o.class and d.objid = o.oid and d.deptype = 'e') and o.name !~ '^(!|!!|!#|zz_)?lastboard_'`

// bodiesLater lets functions be made before what their bodies name.
const bodiesLater = "set local check_function_bodies = off"

const looseBodies = `'` + bodiesLater + `;' || chr(10) || `

// selectFirst lists what tables may need: schemas, extensions, collations, types, sequences, and the
// functions that types, defaults and checks call, in the order in which they were made.
const selectFirst = `
	select 'schema ' || quote_ident(nspname) as what, 'create schema if not exists ' || quote_ident(nspname) as sql, 0 as place, oid from
		pg_namespace n where nspname !~ '^(pg_|lastboard_)' and nspname not in ('information_schema', 'lastboard', 'public') and not exists
		(select 1 from pg_depend d where d.classid = 'pg_namespace'::regclass and d.objid = n.oid and d.deptype = 'e')
	union all select 'extension ' || quote_ident(extname), 'create extension if not exists ' || quote_ident(extname) || case when
			n.nspname <> 'public' then ' with schema ' || quote_ident(n.nspname) else '' end, 1, e.oid
		from pg_extension e join pg_namespace n on n.oid = extnamespace where extname <> 'plpgsql'
	union all select 'server ' || quote_ident(srvname), 'create server ' || quote_ident(srvname) || coalesce(' type ' || quote_literal(srvtype),
			'') || coalesce(' version ' || quote_literal(srvversion), '') || ' foreign data wrapper ' || quote_ident(fdwname) || coalesce(
			' options (' || (select string_agg(quote_ident(option_name) || ' ' || quote_literal(option_value), ', ') from
			pg_options_to_table(srvoptions)) || ')', ''), 2, s.oid
		from pg_foreign_server s join pg_foreign_data_wrapper w on w.oid = srvfdw
	union all
	select o.what, o.sql, 3, o.oid from (
		select 'pg_collation'::regclass as class, c.oid, collnamespace as space, collname as name, 'collation ' || c.oid::regcollation as what,
			'create collation ' || c.oid::regcollation || ' (' || case collprovider when 'i' then 'provider = icu, locale = ' || quote_literal(
				coalesce(to_jsonb(c) ->> 'colliculocale', to_jsonb(c) ->> 'colllocale', collcollate)) else 'lc_collate = ' ||
				quote_literal(collcollate) || ', lc_ctype = ' || quote_literal(collctype) end || case when
				(to_jsonb(c) ->> 'collisdeterministic') = 'false' then ', deterministic = false' else '' end || ')' as sql
			from pg_collation c where collprovider in ('i', 'c')
		union all select 'pg_type'::regclass, t.oid, typnamespace, typname, 'enum type ' || t.oid::regtype,
			'create type ' || t.oid::regtype || ' as enum (' || coalesce((select string_agg(quote_literal(enumlabel), ', ' order by
				enumsortorder) from pg_enum where enumtypid = t.oid), '') || ')' from pg_type t where typtype = 'e'
		union all select 'pg_type'::regclass, t.oid, typnamespace, typname, 'domain ' || t.oid::regtype, 'create domain ' ||
				t.oid::regtype || ' as ' || format_type(typbasetype, typtypmod) || case when typcollation not in (0, b.collation)
				then ' collate ' || typcollation::regcollation else '' end || coalesce(' default ' || typdefault, '') || case when
				typnotnull then ' not null' else '' end || coalesce((select string_agg(' constraint ' || quote_ident(conname) ||
				' ' || pg_get_constraintdef(k.oid), '' order by conname) from pg_constraint k where contypid = t.oid and
				contype = 'c'), '')
			from pg_type t join (select oid as base, typcollation as collation from pg_type) b on base = typbasetype
			where typtype = 'd'
		union all select 'pg_type'::regclass, t.oid, typnamespace, typname, 'composite type ' || t.oid::regtype, 'create type ' ||
				t.oid::regtype || ' as (' || coalesce((select string_agg(quote_ident(attname) || ' ' || format_type(atttypid, atttypmod) ||
				case when attcollation not in (0, (select typcollation from pg_type x where x.oid = atttypid)) then ' collate ' ||
				attcollation::regcollation else '' end, ', ' order by attnum) from pg_attribute where attrelid = typrelid and attnum > 0
				and not attisdropped), '') || ')'
			from pg_type t join pg_class c on c.oid = typrelid where typtype = 'c' and c.relkind = 'c'
		union all select 'pg_type'::regclass, t.oid, typnamespace, typname, 'range type ' || t.oid::regtype, 'create type ' ||
				t.oid::regtype || ' as range (subtype = ' || format_type(rngsubtype, null) || case when not opcdefault then
				', subtype_opclass = ' || quote_ident(opn.nspname) || '.' || quote_ident(opcname) else '' end || case when rngcollation not in
				(0, (select typcollation from pg_type x where x.oid = rngsubtype)) then ', collation = ' || rngcollation::regcollation else
				'' end || case when rngcanonical <> 0 then ', canonical = ' || rngcanonical else '' end || case when rngsubdiff <> 0 then
				', subtype_diff = ' || rngsubdiff else '' end || coalesce(', multirange_type_name = ' || ((to_jsonb(r) ->> 'rngmultitypid')::oid
				)::regtype, '') || ')'
			from pg_type t join pg_range r on rngtypid = t.oid join pg_opclass on pg_opclass.oid = rngsubopc join pg_namespace opn on
				opn.oid = opcnamespace where typtype = 'r'
		union all select 'pg_type'::regclass, t.oid, typnamespace, typname, 'base type ' || t.oid::regtype, null from pg_type t
			where typtype = 'b' and typelem = 0 and typrelid = 0 or typtype = 'b' and typcategory <> 'A'
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'sequence ' || c.oid::regclass,
				'create sequence ' || c.oid::regclass || ' as ' || seqtypid::regtype || ' increment by ' || seqincrement ||
				' minvalue ' || seqmin || ' maxvalue ' || seqmax || ' start with ' || seqstart || ' cache ' || seqcache ||
				case when seqcycle then ' cycle' else '' end
			from pg_class c join pg_sequence on seqrelid = c.oid where not exists (select 1 from pg_depend d where
				d.classid = 'pg_class'::regclass and d.objid = c.oid and d.refclassid = 'pg_class'::regclass and
				d.deptype in ('a', 'i'))
		union all select 'pg_proc'::regclass, p.oid, pronamespace, proname, 'function ' || p.oid::regprocedure, ` + looseBodies + `
				pg_get_functiondef(p.oid) from pg_proc p where ` + calledByTables + ` and ` + writtenFunction + `
	) o join pg_namespace n on n.oid = o.space where ` + ofUsers + `
	order by 3, 4`

// calledByTables is the condition that a type, a default, a check or an index calls a function.
const calledByTables = `exists (select 1 from pg_depend d where d.refclassid = 'pg_proc'::regclass and d.refobjid = p.oid and d.deptype = 'n'
	and (d.classid in ('pg_attrdef'::regclass, 'pg_constraint'::regclass, 'pg_type'::regclass) or d.classid = 'pg_class'::regclass))`

// writtenFunction is the condition that a function is one that somebody has written, as those of range types are not.
const writtenFunction = `prokind in ('f', 'p', 'w') and not exists (select 1 from pg_depend d where d.classid = 'pg_proc'::regclass and
	d.objid = p.oid and d.deptype = 'i')`

// selectBehindTables lists what needs tables, or is of no matter to them.
const selectBehindTables = `
	select o.what, o.sql, 0, o.oid, o.place from (
		select 'pg_proc'::regclass as class, p.oid, pronamespace as space, proname as name, case prokind when 'p' then 'procedure ' else
				'function ' end || p.oid::regprocedure as what, ` + looseBodies + `pg_get_functiondef(p.oid) as sql, 1 as place
			from pg_proc p where not ` + calledByTables + ` and ` + writtenFunction + `
		union all select 'pg_proc'::regclass, p.oid, pronamespace, proname, 'aggregate ' || p.oid::regprocedure, case when aggkind = 'n' and
				aggmtransfn = 0 and aggserialfn = 0 and aggfinalmodify = 'r' and not aggfinalextra then 'create aggregate ' ||
				p.oid::regprocedure || ' (sfunc = ' || aggtransfn || ', stype = ' || format_type(aggtranstype, null) || case when aggtransspace > 0
				then ', sspace = ' || aggtransspace else '' end || case when aggfinalfn <> 0 then ', finalfunc = ' || aggfinalfn else '' end ||
				case when aggcombinefn <> 0 then ', combinefunc = ' || aggcombinefn else '' end || coalesce(', initcond = ' ||
				quote_literal(agginitval), '') || case when aggsortop <> 0 then ', sortop = operator(' || aggsortop::regoper || ')' else '' end ||
				case proparallel when 's' then ', parallel = safe' when 'r' then ', parallel = restricted' else '' end || ')' end, 1
			from pg_proc p join pg_aggregate on aggfnoid = p.oid where prokind = 'a'
		union all select 'pg_operator'::regclass, p.oid, oprnamespace, oprname, 'operator ' || p.oid::regoperator, case when oprcom in (0, p.oid)
				and oprnegate = 0 and oprrest = 0 and oprjoin = 0 and not oprcanhash and not oprcanmerge then 'create operator ' ||
				quote_ident(nspname) || '.' || oprname || ' (' || 'function = ' || oprcode || case when oprleft <> 0 then ', leftarg = ' ||
				format_type(oprleft, null) else '' end || ', rightarg = ' || format_type(oprright, null) || case when oprcom = p.oid then
				', commutator = operator(' || quote_ident(nspname) || '.' || oprname || ')' else '' end || ')' end, 2
			from pg_operator p join pg_namespace s on s.oid = oprnamespace
		union all select 'pg_ts_dict'::regclass, f.oid, dictnamespace, dictname, 'text search dictionary ' || f.oid::regdictionary,
				'create text search dictionary ' || f.oid::regdictionary || ' (template = ' || quote_ident(t.nspname) || '.' || quote_ident(tmplname)
				|| coalesce(', ' || dictinitoption, '') || ')', 1
			from pg_ts_dict f join pg_ts_template m on m.oid = dicttemplate join pg_namespace t on t.oid = tmplnamespace
		union all select 'pg_ts_config'::regclass, f.oid, cfgnamespace, cfgname, 'text search configuration ' || f.oid::regconfig,
				'create text search configuration ' || f.oid::regconfig || ' (parser = ' || quote_ident(s.nspname) || '.' || quote_ident(prsname) || ')'
				|| coalesce((select string_agg(';' || chr(10) || 'alter text search configuration ' || f.oid::regconfig || ' add mapping for ' || k.alias
				|| ' with ' || k.dicts, '' order by k.tokid) from (select k.tokid, quote_ident(k.alias) as alias, string_agg(mapdict::regdictionary::text,
				', ' order by mapseqno) as dicts from pg_ts_config_map join ts_token_type(cfgparser) k on k.tokid = maptokentype where
				mapcfg = f.oid group by k.tokid, k.alias) k), ''), 2
			from pg_ts_config f join pg_ts_parser r on r.oid = cfgparser join pg_namespace s on s.oid = prsnamespace
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'partition ' || c.oid::regclass || ' of ' || inhparent::regclass,
				'alter table only ' || inhparent::regclass || ' attach partition ' || c.oid::regclass || ' ' || pg_get_expr(relpartbound, c.oid), 2
			from pg_class c join pg_inherits on inhrelid = c.oid where relispartition and relkind in ('r', 'p', 'f')
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'statistics target of column ' || quote_ident(attname) || ' of ' ||
				c.oid::regclass, 'alter table only ' || c.oid::regclass || ' alter column ' || quote_ident(attname) || ' set statistics ' ||
				attstattarget, 3
			from pg_class c join pg_attribute on attrelid = c.oid where relkind in ('r', 'p', 'f', 'm') and attnum > 0 and not attisdropped and
				attstattarget >= 0
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'storage of column ' || quote_ident(attname) || ' of ' ||
				c.oid::regclass, 'alter table only ' || c.oid::regclass || ' alter column ' || quote_ident(attname) || ' set storage ' ||
				case attstorage when 'p' then 'plain' when 'e' then 'external' when 'x' then 'extended' else 'main' end, 3
			from pg_class c join pg_attribute a on attrelid = c.oid join pg_type t on t.oid = atttypid where relkind in ('r', 'p') and
				attnum > 0 and not attisdropped and attstorage <> typstorage
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'compression of column ' || quote_ident(attname) || ' of ' ||
				c.oid::regclass, 'alter table only ' || c.oid::regclass || ' alter column ' || quote_ident(attname) || ' set compression ' ||
				case to_jsonb(a) ->> 'attcompression' when 'l' then 'lz4' else 'pglz' end, 3
			from pg_class c join pg_attribute a on attrelid = c.oid where relkind in ('r', 'p') and attnum > 0 and not attisdropped and
				coalesce(to_jsonb(a) ->> 'attcompression', '') <> ''
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'options of column ' || quote_ident(attname) || ' of ' ||
				c.oid::regclass, 'alter table only ' || c.oid::regclass || ' alter column ' || quote_ident(attname) || ' set (' ||
				array_to_string(own, ', ') || ')', 3
			from pg_class c join pg_attribute a on attrelid = c.oid cross join lateral (select array_agg(x) as own from unnest(attoptions) x where
				x !~ '^pg_') x where relkind in ('r', 'p') and attnum > 0 and not attisdropped and own is not null
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'options of column ' || quote_ident(attname) || ' of ' ||
				c.oid::regclass, 'alter foreign table only ' || c.oid::regclass || ' alter column ' || quote_ident(attname) || ' options (' ||
				(select string_agg('add ' || quote_ident(option_name) || ' ' || quote_literal(option_value), ', ') from
				pg_options_to_table(attfdwoptions)) || ')', 3
			from pg_class c join pg_attribute a on attrelid = c.oid where attnum > 0 and not attisdropped and attfdwoptions is not null
		union all select 'pg_statistic_ext'::regclass, s.oid, stxnamespace, stxname, 'statistics ' || quote_ident(stxname),
				pg_get_statisticsobjdef(s.oid), 3 from pg_statistic_ext s
		union all select 'pg_policy'::regclass, p.oid, relnamespace, polname, 'policy ' || quote_ident(polname) || ' on ' || c.oid::regclass,
				'create policy ' || quote_ident(polname) || ' on ' || c.oid::regclass || case when polpermissive then '' else
				' as restrictive' end || ' for ' || case polcmd when 'r' then 'select' when 'a' then 'insert' when 'w' then 'update' when 'd'
				then 'delete' else 'all' end || ' to ' || (select string_agg(case r when 0 then 'public' else quote_ident(pg_get_userbyid(r)) end,
				', ') from unnest(polroles) r) || coalesce(' using (' || pg_get_expr(polqual, polrelid) || ')', '') || coalesce(
				' with check (' || pg_get_expr(polwithcheck, polrelid) || ')', ''), 4
			from pg_policy p join pg_class c on c.oid = polrelid
		union all select 'pg_rewrite'::regclass, r.oid, relnamespace, rulename, 'rule ' || quote_ident(rulename) || ' on ' || c.oid::regclass,
				rtrim(pg_get_ruledef(r.oid), ';') || case ev_enabled when 'O' then '' else '; alter table ' || c.oid::regclass || case ev_enabled
				when 'D' then ' disable' when 'R' then ' enable replica' else ' enable always' end || ' rule ' || quote_ident(rulename) end, 4
			from pg_rewrite r join pg_class c on c.oid = ev_class where rulename <> '_RETURN' and relkind in ('r', 'p', 'f')
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'that table ' || c.oid::regclass || ' is of a type', null, 5
			from pg_class c where reloftype <> 0
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'the tablespace of ' || c.oid::regclass, null, 5
			from pg_class c where reltablespace <> 0 and relkind in ('r', 'p', 'i', 'm')
		union all select 'pg_class'::regclass, c.oid, relnamespace, relname, 'how ' || c.oid::regclass || ' is stored (' || amname || ')', null, 5
			from pg_class c join pg_am a on a.oid = relam where relkind in ('r', 'm') and amname <> 'heap'
		union all select 'pg_opfamily'::regclass, f.oid, opfnamespace, opfname, 'operator family ' || quote_ident(opfname), null, 5 from
			pg_opfamily f
		union all select 'pg_conversion'::regclass, f.oid, connamespace, conname, 'conversion ' || quote_ident(conname), null, 5 from
			pg_conversion f
	) o join pg_namespace n on n.oid = o.space where ` + ofUsers + `
	union all select 'cast from ' || format_type(castsource, null) || ' to ' || format_type(casttarget, null), 'create cast (' ||
			format_type(castsource, null) || ' as ' || format_type(casttarget, null) || ') ' || case castmethod when 'i' then 'with inout' when
			'b' then 'without function' else 'with function ' || castfunc::regprocedure end || case castcontext when 'a' then ' as assignment'
			when 'i' then ' as implicit' else '' end, 0, c.oid, 2
		from pg_cast c where c.oid >= 16384 and not exists (select 1 from pg_depend d where d.classid = 'pg_cast'::regclass and d.objid =
			c.oid and d.deptype in ('e', 'i'))
	union all select 'event trigger ' || quote_ident(evtname), null, 0, oid, 5 from pg_event_trigger
	union all select 'publication ' || quote_ident(pubname), null, 0, oid, 5 from pg_publication
	union all select 'default rights of ' || pg_get_userbyid(defaclrole), null, 0, oid, 5 from pg_default_acl
	union all select 'user mapping of ' || usename || ' on ' || srvname, null, 0, umid, 5 from pg_user_mappings
	order by 5, 4`

// selectBehindViews lists what may be about views: indexes and triggers of theirs, and comments.
const selectBehindViews = `
	select what, sql, place, 0 from (
		select 'index ' || i.oid::regclass as what, pg_get_indexdef(i.oid) as sql, 1 as place, i.oid, relnamespace as space, relname as name,
				'pg_class'::regclass as class
			from (select c.oid, c.relnamespace, c.relname from pg_index x join pg_class c on c.oid = indexrelid join pg_class m on
				m.oid = indrelid where m.relkind = 'm') i
		union all select 'trigger ' || quote_ident(tgname) || ' on ' || c.oid::regclass, pg_get_triggerdef(t.oid), 2, t.oid, relnamespace,
				tgname, 'pg_trigger'::regclass from pg_trigger t join pg_class c on c.oid = tgrelid where relkind = 'v' and not tgisinternal
		union all select 'rule ' || quote_ident(rulename) || ' on ' || c.oid::regclass, rtrim(pg_get_ruledef(r.oid), ';'), 2, r.oid,
				relnamespace, rulename, 'pg_rewrite'::regclass from pg_rewrite r join pg_class c on c.oid = ev_class
				where rulename <> '_RETURN' and relkind in ('v', 'm')
	) o join pg_namespace n on n.oid = o.space where ` + ofUsers + `
	union all
	select 'comment on ' || o.kind || ' ' || o.identity, 'comment on ' || o.kind || ' ' || o.identity || ' is ' || quote_literal(d.description),
		3, d.objoid
	from pg_description d cross join lateral pg_identify_object(d.classoid, d.objoid, d.objsubid) i cross join lateral (select case i.type
			when 'domain constraint' then (select quote_ident(conname) || ' on domain ' || contypid::regtype from pg_constraint k where
			k.oid = d.objoid) else i.identity end as identity, case i.type
			when 'table constraint' then 'constraint' when 'domain constraint' then 'constraint' when 'view column' then 'column' when
			'materialized view column' then 'column' when 'composite type' then 'type' when 'foreign table column' then 'column' when
			'statistics object' then 'statistics' else i.type end as kind) o
	where d.objoid >= 16384 and i.type not in ('table', 'table column', 'extension') and coalesce(i.schema, '') !~
		'^(pg_|lastboard|information_schema)' and i.identity !~ 'lastboard' and not exists (select 1 from pg_depend x where
		x.classid = d.classoid and x.objid = d.objoid and x.deptype = 'e') and (i.schema is not null or i.type in ('schema', 'table constraint',
		'domain constraint', 'trigger', 'policy', 'rule', 'view column', 'cast'))
	order by 3, 4`

// selectOptions lists what tables have that their models do not say, and with which they have to be made.
const selectOptions = `
	select n.nspname, c.relname, o.option, o.value from pg_class c join pg_namespace n on n.oid = c.relnamespace cross join lateral (
		select 'inherits' as option, (select string_agg(inhparent::regclass::text, ', ' order by inhseqno) from pg_inherits where inhrelid = c.oid) as value
			where not relispartition
		union all select 'inherited', (select string_agg(quote_ident(attname), ', ' order by attnum) from pg_attribute where attrelid = c.oid
			and attnum > 0 and not attisdropped and not attislocal) where not relispartition
		union all select 'inherited checks', (select string_agg(quote_ident(conname), ', ') from pg_constraint where conrelid = c.oid and contype =
			'c' and not conislocal)
		union all select 'replica identity', (select 'using index ' || x.oid::regclass from pg_index join pg_class x on x.oid = indexrelid where
			indrelid = c.oid and indisreplident) where relreplident = 'i'
		union all select 'server', (select quote_ident(srvname) || coalesce(' options (' || (select string_agg(quote_ident(option_name) || ' ' ||
			quote_literal(option_value), ', ') from pg_options_to_table(ftoptions)) || ')', '') from pg_foreign_table f join pg_foreign_server s
			on s.oid = ftserver where ftrelid = c.oid)
	) o where o.value is not null and c.relkind in ('r', 'p', 'f') and ` + users

// selectRights lists the rights that others than the owner have.
const selectRights = `
	select 'rights of ' || o.who || ' on ' || o.kind || ' ' || o.name, 'grant ' || o.rights || ' on ' || o.kind || ' ' || o.name || ' to ' || o.who ||
			case when o.passes then ' with grant option' else '' end, 0, 0
	from (
		select case when c.relkind = 'S' then 'sequence' else 'table' end as kind, c.oid::regclass::text as name, a.is_grantable as passes, ` + grantee + ` as who,
			string_agg(lower(a.privilege_type), ', ' order by a.privilege_type) as rights
			from pg_class c join pg_namespace n on n.oid = c.relnamespace, aclexplode(c.relacl) a
			where a.grantee <> c.relowner and c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and ` + users + ` group by c.oid, c.relkind, a.is_grantable, a.grantee
		union all
		select 'table', c.oid::regclass::text, a.is_grantable, ` + grantee + `, string_agg(lower(a.privilege_type) || ' (' || quote_ident(t.attname) ||
				')', ', ' order by t.attnum, a.privilege_type)
			from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute t on t.attrelid = c.oid, aclexplode(t.attacl) a
			where t.attnum > 0 and not t.attisdropped and a.grantee <> c.relowner and ` + users + ` group by c.oid, a.is_grantable, a.grantee
		union all
		select 'schema', quote_ident(nspname), a.is_grantable, ` + grantee + `, string_agg(lower(a.privilege_type), ', ' order by a.privilege_type)
			from pg_namespace n, aclexplode(nspacl) a where nspname !~ '^(pg_|lastboard)' and nspname <> 'information_schema' and a.grantee <>
				nspowner and not (nspname = 'public' and a.grantee = 0) group by nspname, a.is_grantable, a.grantee
		union all
		select case p.prokind when 'p' then 'procedure' else 'function' end, p.oid::regprocedure::text, a.is_grantable, ` + grantee + `, 'execute'
			from pg_proc p join pg_namespace n on n.oid = pronamespace, aclexplode(proacl) a where p.oid >= 16384 and nspname !~ '^(pg_|lastboard)' and nspname <>
				'information_schema' and a.grantee not in (proowner, 0) and not exists (select 1 from pg_depend d where d.classid =
				'pg_proc'::regclass and d.objid = p.oid and d.deptype = 'e')
		union all
		select 'type', t.oid::regtype::text, a.is_grantable, ` + grantee + `, 'usage' from pg_type t join pg_namespace n on n.oid = typnamespace,
			aclexplode(typacl) a where t.oid >= 16384 and nspname !~ '^(pg_|lastboard)' and nspname <> 'information_schema' and a.grantee not in (typowner, 0)
	) o order by 1`

const grantee = `case a.grantee when 0 then 'public' else quote_ident(pg_get_userbyid(a.grantee)) end`

// Beside implements engine.Database.
func (d *database) Beside(ctx context.Context) (list []engine.Beside, err error) {
	for _, part := range []struct {
		sql   string
		place engine.BesidePlace
	}{
		{selectFirst, engine.BeforeTables}, {selectBehindTables, engine.BehindTables}, {selectBehindViews,
			engine.BehindViews},
		{selectRights, engine.Rights},
	} {
		r, err := d.Query(ctx, part.sql)
		if err != nil {
			return nil, err
		}
		for _, v := range r.Values {
			list = append(list, engine.Beside{What: text(v[0]), SQL: text(v[1]), Place: part.place})
		}
	}
	if list, err = d.parts(ctx, list); err != nil {
		return nil, err
	}
	r, err := d.Query(ctx, selectOptions)
	if err != nil {
		return nil, err
	}
	for _, v := range r.Values {
		list = append(list, engine.Beside{Place: engine.OfTable, Table: spell(d.home, text(v[0]), text(v[1])), What: text(
			v[2]), SQL: text(v[3])})
	}
	return list, nil
}

// parts adds the parts of tables as tables of their own.
func (d *database) parts(ctx context.Context, list []engine.Beside) ([]engine.Beside, error) {
	s, err := (&reader{query: d.Query, where: users, whole: true,
		spell: func(ns, n string) string { return spell(d.home, ns, n) }}).read(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range s.Tables {
		if t.PartOf != "" {
			list = append(list, engine.Beside{Place: engine.OfTable, Table: t.Name, Part: t})
		}
	}
	return list, nil
}
