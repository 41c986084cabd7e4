package schema

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// Problem is why a statement cannot be applied to the tables.
type Problem struct {
	Pos     sqltext.Pos
	Rule    string // plain words of our own: "name-unknown"
	Message string
	Cure    string
	// Name is the word in the statement that it is about, at Pos or behind it; "" for the one at Pos.
	Name string
	// Unsupported means that nothing is wrong with the statement: this version of
	// Lastboard cannot run it.
	Unsupported bool
}

func (p *Problem) Error() string { return p.Message }

// ErrUnknown is given for a statement on a table of which nothing is known,
// since native SQL has changed it.
type ErrUnknown struct{ Table string }

func (e *ErrUnknown) Error() string { return "nothing is known about table " + e.Table }

func problem(at sqltext.Pos, rule, cure, format string, args ...any) *Problem {
	return &Problem{Pos: at, Rule: rule, Message: fmt.Sprintf(format, args...), Cure: cure}
}

// of names the word in the statement that a problem is about.
func (p *Problem) of(name string) *Problem {
	p.Name = name
	return p
}

// Env is what a statement means depends on, beside the tables.
type Env struct {
	// Engine is the name that native statements use.
	Engine string
	// Schemas is set where tables stand in schemas.
	Schemas bool
	// Taken begin the names that are not free.
	Taken []string
	// File gives the columns of a CSV file that a migration names; nil where none can
	// be read.
	File func(name string) (*Table, error)
}

// Apply gives the tables after a statement, and the change that leads there; s
// itself stays as it is. The error is a *[Problem] or an *[ErrUnknown].
func Apply(s *Schema, st sqltext.Statement, env Env) (*Schema, *Change, error) {
	a := applier{env: env, after: s.Copy(), change: &Change{At: st.Start()}}
	var err error
	switch st := st.(type) {
	case *sqltext.CreateTable:
		err = a.createTable(st)
	case *sqltext.DropTable:
		err = a.dropTable(st)
	case *sqltext.AlterTable:
		err = a.alterTable(st)
	case *sqltext.CreateIndex:
		err = a.createIndex(st)
	case *sqltext.DropIndex:
		err = a.dropIndex(st)
	case *sqltext.RenameIndex:
		err = a.renameIndex(st)
	case *sqltext.CreateView:
		err = a.createView(st)
	case *sqltext.DropView:
		err = a.dropView(st)
	case *sqltext.CommentOn:
		err = a.commentOn(st)
	case *sqltext.Backfill:
		err = a.backfill(st)
	case *sqltext.Insert:
		err = a.insert(st)
	case *sqltext.Delete:
		err = a.delete(st)
	case *sqltext.Assert:
		a.change.What = "assert " + sqltext.PrintExpr(st.Expr)
		a.change.Assert = st
	case *sqltext.Native:
		a.native(st)
	}
	if err != nil {
		return nil, nil, err
	}
	return a.after, a.change, nil
}

type applier struct {
	env    Env
	after  *Schema
	change *Change
	start  *int64 // with which a column goes on that numbers itself
}

// table finds the table that a statement changes.
func (a *applier) table(n sqltext.Name) (*Table, error) {
	full, err := a.name(n)
	if err != nil {
		return nil, err
	}
	t := a.after.Table(full)
	switch {
	case t == nil && a.after.View(full) != nil:
		return nil, problem(n.Pos, "name-unknown", "", "%s is a view, not a table", n)
	case t == nil:
		var names []string
		for _, t := range a.after.Tables {
			names = append(names, t.Name)
		}
		return nil, problem(n.Pos, "name-unknown", didYouMean(n.Name, names), "there is no table %s", n)
	case t.Opaque == unknown:
		return nil, &ErrUnknown{t.Name}
	case t.Opaque != "":
		return nil, problem(n.Pos, "table-not-understood", "change it with a native statement",
			"table %s cannot be changed: %s", n, t.Opaque)
	}
	return t, nil
}

const unknown = "native SQL has changed it"

// name gives the name under which the model has a table, view or index: that of its
// schema stands before it, unless it is the one of unnamed ones. An engine without
// schemas refuses one.
func (a *applier) name(n sqltext.Name) (string, error) {
	switch {
	case n.Schema == "" || a.env.Schemas && SameName(n.Schema, a.after.Home):
		return n.Name, nil
	case !a.env.Schemas:
		return "", problem(n.Pos, "name-unknown", "write "+n.Name+" alone",
			"there is no schema %s: this engine has no schemas", n.Schema)
	}
	return n.Schema + "." + n.Name, nil
}

func didYouMean(word string, names []string) string {
	if near, ok := sqltext.Nearest(word, names); ok {
		return "did you mean " + near + "?"
	}
	return ""
}

