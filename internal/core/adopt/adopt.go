// Package adopt writes the migration that would make the tables of a database
// that nobody made with migrations.
//
// A table is written in the language only if playing that statement gives the
// table attribute by attribute; what the language has no words for is written as
// a native statement, as the engine itself would make it.
package adopt

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// Migration gives the text of the first migration, and the names of what had to
// be written natively.
func Migration(s *schema.Schema, e engine.Engine, database string) (text string, native []string) {
	var b strings.Builder
	fmt.Fprintf(&b, "-- The tables as they were when %s came under care\n", database)
	b.WriteString("-- Written from the database; on that database it was recorded without being run.\n\n")
	played := &schema.Schema{}
	write := func(st sqltext.Statement) { b.WriteString(sqltext.PrintStatement(st) + ";\n\n") }
	for _, t := range ordered(s) {
		statements, after, ok := portable(t, played, e)
		if ok {
			played = after
			for _, st := range statements {
				write(st)
			}
		} else {
			native = append(native, "table "+t.Name)
			write(nativeTable(t, e))
			played.Tables = append(played.Tables, t)
		}
		for _, tr := range t.Triggers {
			native = append(native, "trigger "+tr.Name)
			write(&sqltext.Native{Engines: []string{e.Name()}, SQL: tr.SQL, Back: "drop trigger " + quote(tr.Name)})
		}
	}
	for _, v := range s.Views {
		st := &sqltext.CreateView{View: sqltext.Name{Name: v.Name}, Query: sqltext.Query{Text: v.Query}}
		if again, err := sqltext.Parse("", sqltext.PrintStatement(st)+";"); err == nil && len(again.Statements) == 1 {
			write(again.Statements[0])
			continue
		}
		native = append(native, "view "+v.Name)
		write(&sqltext.Native{Engines: []string{e.Name()}, SQL: v.SQL, Back: "drop view " + quote(v.Name)})
	}
	return b.String(), native
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func nativeTable(t *schema.Table, e engine.Engine) *sqltext.Native {
	sql := t.Options["definition"]
	if sql == "" {
		bare := *t
		bare.Triggers, bare.Comment = nil, ""
		sql = strings.Join(e.CreateSQL(&bare), ";\n")
	}
	return &sqltext.Native{Engines: []string{e.Name()}, SQL: sql, Touching: []sqltext.Name{{Name: t.Name}}, Back: "drop table " + quote(t.Name)}
}

// ordered puts a table behind those that it refers to, where that can be done.
func ordered(s *schema.Schema) []*schema.Table {
	var list []*schema.Table
	rest := slices.Clone(s.Tables)
	for len(rest) > 0 {
		before := len(rest)
		rest = slices.DeleteFunc(rest, func(t *schema.Table) bool {
			waits := slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
				return !schema.SameName(k.Table, t.Name) && s.Table(k.Table) != nil &&
					!slices.ContainsFunc(list, func(o *schema.Table) bool { return schema.SameName(o.Name, k.Table) })
			})
			if !waits {
				list = append(list, t)
			}
			return !waits
		})
		if len(rest) == before {
			return append(list, rest...) // they refer to each other in a circle
		}
	}
	return list
}

// portable gives the statements that make a table, if playing them gives it.
func portable(t *schema.Table, played *schema.Schema, e engine.Engine) ([]sqltext.Statement, *schema.Schema, bool) {
	if t.Opaque != "" || len(t.Options) > 0 {
		return nil, nil, false
	}
	create, ok := createTable(t)
	if !ok {
		return nil, nil, false
	}
	statements := []sqltext.Statement{create}
	for _, x := range t.Indexes {
		st, ok := createIndex(t, x)
		if !ok {
			return nil, nil, false
		}
		statements = append(statements, st)
	}
	after := played
	for i, st := range statements {
		// Through the text, since that is what will be played.
		f, err := sqltext.Parse("", sqltext.PrintStatement(st)+";")
		if err != nil || len(f.Statements) != 1 {
			return nil, nil, false
		}
		statements[i] = f.Statements[0]
		if after, _, err = schema.Apply(after, f.Statements[0], schema.Env{Engine: e.Name()}); err != nil {
			return nil, nil, false
		}
	}
	made := *e.Holds(&schema.TableChange{After: after.Table(t.Name)})
	made.Triggers, made.Comment = t.Triggers, t.Comment
	for _, d := range schema.CompareTables(t, &made, e.Text) {
		if d.Attribute == "declared type" && d.Found == "" || d.Attribute == "options" && strings.Contains(d.Expected+d.Found, "implied not null") {
			continue // another spelling of the same
		}
		return nil, nil, false
	}
	return statements, after, true
}

