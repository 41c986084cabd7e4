package postgres

import (
	"context"
	"fmt"
	"strings"
)

// The ledger is the runner's own. What stands in it is gone on with and taken back by, so a
// place that somebody else owns, or could have written to, is refused; rights to look at it
// are taken away.

// selectOwner gives who owns the ledger's schema, and who asks.
const selectOwner = "select pg_get_userbyid(nspowner), current_user from pg_namespace where nspname = 'lastboard'"

// selectOthers lists the rights that others than the owner have on the ledger's schema and its
// tables, and whether a table is one of kept values: such a one is made in every run, with the
// rights that the database gives by default, and what it holds is never run.
const selectOthers = `
	select distinct coalesce(r.rolname, 'public'), x.privilege_type, o.kept from (
		select false as kept, nspowner as owner, nspacl as acl from pg_namespace where nspname = 'lastboard'
		union all
		select c.relname ~ '^(kept|csv)_', c.relowner, c.relacl from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname = 'lastboard' and c.relkind in ('r', 'p', 'v', 'S')
	) o cross join lateral aclexplode(o.acl) x left join pg_roles r on r.oid = x.grantee
	where x.grantee <> o.owner order by 1, 2`

// selectForeign lists tables and functions in the ledger's schema that belong to others.
const selectForeign = `
	select c.relname, pg_get_userbyid(c.relowner) from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname = 'lastboard' and c.relowner <> n.nspowner and c.relkind in ('r', 'p', 'v')
	union all
	select p.proname, pg_get_userbyid(p.proowner) from pg_proc p join pg_namespace n on n.oid = p.pronamespace where p.oid >= 16384 and n.nspname = 'lastboard' and p.proowner <> n.nspowner
	order by 1 limit 1`

// Belongs implements engine.Guarded: the ledger is in the database itself.
func (d *database) Belongs(context.Context, bool) error { return nil }

// Guard implements engine.Guarded.
func (d *database) Guard(ctx context.Context, made bool) (done []string, err error) {
	r, err := d.Query(ctx, selectOwner)
	if err != nil || len(r.Values) == 0 {
		return nil, err
	}
	if owner, user := text(r.Values[0][0]), text(r.Values[0][1]); owner != user {
		return nil, d.cannot("the schema lastboard, in which the ledger is, belongs to "+owner+", and this is "+user+
			": what stands in it cannot be trusted",
			"if "+owner+" runs the migrations here, connect as "+owner+"; if not, look into the schema, and drop it", nil)
	}
	if r, err = d.Query(ctx, selectForeign); err != nil {
		return nil, err
	}
	if len(r.Values) > 0 {
		return nil, d.cannot(fmt.Sprintf("%s in the schema lastboard belongs to %s: what stands in it cannot be trusted",
			text(r.Values[0][0]), text(r.Values[0][1])), "look into it, and take it away or let its owner be that of the schema",
			nil)
	}
	if r, err = d.Query(ctx, selectOthers); err != nil {
		return nil, err
	}
	var writers, all []string
	add := func(list []string, who string) []string {
		for _, w := range list {
			if w == who {
				return list
			}
		}
		return append(list, who)
	}
	for _, v := range r.Values {
		who, right := text(v[0]), text(v[1])
		all = add(all, who)
		if !yes(v[2]) && right != "SELECT" && right != "USAGE" && right != "REFERENCES" {
			writers = add(writers, who)
		}
	}
	if len(writers) > 0 && !made {
		return nil, d.cannot("others may write to the ledger, in the schema lastboard: "+strings.Join(writers, ", ")+
			"; what stands in it cannot be trusted",
			"look whether it is as it was left, then: "+strings.Join(revokes(writers), "; "), nil)
	}
	for _, sql := range revokes(all) {
		if err := script(ctx, d.conn, sql); err != nil {
			return nil, err
		}
	}
	for _, who := range all {
		done = append(done, "the rights of "+who+" on the ledger")
	}
	return done, nil
}

// revokes gives the statements that take away what roles may do in the ledger's schema.
func revokes(roles []string) (sql []string) {
	for _, who := range roles {
		if who != "public" {
			who = quote(who)
		}
		sql = append(sql, "revoke all on schema lastboard from "+who,
			"revoke all on all tables in schema lastboard from "+who,
			"revoke all on all sequences in schema lastboard from "+who)
	}
	return sql
}
