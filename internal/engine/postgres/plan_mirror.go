package postgres

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// A mirror is a column under another name, equal to its own in every committed row. A first and
// a last trigger keep them equal, since triggers of the application's may stand between: the first
// finds out by which name a row was written, and carries that to the column; the last gives the
// mirror what all others have made of the column. Values are compared as they are stored, for =
// calls some equal that are not. A statement that writes both and not the same is an error.

const (
	firstTrigger = "!"
	lastTrigger  = "zz_"

	mirrorCame    = "first_of_insert"
	mirrorChanged = "first_of_update"
	mirrorLast    = "last"
)

// mirrorTriggers names the triggers.
func mirrorTriggers(t *schema.Table) []string {
	return []string{mirrorName(t, firstTrigger, mirrorCame), mirrorName(t, firstTrigger, mirrorChanged),
		mirrorName(t, lastTrigger, mirrorLast)}
}

// mirrorName names the function of a trigger of an open overlap, and with what begins it, the trigger.
func mirrorName(t *schema.Table, begin, kind string, columns ...string) string {
	n := tableOf(t).Name
	// Another schema may have a table of the name, and a_b with column c reads like a with b_c.
	if t.Name != n || len(columns) > 0 {
		sum := sha256.Sum256([]byte(strings.Join(append([]string{t.Name}, columns...), "\x00")))
		n += "_" + hex.EncodeToString(sum[:4])
	}
	return schema.ConstraintName(&schema.Table{Name: begin + engine.Prefix + n}, columns, kind)
}

// hasMirrors reports whether triggers keep mirrors of the table.
func hasMirrors(t *schema.Table) bool {
	return slices.ContainsFunc(t.Own, func(tr *schema.Trigger) bool {
		return tr.Name == mirrorName(t, lastTrigger, mirrorLast)
	})
}

// CannotMirror implements engine.Planner.
func (Engine) CannotMirror(*schema.Table, string) string { return "" }

// Twin implements engine.Planner.
func (Engine) Twin(c *schema.Column, name string) schema.Column { return schema.Twin(c, name) }

// Mirrors implements engine.Planner.
func (Engine) Mirrors(t *schema.Table, pairs []schema.Mirror) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, t)
	return mirrorTriggers(t), append(p.syncSQL(pairs), p.MendMirrors(p.MirrorsOf(pairs, differs)))
}

// mirror gives columns mirrors, or takes them away.
func (p *planner) mirror(m *schema.MirrorChange) {
	p.After = m.After
	if m.Off {
		p.unmirror(m)
		return
	}
	var actions, rights []string
	for _, x := range m.Pairs {
		p.tellsParts(x.Column)
		actions = append(actions, "add column "+columnSQL(m.After, m.After.Column(x.Name)))
		rights = append(rights, p.sameRights(x))
	}
	x := p.MirrorsOf(m.Pairs, differs)
	s := p.alterTable(engine.Catalog, 0, "add "+x.Names+" beside "+x.Columns, actions...)
	s.Why = "programs of before and of after each use their own name"
	s.SQL = append(s.SQL, rights...)
	s = p.Add(engine.Sync, 0, "keep "+x.Names+" equal to "+x.Columns, p.syncSQL(m.Pairs)...)
	s.SQL = append(s.SQL, p.followByBoth(m.Pairs)...)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	p.FillMirrors(x)
	s = p.Add(engine.Scan, scanRate, "prove that each row has the same in "+x.Names,
		p.MirrorsAgree(x))
	s.Lock, s.WritersWait, s.Alone = "none", engine.WaitNo, true
	for _, x := range m.After.Indexes {
		if m.Before.Index(x.Name) == nil {
			p.addIndex(x)
		}
	}
}

// followByBoth makes the triggers of what is kept by a key that gets a second name once more: those
// of earlier versions do not see that the key changes by it.
func (p *planner) followByBoth(pairs []schema.Mirror) (sql []string) {
	for _, tr := range p.Table.Own {
		keys, kept := updatesOf(tr.SQL), keptBy(tr)
		if kept != "" && strings.HasSuffix(tr.Name, movedSuffix) && slices.ContainsFunc(pairs,
			func(m schema.Mirror) bool { return schema.HasName(keys, m.Column) }) {
			sql = append(sql, followers(rowKeys(p.Table, keys, nil), p.Table, kept)...)
		}
	}
	return sql
}

// sameRights gives the statement that gives a mirror the rights that its column has of its own.
func (p *planner) sameRights(m schema.Mirror) string {
	return "do " + dollar("declare r record; begin for r in select x.privilege_type, x.grantee, x.is_grantable from "+
		"pg_attribute a, aclexplode(a.attacl) x where a.attrelid = to_regclass("+literal(p.table())+
		") and a.attname = "+literal(m.Column)+" loop execute format('grant %s (%I) on %s to %s%s', r.privilege_type, "+
		literal(m.Name)+", "+literal(p.table())+
		", case when r.grantee = 0 then 'public' else quote_ident(pg_get_userbyid(r.grantee)) end, case when "+
		"r.is_grantable then ' with grant option' else '' end); end loop; end")
}

func differs(a, b string) string {
	return "pg_catalog.record_image_ne(row(" + a + "), row(" + b + "))"
}

