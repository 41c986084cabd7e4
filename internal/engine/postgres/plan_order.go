package postgres

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// moves reports whether columns stand where they were asked to, at the cost of a copy of
// the table: the server itself moves none.
func moves(c *schema.TableChange) bool {
	if c.Rebuild {
		return true
	}
	for _, place := range c.Placed {
		if place.Rebuild {
			return true
		}
	}
	return false
}

// reorders reports whether the columns come to stand in another order than the server
// would give them.
func reorders(c *schema.TableChange) bool {
	if c.Before == nil || c.After == nil {
		return false
	}
	last, fresh := -1, false
	for _, col := range c.After.Columns {
		at := slices.IndexFunc(c.Before.Columns, func(o *schema.Column) bool { return o.Name == c.From[col.Name] })
		if at < 0 {
			fresh = true // it is added, and the server adds columns behind all others
			continue
		}
		if at < last || fresh && !c.Back {
			return true
		}
		last = at
	}
	return false
}

// reorder copies the table into one whose columns stand in another order, while nobody
// reads or writes it. The copy has what the model has, and the rights; a table with more is
// refused by [database.mayCopy].
func (p *planner) reorder() {
	t := p.After
	if !reorders(p.Change) {
		return
	}
	if partitioned(p.Table) {
		p.Fail(&engine.Refused{Message: "the rows of " + p.Table.Name +
			" stand in parts, and a copy of the table would not be",
			Cure: "leave out the place: the column then stands last"})
		return
	}
	if hasMirrors(p.Table) {
		p.Fail(&engine.Refused{Message: "columns of " + p.Table.Name +
			" are kept under two names, and a copy of the table would not be",
			Cure: "settle that first, or leave out the place"})
		return
	}
	table, bare := name(t.Name), tableOf(t).Name
	for _, c := range t.Columns {
		if c.Options["sequence"] != "" {
			p.Fail(&engine.Refused{Message: "column " + c.Name +
				" takes its numbers from a sequence, which a copy of the table would not take along",
				Cure: "leave out rebuild: the column then stands last"})
			return
		}
	}
	if t.Name != bare {
		p.Fail(&engine.Refused{Message: "table " + t.Name + " is in another schema, and is not copied there",
			Cure: "leave out rebuild: the column then stands last"})
		return
	}
	hidden := p.Facts.KeptTable()
	was := quote(hidden) + "." + quote(bare)
	strong := []string{t.Name}
	sql := []string{"lock table " + table + " in access exclusive mode", captureRights(t, t)}
	for i, c := range t.Columns {
		if c.Identity != nil {
			sql = append(sql, captureNumber(t, c, i))
		}
	}
	var again []string
	for _, o := range p.Facts.Schema.Tables {
		for _, k := range o.ForeignKeys {
			if o.Name == p.Table.Name || !schema.SameName(k.Table, p.Table.Name) {
				continue
			}
			sql = append(sql, "alter table "+name(o.Name)+" drop constraint "+quote(k.Name))
			again = append(again, addForeignKey(o, k))
			if !schema.HasName(strong, o.Name) {
				strong = append(strong, o.Name)
			}
		}
	}
	for _, c := range p.Table.Columns {
		if c.OnUpdateNow && !slices.Contains(p.Dropped(), c) {
			sql = append(sql, dropOnUpdate(p.Table, onUpdateName(p.Table, c))...)
		}
	}
	columns := quoteAll(storedNames(t))
	sql = append(sql, hide(t, hidden)...)
	sql = append(sql, createTable(t),
		"insert into "+table+" ("+columns+") overriding system value select "+columns+" from "+was)
	for _, k := range t.Uniques {
		if sameAsAnother(t, k) {
			sql = append(sql, "alter table "+table+" add "+keySQL(k, "unique"))
		}
	}
	for _, k := range t.ForeignKeys {
		sql = append(sql, addForeignKey(t, k))
		if !schema.HasName(strong, k.Table) {
			strong = append(strong, k.Table)
		}
	}
	sql = append(sql, again...)
	for _, x := range t.Indexes {
		sql = append(sql, createIndex(t, x))
	}
	gone := p.emptied() // has been let go of
	for _, k := range p.Change.PutBack {
		gone = append(gone, k.Table)
	}
	for _, tr := range slices.Concat(p.Table.Triggers, p.Table.Own) {
		if !slices.ContainsFunc(gone, func(kept string) bool { return strings.HasPrefix(tr.Name, kept+"_") }) {
			sql = append(sql, tr.SQL)
			if slices.Contains(p.Table.Own, tr) && !strings.HasPrefix(tr.Name, watchTrigger) {
				sql = append(sql, always(t, tr.Name))
			}
		}
	}
	for _, s := range p.followers {
		if strings.HasPrefix(s, "create or replace trigger ") || strings.HasPrefix(s, "alter table ") {
			sql = append(sql, s)
		}
	}
	for _, c := range p.Table.Columns {
		if c.OnUpdateNow && !slices.Contains(p.Dropped(), c) {
			sql = append(sql, onUpdateSQL(p.Table, c)...)
		}
	}
	sql = append(sql, comments(t)...)
	sql = append(sql, giveRights(t))
	for i, c := range t.Columns {
		if c.Identity != nil {
			sql = append(sql, giveNumber(t, c, i))
		}
	}
	sql = append(sql, "drop schema "+quote(hidden)+" cascade", "analyze "+table)
	s := p.Add(engine.Rebuild, rewriteRate, "copy "+t.Name+" with its columns in their order", sql...)
	s.Strong, s.Lock = strong, lockExclusive
	s.Why = "the server moves no column: only a copy of the table has another order"
}

