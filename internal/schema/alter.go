package schema

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// alterTable applies the actions as a set: what is dropped goes first, then
// names change, then columns and constraints come and change, and the table's own
// name last.
func (a *applier) alterTable(st *sqltext.AlterTable) error {
	a.change.What = "alter table " + st.Table.Name
	before, err := a.table(st.Table)
	if err != nil {
		return err
	}
	after := before.copy()
	c := &TableChange{
		Before: before, After: after, From: map[string]string{}, Fill: map[string]Fill{},
		Restore: map[string]sqltext.Expr{}, Discard: map[string]bool{}, Placed: map[string]sqltext.Place{},
	}
	for _, col := range before.Columns {
		c.From[col.Name] = col.Name
	}
	x := &alteration{applier: a, TableChange: c, actions: st.Actions}
	if err := x.oneOfAKind(st.Actions); err != nil {
		return err
	}
	a.after.put(before.Name, after)
	if err := x.each(x.dropConstraints, x.dropColumns, x.dropped, x.renames, x.additions); err != nil {
		return err
	}
	if err := x.alterColumns(); err != nil {
		return err
	}
	if err := x.each(x.positions, x.addConstraints, x.renameConstraints, x.renameTable); err != nil {
		return err
	}
	c.restoreMeanings()
	if len(c.Renamed()) > 0 || after.Name != before.Name {
		after.nameImplied()
	}
	for _, name := range slices.Sorted(maps.Keys(c.Restore)) {
		if err := resolve(after, c.Restore[name]); err != nil {
			return err
		}
	}
	c.Start = a.start
	a.change.Table = c
	return a.validate(after, st.At)
}

type alteration struct {
	*applier
	*TableChange
	actions []sqltext.Action
}

// each lets one phase after another see all actions.
func (x *alteration) each(phases ...func(sqltext.Action) error) error {
	for _, phase := range phases {
		for _, action := range x.actions {
			if err := phase(action); err != nil {
				return err
			}
		}
	}
	return nil
}

// oneOfAKind refuses two actions of one kind on one column, and resolves nothing yet.
func (x *alteration) oneOfAKind(actions []sqltext.Action) error {
	seen := map[string]bool{}
	for _, action := range actions {
		column := actionColumn(action)
		if column == "" {
			continue
		}
		key := strings.ToLower(action.Verb() + " " + column)
		if seen[key] {
			return problem(action.Start(), "action-twice", "", "the statement says %s twice for column %s", action.Verb(),
				column)
		}
		seen[key] = true
	}
	return nil
}

func actionColumn(action sqltext.Action) string {
	switch action := action.(type) {
	case *sqltext.DropColumn:
		return action.Column
	case *sqltext.RenameColumn:
		return action.Column
	case *sqltext.SetDefault:
		return action.Column
	case *sqltext.SetNotNull:
		return action.Column
	case *sqltext.DropNotNull:
		return action.Column
	case *sqltext.SetType:
		return action.Column
	case *sqltext.SetExpression:
		return action.Column
	case *sqltext.SetOnUpdate:
		return action.Column
	case *sqltext.SetIdentity:
		return action.Column
	case *sqltext.Restart:
		return action.Column
	case *sqltext.SetPosition:
		return action.Column
	}
	return ""
}

func (x *alteration) dropConstraints(action sqltext.Action) error {
	if _, ok := action.(*sqltext.DropPrimaryKey); ok {
		return x.dropPrimaryKey(action.Start())
	}
	drop, ok := action.(*sqltext.DropConstraint)
	if !ok {
		return nil
	}
	t := x.After
	switch kind := t.constraint(drop.Name); kind {
	case "":
		return problem(drop.At, "name-unknown", didYouMean(drop.Name, t.constraintNames()), "table %s has no constraint %s",
			t.Name, drop.Name).of(drop.Name)
	case "primary key":
		return x.dropPrimaryKey(drop.At)
	}
	t.Checks = slices.DeleteFunc(t.Checks, func(k *Check) bool { return SameName(k.Name, drop.Name) })
	t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys, func(k *ForeignKey) bool { return SameName(k.Name, drop.Name) })
	for _, k := range t.Uniques {
		if SameName(k.Name, drop.Name) {
			if err := x.unreferred(k, drop.At); err != nil {
				return err
			}
		}
	}
	t.Uniques = slices.DeleteFunc(t.Uniques, func(k *Key) bool { return SameName(k.Name, drop.Name) })
	return nil
}

// unreferred refuses to drop a key that foreign keys refer to.
func (x *alteration) unreferred(k *Key, at sqltext.Pos) error {
	for _, other := range x.after.Tables {
		for _, fk := range other.ForeignKeys {
			if SameName(fk.Table, x.After.Name) && slices.EqualFunc(fk.References, k.Columns, SameName) {
				return problem(at, "name-in-use", "drop the foreign key first",
					"foreign key %s of table %s refers to the columns of %s", fk.Name, other.Name, k.Name)
			}
		}
	}
	return nil
}

func (x *alteration) dropPrimaryKey(at sqltext.Pos) error {
	t := x.After
	if t.PrimaryKey == nil {
		return problem(at, "name-unknown", "", "table %s has no primary key", t.Name)
	}
	if err := x.unreferred(t.PrimaryKey, at); err != nil {
		return err
	}
	t.PrimaryKey = nil
	return nil
}

func (t *Table) constraintNames() []string {
	var names []string
	if t.PrimaryKey != nil {
		names = append(names, t.PrimaryKey.Name)
	}
	for _, k := range t.Uniques {
		names = append(names, k.Name)
	}
	for _, k := range t.Checks {
		names = append(names, k.Name)
	}
	for _, k := range t.ForeignKeys {
		names = append(names, k.Name)
	}
	return names
}

