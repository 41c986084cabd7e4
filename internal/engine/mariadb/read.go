package mariadb

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// The schema is read with one query for each kind of object, however many there are.
// {where} selects tables by the column table_name.

const selectTables = `select table_name, table_type, coalesce(engine, ''), coalesce(row_format, ''), coalesce(table_collation, ''), coalesce(create_options, ''), coalesce(table_comment, '')
	from information_schema.tables where table_schema = {database} and table_type in ('BASE TABLE', 'SYSTEM VERSIONED') and {where} order by table_name`

const selectColumns = `select table_name, column_name, column_default, is_nullable, column_type, coalesce(collation_name, ''), coalesce(extra, ''), column_comment, generation_expression
	from information_schema.columns where table_schema = {database} and {where} order by table_name, ordinal_position`

const selectIndexes = `select table_name, index_name, non_unique, column_name, coalesce(collation, ''), sub_part, index_type, index_comment, ignored
	from information_schema.statistics where table_schema = {database} and {where} order by table_name, index_name, seq_in_index`

const selectChecks = `select table_name, constraint_name, level, check_clause from information_schema.check_constraints where constraint_schema = {database} and {where} order by table_name, constraint_name`

// The columns of foreign keys and what they do are read apart: joined, the server looks through all databases
// for each of them.
const (
	selectKeys = `select table_name, constraint_name, column_name, referenced_table_schema, referenced_table_name, referenced_column_name
	from information_schema.key_column_usage where table_schema = {database} and referenced_table_name is not null and {where} order by table_name, constraint_name, ordinal_position`
	selectActs = `select table_name, constraint_name, delete_rule, update_rule from information_schema.referential_constraints where constraint_schema = {database} and {where}`
)

const selectTriggers = `select event_object_table as table_name, trigger_name, action_timing, event_manipulation, action_statement, sql_mode
	from information_schema.triggers where event_object_schema = {database} order by event_object_table, event_manipulation, action_timing, action_order`

const selectViews = `select table_name, view_definition, lower(check_option), lower(security_type), lower(algorithm) from information_schema.views where table_schema = {database} and {where} order by table_name`

// users selects the tables of the applications.
const users = `table_name not like 'lastboard!_%' escape '!'`

// memory gives the same object for a table that has not changed, so that changes can be
// told by identity.
type memory struct{ last *schema.Schema }

func (m *memory) keep(s *schema.Schema) *schema.Schema {
	if m.last != nil {
		for i, t := range s.Tables {
			if old := m.last.Table(t.Name); old != nil && reflect.DeepEqual(old, t) {
				s.Tables[i] = old
			}
		}
		for i, v := range s.Views {
			if old := m.last.View(v.Name); old != nil && reflect.DeepEqual(old, v) {
				s.Views[i] = old
			}
		}
	}
	m.last = s
	return s
}

// reader reads the tables and views of a database.
type reader struct {
	query    func(context.Context, string, ...any) (*engine.Rows, error)
	database string
	// standsFor is the database of which this is a copy; "" where it is none.
	standsFor string
	where     string // "" means those of the applications

	schema *schema.Schema
	tables map[string]*schema.Table
	views  map[string]*schema.View
	checks []columnLevel
	acts   map[[2]string][2]string // what foreign keys do as a row goes or changes, by the table and the name
}

func (r *reader) read(ctx context.Context) (*schema.Schema, error) {
	r.schema, r.tables, r.views = &schema.Schema{}, map[string]*schema.Table{}, map[string]*schema.View{}
	r.acts = map[[2]string][2]string{}
	if r.where == "" {
		r.where = users
	}
	for _, part := range []struct {
		sql string
		row func([]any)
	}{
		{selectTables, r.table}, {selectViews, r.view}, {selectColumns, r.column}, {selectChecks, r.check},
		{selectActs, r.foreignActs}, {selectKeys, r.foreignKey}, {selectIndexes, r.index}, {selectTriggers, r.trigger},
	} {
		sql := strings.NewReplacer("{database}", literal(r.database), "{where}", r.where).Replace(part.sql)
		rows, err := r.query(ctx, sql)
		if err != nil {
			return nil, err
		}
		for _, v := range rows.Values {
			part.row(v)
		}
	}
	if err := r.placeChecks(ctx); err != nil {
		return nil, err
	}
	r.finish()
	return r.schema, nil
}

