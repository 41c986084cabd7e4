package postgres

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// What computes a column that is out of sight, before the names are exchanged and after.

// swapSQL gives the statements that make the triggers which compute what is out of sight: of each row
// that is written while it is filled, for one whose key changes may come to stand behind the filling;
// else of those that come, or whose sources change. forward is the change of types where the names are
// exchanged: then it is null where it cannot be computed, for programs may write what the type out of
// sight has no value for, and stays what a row brings of it.
func (p *planner) swapSQL(as *schema.TableChange, filling bool, forward *schema.TableChange) []string {
	q, columns := p.at(as), as.Converted()
	var body, changes []string
	path := "= pg_catalog, pg_temp"
	for _, c := range columns {
		e := as.Fill[c].Expr
		value, err := q.Expr(e, planning.Scope{Table: q.Table, Value: q.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		sources := q.Sources(e)
		if own := as.Before.Column(c); !slices.Contains(sources, own) {
			sources = append(sources, own)
		}
		var changed []string
		for _, s := range sources {
			changed = append(changed, differs("new."+quote(s.Name), "old."+quote(s.Name)))
		}
		if col := as.After.Column(c); q.pathFor(e) != path || col.Type.Native || col.Declared != "" {
			path = "from current"
		}
		set := "new." + quote(schema.Aside(c)) + " := " + value + ";"
		if forward != nil && !planning.Total(as, c) {
			set = "begin " + set + " exception when others then new." + quote(schema.Aside(c)) + " := null; end;"
		}
		changes = append(changes, strings.Join(changed, " or "))
		switch came := "tg_op = 'INSERT'"; {
		case filling:
			body = append(body, set)
		default:
			if forward != nil {
				_, brought, _ := p.brought(forward, c)
				came += " and (new." + quote(schema.Aside(c)) + " is null or " + differs("new."+quote(c), brought) + ")"
			}
			body = append(body, "if "+came+" or tg_op = 'UPDATE' and ("+strings.Join(changed, " or ")+") then "+set+
				" end if;")
		}
	}
	function := swapFunction(p.Table, columns)
	sql := []string{"create or replace function " + function + "() returns trigger language plpgsql set search_path " +
		path + " as " + dollar("begin "+strings.Join(body, " ")+" return new; end")}
	for _, event := range swapEvents {
		n, when := swapTrigger(p.Table, columns, event), ""
		if event == "update" && !filling {
			when = "when (" + strings.Join(changes, " or ") + ") "
		}
		sql = append(sql, "create or replace trigger "+quote(n)+" before "+event+" on "+p.table()+" for each row "+when+
			"execute function "+function+"()", always(p.Table, n))
	}
	return sql
}

// noSwap gives the statements that take the triggers away.
func (p *planner) noSwap(columns []string) (sql []string) {
	for _, n := range p.swapTriggers(columns) {
		sql = append(sql, "drop trigger if exists "+quote(n)+" on "+p.table())
	}
	return append(sql, "drop function if exists "+swapFunction(p.Table, columns)+"()",
		"drop function if exists "+name(mirrorName(p.Table, "", swapFirst, columns...))+"()")
}

// brought gives what a column gets of what a row brings of the one out of sight, as its own type, and
// of columns. as is the change of types, forward.
func (p *planner) brought(as *schema.TableChange, column string) (aside, value string, path string) {
	columns, q := as.Converted(), p.at(as)
	own := func(c string) string {
		if schema.HasName(columns, c) {
			c = schema.Aside(c)
		}
		return "new." + quote(c)
	}
	e, col := as.Fill[column].Expr, as.After.Column(column)
	value, err := q.Expr(e, planning.Scope{Table: q.Table, Value: own})
	if err != nil {
		p.Fail(&engine.Refused{Message: err.Error()})
	}
	if path = q.pathFor(e); col.Type.Native || col.Declared != "" {
		path = "from current"
	}
	return own(column), "cast((" + value + ") as " + declaration(col) + ")", path
}

// carrySQL gives the statements that make the trigger which carries over what rows that come bring
// of what is out of sight. as is the change of types, forward.
func (p *planner) carrySQL(as *schema.TableChange) []string {
	path := "= pg_catalog, pg_temp"
	var when, body []string
	for _, c := range as.Converted() {
		aside, value, needs := p.brought(as, c)
		col, none := as.After.Column(c), "null"
		if col.Default != nil {
			none = defaultSQL(as.After, *col.Default)
		}
		if needs != path {
			path = "from current"
		}
		when = append(when, aside+" is not null")
		if old := as.Before.Column(c); old.Identity != nil || old.Options["sequence"] != "" { // it has a number in any case
			body = append(body, "if "+aside+" is not null then new."+quote(c)+" := "+value+"; end if;")
			continue
		}
		body = append(body, "if "+aside+" is not null then if "+differs("new."+quote(c), "cast("+none+" as "+declaration(col)+
			")")+" then raise exception using errcode = '23514', schema = tg_table_schema, table = tg_table_name, column = "+
			literal(c)+", message = "+literal(c+" of ")+" || tg_table_name || ' was written twice, the second time by "+
			"what is out of sight'; end if; new."+quote(c)+" := "+value+"; end if;")
	}
	columns := as.Converted()
	trigger, function := mirrorName(p.Table, firstTrigger, swapFirst, columns...),
		name(mirrorName(p.Table, "", swapFirst, columns...))
	return []string{
		"create or replace function " + function + "() returns trigger language plpgsql set search_path " + path +
			" as " + dollar("begin "+strings.Join(body, " ")+" return new; end"),
		"create or replace trigger " + quote(trigger) + " before insert on " + p.table() + " for each row when (" +
			strings.Join(when, " or ") + ") execute function " + function + "()",
		always(p.Table, trigger),
	}
}

// readAnew gives the statement that lets sessions forget how they run the triggers of the
// application's: one that has run a function of PL/pgSQL would go on with the old types, and fail.
func (p *planner) readAnew() string {
	return "do " + dollar("declare r record; begin for r in select f.oid::regprocedure as f, f.procost as c from "+
		"pg_trigger g join pg_proc f on f.oid = g.tgfoid join pg_language l on l.oid = f.prolang where g.tgrelid = "+
		"to_regclass("+literal(p.table())+") and not g.tgisinternal and l.lanname = 'plpgsql' and pg_has_role(f.proowner, "+
		"'usage') loop "+
		"execute format('alter function %s cost %s', r.f, r.c); end loop; end")
}
