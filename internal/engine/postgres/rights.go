package postgres

import (
	"context"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// mayTry asserts the right to make schemas: for the ledger, and for the copies on which
// steps are tried.
func (d *database) mayTry(ctx context.Context) error {
	r, err := d.Query(ctx, "select has_database_privilege(current_database(), 'create'), current_user, current_database()")
	if err != nil || yes(r.Values[0][0]) {
		return err
	}
	user, database := text(r.Values[0][1]), text(r.Values[0][2])
	return d.cannot("user "+user+" may not make a schema in database "+database+
		", for the ledger and for the empty copies on which steps are tried",
		"grant create on database "+quote(database)+" to "+quote(user), nil)
}

// mayChange asserts the rights that a change needs on the real tables.
func (d *database) mayChange(ctx context.Context, base *schema.Schema, c *schema.Change, steps []*engine.Step) error {
	for _, n := range c.Subjects() {
		if base.Table(n) == nil {
			continue
		}
		r, err := d.Query(ctx, "select pg_has_role(relowner, 'usage'), pg_get_userbyid(relowner), current_user from "+
			"pg_class where oid = to_regclass(?)", name(n))
		if err != nil {
			return err
		}
		if len(r.Values) > 0 && !yes(r.Values[0][0]) {
			owner, user := text(r.Values[0][1]), text(r.Values[0][2])
			return &engine.Refused{Message: "table " + n + " belongs to " + owner + ", and user " + user + " may not change it",
				Cure: "grant " + quote(owner) + " to " + quote(user) + ", or connect as " + owner}
		}
	}
	if c.Table != nil && reorders(c.Table) {
		if err := d.mayCopy(ctx, c.Table.Before.Name); err != nil {
			return err
		}
	}
	if !slices.ContainsFunc(steps, func(s *engine.Step) bool { return slices.ContainsFunc(s.SQL, makes) }) {
		return nil
	}
	r, err := d.Query(ctx, "select has_schema_privilege(?, 'create'), current_user", d.home)
	if err != nil || yes(r.Values[0][0]) {
		return err
	}
	user := text(r.Values[0][1])
	return &engine.Refused{Message: "user " + user + " may make nothing in schema " + d.home,
		Cure: "grant create on schema " + quote(d.home) + " to " + quote(user)}
}

// mayCopy asserts that a table has nothing that a copy of it would lose.
func (d *database) mayCopy(ctx context.Context, table string) error {
	r, err := d.Query(ctx, selectMore, name(table))
	if err != nil || len(r.Values) == 0 {
		return err
	}
	list := make([]string, len(r.Values))
	for i, v := range r.Values {
		list[i] = text(v[0])
	}
	return &engine.Refused{Message: "a copy of table " + table + " with its columns in another order would lose " +
		strings.Join(list, ", "), Cure: "leave out rebuild: the column then stands last"}
}

// makes reports whether a statement makes a table or an index in the schema of the
// tables.
func makes(sql string) bool {
	return strings.HasPrefix(sql, "create table ") && !strings.HasPrefix(sql, "create table "+quote(own)+".") ||
		strings.HasPrefix(sql, "create index ") || strings.HasPrefix(sql, "create unique index ") ||
		strings.HasPrefix(sql, "create view ") || strings.HasPrefix(sql, "alter table ") &&
		strings.Contains(sql, " add constraint ") && (strings.Contains(sql, " unique ") ||
		strings.Contains(sql, " primary key "))
}

// selectAlong lists what the server lets go with a column though no model holds it: rights
// to it alone, statistics of several columns, and how its values are stored.
const selectAlong = `with gone as (select a.* from pg_attribute a where a.attrelid = to_regclass(?) and not a.attisdropped and a.attname = any (string_to_array(?, e'\x1f')))
	select distinct 'what ' || coalesce(quote_ident(r.rolname), 'public') || ' may do with ' || g.attname from gone g, aclexplode(g.attacl) x left join pg_roles r on r.oid = x.grantee
	union all select distinct 'the statistics ' || quote_ident(s.stxname) from gone g join pg_statistic_ext s on s.stxrelid = g.attrelid and g.attnum = any (s.stxkeys)
	union all select 'the settings of ' || g.attname from gone g join pg_type t on t.oid = g.atttypid where g.attstorage <> t.typstorage or g.attcompression <> '' or array_to_string(g.attoptions, ',') like '%n\_distinct%' or coalesce(g.attstattarget, -1) >= 0
	order by 1`

// GoesAlong implements engine.Bearer.
func (d *database) GoesAlong(ctx context.Context, table string, columns []string) ([]string, error) {
	r, err := d.Query(ctx, selectAlong, name(table), strings.Join(columns, "\x1f"))
	if err != nil {
		return nil, err
	}
	var list []string
	for _, v := range r.Values {
		list = append(list, text(v[0]))
	}
	return list, nil
}

// selectLent lists the functions of others than superusers that triggers, defaults, checks and
// indexes of a table run, where the user is a superuser.
const selectLent = `
	with t as (select c.oid, c.relowner from pg_class c where c.oid = to_regclass(?) and (select rolsuper from pg_roles where rolname = current_user)),
	used as (
		select 'trigger ' || quote_ident(g.tgname) as what, g.tgfoid as f from t join pg_trigger g on g.tgrelid = t.oid where not g.tgisinternal
		union all
		select 'a default', d.refobjid from t join pg_attrdef a on a.adrelid = t.oid join pg_depend d on d.classid = 'pg_attrdef'::regclass and d.objid = a.oid where d.refclassid = 'pg_proc'::regclass
		union all
		select 'constraint ' || quote_ident(c.conname), d.refobjid from t join pg_constraint c on c.conrelid = t.oid join pg_depend d on d.classid = 'pg_constraint'::regclass and d.objid = c.oid where d.refclassid = 'pg_proc'::regclass
		union all
		select 'index ' || quote_ident(x.relname), d.refobjid from t join pg_index i on i.indrelid = t.oid join pg_class x on x.oid = i.indexrelid join pg_depend d on d.classid = 'pg_class'::regclass and d.objid = x.oid where d.refclassid = 'pg_proc'::regclass)
	select distinct pg_get_userbyid(t.relowner), u.what || ' (' || f.oid::regprocedure || ')' from t, used u join pg_proc f on f.oid = u.f join pg_roles o on o.oid = f.proowner
	where not o.rolsuper order by 2`

// Lends implements engine.Lender.
func (d *database) Lends(ctx context.Context, table string) (owner string, code []string, err error) {
	r, err := d.Query(ctx, selectLent, name(table))
	if err != nil {
		return "", nil, err
	}
	for _, v := range r.Values {
		owner, code = text(v[0]), append(code, text(v[1]))
	}
	return owner, code, nil
}