// free refuses a name that a table, view or index already has.
func (a *applier) free(n sqltext.Name) error {
	full, err := a.name(n)
	if err != nil {
		return err
	}
	for _, prefix := range a.env.Taken {
		if strings.HasPrefix(strings.ToLower(n.Name), prefix) {
			return problem(n.Pos, "name-taken", "", "names that begin with %s are not free", strings.Join(a.env.Taken, " or "))
		}
	}
	if t := a.after.Table(full); t != nil {
		return problem(n.Pos, "name-taken", "", "there is a table %s already", t.Name)
	}
	if v := a.after.View(full); v != nil {
		return problem(n.Pos, "name-taken", "", "there is a view %s already", v.Name)
	}
	for _, t := range a.after.Tables {
		if len(t.Indexes) == 0 {
			continue
		}
		if x := t.Index(n.Name); x != nil {
			return problem(n.Pos, "name-taken", "", "table %s has an index %s already", t.Name, x.Name)
		}
	}
	return nil
}

func (a *applier) createTable(st *sqltext.CreateTable) error {
	a.change.What = "create table " + st.Table.Name
	if err := a.free(st.Table); err != nil {
		return err
	}
	full, err := a.name(st.Table)
	if err != nil {
		return err
	}
	t := &Table{Name: full}
	a.after.Tables = append(a.after.Tables, t)
	for _, def := range st.Columns {
		if err := a.addColumn(t, def, false); err != nil {
			return err
		}
	}
	for _, c := range st.Constraints {
		if err := a.addConstraint(t, c, false); err != nil {
			return err
		}
	}
	if t.PrimaryKey != nil {
		for _, name := range t.PrimaryKey.Columns {
			t.Column(name).NotNull = true
		}
	}
	a.change.Table = &TableChange{After: t, Start: a.start}
	return a.validate(t, st.At)
}

func (a *applier) dropTable(st *sqltext.DropTable) error {
	a.change.What = "drop table " + st.Table.Name
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	var users []string
	for _, other := range a.after.Tables {
		for _, fk := range other.ForeignKeys {
			if other != t && SameName(fk.Table, t.Name) {
				users = append(users, fmt.Sprintf("foreign key %s of table %s", fk.Name, other.Name))
			}
		}
	}
	if len(users) > 0 {
		return problem(st.Table.Pos, "name-in-use", "drop what needs it first", "table %s is needed by %s", t.Name,
			strings.Join(users, ", "))
	}
	a.after.put(t.Name, nil)
	c := &TableChange{Before: t}
	if st.Discard {
		c.Discard = map[string]bool{"*": true}
	}
	a.change.Table = c
	return nil
}

// addColumn adds a column at the end. existing says that the table may have rows.
func (a *applier) addColumn(t *Table, def *sqltext.ColumnDef, existing bool) error {
	if old := t.Column(def.Name); old != nil {
		return problem(def.Pos, "name-taken", "", "table %s has a column %s already", t.Name, old.Name)
	}
	c := &Column{Name: def.Name, Type: def.Type, NotNull: def.NotNull, Collate: def.Collate, Comment: def.Comment}
	c.Type.Pos = sqltext.Pos{}
	if def.Default != nil {
		c.Default = &Expr{Tree: valueOf(c.Type, def.Default)}
		if refs := sqltext.Refs(def.Default); len(refs) > 0 {
			return problem(def.Pos, "default-reads-row", "compute it for existing rows with using, and for new ones where "+
				"they are written", "the default of %s uses column %s, and a default cannot read the row", c.Name, refs[0].Column)
		}
	}
	if existing { // a table that is taken under care may have any
		if err := c.defaultFits(def.Pos); err != nil {
			return err
		}
	}
	if g := def.Generated; g != nil {
		if c.Default != nil {
			return problem(def.Pos, "generated-default", "", "column %s is generated and cannot have a default", c.Name)
		}
		c.Generated = &Generated{Expr: Expr{Tree: g.Expr}, Stored: g.Kind == "stored"}
	}
	if def.OnUpdateNow {
		if err := setOnUpdate(c, true, def.Pos); err != nil {
			return err
		}
	}
	t.Columns = append(t.Columns, c)
	if def.PrimaryKey {
		if err := a.addConstraint(t, &sqltext.Constraint{Kind: sqltext.PrimaryKey, Columns: []string{c.Name}, Pos: def.Pos},
			existing); err != nil {
			return err
		}
		c.NotNull = true
	}
	if def.Identity != nil {
		if c.Default != nil || c.Generated != nil {
			return problem(def.Pos, "identity-default", "leave out the default",
				"column %s numbers itself and cannot have a default", c.Name)
		}
		c.NotNull = true
		if err := a.identity(t, c, def.Identity, def.Pos); err != nil {
			return err
		}
	}
	if def.Unique {
		if err := a.addConstraint(t, &sqltext.Constraint{Kind: sqltext.Unique, Columns: []string{c.Name}, Pos: def.Pos},
			existing); err != nil {
			return err
		}
	}
	for _, e := range def.Checks {
		if err := a.addConstraint(t, &sqltext.Constraint{Kind: sqltext.Check, Expr: e, Pos: def.Pos}, existing); err != nil {
			return err
		}
	}
	if def.References != nil {
		return a.addConstraint(t, &sqltext.Constraint{Kind: sqltext.ForeignKey, Columns: []string{c.Name},
			Ref: def.References, Pos: def.Pos}, existing)
	}
	return nil
}

