package mariadb

import (
	"context"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/pattern"
	"lastboard/internal/sqltext"
)

// selectBeside lists what belongs to no table, and tables, which the server itself can show as a whole.
const selectBeside = `
	select lower(routine_type), routine_name from information_schema.routines where routine_schema = database()
	union all select 'event', event_name from information_schema.events where event_schema = database()
	union all select if(table_type = 'SEQUENCE', 'sequence', 'table'), table_name from information_schema.tables
		where table_schema = database() and table_type in ('SEQUENCE', 'BASE TABLE', 'SYSTEM VERSIONED') and table_name not like 'lastboard!_%' escape '!'
	order by 1, 2`

// selectRights lists the rights of accounts to the database and what is in it: to which table, the right, its
// column, and whether they may pass it on.
const selectRights = `
	select grantee, '*' as place, lower(privilege_type), '' as part, is_grantable from information_schema.schema_privileges where
		table_schema = database()
	union all select grantee, table_name, lower(privilege_type), '', is_grantable from information_schema.table_privileges where
		table_schema = database() and table_name not like 'lastboard!_%' escape '!'
	union all select grantee, table_name, lower(privilege_type), column_name, is_grantable from information_schema.column_privileges where
		table_schema = database() and table_name not like 'lastboard!_%' escape '!'
	order by 1, 2, 3, 4`

// definer is the account of whoever made something, in a statement that the server shows.
var definer = pattern.Of("(?i)^create definer=(`[^`]*`|\"[^\"]*\")@(`[^`]*`|\"[^\"]*\") ")

// Beside implements engine.Database. The accounts as which routines and events act are those of who
// makes them.
func (d *database) Beside(ctx context.Context) ([]engine.Beside, error) {
	r, err := d.query(ctx, selectBeside)
	if err != nil {
		return nil, err
	}
	var list []engine.Beside
	for _, v := range r.Values {
		b, err := d.shown(ctx, text(v[0]), text(v[1]))
		if err != nil {
			return nil, err
		}
		list = append(list, b)
	}
	rights, err := d.rightsBeside(ctx)
	return append(list, rights...), err
}

// shown gives something with the statement that makes it, as the server shows it in its own words.
func (d *database) shown(ctx context.Context, kind, name string) (engine.Beside, error) {
	b := engine.Beside{What: kind + " " + name, Place: engine.BehindTables}
	shown, err := d.query(ctx, "set statement sql_mode = '' for show create "+kind+" "+quote(name))
	switch {
	case code(err) != 0: // not for everybody who sees that it is there
		return b, nil
	case err != nil:
		return b, err
	}
	row := shown.Values[0]
	switch kind {
	case "sequence":
		b.Place, b.SQL = engine.BeforeTables, made("", text(row[1]))
	case "table":
		sql := strings.Replace(withoutDatabase(text(row[1]), d.config.DBName), "CREATE TABLE ",
			"CREATE TABLE IF NOT EXISTS ", 1)
		if strings.Contains(sql, "FOREIGN KEY") { // perhaps to a table that refers to it in turn
			sql = unchecked + sql
		}
		b = engine.Beside{What: "definition", Place: engine.OfTable, Table: name, SQL: made("", sql)}
	case "event":
		b.Place = engine.BehindViews
		if row[3] != nil { // its times are those of its time zone
			b.SQL = made(text(row[1]), "set statement time_zone = "+literal(text(row[2]))+" for "+
				definer().ReplaceAllString(text(row[3]), "create "))
		}
	default:
		if row[2] != nil {
			b.SQL = made(text(row[1]), definer().ReplaceAllString(text(row[2]), "create "))
		}
	}
	return b, nil
}

// unchecked lets a table refer to one that is not there yet.
const unchecked = "set statement foreign_key_checks = 0 for "

// withoutDatabase takes a database's own name away from before the names of what is in it.
func withoutDatabase(sql, database string) string {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	var b strings.Builder
	last := 0
	for i := 0; i+2 < len(tokens); i++ {
		t := tokens[i]
		if t.Kind == sqltext.Quoted && t.Value == database && tokens[i+1].Is(".") && tokens[i+2].Kind == sqltext.Quoted {
			b.WriteString(sql[last:t.Pos.Offset])
			last = tokens[i+2].Pos.Offset
		}
	}
	return b.String() + sql[last:]
}

// rightsBeside lists the rights that accounts have.
func (d *database) rightsBeside(ctx context.Context) (list []engine.Beside, err error) {
	r, err := d.query(ctx, selectRights)
	if err != nil {
		return nil, err
	}
	for _, v := range r.Values {
		who, place, right := text(v[0]), text(v[1]), text(v[2])
		if who == "" || right == "usage" {
			continue
		}
		b := engine.Beside{What: right + " on " + place + " for " + who, Place: engine.Rights}
		if part := text(v[3]); part != "" {
			b.What, right = right+" of "+place+"."+part+" for "+who, right+" ("+quote(part)+")"
		}
		if place != "*" {
			place = quote(place)
		}
		b.SQL = "grant " + right + " on " + place + " to " + who
		if text(v[4]) == "YES" {
			b.SQL += " with grant option"
		}
		list = append(list, b)
	}
	return list, nil
}

// made gives the native statements that make something in its own mode; "" where its text would not be
// taken for one statement.
func made(mode, create string) string {
	head := modeHead + literal(mode)
	create = strings.TrimSpace(create)
	if sql := head + ";\n" + create; slices.Equal(splitStatements(sql), []string{head, create}) {
		return sql
	}
	return ""
}
