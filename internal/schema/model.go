package schema

import (
	"encoding/json"
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// Schema is all that is in a database, Lastboard's own tables left out.
type Schema struct {
	Tables []*Table
	Views  []*View
	// Home is the engine's schema of tables that are named without one; "" on an engine
	// that has no schemas. The name of a table in another is schema.table.
	Home string `json:",omitempty"`
}

// Table is a table as it stands, or as it is meant to be.
type Table struct {
	Name        string
	Columns     []*Column
	PrimaryKey  *Key          `json:",omitempty"`
	Uniques     []*Key        `json:",omitempty"`
	Checks      []*Check      `json:",omitempty"`
	ForeignKeys []*ForeignKey `json:",omitempty"`
	Indexes     []*Index      `json:",omitempty"`
	Triggers    []*Trigger    `json:",omitempty"`
	Comment     string        `json:",omitempty"`
	// Own are Lastboard's own triggers, which let kept values follow their rows. They
	// are no part of what the table is.
	Own []*Trigger `json:",omitempty"`

	// PartOf is the table whose rows it holds a part of; "" for a table of its own. A part has the columns
	// of that table, which are not listed again, and comes and goes beside the migrations.
	PartOf string `json:",omitempty"`
	// Options are what only this engine has: "strict", "without rowid".
	Options map[string]string `json:",omitempty"`
	// Opaque is why the table can be read and written but not changed: something
	// in its definition is not understood. Empty for a table that is.
	Opaque string `json:",omitempty"`
}

// Column is a column of a table.
type Column struct {
	Name string
	Type sqltext.Type
	// Declared is the engine's own spelling of the type, where it is not the one
	// that Type would be given.
	Declared    string            `json:",omitempty"`
	NotNull     bool              `json:",omitempty"`
	Default     *Expr             `json:",omitempty"`
	Generated   *Generated        `json:",omitempty"`
	Identity    *sqltext.Identity `json:",omitempty"`
	Collate     string            `json:",omitempty"`
	OnUpdateNow bool              `json:",omitempty"`
	Comment     string            `json:",omitempty"`
	// Limit is the name of the constraint that enforces what the engine does not
	// enforce for the type; empty where there is none.
	Limit string `json:",omitempty"`
	// Options are what only this engine has: "not null on conflict".
	Options map[string]string `json:",omitempty"`
	// Equal is how two values of the type are compared where a plain = would not be found
	// everywhere: the type and its operators stand in a schema of their own.
	Equal string `json:",omitempty"`
}

// Generated is a computed column.
type Generated struct {
	Expr   Expr
	Stored bool `json:",omitempty"`
}

// Expr is an expression, written in the language or stored by an engine.
type Expr struct {
	Tree   sqltext.Expr // nil when the text is the engine's own
	Native string       // the engine's text, when it was read from there
}

// Key is a primary key or a unique constraint.
type Key struct {
	Name    string
	Columns []string
	// Implied means that the database holds no name for it: Name is what the
	// language calls it.
	Implied bool `json:",omitempty"`
	// AsIndex means that the engine holds it as a unique index.
	AsIndex bool `json:",omitempty"`
	// Options are what only this engine has: "on conflict", "column 1 desc".
	Options map[string]string `json:",omitempty"`
}

// Check is a check constraint.
type Check struct {
	Name    string
	Expr    Expr
	Implied bool `json:",omitempty"`
	// Column is the column whose definition holds it; "" when the table's own does.
	Column  string            `json:",omitempty"`
	Options map[string]string `json:",omitempty"`
}

// ForeignKey is a foreign key constraint.
type ForeignKey struct {
	Name       string
	Columns    []string
	Table      string
	References []string // empty means the primary key
	OnDelete   string   `json:",omitempty"`
	OnUpdate   string   `json:",omitempty"`
	Implied    bool     `json:",omitempty"`
	// Options are what only this engine has: "match", "deferrable".
	Options map[string]string `json:",omitempty"`
}

// Index is an index that is not part of a constraint.
type Index struct {
	Name   string
	Unique bool `json:",omitempty"`
	Parts  []IndexPart
	Where  *Expr `json:",omitempty"`
	// Options are what only this engine has: "definition", for an index that the
	// language has no words for.
	Options map[string]string `json:",omitempty"`
}

// IndexPart is one key of an index.
type IndexPart struct {
	Column  string `json:",omitempty"`
	Expr    *Expr  `json:",omitempty"` // instead of Column
	Desc    bool   `json:",omitempty"`
	Collate string `json:",omitempty"`
}

// Trigger is a trigger as the engine stores it.
type Trigger struct {
	Name, SQL string
	// Mode is the mode in which the engine reads its text; "" where there is none.
	Mode string `json:",omitempty"`
}

// View is a view: its columns, and its text as the engine stores it.
type View struct {
	Name    string
	Query   string // what follows "as"
	SQL     string // the whole statement, when it was read from an engine
	Columns []string
	More    bool `json:",omitempty"` // SQL says more than that it is a view of its query
	// Triggers are those that act in the place of writes to it, where the engine loses them with the view.
	Triggers []*Trigger `json:",omitempty"`
}

// String gives the expression in the language where it can, else as the engine
// stores it.
func (e Expr) String() string {
	if e.Tree != nil {
		return sqltext.PrintExpr(e.Tree)
	}
	return e.Native
}

type exprJSON struct {
	Expr   string `json:"expr,omitempty"`
	Native string `json:"native,omitempty"`
}

// MarshalJSON writes the tree as its canonical text.
func (e Expr) MarshalJSON() ([]byte, error) {
	j := exprJSON{Native: e.Native}
	if e.Tree != nil {
		j.Expr = sqltext.PrintExpr(e.Tree)
	}
	return json.Marshal(j)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (e *Expr) UnmarshalJSON(data []byte) error {
	var j exprJSON
	if err := json.Unmarshal(data, &j); err != nil {
		return err
	}
	e.Native = j.Native
	if j.Expr == "" {
		return nil
	}
	tree, err := sqltext.ParseExpr(j.Expr)
	e.Tree = tree
	return err
}

// SameName reports whether two names mean the same thing: ASCII letters match
// in either case, as every supported engine can be made to do.
func SameName(a, b string) bool {
	if len(a) != len(b) {
		return false
	}
	// From the end: names of one kind often differ in their last letters alone.
	for i := len(a) - 1; i >= 0; i-- {
		x, y := a[i], b[i]
		if x == y {
			continue
		}
		if x >= 'A' && x <= 'Z' {
			x += 'a' - 'A'
		}
		if y >= 'A' && y <= 'Z' {
			y += 'a' - 'A'
		}
		if x != y {
			return false
		}
	}
	return true
}

// HasName reports whether names holds name.
func HasName(names []string, name string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return SameName(n, name) })
}

