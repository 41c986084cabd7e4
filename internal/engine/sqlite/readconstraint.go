package sqlite

import (
	"slices"
	"strings"

	"lastboard/internal/schema"
)

func (r *reader) primary(k *schema.Key) {
	if r.table.PrimaryKey != nil {
		r.fail("it has two primary keys")
	}
	r.table.PrimaryKey = k
}

func (r *reader) conflict(o map[string]string) {
	if r.accept("on", "conflict") {
		o["on conflict"] = strings.ToLower(r.name())
	}
}

func (r *reader) check(c *schema.Column, name string) {
	r.expect("check")
	text := r.inside()
	if c != nil && r.limit(c, name, text) {
		return
	}
	k := &schema.Check{Name: name, Expr: schema.Expr{Native: text}, Options: map[string]string{}}
	r.conflict(k.Options)
	r.table.Checks = append(r.table.Checks, k)
}

// limits takes checks for what enforces the types of columns that do not stand before them alone: it
// means the same wherever it is written.
func (r *reader) limits() {
	r.table.Checks = slices.DeleteFunc(r.table.Checks, func(k *schema.Check) bool {
		return len(k.Options) == 0 && slices.ContainsFunc(r.table.Columns, func(c *schema.Column) bool {
			return r.limit(c, k.Name, k.Expr.Native)
		})
	})
}

// limit takes a check for what enforces the type of a column, if it is.
func (r *reader) limit(c *schema.Column, name, text string) bool {
	t, ok := readLimit(c, name, text)
	if !ok || c.Limit != "" {
		return false
	}
	c.Type, c.Limit = t, name
	if strings.EqualFold(declaration(&schema.Column{Type: c.Type}, false), c.Declared) {
		c.Declared = ""
	}
	return true
}

func (r *reader) foreignKey(k *schema.ForeignKey) {
	r.expect("references")
	k.Options = map[string]string{}
	k.Table = r.name()
	if r.is("(") {
		k.References = r.names(nil)
	} else {
		k.Options["references"] = "implied"
	}
	r.table.ForeignKeys = append(r.table.ForeignKeys, k)
	for {
		switch {
		case r.accept("on", "delete"):
			k.OnDelete = r.act()
		case r.accept("on", "update"):
			k.OnUpdate = r.act()
		case r.accept("match"):
			k.Options["match"] = strings.ToLower(r.name())
		case r.is("deferrable"), r.is("not", "deferrable"):
			r.deferrable(r.table.ForeignKeys)
		default:
			return
		}
	}
}

func (r *reader) deferrable(keys []*schema.ForeignKey) {
	if len(keys) == 0 {
		r.fail("%q is not understood", r.tok().Text)
	}
	text := ""
	if r.accept("not") {
		text = "not "
	}
	r.expect("deferrable")
	text += "deferrable"
	if r.accept("initially") {
		text += " initially " + strings.ToLower(r.name())
	}
	keys[len(keys)-1].Options["deferrable"] = text
}

func (r *reader) act() string {
	for _, words := range [][]string{{"cascade"}, {"restrict"}, {"set", "null"}, {"set", "default"}, {"no", "action"}} {
		if r.accept(words...) {
			return strings.Join(words, " ")
		}
	}
	r.fail("%q is no action of a foreign key", r.tok().Text)
	return ""
}

func (r *reader) tableConstraint() bool {
	if !r.constraintNext() {
		return false
	}
	name := ""
	for r.accept("constraint") {
		name = r.name()
	}
	switch {
	case r.accept("primary", "key"):
		k := &schema.Key{Name: name, Options: map[string]string{}}
		k.Columns = r.names(k.Options)
		if r.accept("autoincrement") {
			r.fail("autoincrement behind a list of columns is not understood")
		}
		r.conflict(k.Options)
		r.primary(k)
	case r.accept("unique"):
		k := &schema.Key{Name: name, Options: map[string]string{}}
		k.Columns = r.names(k.Options)
		r.conflict(k.Options)
		r.table.Uniques = append(r.table.Uniques, k)
	case r.is("check"):
		r.check(nil, name)
	case r.accept("foreign", "key"):
		columns := r.names(nil)
		r.foreignKey(&schema.ForeignKey{Name: name, Columns: columns})
	default:
		r.fail("%q is not understood", r.tok().Text)
	}
	return true
}

// finish names what has no name, and settles what needs the whole table.
func (r *reader) finish() {
	t := r.table
	settle := func(e *schema.Expr) {
		if e != nil {
			*e = expr(t, e.Native)
		}
	}
	for _, c := range t.Columns {
		settle(c.Default)
		if c.Generated != nil {
			settle(&c.Generated.Expr)
		}
	}
	columnName := func(names []string) []string {
		for i, n := range names {
			c := t.Column(n)
			if c == nil {
				r.fail("there is no column %s", n)
			}
			names[i] = c.Name
		}
		return names
	}
	implied := func(name *string, columns []string, kind string) bool {
		if *name != "" {
			return false
		}
		*name = schema.ConstraintName(t, columns, kind)
		return true
	}
	if k := t.PrimaryKey; k != nil {
		columnName(k.Columns)
		k.Implied = implied(&k.Name, k.Columns, "primary")
		for _, n := range k.Columns {
			c := t.Column(n)
			alias := len(k.Columns) == 1 && c.Type.Name == "integer" && strings.EqualFold(declaration(c, false), "integer") &&
				t.Options["without rowid"] == ""
			if !c.NotNull && (alias || t.Options["without rowid"] != "") {
				c.NotNull = true
				if c.Options == nil {
					c.Options = map[string]string{}
				}
				c.Options["implied not null"] = "yes"
			}
		}
	}
	for _, k := range t.Uniques {
		columnName(k.Columns)
		k.Implied = implied(&k.Name, k.Columns, "unique")
	}
	for _, k := range t.Checks {
		settle(&k.Expr)
		k.Implied = implied(&k.Name, t.Mentioned(k.Expr), "check")
	}
	for _, k := range t.ForeignKeys {
		columnName(k.Columns)
		k.Implied = implied(&k.Name, k.Columns, "reference")
	}
}
