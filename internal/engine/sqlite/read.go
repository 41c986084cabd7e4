package sqlite

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

// The statements by which a schema is read. Tables in which a virtual table keeps
// its own data are left out.
const (
	selectObjects = `select m.type, m.name, m.tbl_name, coalesce(m.sql, '') from main.sqlite_schema m
		where m.name not like 'sqlite\_%' escape '\'
		and not (m.type = 'table' and m.name in (select name from pragma_table_list where schema = 'main' and type = 'shadow')) order by m.rowid`
	selectColumns     = `select name, type, "notnull", pk, hidden from pragma_table_xinfo(?) order by cid`
	selectViewColumns = `select name from pragma_table_xinfo(?) order by cid`
	selectNotes       = `select table_name, object, kind, text from lastboard_note order by table_name, object, kind`
)

type queryer func(ctx context.Context, sql string, args ...any) (*engine.Rows, error)

// memory remembers what was read, so that reading again after a change takes only
// what has changed.
type memory struct {
	tables map[string]*knownTable
	views  map[string]*schema.View // by the view's text
}

// knownTable is a table with all the text that it was read from.
type knownTable struct {
	text  string
	table *schema.Table
}

// definition is what the database holds of one table.
type definition struct {
	name, sql string
	parts     [][]any // rows of selectObjects: indexes and triggers
	notes     [][]any // rows of selectNotes
}

func (d *definition) text() string {
	var b strings.Builder
	b.WriteString(d.sql)
	for _, list := range [][][]any{d.parts, d.notes} {
		for _, row := range list {
			fmt.Fprintf(&b, "\x00%v", row)
		}
	}
	return b.String()
}

// copy gives a memory that can part from m.
func (m *memory) copy() *memory { return &memory{m.tables, m.views} }

// read reads every table and view but Lastboard's own, in the order in which they
// were made.
func (m *memory) read(ctx context.Context, query queryer) (*schema.Schema, error) {
	definitions, views, err := readDefinitions(ctx, query)
	if err != nil {
		return nil, err
	}
	s := &schema.Schema{}
	tables := map[string]*knownTable{}
	var fresh []*schema.Table
	for _, d := range definitions {
		text := d.text()
		if old := m.tables[d.name]; old != nil && old.text == text {
			tables[d.name] = old
		} else {
			tables[d.name] = &knownTable{text, d.table()}
			fresh = append(fresh, tables[d.name].table)
		}
		s.Tables = append(s.Tables, tables[d.name].table)
	}
	m.tables = tables
	if err := verifyColumns(ctx, query, fresh); err != nil {
		return nil, err
	}
	for i, d := range definitions {
		if !slices.Contains(fresh, s.Tables[i]) && !refersAsBefore(s, s.Tables[i]) {
			// What it refers to has another key now, though its own text is the same.
			s.Tables[i] = d.table()
			tables[d.name].table = s.Tables[i]
			fresh = append(fresh, s.Tables[i])
		}
	}
	settleReferences(s, fresh)
	for i, d := range definitions {
		if slices.Contains(fresh, s.Tables[i]) {
			useNotes(s.Tables[i], d.notes)
		}
	}
	return s, m.readViews(ctx, query, s, views)
}

// readDefinitions reads the text of everything, and parts it by table.
func readDefinitions(ctx context.Context, query queryer) (tables []*definition, views [][]any, err error) {
	objects, err := query(ctx, selectObjects)
	if err != nil {
		return nil, nil, err
	}
	byName, ofViews := map[string]*definition{}, map[string][]*schema.Trigger{}
	noted := false
	var parts [][]any
	for _, row := range objects.Values {
		kind, name, sql := text(row[0]), text(row[1]), text(row[3])
		switch {
		case strings.HasPrefix(strings.ToLower(text(row[2])), engine.Prefix),
			strings.HasPrefix(strings.ToLower(name), engine.Prefix) && kind != "trigger":
			noted = noted || name == engine.NoteTable
		case kind == "table":
			d := &definition{name: name, sql: sql}
			tables = append(tables, d)
			byName[strings.ToLower(name)] = d
		case kind == "view":
			views = append(views, row)
		default:
			parts = append(parts, row)
		}
	}
	for _, row := range parts {
		on := strings.ToLower(text(row[2]))
		if d := byName[on]; d != nil {
			d.parts = append(d.parts, row)
		} else if text(row[0]) == "trigger" {
			ofViews[on] = append(ofViews[on], &schema.Trigger{Name: text(row[1]), SQL: text(row[3])})
		}
	}
	for i, row := range views {
		views[i] = append(slices.Clone(row), ofViews[strings.ToLower(text(row[1]))])
	}
	if !noted {
		return tables, views, nil
	}
	notes, err := query(ctx, selectNotes)
	if err != nil {
		return nil, nil, err
	}
	for _, row := range notes.Values {
		if d := byName[strings.ToLower(text(row[0]))]; d != nil {
			d.notes = append(d.notes, row)
		}
	}
	return tables, views, nil
}

// table makes the model of a table with its indexes and triggers.
func (d *definition) table() *schema.Table {
	t := tableOf(d.name, d.sql)
	for _, row := range d.parts {
		switch text(row[0]) {
		case "index":
			x, err := readIndex(t, text(row[3]))
			if err != nil {
				t.Opaque = fmt.Sprintf("its index %s is not understood: %v", text(row[1]), err)
				continue
			}
			t.Indexes = append(t.Indexes, x)
		case "trigger":
			if strings.HasPrefix(strings.ToLower(text(row[1])), engine.Prefix) {
				t.Own = append(t.Own, &schema.Trigger{Name: text(row[1]), SQL: text(row[3])})
				continue
			}
			t.Triggers = append(t.Triggers, &schema.Trigger{Name: text(row[1]), SQL: text(row[3])})
		}
	}
	takeOnUpdate(t)
	takeRefused(t)
	return t
}