// captureRights notes the statements that give the rights to a table and its columns once
// more, to another that will be like it, in a setting of the transaction.
func captureRights(t, other *schema.Table) string {
	there := "c.oid = to_regclass(" + literal(name(t.Name)) + ")"
	grant := "select format('grant %s on table %s to %s', x.privilege_type || COLUMN, " + literal(name(other.Name)) +
		", case when x.grantee = 0 then 'public' else quote_ident(pg_get_userbyid(x.grantee)) end || case when " +
		"x.is_grantable then ' with grant option' else '' end) from pg_class c"
	return "do " + dollar("begin perform set_config('lastboard.rights', (select string_agg(g, '; ') from ("+
		"select format('alter table %s owner to %I', "+literal(name(other.Name))+
		", pg_get_userbyid(c.relowner)) as g from pg_class c where "+there+
		" union all "+strings.Replace(grant, "COLUMN", "''", 1)+", aclexplode(c.relacl) x where "+there+
		" and x.grantee <> c.relowner"+
		" union all "+strings.Replace(grant, "COLUMN", "' (' || quote_ident(a.attname) || ')'", 1)+
		" join pg_attribute a on a.attrelid = c.oid, aclexplode(a.attacl) x where "+there+
		" and not a.attisdropped) r), true); end")
}

// giveRights gives them to the copy, and takes from it those that it has by default.
func giveRights(t *schema.Table) string {
	n := literal(name(t.Name))
	return "do " + dollar("declare who text; begin for who in select distinct case when x.grantee = 0 then 'public' "+
		"else quote_ident(pg_get_userbyid(x.grantee)) end from pg_class c, aclexplode(c.relacl) x where c.oid = to_regclass("+
		n+") and x.grantee <> c.relowner"+
		" loop execute format('revoke all on table %s from %s', "+n+
		", who); end loop; execute current_setting('lastboard.rights'); end")
}

// captureNumber notes the number that comes next in a column that numbers itself; i tells
// the column from others.
func captureNumber(t *schema.Table, c *schema.Column, i int) string {
	return "do " + dollar(fmt.Sprintf("begin perform set_config('lastboard.number_%d', "+
		"coalesce(cast(pg_sequence_last_value(cast(pg_get_serial_sequence(%s, %s) as regclass)) + 1 as text), ''), "+
		"true); end", i, literal(name(t.Name)), literal(c.Name)))
}

func giveNumber(t *schema.Table, c *schema.Column, i int) string {
	return "do " + dollar(fmt.Sprintf("declare n text := current_setting('lastboard.number_%d'); begin if n <> '' "+
		"then execute format('alter table %%s alter column %%I restart with %%s', %s, %s, n); end if; end", i,
		literal(name(t.Name)), literal(c.Name)))
}

// selectMore lists what a table has beyond its model and its rights.
const selectMore = `with t as (select * from pg_class where oid = to_regclass(?))
	select 'row security' from t where relrowsecurity or relforcerowsecurity
	union all select 'a replica identity' from t where relreplident <> 'd'
	union all select 'a tablespace of its own' from t where reltablespace <> 0
	union all select 'a place in publication ' || quote_ident(p.pubname) from t join pg_publication_rel r on r.prrelid = t.oid join pg_publication p on p.oid = r.prpubid
	union all select 'the statistics ' || quote_ident(s.stxname) from t join pg_statistic_ext s on s.stxrelid = t.oid
	union all select 'rule ' || quote_ident(r.rulename) from t join pg_rewrite r on r.ev_class = t.oid
	union all select 'trigger ' || quote_ident(g.tgname) || ', which does not fire as others do' from t join pg_trigger g on g.tgrelid = t.oid where not g.tgisinternal and g.tgenabled <> 'O' and g.tgname !~ '^lastboard_kept_'
	union all select 'an index that orders it' from t where exists (select 1 from pg_index i where i.indrelid = t.oid and i.indisclustered)
	union all select 'settings of column ' || quote_ident(a.attname) from t join pg_attribute a on a.attrelid = t.oid join pg_type y on y.oid = a.atttypid
		where a.attnum > 0 and not a.attisdropped and (a.attstorage <> y.typstorage or a.attcompression <> '' or array_to_string(a.attoptions, ',') like '%n\_distinct%' or coalesce(a.attstattarget, -1) >= 0)
	union all select 'a comment on ' || pg_describe_object(d.classoid, d.objoid, 0) from t join pg_description d on
		d.classoid = 'pg_class'::regclass and d.objoid in (select indexrelid from pg_index where indrelid = t.oid)
		or d.classoid = 'pg_constraint'::regclass and d.objoid in (select oid from pg_constraint where conrelid = t.oid)
		or d.classoid = 'pg_trigger'::regclass and d.objoid in (select oid from pg_trigger where tgrelid = t.oid)
	union all select 'how column ' || quote_ident(a.attname) || ' counts' from t join pg_attribute a on a.attrelid = t.oid and a.attidentity <> '' and not a.attisdropped
		join pg_sequence q on q.seqrelid = to_regclass(pg_get_serial_sequence(t.oid::regclass::text, a.attname)) where q.seqincrement <> 1 or q.seqcache <> 1 or q.seqcycle or q.seqmin <> 1
	union all select 'a security label' from t where exists (select 1 from pg_seclabel l where l.classoid = 'pg_class'::regclass and l.objoid = t.oid)
	order by 1`
