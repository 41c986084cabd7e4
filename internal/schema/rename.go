package schema

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// renameUses gives everything that uses a column of the table its new name.
func (x *alteration) renameUses(old, to string) {
	t := x.After
	renameIn(t, old, to)
	for _, other := range x.after.Tables {
		for i, fk := range other.ForeignKeys {
			if !SameName(fk.Table, t.Name) || !HasName(fk.References, old) {
				continue
			}
			if other != t {
				other = x.own(other)
			}
			c := *fk
			c.References = renamedIn(fk.References, old, to)
			other.ForeignKeys[i] = &c
		}
	}
}

func renamedIn(names []string, old, to string) []string {
	names = slices.Clone(names)
	for i, n := range names {
		if SameName(n, old) {
			names[i] = to
		}
	}
	return names
}

// renameIn gives a column's uses within its table their new name.
func renameIn(t *Table, old, to string) {
	key := func(k *Key) *Key {
		c := *k
		c.Columns = renamedIn(k.Columns, old, to)
		return &c
	}
	if t.PrimaryKey != nil {
		t.PrimaryKey = key(t.PrimaryKey)
	}
	for i, k := range t.Uniques {
		t.Uniques[i] = key(k)
	}
	for i, k := range t.Checks {
		c := *k
		c.Expr = *k.Expr.renamed(old, to)
		if SameName(c.Column, old) {
			c.Column = to
		}
		t.Checks[i] = &c
	}
	for _, c := range t.Columns {
		if c.Generated != nil {
			c.Generated = &Generated{*c.Generated.Expr.renamed(old, to), c.Generated.Stored}
		}
	}
	for i, k := range t.Indexes {
		c := *k
		c.Where = k.Where.renamed(old, to)
		c.Parts = slices.Clone(k.Parts)
		if d := k.Options["definition"]; d != "" {
			c.Options = maps.Clone(k.Options)
			c.Options["definition"] = renameWords(d, old, to)
		}
		for j := range c.Parts {
			c.Parts[j].Expr = c.Parts[j].Expr.renamed(old, to)
			if SameName(c.Parts[j].Column, old) {
				c.Parts[j].Column = to
			}
		}
		t.Indexes[i] = &c
	}
	for i, fk := range t.ForeignKeys {
		c := *fk
		c.Columns = renamedIn(fk.Columns, old, to)
		if SameName(fk.Table, t.Name) {
			c.References = renamedIn(fk.References, old, to)
		}
		t.ForeignKeys[i] = &c
	}
}

// own puts a copy of another table, which the statement may change, in its place.
func (x *alteration) own(other *Table) *Table {
	changed := other.copy()
	x.after.put(other.Name, changed)
	return changed
}

// renameTable gives the table its new name, with all that refers to it.
func (x *alteration) renameTable(action sqltext.Action) error {
	r, ok := action.(*sqltext.RenameTable)
	if !ok {
		return nil
	}
	t := x.After
	to, ns := r.To, ""
	if s, _, ok := strings.Cut(t.Name, "."); ok && x.after.Home != "" {
		ns, to = s, s+"."+r.To // it stays in its schema
	}
	if !SameName(to, t.Name) {
		if err := x.free(sqltext.Name{Schema: ns, Name: r.To, Pos: r.At}); err != nil {
			return err
		}
	}
	old := t.Name
	for _, other := range slices.Clone(x.after.Tables) {
		if !slices.ContainsFunc(other.ForeignKeys, func(k *ForeignKey) bool { return SameName(k.Table, old) }) {
			continue
		}
		if other != t {
			other = x.own(other)
		}
		referTo(other, old, to)
	}
	t.Name = to
	x.after.PutParts(old, t)
	return nil
}

// referTo lets the foreign keys of a table refer to another table by its new name.
func referTo(t *Table, old, to string) {
	for i, fk := range t.ForeignKeys {
		if SameName(fk.Table, old) {
			c := *fk
			c.Table = to
			t.ForeignKeys[i] = &c
		}
	}
}

func (x *alteration) renameConstraints(action sqltext.Action) error {
	r, ok := action.(*sqltext.RenameConstraint)
	if !ok {
		return nil
	}
	t := x.After
	if t.constraint(r.Name) == "" {
		return problem(r.At, "name-unknown", didYouMean(r.Name, t.constraintNames()), "table %s has no constraint %s", t.Name,
			r.Name).of(r.Name)
	}
	if kind := t.constraint(r.To); kind != "" {
		return problem(r.At, "name-taken", "", "table %s has a %s %s already", t.Name, kind, r.To)
	}
	key := func(k *Key) *Key {
		if k == nil || !SameName(k.Name, r.Name) {
			return k
		}
		c := *k
		c.Name, c.Implied = r.To, false
		return &c
	}
	t.PrimaryKey = key(t.PrimaryKey)
	for i, k := range t.Uniques {
		t.Uniques[i] = key(k)
	}
	for i, k := range t.Checks {
		if SameName(k.Name, r.Name) {
			c := *k
			c.Name, c.Implied = r.To, false
			t.Checks[i] = &c
		}
	}
	for i, k := range t.ForeignKeys {
		if SameName(k.Name, r.Name) {
			c := *k
			c.Name, c.Implied = r.To, false
			t.ForeignKeys[i] = &c
		}
	}
	return nil
}

// nameImplied names again what the database holds no name for: those names are
// made of the names of the table and its columns.
func (t *Table) nameImplied() {
	key := func(k *Key) *Key {
		if k == nil || !k.Implied {
			return k
		}
		c := *k
		c.Name = ""
		return &c
	}
	t.PrimaryKey = key(t.PrimaryKey)
	for i, k := range t.Uniques {
		t.Uniques[i] = key(k)
	}
	for i, k := range t.Checks {
		if k.Implied {
			c := *k
			c.Name = ""
			t.Checks[i] = &c
		}
	}
	for i, k := range t.ForeignKeys {
		if k.Implied {
			c := *k
			c.Name = ""
			t.ForeignKeys[i] = &c
		}
	}
	if k := t.PrimaryKey; k != nil && k.Name == "" {
		k.Name = ConstraintName(t, k.Columns, "primary")
	}
	for _, k := range t.Uniques {
		if k.Name == "" {
			k.Name = ConstraintName(t, k.Columns, "unique")
		}
	}
	for _, k := range t.Checks {
		if k.Name == "" {
			k.Name = ConstraintName(t, t.Mentioned(k.Expr), "check")
		}
	}
	for _, k := range t.ForeignKeys {
		if k.Name == "" {
			k.Name = ConstraintName(t, k.Columns, "reference")
		}
	}
}

// Mentioned lists the columns that an expression uses, in their order there.
func (t *Table) Mentioned(e Expr) []string {
	text := e.Native
	if text == "" {
		text = e.String()
	}
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	var list []string
	for _, tok := range tokens {
		if tok.Kind != sqltext.Word && tok.Kind != sqltext.Quoted {
			continue
		}
		if c := t.Column(tok.Value); c != nil && !HasName(list, c.Name) {
			list = append(list, c.Name)
		}
	}
	return list
}

// Renamed gives the table as it would be if it and its columns had other names.
func (t *Table) Renamed(name string, columns map[string]string) *Table {
	c := t.copy()
	for from, to := range columns {
		c.Column(from).Name = to
		renameIn(c, from, to)
	}
	if c.Name != name {
		referTo(c, c.Name, name)
		c.Name = name
	}
	if len(columns) > 0 || t.Name != name {
		c.nameImplied()
	}
	return c
}
