package mariadb

import (
	"context"
	"regexp"
	"slices"

	"lastboard/internal/engine"
)

// selectBeside lists what belongs to no table.
const selectBeside = `
	select lower(routine_type), routine_name from information_schema.routines where routine_schema = database()
	union all select 'event', event_name from information_schema.events where event_schema = database()
	union all select 'sequence', table_name from information_schema.tables
		where table_schema = database() and table_type = 'SEQUENCE' order by 1, 2`

// definer is the account of whoever made something, in a statement that the server shows.
var definer = regexp.MustCompile("(?i)^create definer=(`[^`]*`|\"[^\"]*\")@(`[^`]*`|\"[^\"]*\") ")

// Beside implements engine.Database. An event would run where it is made, and is left out.
func (d *database) Beside(ctx context.Context) ([]engine.Beside, error) {
	r, err := d.query(ctx, selectBeside)
	if err != nil {
		return nil, err
	}
	var list []engine.Beside
	for _, v := range r.Values {
		kind, name := text(v[0]), text(v[1])
		b := engine.Beside{What: kind + " " + name, First: kind == "sequence"}
		if kind == "event" {
			list = append(list, b)
			continue
		}
		shown, err := d.query(ctx, "show create "+kind+" "+quote(name))
		switch {
		case code(err) != 0: // not for everybody who sees that it is there
		case err != nil:
			return nil, err
		case b.First:
			b.SQL = text(shown.Values[0][1])
		case shown.Values[0][2] != nil:
			b.SQL = made(text(shown.Values[0][1]), definer.ReplaceAllString(text(shown.Values[0][2]), "create "))
		}
		list = append(list, b)
	}
	return list, nil
}

// made gives the native statements that make a routine in its own mode; "" where its text would not be
// taken for one statement.
func made(mode, create string) string {
	head := modeHead + literal(mode)
	if sql := head + ";\n" + create; slices.Equal(splitStatements(sql), []string{head, create}) {
		return sql
	}
	return ""
}
