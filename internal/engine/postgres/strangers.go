package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/engine"
)

// A function or operator in the schema of the tables is preferred to the server's own of that
// name where it takes exactly the types that it is called with. So whoever may make one there
// could have it run with the rights of Lastboard's account, at each expression and at each look.
// Nothing is run beside one that was made by a stranger: somebody who is neither a superuser, nor
// the owner of the schema, nor one whose rights the account has anyway.

// stranger is the condition that a role is one, by its number and the owner of the schema, to be
// read with names of the server alone.
const stranger = `not exists (select 1 from pg_catalog.pg_roles r where r.oid = %[1]s and r.rolsuper) and %[1]s <> %[2]s and not pg_catalog.pg_has_role(%[1]s, %[2]s, 'usage')
	and not (pg_catalog.pg_has_role(%[1]s, 'usage') and not exists (select 1 from pg_catalog.pg_roles r where r.rolname = current_user and r.rolsuper))`

// selectShadowed gives a row where any function or operator that somebody has made there bears such a name:
// seldom any does, and then whose it is need not be asked before each transaction.
const selectShadowed = `
	select 1 from pg_catalog.pg_proc p where p.oid >= 16384 and p.pronamespace = pg_catalog.to_regnamespace(?) and exists (select 1 from pg_catalog.pg_proc b where b.proname = p.proname and b.pronamespace = 11)
	union all
	select 1 from pg_catalog.pg_operator o where o.oid >= 16384 and o.oprnamespace = pg_catalog.to_regnamespace(?)
	limit 1`

// selectShadows gives a function or operator of a stranger's that bears a name of the server's own.
var selectShadows = `
	select 'function ' || p.oid::pg_catalog.regprocedure::text, pg_catalog.pg_get_userbyid(p.proowner) from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
		where p.oid >= 16384 and n.nspname = ? and exists (select 1 from pg_catalog.pg_proc b where b.proname = p.proname and b.pronamespace = 11) and ` + fmt.Sprintf(stranger, "p.proowner", "n.nspowner") + `
	union all
	select 'operator ' || o.oid::pg_catalog.regoperator::text, pg_catalog.pg_get_userbyid(o.oprowner) from pg_catalog.pg_operator o join pg_catalog.pg_namespace n on n.oid = o.oprnamespace
		where o.oid >= 16384 and n.nspname = ? and ` + fmt.Sprintf(stranger, "o.oprowner", "n.nspowner") + `
	limit 1`

// selectMakers gives the strangers who may make something in the schema of the tables.
var selectMakers = `select case x.grantee when 0 then 'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(x.grantee)::text) end from pg_catalog.pg_namespace n, pg_catalog.aclexplode(n.nspacl) x
	where n.nspname = ? and x.privilege_type = 'CREATE' and (x.grantee = 0 or ` + fmt.Sprintf(stranger, "x.grantee", "n.nspowner") + `) order by 1`

// enter finds out who else may make things in the schema of the tables, asserts that nobody's
// stands in the way of the server's own, and has the session look there.
func (d *database) enter(ctx context.Context, conn *pgconn.PgConn) error {
	r, err := query(ctx, conn, selectMakers, []any{d.home})
	if err != nil {
		return err
	}
	d.makers = nil
	for _, v := range r.Values {
		d.makers = append(d.makers, text(v[0]))
	}
	if err := d.alone(ctx, conn); err != nil {
		return err
	}
	return script(ctx, conn, "set search_path = "+quote(d.home))
}

// alone asserts that no stranger's function or operator would run in the place of the server's own.
func (d *database) alone(ctx context.Context, conn *pgconn.PgConn) error {
	home := quote(d.home)
	r, err := query(ctx, conn, selectShadowed, []any{home, home})
	if err != nil || len(r.Values) == 0 {
		return err
	}
	r, err = query(ctx, conn, selectShadows, []any{d.home, d.home})
	if err != nil || len(r.Values) == 0 {
		return err
	}
	what, owner := text(r.Values[0][0]), text(r.Values[0][1])
	return d.cannot(what+" belongs to "+owner+" and bears the name of one of the server's own: it would run in its "+
		"place, with the rights of this login", "look at what it does, then drop it or move it to another schema; and let "+
		"nobody else make things here: revoke create on schema "+quote(d.home)+" from public, "+quote(owner), nil)
}

// keptOut says who else may make things in the schema of the tables.
func (d *database) keptOut(who string) []engine.Standing {
	if len(d.makers) == 0 {
		return nil
	}
	whose := "make functions and operators in schema " + d.home + ", and they could run with the rights of " + who
	s := engine.Standing{What: "rights", Level: engine.Look, Found: strings.Join(d.makers, ", ") + " may " + whose,
		Cure: "revoke create on schema " + quote(d.home) + " from " + strings.Join(d.makers, ", ")}
	if d.makers[0] == "public" && len(d.makers) == 1 {
		s.Found = "everybody may " + whose
	}
	return []engine.Standing{s}
}
