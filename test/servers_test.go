package test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"lastboard/test/server"
)

// servers are those of a test run, each started when a test first needs it.
var servers struct {
	sync.Mutex
	postgres *server.Postgres
	mariadb  *server.MariaDB
}

func stopServers() {
	if servers.postgres != nil {
		servers.postgres.Stop()
	}
	if servers.mariadb != nil {
		servers.mariadb.Stop()
	}
}

func mariadbServer(t *testing.T) *server.MariaDB {
	t.Helper()
	servers.Lock()
	defer servers.Unlock()
	if servers.mariadb == nil {
		m, err := server.StartMariaDB()
		if err != nil {
			t.Fatal(err)
		}
		servers.mariadb = m
	}
	return servers.mariadb
}

// mariadb gives a new database on the MariaDB server of the run.
func mariadb(t *testing.T) (url string) {
	t.Helper()
	m := mariadbServer(t)
	name, err := m.Database()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := m.Drop(name); err != nil {
			t.Log(err) // the server goes with all that it has
		}
	})
	return m.URL(name)
}

// engines are those of servers, each with what gives a new database.
var engines = map[string]func(*testing.T) string{"PostgreSQL": postgres, "MariaDB": mariadb}

func postgresServer(t *testing.T) *server.Postgres {
	t.Helper()
	servers.Lock()
	defer servers.Unlock()
	if servers.postgres == nil {
		p, err := server.StartPostgres("max_prepared_transactions = 20")
		if err != nil {
			t.Fatal(err)
		}
		servers.postgres = p
	}
	return servers.postgres
}

// postgres gives a new database on the server of the run.
func postgres(t *testing.T) (url string) {
	t.Helper()
	p := postgresServer(t)
	name, err := p.Database()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := p.Drop(name); err != nil {
			t.Error(err)
		}
	})
	return p.URL(name)
}

// newServerOffice makes a project with a database on a server, filled by SQL that
// Lastboard does not see.
func newServerOffice(t *testing.T, statements ...string) *office {
	t.Helper()
	return newOfficeOn(t, postgres, statements...)
}

// newOfficeOn does so on a server of an engine.
func newOfficeOn(t *testing.T, database func(*testing.T) string, statements ...string) *office {
	t.Helper()
	beside(t)
	o := &office{T: t, dir: t.TempDir(), url: database(t)}
	o.exec(statements...)
	o.must("init", "--url", o.url)
	return o
}

// serverSnapshot is what the server itself says of the tables.
// The order of columns is left out: one that comes back stands last.
func (o *office) serverSnapshot() string {
	o.Helper()
	var b strings.Builder
	if o.onMariaDB() {
		for _, text := range []string{
			"select table_name, column_name, column_type, is_nullable, column_default, extra, generation_expression, " +
				"collation_name, column_comment from information_schema.columns where table_schema = database() and " +
				"table_name not like 'lastboard%' order by 1, 2",
			"select table_name, index_name, seq_in_index, column_name, non_unique, sub_part, index_comment from " +
				"information_schema.statistics where table_schema = database() and table_name not like 'lastboard%' order by " +
				"1, 2, 3",
			"select table_name, constraint_name, check_clause from information_schema.check_constraints where " +
				"constraint_schema = database() and table_name not like 'lastboard%' order by 1, 2",
			"select table_name, constraint_name, referenced_table_name, delete_rule, update_rule from " +
				"information_schema.referential_constraints where constraint_schema = database() order by 1, 2",
			"select event_object_table, trigger_name, action_statement from information_schema.triggers where " +
				"trigger_schema = database() and trigger_name not like 'lastboard%kept%' order by 1, 2",
			"select table_name, view_definition from information_schema.views where table_schema = database() order by 1",
		} {
			fmt.Fprintf(&b, "%s\n%s\n", text, o.query(text))
		}
		return b.String()
	}
	for _, text := range []string{
		"select c.relname, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attidentity, " +
			"a.attgenerated, pg_get_expr(d.adbin, d.adrelid) from pg_attribute a join pg_class c on c.oid = a.attrelid " +
			"left join pg_attrdef d on d.adrelid = c.oid and d.adnum = a.attnum where c.relnamespace = " +
			"'public'::regnamespace and c.relkind in ('r', 'v') and a.attnum > 0 and not a.attisdropped order by " +
			"c.relname, a.attname",
		"select conrelid::regclass::text, conname, pg_get_constraintdef(oid), convalidated from pg_constraint where " +
			"connamespace = 'public'::regnamespace order by 1, 2",
		"select tablename, indexname, indexdef from pg_indexes where schemaname = 'public' order by 1, 2",
		"select tgrelid::regclass::text, tgname, pg_get_triggerdef(oid) from pg_trigger where not tgisinternal and " +
			"tgname not like 'lastboard%kept%' order by 1, 2",
		"select viewname, definition from pg_views where schemaname = 'public' order by 1",
	} {
		fmt.Fprintf(&b, "%s\n%s\n", text, o.query(text))
	}
	return b.String()
}

// ledger names one of the ledger's tables, as "step", for a query past the program.
func (o *office) ledger(table string) string {
	switch _, name, _ := strings.Cut(strings.TrimPrefix(o.url, "mariadb://"), "/"); {
	case o.onMariaDB():
		return "lastboard_" + name + ".lastboard_" + table
	case strings.HasPrefix(o.url, "postgres:"):
		return "lastboard." + table
	}
	return "lastboard_" + table
}