func (x *alteration) dropColumns(action sqltext.Action) error {
	drop, ok := action.(*sqltext.DropColumn)
	if !ok {
		return nil
	}
	names, err := x.columns(x.Before, []string{drop.Column}, drop.At)
	if err != nil {
		return err
	}
	name := names[0]
	x.After.Columns = slices.DeleteFunc(x.After.Columns, func(c *Column) bool { return c.Name == name })
	delete(x.From, name)
	if len(x.After.Columns) == 0 {
		return problem(drop.At, "table-without-columns", "write drop table "+x.Before.Name,
			"%s is the last column of table %s", name, x.Before.Name)
	}
	if drop.Restore != nil && x.Before.Column(name).Generated != nil {
		return problem(drop.At, "generated-set", "leave out restore using",
			"column %s is generated and computes itself when it comes back", name)
	}
	if drop.Restore != nil {
		x.Restore[name] = drop.Restore
	}
	if drop.Discard {
		x.Discard[name] = true
	}
	return nil
}

// dropped refuses to drop a column that something needs which stays.
func (x *alteration) dropped(action sqltext.Action) error {
	drop, ok := action.(*sqltext.DropColumn)
	if !ok {
		return nil
	}
	if users := x.users(drop.Column); len(users) > 0 {
		return problem(drop.At, "name-in-use", "drop what needs it first, in the same migration or before it",
			"column %s of table %s is needed by %s", drop.Column, x.Before.Name, strings.Join(users, ", "))
	}
	return nil
}

// users names what within the tables needs a column and is not dropped with it.
func (x *alteration) users(column string) []string {
	var users []string
	t := x.After
	if t.PrimaryKey != nil && HasName(t.PrimaryKey.Columns, column) {
		users = append(users, "the primary key")
	}
	for _, k := range t.Uniques {
		if HasName(k.Columns, column) {
			users = append(users, "unique constraint "+k.Name)
		}
	}
	for _, k := range t.Checks {
		if k.Expr.Mentions(column) {
			users = append(users, "check "+k.Name)
		}
	}
	for _, k := range t.ForeignKeys {
		if HasName(k.Columns, column) {
			users = append(users, "foreign key "+k.Name)
		}
	}
	for _, i := range t.Indexes {
		if i.Uses(column) {
			users = append(users, "index "+i.Name)
		}
	}
	for _, c := range t.Columns {
		if c.Generated != nil && c.Generated.Expr.Mentions(column) {
			users = append(users, "generated column "+c.Name)
		}
	}
	for _, other := range x.after.Tables {
		for _, fk := range other.ForeignKeys {
			if SameName(fk.Table, t.Name) && HasName(fk.References, column) {
				users = append(users, fmt.Sprintf("foreign key %s of table %s", fk.Name, other.Name))
			}
		}
	}
	return users
}

// Uses reports whether the index reads a column.
func (i *Index) Uses(column string) bool {
	return i.Where.Mentions(column) || slices.ContainsFunc(i.Parts, func(p IndexPart) bool {
		return SameName(p.Column, column) || p.Expr.Mentions(column)
	})
}

func (x *alteration) renames(action sqltext.Action) error {
	r, ok := action.(*sqltext.RenameColumn)
	if !ok {
		return nil
	}
	names, err := x.columns(x.Before, []string{r.Column}, r.At)
	if err != nil {
		return err
	}
	old := names[0]
	if taken := x.Before.Column(r.To); taken != nil && !(SameName(taken.Name, old) && r.To != old) {
		return problem(r.At, "name-taken", "rename in two migrations", "table %s has a column %s already", x.Before.Name,
			taken.Name)
	}
	c := x.After.Column(old)
	if slices.ContainsFunc(x.actions, func(o sqltext.Action) bool {
		add, ok := o.(*sqltext.AddColumn)
		return ok && SameName(add.Column.Name, old)
	}) {
		return problem(r.At, "action-conflict", "rename in one migration and add in the next",
			"%s is renamed and added in one statement", old)
	}
	if c == nil {
		return problem(r.At, "action-conflict", "", "column %s is dropped in the same statement", old)
	}
	c.Name = r.To
	delete(x.From, old)
	x.From[r.To] = old
	x.renameUses(old, r.To)
	return nil
}

func (x *alteration) additions(action sqltext.Action) error {
	add, ok := action.(*sqltext.AddColumn)
	if !ok {
		return nil
	}
	if err := x.addColumn(x.After, add.Column, true); err != nil {
		return err
	}
	name := add.Column.Name
	switch {
	case add.Using != nil && add.Column.Generated != nil:
		return problem(add.At, "generated-set", "leave out using", "column %s is generated and computes itself", name)
	case add.Using != nil:
		if err := resolve(x.Before, add.Using); err != nil {
			return err
		}
		x.Fill[name] = Fill{Expr: add.Using}
	case add.Column.Default != nil && !Constant(add.Column.Default):
		x.Fill[name] = Fill{Expr: add.Column.Default}
	}
	return nil
}

// Constant reports whether an expression is a plain value.
func Constant(e sqltext.Expr) bool {
	switch e := e.(type) {
	case *sqltext.Literal, *sqltext.Typed:
		return true
	case *sqltext.Unary:
		return e.Op != "not" && Constant(e.X)
	}
	return false
}

// newName gives what a column of Before is called in After.
func (x *alteration) newName(old string) string {
	for to, from := range x.From {
		if SameName(from, old) {
			return to
		}
	}
	return old
}
