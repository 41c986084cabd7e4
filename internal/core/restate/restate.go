// Package restate says in the language what the model holds: the statements that make
// a table as it is, and those that make one table into another.
package restate

import (
	"slices"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Ordered puts a table behind those that it refers to, where that can be done.
func Ordered(s *schema.Schema) []*schema.Table {
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

// CreateTable gives the statement that makes a table without its indexes; ok is false
// when the language has no words for some of it.
func CreateTable(t *schema.Table) (*sqltext.CreateTable, bool) {
	st := &sqltext.CreateTable{Table: sqltext.Name{Name: t.Name}}
	ok := true
	for _, c := range t.Columns {
		def, plain := Column(c)
		ok = ok && plain
		if k := t.PrimaryKey; k != nil && len(k.Columns) == 1 && schema.SameName(k.Columns[0], c.Name) && k.Implied {
			def.PrimaryKey = true
		}
		st.Columns = append(st.Columns, def)
	}
	if k := t.PrimaryKey; k != nil && (len(k.Columns) > 1 || !k.Implied) {
		st.Constraints = append(st.Constraints, PrimaryKey(k))
	}
	for _, k := range t.Uniques {
		st.Constraints = append(st.Constraints, Unique(k))
	}
	for _, k := range t.Checks {
		ok = ok && k.Expr.Tree != nil
		st.Constraints = append(st.Constraints, Check(k))
	}
	for _, k := range t.ForeignKeys {
		st.Constraints = append(st.Constraints, ForeignKey(k))
	}
	return st, ok
}

// CreateIndex gives the statement that makes an index; ok is as for [CreateTable].
func CreateIndex(t *schema.Table, x *schema.Index) (*sqltext.CreateIndex, bool) {
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

// Column gives a column's definition, without the constraints on it; ok is as for
// [CreateTable].
func Column(c *schema.Column) (*sqltext.ColumnDef, bool) {
	def := &sqltext.ColumnDef{
		Name: c.Name, Type: c.Type, NotNull: c.NotNull && c.Options["implied not null"] == "", Collate: c.Collate,
		Identity: c.Identity, OnUpdateNow: c.OnUpdateNow, Comment: c.Comment,
	}
	ok := true
	if c.Default != nil {
		def.Default = c.Default.Tree
		ok = def.Default != nil
	}
	if c.Generated != nil {
		def.Generated = &sqltext.Generated{Expr: c.Generated.Expr.Tree, Kind: "virtual"}
		if c.Generated.Stored {
			def.Generated.Kind = "stored"
		}
		ok = ok && def.Generated.Expr != nil
	}
	return def, ok
}

func named(name string, implied bool) string {
	if implied {
		return ""
	}
	return name
}

// PrimaryKey gives a primary key as a table constraint.
func PrimaryKey(k *schema.Key) *sqltext.Constraint {
	return &sqltext.Constraint{Name: named(k.Name, k.Implied), Kind: sqltext.PrimaryKey, Columns: k.Columns}
}

// Unique gives a unique constraint.
func Unique(k *schema.Key) *sqltext.Constraint {
	return &sqltext.Constraint{Name: named(k.Name, k.Implied), Kind: sqltext.Unique, Columns: k.Columns}
}

// Check gives a check constraint.
func Check(k *schema.Check) *sqltext.Constraint {
	return &sqltext.Constraint{Name: named(k.Name, k.Implied), Kind: sqltext.Check, Expr: k.Expr.Tree}
}

// ForeignKey gives a foreign key constraint.
func ForeignKey(k *schema.ForeignKey) *sqltext.Constraint {
	return &sqltext.Constraint{
		Name: named(k.Name, k.Implied), Kind: sqltext.ForeignKey, Columns: k.Columns,
		Ref: &sqltext.Reference{Table: sqltext.Name{Name: k.Table}, Columns: k.References, OnDelete: k.OnDelete,
			OnUpdate: k.OnUpdate},
	}
}