func (r *reader) table(v []any) {
	t := &schema.Table{Name: text(v[0]), Comment: text(v[6])}
	options := map[string]string{}
	create := text(v[5])
	switch {
	case text(v[1]) != "BASE TABLE":
		t.Opaque = "it is system-versioned"
	case text(v[2]) != "InnoDB":
		t.Opaque = "its storage engine " + text(v[2]) + " has no transactions"
		options["engine"] = text(v[2])
	}
	if strings.Contains(create, "partitioned") {
		options["partitioned"] = "yes"
		create = strings.TrimSpace(strings.ReplaceAll(create, "partitioned", ""))
	}
	if create != "" {
		options["options"] = create
	}
	if c := text(v[4]); c != bytewise {
		options["collate"] = c
	}
	if len(options) > 0 {
		t.Options = options
	}
	r.tables[t.Name] = t
	r.schema.Tables = append(r.schema.Tables, t)
}

func (r *reader) view(v []any) {
	x := &schema.View{Name: text(v[0]), Query: r.local(ansi(text(v[1])))}
	words, end := "create or replace ", ""
	if a := text(v[4]); a != "undefined" {
		words += "algorithm = " + a + " "
	}
	if text(v[3]) == "invoker" {
		words += "sql security invoker "
	}
	if check := text(v[2]); check != "none" {
		end = " with " + check + " check option"
	}
	x.SQL = words + "view " + quote(x.Name) + " as " + x.Query + end
	x.More = words != "create or replace " || end != ""
	r.views[x.Name] = x
	r.schema.Views = append(r.schema.Views, x)
}

// local takes the database's own name away from before the names of its tables.
func (r *reader) local(text string) string {
	tokens, _ := sqltext.Scan(text, sqltext.Migration)
	var b strings.Builder
	last := 0
	for i, t := range tokens {
		if t.Kind == sqltext.Quoted && t.Value == r.database && i+1 < len(tokens) && tokens[i+1].Is(".") &&
			(i == 0 || !tokens[i-1].Is(".")) {
			b.WriteString(text[last:t.Pos.Offset])
			last = tokens[i+1].End()
		}
	}
	return b.String() + text[last:]
}

func (r *reader) column(v []any) {
	if x := r.views[text(v[0])]; x != nil {
		x.Columns = append(x.Columns, text(v[1]))
		return
	}
	t := r.tables[text(v[0])]
	if t == nil {
		return
	}
	if strings.HasPrefix(text(v[1]), engine.Prefix) && !schema.IsAside(text(v[1])) {
		return // Lastboard's own, on its way to become another
	}
	c := &schema.Column{Name: text(v[1]), NotNull: text(v[3]) == "NO", Comment: text(v[7])}
	shown, extra := ansi(text(v[4])), strings.ToLower(text(v[6]))
	options := map[string]string{}
	if plain, ok := strings.CutSuffix(shown, " /*M!100301 COMPRESSED*/"); ok {
		shown, options["compressed"] = plain, "yes"
	}
	c.Type, c.Declared = readType(shown)
	if collation := text(v[5]); collation != "" && collation != bytewise {
		c.Collate = collation
	}
	if v[8] != nil && text(v[8]) != "" {
		c.Generated = &schema.Generated{Expr: schema.Expr{Native: ansi(text(v[8]))},
			Stored: strings.Contains(extra, "stored generated")}
	}
	if d := ansi(text(v[2])); v[2] != nil && c.Generated == nil && d != "NULL" {
		if r.standsFor != "" { // a sequence that a trial has made
			d = strings.ReplaceAll(d, quote(r.database)+".", quote(r.standsFor)+".")
		}
		c.Default = &schema.Expr{Native: unwrapped(d)} // it shows a cast in parentheses
	}
	if strings.Contains(extra, "auto_increment") {
		c.Identity = &sqltext.Identity{}
	}
	c.OnUpdateNow = strings.Contains(extra, "on update current_timestamp")
	if strings.Contains(extra, "invisible") {
		options["invisible"] = "yes"
	}
	if strings.Contains(extra, "without system versioning") {
		options["without system versioning"] = "yes"
	}
	if len(options) > 0 {
		c.Options = options
	}
	t.Columns = append(t.Columns, c)
}