func createTable(t *schema.Table) (*sqltext.CreateTable, bool) {
	st := &sqltext.CreateTable{Table: sqltext.Name{Name: t.Name}}
	tree := func(e schema.Expr) sqltext.Expr { return e.Tree }
	ok := true
	for _, c := range t.Columns {
		def := &sqltext.ColumnDef{Name: c.Name, Type: c.Type, NotNull: c.NotNull && c.Options["implied not null"] == "", Collate: c.Collate, Identity: c.Identity, Comment: c.Comment}
		if c.Default != nil {
			def.Default = tree(*c.Default)
			ok = ok && def.Default != nil
		}
		if c.Generated != nil {
			def.Generated = &sqltext.Generated{Expr: tree(c.Generated.Expr), Kind: "virtual"}
			if c.Generated.Stored {
				def.Generated.Kind = "stored"
			}
			ok = ok && def.Generated.Expr != nil
		}
		if k := t.PrimaryKey; k != nil && len(k.Columns) == 1 && schema.SameName(k.Columns[0], c.Name) && k.Implied {
			def.PrimaryKey = true
		}
		st.Columns = append(st.Columns, def)
	}
	name := func(n string, implied bool) string {
		if implied {
			return ""
		}
		return n
	}
	if k := t.PrimaryKey; k != nil && (len(k.Columns) > 1 || !k.Implied) {
		st.Constraints = append(st.Constraints, &sqltext.Constraint{Name: name(k.Name, k.Implied), Kind: sqltext.PrimaryKey, Columns: k.Columns})
	}
	for _, k := range t.Uniques {
		st.Constraints = append(st.Constraints, &sqltext.Constraint{Name: name(k.Name, k.Implied), Kind: sqltext.Unique, Columns: k.Columns})
	}
	for _, k := range t.Checks {
		ok = ok && k.Expr.Tree != nil
		st.Constraints = append(st.Constraints, &sqltext.Constraint{Name: name(k.Name, k.Implied), Kind: sqltext.Check, Expr: k.Expr.Tree})
	}
	for _, k := range t.ForeignKeys {
		st.Constraints = append(st.Constraints, &sqltext.Constraint{Name: name(k.Name, k.Implied), Kind: sqltext.ForeignKey, Columns: k.Columns,
			Ref: &sqltext.Reference{Table: sqltext.Name{Name: k.Table}, Columns: k.References, OnDelete: k.OnDelete, OnUpdate: k.OnUpdate}})
	}
	return st, ok
}

func createIndex(t *schema.Table, x *schema.Index) (*sqltext.CreateIndex, bool) {
	st := &sqltext.CreateIndex{Unique: x.Unique, Index: sqltext.Name{Name: x.Name}, Table: sqltext.Name{Name: t.Name}}
	for _, p := range x.Parts {
		part := sqltext.IndexPart{Column: p.Column, Desc: p.Desc}
		if p.Expr != nil {
			part.Expr = p.Expr.Tree
		}
		if p.Collate != "" || p.Expr != nil && part.Expr == nil {
			return nil, false
		}
		st.Parts = append(st.Parts, part)
	}
	if x.Where != nil {
		if st.Where = x.Where.Tree; st.Where == nil {
			return nil, false
		}
	}
	return st, true
}