var kindWords = map[sqltext.ConstraintKind]string{
	sqltext.PrimaryKey: "primary", sqltext.Unique: "unique", sqltext.Check: "check", sqltext.ForeignKey: "reference",
}

func (a *applier) addConstraint(t *Table, c *sqltext.Constraint, existing bool) error {
	columns, err := a.columns(t, c.Columns, c.Pos)
	if err != nil {
		return err
	}
	name := c.Name
	if name == "" {
		name = ConstraintName(t, columnsOf(columns, c.Expr), kindWords[c.Kind])
	} else if kind := t.constraint(name); kind != "" {
		return problem(c.Pos, "name-taken", "", "table %s has a %s %s already", t.Name, kind, name)
	}
	switch c.Kind {
	case sqltext.PrimaryKey:
		if t.PrimaryKey != nil {
			return problem(c.Pos, "key-twice", "", "table %s has a primary key already", t.Name)
		}
		t.PrimaryKey = &Key{Name: name, Columns: columns}
	case sqltext.Unique:
		t.Uniques = append(t.Uniques, &Key{Name: name, Columns: columns, AsIndex: existing})
	case sqltext.Check:
		t.Checks = append(t.Checks, &Check{Name: name, Expr: Expr{Tree: c.Expr}})
	case sqltext.ForeignKey:
		return a.addForeignKey(t, c, name, columns)
	}
	return nil
}

func (a *applier) addForeignKey(t *Table, c *sqltext.Constraint, name string, columns []string) error {
	full, err := a.name(c.Ref.Table)
	if err != nil {
		return err
	}
	parent := a.after.Table(full)
	if parent == nil {
		return problem(c.Ref.Table.Pos, "name-unknown", "", "there is no table %s to refer to", c.Ref.Table)
	}
	fk := &ForeignKey{Name: name, Columns: columns, Table: parent.Name, OnDelete: c.Ref.OnDelete, OnUpdate: c.Ref.OnUpdate}
	if parent.Opaque != unknown {
		refs, err := a.columns(parent, c.Ref.Columns, c.Ref.Table.Pos)
		if err != nil {
			return err
		}
		fk.References = refs
		if len(refs) == 0 && parent.PrimaryKey != nil {
			fk.References = parent.PrimaryKey.Columns
		}
		if !parent.uniqueOn(fk.References) || len(fk.References) != len(columns) {
			return problem(c.Ref.Table.Pos, "reference-not-unique",
				"refer to the primary key or to columns with a unique constraint",
				"(%s) is no key of table %s, so that no row can refer to it", strings.Join(fk.References, ", "), parent.Name)
		}
	}
	t.ForeignKeys = append(t.ForeignKeys, fk)
	return nil
}

// uniqueOn reports whether a key of the table is over exactly these columns.
func (t *Table) uniqueOn(columns []string) bool {
	same := func(key []string) bool {
		return len(key) == len(columns) && !slices.ContainsFunc(key, func(c string) bool { return !HasName(columns, c) })
	}
	if len(columns) == 0 {
		return false
	}
	if t.PrimaryKey != nil && same(t.PrimaryKey.Columns) {
		return true
	}
	if slices.ContainsFunc(t.Uniques, func(k *Key) bool { return same(k.Columns) }) {
		return true
	}
	return slices.ContainsFunc(t.Indexes, func(x *Index) bool {
		var names []string
		for _, p := range x.Parts {
			names = append(names, p.Column)
		}
		return x.Unique && x.Where == nil && same(names)
	})
}

// constraint tells what kind of constraint has this name; "" if none has.
func (t *Table) constraint(name string) string {
	switch {
	case t.PrimaryKey != nil && SameName(t.PrimaryKey.Name, name):
		return "primary key"
	case slices.ContainsFunc(t.Uniques, func(k *Key) bool { return SameName(k.Name, name) }):
		return "unique constraint"
	case slices.ContainsFunc(t.Checks, func(k *Check) bool { return SameName(k.Name, name) }):
		return "check"
	case slices.ContainsFunc(t.ForeignKeys, func(k *ForeignKey) bool { return SameName(k.Name, name) }):
		return "foreign key"
	}
	return ""
}

// columns gives the names as the table has them.
func (a *applier) columns(t *Table, names []string, at sqltext.Pos) ([]string, error) {
	var list []string
	for _, n := range names {
		c := t.Column(n)
		if c == nil {
			return nil, problem(at, "name-unknown", didYouMean(n, t.ColumnNames()), "table %s has no column %s", t.Name, n).of(n)
		}
		list = append(list, c.Name)
	}
	return list, nil
}

func columnsOf(columns []string, e sqltext.Expr) []string {
	for _, r := range sqltext.Refs(e) {
		if !HasName(columns, r.Column) {
			columns = append(columns, r.Column)
		}
	}
	return columns
}