func (r *reader) check(v []any) {
	t := r.tables[text(v[0])]
	if t == nil {
		return
	}
	name, clause := text(v[1]), ansi(text(v[3]))
	if strings.HasPrefix(name, engine.Prefix) {
		return
	}
	if text(v[2]) == "Column" {
		r.checks = append(r.checks, columnLevel{t, name, clause})
		return
	}
	t.Checks = append(t.Checks, &schema.Check{Name: name, Expr: schema.Expr{Native: clause}})
}

// acts are what a foreign key does, as the language says it. That it does nothing has two
// names on the server, which takes one for the other.
var acts = map[string]string{"CASCADE": "cascade", "SET NULL": "set null", "SET DEFAULT": "set default"}

func (r *reader) foreignKey(v []any) {
	t := r.tables[text(v[0])]
	does, seen := r.acts[[2]string{text(v[0]), text(v[1])}]
	if t == nil || !seen {
		return
	}
	name := text(v[1])
	var k *schema.ForeignKey
	for _, x := range t.ForeignKeys {
		if x.Name == name {
			k = x
		}
	}
	if k == nil {
		k = &schema.ForeignKey{Name: name, Table: text(v[4]), OnDelete: does[0], OnUpdate: does[1]}
		if other := text(v[3]); other != r.database {
			k.Table = other + "." + k.Table
			if t.Opaque == "" {
				t.Opaque = "it refers to a table of database " + other
			}
		}
		t.ForeignKeys = append(t.ForeignKeys, k)
	}
	k.Columns, k.References = append(k.Columns, text(v[2])), append(k.References, text(v[5]))
}

// foreignActs notes what a foreign key does. An account that may only read sees none, and so no foreign key.
func (r *reader) foreignActs(v []any) {
	r.acts[[2]string{text(v[0]), text(v[1])}] = [2]string{acts[text(v[2])], acts[text(v[3])]}
}

func (r *reader) index(v []any) {
	t := r.tables[text(v[0])]
	if t == nil {
		return
	}
	name, column := text(v[1]), text(v[3])
	if name == "PRIMARY" {
		if t.PrimaryKey == nil {
			t.PrimaryKey = &schema.Key{Implied: true}
		}
		k := t.PrimaryKey
		if v[5] != nil {
			t.Opaque = "its primary key holds a part of a column alone"
		}
		if v[5] != nil || k.Options != nil {
			list := quoteAll(k.Columns)
			if k.Options != nil {
				list = k.Options["parts"]
			}
			k.Options = map[string]string{"parts": strings.TrimPrefix(list+", "+partOf(column, v[5]), ", ")}
		}
		k.Columns = append(k.Columns, column)
		return
	}
	x := t.Index(name)
	if x == nil {
		x = &schema.Index{Name: name, Unique: number(v[2]) == 0, Options: map[string]string{}}
		if c := text(v[7]); c != "" {
			x.Options["comment"] = c
		}
		switch kind := text(v[6]); kind {
		case "FULLTEXT", "SPATIAL":
			x.Options["kind"] = strings.ToLower(kind)
		}
		if text(v[8]) == "YES" {
			x.Options["ignored"] = "yes"
		}
		t.Indexes = append(t.Indexes, x)
	}
	x.Parts = append(x.Parts, schema.IndexPart{Column: column, Desc: text(v[4]) == "D"})
	part := partOf(column, v[5])
	if text(v[4]) == "D" {
		part += " desc"
	}
	if x.Options["parts"] != "" {
		part = x.Options["parts"] + ", " + part
	}
	x.Options["parts"] = part
}

// partOf gives a column of an index, with how much of it the index holds where that is not all.
func partOf(column string, length any) string {
	if length == nil {
		return quote(column)
	}
	return fmt.Sprintf("%s(%d)", quote(column), number(length))
}

func (r *reader) trigger(v []any) {
	t := r.tables[text(v[0])]
	if t == nil {
		return
	}
	tr := &schema.Trigger{Name: text(v[1]), Mode: text(v[5]),
		SQL: "create or replace trigger " + plainly(text(v[1])) + " " + strings.ToLower(text(v[2])+" "+text(v[3])) + " on " +
			plainly(t.Name) + " for each row " + text(v[4])}
	if strings.HasPrefix(tr.Name, engine.Prefix) {
		t.Own = append(t.Own, tr)
	} else {
		t.Triggers = append(t.Triggers, tr)
	}
}