// Dotted is why a table is not understood whose own name reads like one with its schema.
const Dotted = "its name has a dot"

// Called gives a table's name as the model has it: with its schema, unless that is the engine's own of
// tables that are named without one.
func (s *Schema) Called(n sqltext.Name) string {
	if n.Schema == "" || SameName(n.Schema, s.Home) {
		return n.Name
	}
	return n.String()
}

// Table finds a table by name; nil if there is none.
func (s *Schema) Table(name string) *Table {
	if i := s.find(name); i >= 0 {
		return s.Tables[i]
	}
	return nil
}

// find gives the place of a table; -1 if there is none. It looks from the end:
// what was made last is spoken of most.
func (s *Schema) find(name string) int {
	for i := len(s.Tables) - 1; i >= 0; i-- {
		if SameName(s.Tables[i].Name, name) {
			return i
		}
	}
	return -1
}

// View finds a view by name; nil if there is none.
func (s *Schema) View(name string) *View {
	for _, v := range s.Views {
		if SameName(v.Name, name) {
			return v
		}
	}
	return nil
}

// Copy gives a schema that shares nothing that Apply changes.
func (s *Schema) Copy() *Schema {
	return &Schema{Tables: slices.Clone(s.Tables), Views: slices.Clone(s.Views), Home: s.Home}
}

// put replaces the table called old, or adds t at the end, or takes old away
// when t is nil.
func (s *Schema) put(old string, t *Table) {
	s.PutParts(old, t)
	i := s.find(old)
	switch {
	case i < 0:
		s.Tables = append(s.Tables, t)
	case t == nil:
		s.Tables = slices.Delete(s.Tables, i, i+1)
	default:
		s.Tables[i] = t
	}
}

// PutParts lets the parts of a table follow it: they go with it, and belong to it under its new name.
func (s *Schema) PutParts(old string, t *Table) {
	if t != nil && t.Name == old {
		return
	}
	of := func(p *Table) bool { return p.PartOf != "" && SameName(p.PartOf, old) }
	if t == nil {
		s.Tables = slices.DeleteFunc(s.Tables, of)
		return
	}
	for i, p := range s.Tables {
		if of(p) {
			part := *p
			part.PartOf, part.Opaque = t.Name, OpaquePart(t.Name)
			s.Tables[i] = &part
		}
	}
}

// OpaquePart is why a part of a table cannot be changed by itself.
func OpaquePart(of string) string { return "it is a part of table " + of + ": change that" }

// Whole gives a part of a table with the columns and the key of the table; another as it is.
func (s *Schema) Whole(t *Table) *Table {
	of := s.Table(t.PartOf)
	if t.PartOf == "" || of == nil {
		return t
	}
	part := *t
	part.Columns, part.PrimaryKey = of.Columns, of.PrimaryKey
	return &part
}