// here is the condition that something of information_schema is of the office's own database: other tests have theirs
// on the same server.
func (o *office) here() string {
	if o.onMariaDB() {
		return " and table_schema = database()"
	}
	return ""
}

func (o *office) onMariaDB() bool { return strings.HasPrefix(o.url, "mariadb:") }

// canonical is what the program says of the tables, in the language's own types, and
// every row, with what differs between engines by design left out when shared is set.
func (o *office) canonical(shared bool) string {
	o.Helper()
	var doc struct{ Tables []map[string]any }
	if err := json.Unmarshal([]byte(o.must("describe", "--json")), &doc); err != nil {
		o.Fatal(err)
	}
	slices.SortFunc(doc.Tables, func(a, b map[string]any) int {
		return strings.Compare(a["name"].(string), b["name"].(string))
	})
	var b strings.Builder
	for _, t := range doc.Tables {
		for _, part := range []string{"unique", "checks", "foreign_keys", "indexes", "triggers"} {
			sortByName(t[part])
		}
		delete(t, "bytes")
		types := map[string]string{}
		var columns []string
		for _, c := range t["columns"].([]any) {
			col := c.(map[string]any)
			types[col["name"].(string)] = col["type"].(string)
			columns = append(columns, quoted(col["name"].(string)))
			if shared {
				leaveOut(col)
			}
		}
		if shared {
			sortByName(t["columns"]) // an engine may put a column at the end that comes back
			delete(t, "views")
			delete(t, "triggers")
			delete(t, "size")
			for _, k := range t["foreign_keys"].([]any) { // restrict is nothing of its own on some
				for _, act := range []string{"on_delete", "on_update"} {
					if k := k.(map[string]any); k[act] == "restrict" {
						k[act] = "no action"
					}
				}
			}
		}
		text, err := json.MarshalIndent(t, "", " ")
		if err != nil {
			o.Fatal(err)
		}
		b.Write(text)
		b.WriteByte('\n')
		slices.Sort(columns)
		b.WriteString(o.rows(t["name"].(string), columns, types))
	}
	return b.String()
}

// leaveOut takes away of a column what engines hold differently: whether what is
// computed is stored, and which whole numbers a column that numbers itself has.
func leaveOut(col map[string]any) {
	if g, ok := col["generated"].(map[string]any); ok {
		delete(g, "stored")
	}
	if col["identity"] != nil && col["identity"] != "" {
		col["type"], col["identity"], col["range"] = "whole numbers", true, ""
	}
	delete(col, "declared")
	if d, ok := col["default"].(string); ok { // a number for a text is a text on some
		col["default"] = strings.Trim(d, "'")
		if d == "null" {
			col["default"] = nil
		}
	}
}

// rows gives every row of a table in a steady order, each value in one form on all
// engines.
func (o *office) rows(table string, columns []string, types map[string]string) string {
	o.Helper()
	db := o.open()
	defer db.Close()
	list := make([]string, len(columns))
	for i, c := range columns {
		list[i] = c
		if o.url == "" {
			list[i] = "+" + c
		}
	}
	name := quoted(table)
	if s, n, ok := strings.Cut(table, "."); ok && o.url != "" {
		name = quoted(s) + "." + quoted(n)
	}
	rows, err := db.Query("select " + strings.Join(list, ", ") + " from " + name)
	if err != nil {
		o.Fatal(err)
	}
	defer rows.Close()
	var lines []string
	for rows.Next() {
		values := make([]any, len(columns))
		places := make([]any, len(columns))
		for i := range values {
			places[i] = &values[i]
		}
		if err := rows.Scan(places...); err != nil {
			o.Fatal(err)
		}
		cells := make([]string, len(values))
		for i, v := range values {
			cells[i] = oneForm(v, types[strings.Trim(columns[i], `"`)])
		}
		lines = append(lines, strings.Join(cells, "|"))
	}
	if err := rows.Err(); err != nil {
		o.Fatal(err)
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n") + "\n"
}

// oneForm writes a value of a column so that it is the same text on every engine.
func oneForm(v any, kind string) string {
	if v == nil {
		return "null"
	}
	text := ""
	switch v := v.(type) {
	case []byte:
		text = string(v)
		if strings.Contains(kind, "b") && (strings.HasPrefix(kind, "blob") || strings.HasPrefix(kind, "varbinary")) {
			return fmt.Sprintf("x'%x'", v)
		}
	case bool:
		text = strconv.FormatBool(v)
	case interface{ Format(string) string }:
		text = v.Format("2006-01-02 15:04:05.999999")
	default:
		text = fmt.Sprint(v)
	}
	switch {
	case kind == "boolean":
		return map[string]string{"1": "true", "0": "false"}[text] + strings.TrimLeft(text, "01")
	case strings.HasPrefix(kind, "numeric"), kind == "real", kind == "double precision":
		if f, err := strconv.ParseFloat(text, 64); err == nil {
			return strconv.FormatFloat(f, 'g', 7, 64)
		}
	case kind == "date":
		text, _, _ = strings.Cut(text, " ")
	case strings.HasPrefix(kind, "timestamp"):
		if !strings.Contains(text, " ") {
			text += " 00:00:00"
		}
		if strings.Contains(text, ".") {
			text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
		}
	case kind == "time":
		if _, clock, ok := strings.Cut(text, " "); ok {
			text = clock
		}
		if strings.Contains(text, ".") {
			text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
		}
	case strings.HasPrefix(kind, "char"):
		text = strings.TrimRight(text, " ")
	}
	return text
}
