package schema

import (
	"slices"

	"lastboard/internal/sqltext"
)

// alterColumns changes what columns are: what goes before what comes, and a type before
// what has to fit it, in whatever order they are written.
func (x *alteration) alterColumns() error {
	for turn := range 3 {
		for _, action := range x.actions {
			if turnOf(action) == turn {
				if err := x.alterColumn(action); err != nil {
					return err
				}
			}
		}
	}
	for _, action := range x.actions {
		if retype, ok := action.(*sqltext.SetType); ok {
			if err := x.After.Column(x.newName(retype.Column)).defaultFits(retype.At); err != nil {
				return err
			}
		}
	}
	return nil
}

// turnOf gives when an action has its turn among those that alter columns.
func turnOf(action sqltext.Action) int {
	goes := false
	switch action := action.(type) {
	case *sqltext.SetType:
		return 1
	case *sqltext.SetDefault:
		goes = action.Value == nil
	case *sqltext.SetExpression:
		goes = action.Value == nil
	case *sqltext.SetIdentity:
		goes = action.Identity == nil
	case *sqltext.SetOnUpdate:
		goes = !action.On
	}
	if goes {
		return 0
	}
	return 2
}

// alterColumn changes one attribute of a column.
func (x *alteration) alterColumn(action sqltext.Action) error {
	if _, ok := action.(*sqltext.Rebuild); ok {
		x.Rebuild = true
		return nil
	}
	var change func(c *Column) error
	switch action := action.(type) {
	case *sqltext.SetDefault:
		change = func(c *Column) error { return x.setDefault(c, action) }
	case *sqltext.SetNotNull:
		change = func(c *Column) error { return x.setNotNull(c, action) }
	case *sqltext.DropNotNull:
		change = func(c *Column) error { return x.dropNotNull(c, action) }
	case *sqltext.SetType:
		change = func(c *Column) error { return x.setType(c, action) }
	case *sqltext.SetExpression:
		change = func(c *Column) error { return x.setExpression(c, action) }
	case *sqltext.SetOnUpdate:
		change = func(c *Column) error { return setOnUpdate(c, action.On, action.At) }
	case *sqltext.SetIdentity:
		change = func(c *Column) error { return x.setIdentity(c, action) }
	case *sqltext.Restart:
		change = func(c *Column) error { return x.restart(c, action) }
	default:
		return nil
	}
	name := actionColumn(action)
	c := x.After.Column(x.newName(name))
	if old := x.Before.Column(name); old == nil || c == nil {
		return problem(action.Start(), "name-unknown", didYouMean(name, x.Before.ColumnNames()), "table %s has no column %s",
			x.Before.Name, name).of(name)
	}
	return change(c)
}

func (x *alteration) setDefault(c *Column, action *sqltext.SetDefault) error {
	c.Default = nil
	if action.Value == nil {
		return nil
	}
	if refs := sqltext.Refs(action.Value); len(refs) > 0 {
		return problem(action.At, "default-reads-row", "",
			"the default of %s uses column %s, and a default cannot read the row", c.Name, refs[0].Column)
	}
	if c.Generated != nil {
		return problem(action.At, "generated-default", "", "column %s is generated and cannot have a default", c.Name)
	}
	if c.Identity != nil {
		return problem(action.At, "identity-default", "", "column %s numbers itself and cannot have a default", c.Name)
	}
	c.Default = &Expr{Tree: valueOf(c.Type, action.Value)}
	return c.defaultFits(action.At)
}

func (x *alteration) setNotNull(c *Column, action *sqltext.SetNotNull) error {
	c.NotNull = true
	if action.Using == nil {
		return nil
	}
	if c.Generated != nil {
		return problem(action.At, "generated-set", "leave out using", "column %s is generated and computes itself", c.Name)
	}
	if f, ok := x.Fill[c.Name]; ok && !f.OnlyNull {
		return problem(action.At, "action-conflict", "say it in the one using: coalesce(…, …)",
			"column %s gets its values from set data type already", c.Name)
	}
	if err := resolve(x.Before, action.Using); err != nil {
		return err
	}
	x.Fill[c.Name] = Fill{Expr: action.Using, OnlyNull: true}
	return nil
}

func (x *alteration) dropNotNull(c *Column, action *sqltext.DropNotNull) error {
	if x.After.PrimaryKey != nil && HasName(x.After.PrimaryKey.Columns, c.Name) {
		return problem(action.At, "key-nullable", "", "column %s is part of the primary key and cannot be null", c.Name)
	}
	c.NotNull = false
	return nil
}

// setType changes a column's type. Every row is converted: by using, or by a cast
// that has to keep the value as it is.
func (x *alteration) setType(c *Column, action *sqltext.SetType) error {
	old := x.Before.Column(action.Column)
	if c.Identity != nil && !action.Type.IsInteger() {
		return problem(action.At, "identity-type", "", "column %s numbers itself and has to be of whole numbers", c.Name)
	}
	c.Type = action.Type
	c.Type.Pos = sqltext.Pos{}
	c.Declared, c.Limit = "", ""
	if !c.Type.IsText() && c.Type.Name != "enum" && !c.Type.Native {
		c.Collate = "" // of texts
	}
	if d := c.Default; d != nil && d.Tree != nil {
		if e := valueIn(c.Type, d.Tree); e != d.Tree {
			c.Default = &Expr{Tree: e}
		}
	}
	if c.Options["typeless"] != "" {
		c.Options = without(c.Options, "typeless")
	}
	if c.OnUpdateNow {
		if err := setOnUpdate(c, true, action.At); err != nil {
			return err
		}
	}
	if c.Generated != nil {
		if action.Using != nil || action.Restore != nil {
			return problem(action.At, "generated-set", "write set expression instead",
				"column %s is generated and computes itself", c.Name)
		}
		return nil
	}
	f := Fill{Expr: action.Using}
	if f.Expr == nil {
		f.Expr, f.Cast = &sqltext.Cast{X: &sqltext.Ref{Column: old.Name}, Type: c.Type}, true
	} else if err := resolve(x.Before, f.Expr); err != nil {
		return err
	}
	x.Fill[c.Name] = f
	if action.Restore != nil {
		x.Restore[old.Name] = action.Restore
	}
	if action.Discard {
		x.Discard[old.Name] = true
	}
	return nil
}

