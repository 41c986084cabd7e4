package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// The statements by which a schema is read.
const (
	selectObjects = `select type, name, tbl_name, coalesce(sql, '') from main.sqlite_schema
		where name not like 'sqlite\_%' escape '\' order by rowid`
	selectKinds   = `select name, type from pragma_table_list where schema = 'main'`
	selectColumns = `select m.name, x.name, x.type, x."notnull", x.pk, x.hidden
		from pragma_table_list m join pragma_table_xinfo(m.name) x where m.schema = 'main' and m.type in ('table', 'virtual') order by m.name, x.cid`
	selectViewColumns = `select name from pragma_table_xinfo(?) order by cid`
	selectNotes       = `select table_name, object, kind, text from lastboard_note`
)

type queryer func(ctx context.Context, sql string, args ...any) (*engine.Rows, error)

// readSchema reads every table and view but Lastboard's own, in the order in
// which they were made.
func readSchema(ctx context.Context, query queryer) (*schema.Schema, error) {
	objects, err := query(ctx, selectObjects)
	if err != nil {
		return nil, err
	}
	kinds, err := query(ctx, selectKinds)
	if err != nil {
		return nil, err
	}
	kind := map[string]string{}
	for _, row := range kinds.Values {
		kind[text(row[0])] = text(row[1])
	}
	s := &schema.Schema{}
	noted := false
	for _, row := range objects.Values {
		typ, name, sql := text(row[0]), text(row[1]), text(row[3])
		if strings.HasPrefix(strings.ToLower(text(row[2])), engine.Prefix) || strings.HasPrefix(strings.ToLower(name), engine.Prefix) {
			noted = noted || name == engine.NoteTable
			continue
		}
		switch {
		case typ == "table" && kind[name] == "shadow":
		case typ == "table":
			s.Tables = append(s.Tables, tableOf(name, sql))
		case typ == "view":
			s.Views = append(s.Views, &schema.View{Name: name, Query: viewQuery(sql), SQL: sql})
		}
	}
	for _, row := range objects.Values {
		t := s.Table(text(row[2]))
		if t == nil {
			continue
		}
		switch text(row[0]) {
		case "index":
			x, err := readIndex(t, text(row[3]))
			if err != nil {
				t.Opaque = fmt.Sprintf("its index %s is not understood: %v", text(row[1]), err)
				continue
			}
			t.Indexes = append(t.Indexes, x)
		case "trigger":
			t.Triggers = append(t.Triggers, &schema.Trigger{Name: text(row[1]), SQL: text(row[3])})
		}
	}
	if err := verifyColumns(ctx, query, s); err != nil {
		return nil, err
	}
	for _, v := range s.Views {
		rows, err := query(ctx, selectViewColumns, v.Name)
		if err != nil {
			continue // the view is broken: it reads what is not there
		}
		for _, row := range rows.Values {
			v.Columns = append(v.Columns, text(row[0]))
		}
	}
	settleReferences(s)
	if !noted {
		return s, nil
	}
	return s, readNotes(ctx, query, s)
}

// tableOf reads a table's definition; one that is not understood can be read and
// written, but not changed.
func tableOf(name, sql string) *schema.Table {
	t, err := readTable(sql)
	if err != nil {
		return &schema.Table{Name: name, Opaque: "its definition is not understood: " + err.Error(), Options: map[string]string{"definition": sql}}
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
func verifyColumns(ctx context.Context, query queryer, s *schema.Schema) error {
	rows, err := query(ctx, selectColumns)
	if err != nil {
		return err
	}
	seen := map[*schema.Table]int{}
	for _, row := range rows.Values {
		name := text(row[1])
		t := s.Table(text(row[0]))
		if t == nil {
			continue
		}
		if t.Opaque != "" {
			if t.Column(name) == nil {
				t.Columns = append(t.Columns, &schema.Column{Name: name, Type: readType(text(row[2])), NotNull: number(row[3]) != 0})
			}
			continue
		}
		i := seen[t]
		seen[t]++
		if i >= len(t.Columns) {
			t.Opaque = "its columns are not understood"
			continue
		}
		c := t.Columns[i]
		hidden := map[bool]int64{false: 2, true: 3}
		wantHidden := int64(0)
		if c.Generated != nil {
			wantHidden = hidden[c.Generated.Stored]
		}
		pk := t.PrimaryKey != nil && schema.HasName(t.PrimaryKey.Columns, c.Name)
		if c.Name != name || c.NotNull && c.Options["implied not null"] == "" && number(row[3]) == 0 || wantHidden != number(row[5]) || pk != (number(row[4]) > 0) {
			t.Opaque = fmt.Sprintf("its column %s is not understood", name)
		}
	}
	for t, n := range seen {
		if n != len(t.Columns) && t.Opaque == "" {
			t.Opaque = "its columns are not understood"
		}
	}
	return nil
}

// settleReferences fills in the columns that a foreign key refers to when its
// text leaves them out.
func settleReferences(s *schema.Schema) {
	for _, t := range s.Tables {
		for _, fk := range t.ForeignKeys {
			if parent := s.Table(fk.Table); parent != nil && len(fk.References) == 0 && parent.PrimaryKey != nil {
				fk.References = slices.Clone(parent.PrimaryKey.Columns)
			}
		}
	}
}

func readNotes(ctx context.Context, query queryer, s *schema.Schema) error {
	rows, err := query(ctx, selectNotes)
	if err != nil {
		return err
	}
	for _, row := range rows.Values {
		t := s.Table(text(row[0]))
		if t == nil {
			continue
		}
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
	return nil
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