func (m *memory) readViews(ctx context.Context, query queryer, s *schema.Schema, rows [][]any) error {
	views := map[string]*schema.View{}
	for _, row := range rows {
		sql := text(row[3])
		triggers, _ := row[len(row)-1].([]*schema.Trigger)
		v := m.views[sql]
		if v == nil || !reflect.DeepEqual(v.Triggers, triggers) {
			v = &schema.View{Name: text(row[1]), Query: viewQuery(sql), SQL: sql, Triggers: triggers}
			// else it is broken: it reads what is not there
			if columns, err := query(ctx, selectViewColumns, v.Name); err == nil {
				for _, c := range columns.Values {
					v.Columns = append(v.Columns, text(c[0]))
				}
			}
		}
		views[sql] = v
		s.Views = append(s.Views, v)
	}
	m.views = views
	return nil
}

// tableOf reads a table's definition; one that is not understood can be read and
// written, but not changed.
func tableOf(name, sql string) *schema.Table {
	t, err := readTable(sql)
	if err != nil {
		return &schema.Table{Name: name, Opaque: "its definition is not understood: " + err.Error(),
			Options: map[string]string{"definition": sql}}
	}
	t.Name = name
	return t
}

// viewQuery gives what follows the first "as" that is in no parentheses.
func viewQuery(sql string) string {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	depth := 0
	for i, t := range tokens {
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		case t.Is("as") && depth == 0 && i > 2:
			return strings.TrimSpace(sql[t.End():])
		}
	}
	return sql
}

// verifyColumns compares what was read with what SQLite itself says, so that a
// slip of the reader is found and never acted upon.
func verifyColumns(ctx context.Context, query queryer, tables []*schema.Table) error {
	for _, t := range tables {
		rows, err := query(ctx, selectColumns, t.Name)
		if err != nil {
			return err
		}
		if t.Opaque != "" {
			for _, row := range rows.Values {
				t.Columns = append(t.Columns, &schema.Column{Name: text(row[0]), Type: readType(text(row[1])),
					NotNull: number(row[2]) != 0})
			}
			continue
		}
		if len(rows.Values) != len(t.Columns) {
			t.Opaque = "its columns are not understood"
			continue
		}
		for i, row := range rows.Values {
			if !sameColumn(t, t.Columns[i], row) {
				t.Opaque = fmt.Sprintf("its column %s is not understood", text(row[0]))
			}
		}
	}
	return nil
}

// sameColumn compares a column with its row of selectColumns. Hidden is 2 for a
// computed column and 3 for one that is stored.
func sameColumn(t *schema.Table, c *schema.Column, row []any) bool {
	hidden := int64(0)
	if c.Generated != nil {
		hidden = 2
		if c.Generated.Stored {
			hidden = 3
		}
	}
	key := t.PrimaryKey != nil && schema.HasName(t.PrimaryKey.Columns, c.Name)
	notNull := c.NotNull && c.Options["implied not null"] == "" && !nullRefused(t, c)
	return c.Name == text(row[0]) && (!notNull || number(row[2]) != 0) && key == (number(row[3]) > 0) &&
		hidden == number(row[4])
}

// settleReferences fills in the columns that a foreign key refers to when its
// text leaves them out.
func settleReferences(s *schema.Schema, tables []*schema.Table) {
	for _, t := range tables {
		for _, fk := range t.ForeignKeys {
			if parent := s.Table(fk.Table); parent != nil && len(fk.References) == 0 && parent.PrimaryKey != nil {
				fk.References = slices.Clone(parent.PrimaryKey.Columns)
			}
		}
	}
}

// refersAsBefore reports whether the foreign keys of a table that was read earlier
// still are what their text means.
func refersAsBefore(s *schema.Schema, t *schema.Table) bool {
	return !slices.ContainsFunc(t.ForeignKeys, func(fk *schema.ForeignKey) bool {
		parent := s.Table(fk.Table)
		return fk.Options["references"] == "implied" && parent != nil && parent.PrimaryKey != nil &&
			!slices.Equal(fk.References, parent.PrimaryKey.Columns)
	})
}

// useNotes adds what SQLite itself cannot hold.
func useNotes(t *schema.Table, notes [][]any) {
	for _, row := range notes {
		object, value := text(row[1]), text(row[3])
		switch text(row[2]) {
		case "comment":
			if object == "" {
				t.Comment = value
			} else if c := t.Column(object); c != nil {
				c.Comment = value
			}
		case "unique":
			if x := t.Index(object); x != nil && x.Unique && x.Where == nil {
				k := &schema.Key{Name: x.Name, AsIndex: true}
				for _, p := range x.Parts {
					k.Columns = append(k.Columns, p.Column)
				}
				t.Uniques = append(t.Uniques, k)
				t.Indexes = slices.DeleteFunc(t.Indexes, func(o *schema.Index) bool { return o == x })
			}
		}
	}
}

func text(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case []byte:
		return string(v)
	case nil:
		return ""
	}
	return fmt.Sprint(v)
}

func number(v any) int64 {
	switch v := v.(type) {
	case int64:
		return v
	case float64:
		return int64(v)
	}
	return 0
}