func without(options map[string]string, key string) map[string]string {
	out := map[string]string{}
	for k, v := range options {
		if k != key {
			out[k] = v
		}
	}
	return out
}

// setExpression gives a generated column another formula, or makes it an ordinary
// column that holds what was computed.
func (x *alteration) setExpression(c *Column, action *sqltext.SetExpression) error {
	switch {
	case c.Generated == nil:
		return problem(action.At, "not-generated", "add a generated column, and drop this one", "column %s is not generated",
			c.Name)
	case action.Value == nil:
		c.Generated = nil
	default:
		c.Generated = &Generated{Expr: Expr{Tree: action.Value}, Stored: c.Generated.Stored}
	}
	return nil
}

// setOnUpdate lets a column take the time of every update, or no more.
func setOnUpdate(c *Column, on bool, at sqltext.Pos) error {
	if on && (c.Type.Name != "timestamp" && c.Type.Name != "timestamp with time zone" || c.Generated != nil) {
		return problem(at, "on-update-type", "make it a timestamp",
			"column %s is %s, and only a timestamp can take the time of each update", c.Name, c.Type)
	}
	c.OnUpdateNow = on
	return nil
}

func (x *alteration) setIdentity(c *Column, action *sqltext.SetIdentity) error {
	if action.Identity == nil {
		if c.Identity == nil {
			return problem(action.At, "not-identity", "", "column %s does not number itself", c.Name)
		}
		c.Identity = nil
		return nil
	}
	if c.Identity != nil {
		return problem(action.At, "identity-twice", "", "column %s numbers itself already", c.Name)
	}
	if c.Default != nil || c.Generated != nil {
		return problem(action.At, "identity-default", "drop the default first",
			"column %s has a default or is generated, and cannot number itself, too", c.Name)
	}
	c.NotNull = true
	return x.identity(x.After, c, action.Identity, action.At)
}

// identity lets a column number itself. That it is the key is asserted when the
// whole table is known.
func (a *applier) identity(t *Table, c *Column, i *sqltext.Identity, at sqltext.Pos) error {
	if !c.Type.IsInteger() {
		return problem(at, "identity-type", "", "column %s is %s, and only whole numbers can number rows", c.Name, c.Type)
	}
	c.Identity = &sqltext.Identity{Always: i.Always}
	a.start = i.Start
	return nil
}

func (x *alteration) restart(c *Column, action *sqltext.Restart) error {
	if c.Identity == nil {
		return problem(action.At, "not-identity", "write add generated by default as identity first",
			"column %s does not number itself", c.Name)
	}
	n := action.With
	x.start = &n
	return nil
}

// positions puts columns where they are wanted. Several after one column stand in
// the order in which they are written.
func (x *alteration) positions(action sqltext.Action) error {
	var name string
	var place sqltext.Place
	switch action := action.(type) {
	case *sqltext.AddColumn:
		if action.Column.Position == nil {
			return nil
		}
		name, place = action.Column.Name, *action.Column.Position
	case *sqltext.SetPosition:
		name, place = x.newName(action.Column), action.Position
	default:
		return nil
	}
	c := x.After.Column(name)
	if c == nil {
		return problem(action.Start(), "name-unknown", didYouMean(name, x.Before.ColumnNames()), "table %s has no column %s",
			x.Before.Name, name).of(name)
	}
	anchor := ""
	if place.After != "" {
		a := x.After.Column(place.After)
		if a == nil {
			return problem(action.Start(), "name-unknown", didYouMean(place.After, x.After.ColumnNames()),
				"table %s has no column %s to stand after", x.Before.Name, place.After).of(place.After)
		}
		if a == c {
			return problem(action.Start(), "action-conflict", "", "column %s cannot stand after itself", c.Name)
		}
		anchor = a.Name
	}
	columns := slices.DeleteFunc(slices.Clone(x.After.Columns), func(o *Column) bool { return o == c })
	at := slices.IndexFunc(columns, func(o *Column) bool { return o.Name == anchor }) + 1
	for at < len(columns) {
		if p, ok := x.Placed[columns[at].Name]; !ok || p.After != anchor {
			break
		}
		at++
	}
	x.After.Columns = slices.Insert(columns, at, c)
	x.Placed[c.Name] = sqltext.Place{After: anchor, Rebuild: place.Rebuild}
	return nil
}

func (x *alteration) addConstraints(action sqltext.Action) error {
	add, ok := action.(*sqltext.AddConstraint)
	if !ok {
		return nil
	}
	if err := x.addConstraint(x.After, add.Constraint, true); err != nil {
		return err
	}
	if k := x.After.PrimaryKey; add.Constraint.Kind == sqltext.PrimaryKey {
		for _, name := range k.Columns {
			x.After.Column(name).NotNull = true
		}
	}
	return nil
}