// syncSQL gives the statements that make the triggers. Each has a condition, so that a statement
// which is about other columns calls nothing.
func (p *planner) syncSQL(pairs []schema.Mirror) (list []string) {
	var came, comes, changed, changes, last []string
	for _, x := range pairs {
		a, b := "new."+quote(x.Column), "new."+quote(x.Name)
		c, none := p.Table.Column(x.Column), "null"
		if c.Default != nil {
			none = defaultSQL(p.Table, *c.Default)
		}
		none = "cast(" + none + " as " + declaration(c) + ")" // what it has where nobody writes it
		carry := func(written, other string) string {
			return "if " + written + " then if " + other + " and " + differs(a, b) +
				" then raise exception using errcode = '23514', schema = tg_table_schema, table = tg_table_name, column = " +
				literal(x.Name) +
				", message = " + literal(x.Column+" and "+x.Name+" of ") +
				" || tg_table_name || ' are one column under two names, and were both written with other values'; end if; " + a +
				" := " + b + "; end if;"
		}
		comes = append(comes, differs(b, none))
		came = append(came, carry(differs(b, none), differs(a, none)))
		changes = append(changes, differs(b, "old."+quote(x.Name)))
		changed = append(changed, carry(differs(b, "old."+quote(x.Name)), differs(a, "old."+quote(x.Column))))
		last = append(last, b+" := "+a+";")
	}
	function := func(kind string, body []string) {
		list = append(list, "create or replace function "+name(mirrorName(p.Table, "", kind))+
			"() returns trigger language plpgsql set search_path = '' as "+
			dollar("begin "+strings.Join(body, " ")+" return new; end"))
	}
	trigger := func(begin, kind, event, condition string) {
		n := mirrorName(p.Table, begin, kind)
		list = append(list, "create or replace trigger "+quote(n)+" before "+event+" on "+p.table()+" for each row when ("+
			condition+") execute function "+name(mirrorName(p.Table, "", kind))+"()", always(p.Table, n))
	}
	function(mirrorCame, came)
	function(mirrorChanged, changed)
	function(mirrorLast, last)
	trigger(firstTrigger, mirrorCame, "insert", strings.Join(comes, " or "))
	trigger(firstTrigger, mirrorChanged, "update", strings.Join(changes, " or "))
	trigger(lastTrigger, mirrorLast, "insert or update",
		strings.ReplaceAll(p.MirrorsOf(pairs, differs).Differ, "row(", "row(new."))
	return list
}

// unmirror takes the triggers and the mirrors away, in one transaction with what follows.
func (p *planner) unmirror(m *schema.MirrorChange) {
	var gone []string
	for _, x := range m.Pairs {
		gone = append(gone, "drop column if exists "+quote(x.Name))
	}
	x := p.MirrorsOf(m.Pairs, differs)
	sql := []string{"lock table " + p.table() + " in access exclusive mode"}
	if m.Proven {
		p.ProveMirrors(x)
		sql = append(sql, "select 'the triggers that keep "+strings.ReplaceAll(x.Names, "'", "''")+
			" equal are not all there' where (select count(*) from pg_trigger where tgrelid = to_regclass("+literal(p.table())+
			") and tgname in ("+strings.Join(quoted(mirrorTriggers(p.Table)), ", ")+") and tgenabled = 'A') <> 3")
	}
	for _, x := range m.Pairs {
		sql = append(sql, p.unwatch(x.Column)...)
	}
	for _, n := range mirrorTriggers(p.Table) {
		sql = append(sql, "drop trigger if exists "+quote(n)+" on "+p.table())
	}
	for _, kind := range []string{mirrorCame, mirrorChanged, mirrorLast} {
		sql = append(sql, "drop function if exists "+name(mirrorName(p.Table, "", kind))+"()")
	}
	if m.Proven {
		for _, x := range m.Pairs {
			sql = append(sql, p.viewsOver(x))
		}
	}
	sql = append(sql, "alter table "+p.table()+" "+strings.Join(gone, ", "))
	s := p.Add(engine.Sync, 0, "take "+x.Names+" away, and what kept it equal", sql...)
	s.Lock, s.Strong = lockExclusive, []string{p.Table.Name}
}

// viewsOver gives the statement that lets views which read a mirror read its column from now on: they
// know columns by their numbers, so they are made again while the column has the other's name.
func (p *planner) viewsOver(m schema.Mirror) string {
	views := "select format('create or replace view %s%s as %s', c.oid::regclass, ' with (' || " +
		"array_to_string(c.reloptions, ', ') || ')', pg_get_viewdef(c.oid)) as sql from pg_class c where c.relkind = 'v' " +
		"and c.oid in (select w.ev_class from pg_depend d join pg_rewrite w on w.oid = d.objid where d.classid = " +
		"'pg_rewrite'::regclass and d.refobjid = to_regclass(" + literal(p.table()) + ") and d.refobjsubid = (select " +
		"a.attnum from pg_attribute a where a.attrelid = d.refobjid and a.attname = " + literal(m.Name) + "))"
	aside := quote(schema.ConstraintName(&schema.Table{Name: strings.TrimSuffix(engine.Prefix, "_")}, []string{m.Name},
		"aside"))
	rename := func(from, to string) string {
		return "alter table " + p.table() + " rename column " + from + " to " + to + "; "
	}
	return "do " + dollar("declare list text[]; s text; begin select array_agg(v.sql) into list from ("+views+") v; if "+
		"list is not null then "+rename(quote(m.Name), aside)+rename(quote(m.Column), quote(m.Name))+
		"foreach s in array list loop execute s; end loop; "+rename(quote(m.Name), quote(m.Column))+
		rename(aside, quote(m.Name))+"end if; end")
}

// quoted gives names as literals.
func quoted(names []string) (list []string) {
	for _, n := range names {
		list = append(list, literal(n))
	}
	return list
}