// Parts lists the parts of a table whose rows stand in several; none for another.
func (s *Schema) Parts(table string) (list []*Table) {
	for _, p := range s.Tables {
		if p.PartOf != "" && SameName(p.PartOf, table) {
			list = append(list, p)
		}
	}
	return list
}

func (s *Schema) putView(old string, v *View) {
	i := slices.IndexFunc(s.Views, func(x *View) bool { return SameName(x.Name, old) })
	switch {
	case i < 0:
		s.Views = append(s.Views, v)
	case v == nil:
		s.Views = slices.Delete(s.Views, i, i+1)
	default:
		s.Views[i] = v
	}
}

// Column finds a column by name; nil if there is none.
func (t *Table) Column(name string) *Column {
	for _, c := range t.Columns {
		if SameName(c.Name, name) {
			return c
		}
	}
	return nil
}

// Place gives where a column stands, from 0; -1 if there is none.
func (t *Table) Place(name string) int {
	return slices.IndexFunc(t.Columns, func(c *Column) bool { return SameName(c.Name, name) })
}

// ColumnNames lists the columns in order.
func (t *Table) ColumnNames() []string {
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = c.Name
	}
	return names
}

// Stored lists the columns that hold a value of their own, in order.
func (t *Table) Stored() []*Column {
	var list []*Column
	for _, c := range t.Columns {
		if c.Generated == nil {
			list = append(list, c)
		}
	}
	return list
}

// Index finds an index by name; nil if there is none.
func (t *Table) Index(name string) *Index {
	for _, x := range t.Indexes {
		if SameName(x.Name, name) {
			return x
		}
	}
	return nil
}

// copy gives a table that shares no slice and no column with t; expressions,
// keys and indexes are shared, since nothing changes them in place.
func (t *Table) copy() *Table {
	c := *t
	c.Columns = make([]*Column, len(t.Columns))
	for i, col := range t.Columns {
		cc := *col
		c.Columns[i] = &cc
	}
	c.Uniques, c.Checks = slices.Clone(t.Uniques), slices.Clone(t.Checks)
	c.ForeignKeys, c.Indexes, c.Triggers = slices.Clone(t.ForeignKeys), slices.Clone(t.Indexes), slices.Clone(t.Triggers)
	return &c
}

// Key gives the columns by which a row can be told from every other: the
// primary key, else a unique key without nulls; nil if there is none.
func (t *Table) Key() []string {
	if t.PrimaryKey != nil {
		return t.PrimaryKey.Columns
	}
	for _, u := range t.Uniques {
		if !slices.ContainsFunc(u.Columns, func(c string) bool { return !t.Column(c).NotNull }) {
			return u.Columns
		}
	}
	return nil
}

// Mentions reports whether the expression uses the column. Text of an engine's
// own is searched for the name as a whole word.
func (e *Expr) Mentions(column string) bool {
	if e == nil {
		return false
	}
	if e.Tree != nil && !sqltext.HasSubquery(e.Tree) {
		return slices.ContainsFunc(sqltext.Refs(e.Tree), func(r *sqltext.Ref) bool { return SameName(r.Column, column) })
	}
	text := e.Native
	if text == "" {
		text = e.String()
	}
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	for i, t := range tokens { // what stands before a dot is a table, or a row of a trigger
		if (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && SameName(t.Value, column) && !tokens[i+1].Is(".") {
			return true
		}
	}
	return false
}

// renamed gives the expression with a column's name replaced.
func (e *Expr) renamed(from, to string) *Expr {
	if e == nil || !e.Mentions(from) {
		return e
	}
	out := &Expr{}
	if e.Tree != nil {
		out.Tree = RenameRefs(e.Tree, from, to)
	}
	if e.Native != "" {
		out.Native = renameWords(e.Native, from, to)
	}
	return out
}

// RenameRefs gives the expression with references to one column replaced.
func RenameRefs(e sqltext.Expr, from, to string) sqltext.Expr {
	return sqltext.Rewrite(e, func(x sqltext.Expr) sqltext.Expr {
		if r, ok := x.(*sqltext.Ref); ok && SameName(r.Column, from) {
			r.Column = to
		}
		return x
	})
}

// renameWords replaces a column's name in an engine's text: words that are not
// called as a function.
func renameWords(text, from, to string) string {
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	var b strings.Builder
	last := 0
	for i, t := range tokens {
		if t.Kind != sqltext.Word && t.Kind != sqltext.Quoted || !SameName(t.Value, from) || t.Kind == sqltext.Word &&
			tokens[i+1].Is("(") {
			continue
		}
		b.WriteString(text[last:t.Pos.Offset] + `"` + strings.ReplaceAll(to, `"`, `""`) + `"`)
		last = t.End()
	}
	return b.String() + text[last:]
}