// plainly quotes a name so that it is one in every mode.
func plainly(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// finish settles what wants the whole of a table: trees, limits, indexes that stand for
// constraints.
func (r *reader) finish() {
	for _, k := range r.checks {
		takeCheck(k)
	}
	for _, t := range r.schema.Tables {
		if t.PrimaryKey != nil {
			t.PrimaryKey.Name = schema.ConstraintName(&schema.Table{Name: t.Name}, t.PrimaryKey.Columns, "primary")
		}
		takeIndexes(t)
		for _, c := range t.Columns {
			if c.Generated != nil {
				c.Generated.Expr.Tree = tree(c.Generated.Expr.Native, t)
			}
			if c.Default != nil {
				c.Default.Tree = defaultTree(c)
			}
		}
		for _, k := range t.Checks {
			k.Expr.Tree = tree(k.Expr.Native, t)
		}
		for _, o := range r.schema.Tables {
			if o != t && len(o.Name) == len(t.Name) && schema.SameName(o.Name, t.Name) {
				t.Opaque = "another table has the same name but for its case"
			}
		}
	}
}

// takeIndexes tells unique keys from indexes, and leaves out what the server has for
// foreign keys alone.
func takeIndexes(t *schema.Table) {
	var rest []*schema.Index
	for _, x := range t.Indexes {
		var columns []string
		for _, p := range x.Parts {
			columns = append(columns, p.Column)
		}
		usual := *x
		usual.Options = nil
		_, parts, _ := strings.Cut(indexSQL(t, &usual), "(")
		whole := x.Options["parts"]
		if strings.HasPrefix(parts, whole+")") {
			delete(x.Options, "parts")
		}
		made := x.Options["comment"] == asIndex
		if made {
			delete(x.Options, "comment")
		}
		switch {
		case x.Unique && !made && x.Options["parts"] == "" && x.Options["ignored"] == "":
			k := &schema.Key{Name: x.Name, Columns: columns}
			if len(x.Options) > 0 {
				k.Options = x.Options
			}
			t.Uniques = append(t.Uniques, k)
			continue
		}
		if len(x.Options) == 0 {
			x.Options = nil
		}
		rest = append(rest, x)
	}
	t.Indexes = rest
	leaveServing(t)
}

// leaveServing leaves out the indexes that foreign keys have for themselves.
func leaveServing(t *schema.Table) {
	t.Indexes = slices.DeleteFunc(t.Indexes, func(x *schema.Index) bool {
		return !x.Unique && len(x.Options) == 0 && slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
			return k.Name == x.Name && slices.EqualFunc(k.Columns, x.Parts,
				func(c string, part schema.IndexPart) bool { return c == part.Column })
		})
	})
	if len(t.Indexes) == 0 {
		t.Indexes = nil
	}
}

// defaultTree gives the tree of a default: of a value, in the type of its column.
func defaultTree(c *schema.Column) sqltext.Expr {
	e := tree(c.Default.Native, nil)
	l, ok := e.(*sqltext.Literal)
	if !ok {
		return e
	}
	switch {
	case l.Kind == sqltext.NumberLiteral && strings.Contains(l.Text, "."):
		// The server fills the digits of the type up with zeros.
		return &sqltext.Literal{Kind: l.Kind, Text: strings.TrimRight(strings.TrimRight(l.Text, "0"), ".")}
	case c.Type.Name == "boolean" && (l.Text == "1" || l.Text == "0"):
		e, _ = sqltext.ParseExpr(map[string]string{"1": "true", "0": "false"}[l.Text])
	case l.Kind == sqltext.StringLiteral && c.Type.Name == "date":
		return &sqltext.Typed{Type: "date", Text: l.Text}
	case l.Kind == sqltext.StringLiteral && strings.HasPrefix(c.Type.Name, "time"):
		kind := "timestamp"
		if c.Type.Name == "time" {
			kind = "time"
		}
		text := l.Text
		if strings.Contains(text, ".") {
			text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
		}
		return &sqltext.Typed{Type: kind, Text: text}
	}
	return e
}
