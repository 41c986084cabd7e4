package restate

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Part is a statement with what a person should know of it.
type Part struct {
	Statement sqltext.Statement
	// Decide are questions that only a person can answer; Notes are remarks.
	Decide, Notes []string
}

// Table gives the statements that make one table into another: both may have the
// same name alone. text tells whether two expressions mean the same.
func Table(from, to *schema.Table, text schema.Text) []Part {
	b := &between{from: from, to: to, text: text}
	b.constraints()
	b.columns()
	b.keys()
	if len(b.actions) > 0 {
		b.order()
	}
	var parts []Part
	if len(b.actions) > 0 {
		parts = append(parts, Part{&sqltext.AlterTable{Table: sqltext.Name{Name: to.Name}, Actions: b.actions}, b.decide,
			b.notes})
	} else if len(b.notes) > 0 {
		parts = append(parts, Part{Notes: b.notes})
	}
	dropped, made := b.indexes()
	return append(append(dropped, parts...), append(made, b.comments()...)...)
}

type between struct {
	from, to      *schema.Table
	text          schema.Text
	actions       []sqltext.Action
	decide, notes []string
}

func (b *between) add(a sqltext.Action) { b.actions = append(b.actions, a) }

func (b *between) note(format string, args ...any) {
	b.notes = append(b.notes, fmt.Sprintf(format, args...))
}

func (b *between) same(x, y *schema.Expr) bool {
	if x == nil || y == nil {
		return x == y
	}
	return schema.SameExpr(x, y, b.text)
}

// constraints drops those that are gone and adds those that are new. One that has
// another name alone is renamed.
func (b *between) constraints() {
	type constraint struct {
		name string
		what string // equal for two that mean the same, as their expressions are
		expr *schema.Expr
		add  *sqltext.Constraint
	}
	list := func(t *schema.Table) []constraint {
		var list []constraint
		for _, k := range t.Uniques {
			list = append(list, constraint{k.Name, "unique " + strings.ToLower(strings.Join(k.Columns, ", ")), nil, Unique(k)})
		}
		for _, k := range t.Checks {
			list = append(list, constraint{k.Name, "check", &k.Expr, Check(k)})
		}
		for _, k := range t.ForeignKeys {
			c := ForeignKey(k)
			act := func(a string) string { return strings.TrimPrefix(a, "no action") }
			what := fmt.Sprint("foreign key ", k.Columns, k.Table, k.References, act(k.OnDelete), "/", act(k.OnUpdate))
			list = append(list, constraint{k.Name, strings.ToLower(what), nil, c})
		}
		return list
	}
	before, after := list(b.from), list(b.to)
	find := func(list []constraint, c constraint) int {
		return slices.IndexFunc(list, func(o constraint) bool { return o.what == c.what && b.same(o.expr, c.expr) })
	}
	for _, c := range before {
		i := find(after, c)
		switch {
		case i < 0:
			b.add(&sqltext.DropConstraint{Name: c.name})
		case !schema.SameName(after[i].name, c.name):
			b.add(&sqltext.RenameConstraint{Name: c.name, To: after[i].name})
		}
	}
	for _, c := range after {
		switch {
		case find(before, c) >= 0:
		case c.add.Kind == sqltext.Check && c.add.Expr == nil:
			b.note("check %s cannot be said in the language: write it with native", c.name)
		default:
			c.add.Name = c.name
			b.add(&sqltext.AddConstraint{Constraint: c.add})
		}
	}
}

func (b *between) columns() {
	var dropped, added []*schema.Column
	for _, c := range b.from.Columns {
		if b.to.Column(c.Name) == nil {
			dropped = append(dropped, c)
			b.add(&sqltext.DropColumn{Column: c.Name})
		}
	}
	for _, c := range b.to.Columns {
		if old := b.from.Column(c.Name); old != nil {
			b.column(old, c)
			continue
		}
		added = append(added, c)
		def, ok := Column(c)
		if !ok {
			b.note("column %s cannot be said in the language: write it with native", c.Name)
			continue
		}
		b.add(&sqltext.AddColumn{Column: def})
		if c.NotNull && c.Default == nil && c.Generated == nil && c.Identity == nil {
			b.note("column %s is not null: say with using (…) what existing rows get", c.Name)
		}
	}
	for _, a := range added {
		var names []string
		for _, d := range likely(a, dropped) {
			names = append(names, d.Name)
		}
		one, which := "", ""
		switch {
		case len(names) == 0:
			continue
		case len(names) > 1:
			one, which = "one of ", "that one"
		default:
			which = names[0]
		}
		b.decide = append(b.decide, fmt.Sprintf("is %s.%s another name for %s%s? Then write: rename column %s to %s, "+
			"instead of the drop and the add", b.to.Name, a.Name, one, strings.Join(names, ", "), which, a.Name))
	}
}

// likely gives the columns that an added one may have been: those of its type,
// else of its kind, else all.
func likely(a *schema.Column, dropped []*schema.Column) []*schema.Column {
	for _, same := range []func(t sqltext.Type) bool{
		a.Type.Equal,
		func(t sqltext.Type) bool { return t.Name == a.Type.Name },
		func(t sqltext.Type) bool { return t.IsText() == a.Type.IsText() && t.IsInteger() == a.Type.IsInteger() },
	} {
		var list []*schema.Column
		for _, d := range dropped {
			if same(d.Type) {
				list = append(list, d)
			}
		}
		if len(list) > 0 {
			return list
		}
	}
	return dropped
}

// order notes that columns stand in another order: only a copy of the table moves
// them, so that it is for a person to ask for it.
func (b *between) order() {
	var before, after []string
	for _, c := range b.from.Columns {
		if b.to.Column(c.Name) != nil {
			before = append(before, strings.ToLower(c.Name))
		}
	}
	for _, c := range b.to.Columns {
		if b.from.Column(c.Name) != nil {
			after = append(after, strings.ToLower(c.Name))
		}
	}
	if !slices.Equal(before, after) {
		b.note("the order of the columns differs (wanted: %s); alter column … set position … rebuild moves one, at the "+
			"cost of a copy of the table", strings.Join(after, ", "))
	}
}

// column alters what differs between two columns of one name.
func (b *between) column(old, c *schema.Column) {
	name := old.Name
	if old.Name != c.Name {
		b.add(&sqltext.RenameColumn{Column: old.Name, To: c.Name})
	}
	switch {
	case old.Generated == nil && c.Generated != nil:
		b.note("column %s is to be generated: add a generated column, and drop this one", name)
	case old.Generated != nil && c.Generated == nil:
		b.add(&sqltext.SetExpression{Column: name})
	case old.Generated != nil && !b.same(&old.Generated.Expr, &c.Generated.Expr) && c.Generated.Expr.Tree != nil:
		b.add(&sqltext.SetExpression{Column: name, Value: c.Generated.Expr.Tree})
	}
	if old.Generated != nil && c.Generated != nil && old.Generated.Stored != c.Generated.Stored {
		b.note("column %s: whether it is stored cannot be changed in place: drop it and add it anew", name)
	}
	if !old.Type.Equal(c.Type) {
		b.add(&sqltext.SetType{Column: name, Type: c.Type})
	}
	if !b.same(old.Default, c.Default) {
		d := &sqltext.SetDefault{Column: name}
		if c.Default != nil {
			if d.Value = c.Default.Tree; d.Value == nil {
				b.note("the default of %s cannot be said in the language", name)
				return
			}
		}
		b.add(d)
	}
	if (old.Identity == nil) != (c.Identity == nil) {
		b.add(&sqltext.SetIdentity{Column: name, Identity: c.Identity})
	}
	switch {
	case old.NotNull == c.NotNull || b.inKey(c.Name):
	case c.NotNull:
		b.add(&sqltext.SetNotNull{Column: name})
	default:
		b.add(&sqltext.DropNotNull{Column: name})
	}
	if old.OnUpdateNow != c.OnUpdateNow {
		b.add(&sqltext.SetOnUpdate{Column: name, On: c.OnUpdateNow})
	}
	if !strings.EqualFold(old.Collate, c.Collate) {
		b.note("column %s compares by %s and is to compare by %s: no statement changes that", name, collation(old.Collate),
			collation(c.Collate))
	}
}

func collation(name string) string {
	if name == "" {
		return "the engine's own order"
	}
	return name
}

func (b *between) inKey(column string) bool {
	return b.to.PrimaryKey != nil && schema.HasName(b.to.PrimaryKey.Columns, column)
}

func (b *between) keys() {
	from, to := b.from.PrimaryKey, b.to.PrimaryKey
	same := from == to || from != nil && to != nil && slices.EqualFunc(from.Columns, to.Columns, schema.SameName)
	switch {
	case same && from != nil && !from.Implied && !to.Implied && !schema.SameName(from.Name, to.Name):
		b.add(&sqltext.RenameConstraint{Name: from.Name, To: to.Name})
		return
	case same:
		return
	}
	if from != nil {
		b.add(&sqltext.DropPrimaryKey{})
	}
	if to != nil {
		b.add(&sqltext.AddConstraint{Constraint: PrimaryKey(to)})
	}
}

// indexes gives the statements for indexes: those that go before the table is
// altered, and those that come after.
func (b *between) indexes() (dropped, made []Part) {
	on := sqltext.Name{Name: b.to.Name}
	statement := func(t *schema.Table, x *schema.Index) string {
		if st, ok := CreateIndex(t, x); ok {
			return sqltext.PrintStatement(st)
		}
		return ""
	}
	for _, x := range b.from.Indexes {
		if y := b.to.Index(x.Name); y == nil || statement(b.from, x) != statement(b.to, y) {
			dropped = append(dropped, Part{Statement: &sqltext.DropIndex{Index: sqltext.Name{Name: x.Name}, Table: on}})
		}
	}
	for _, x := range b.to.Indexes {
		if y := b.from.Index(x.Name); y != nil && statement(b.from, y) == statement(b.to, x) {
			continue
		}
		if st, ok := CreateIndex(b.to, x); ok {
			made = append(made, Part{Statement: st})
		} else {
			made = append(made, Part{Notes: []string{"index " + x.Name +
				" cannot be said in the language: write it with native"}})
		}
	}
	return dropped, made
}

func (b *between) comments() []Part {
	var parts []Part
	one := func(column, old, text string) {
		if old == text {
			return
		}
		st := &sqltext.CommentOn{Table: sqltext.Name{Name: b.to.Name}, Column: column}
		if text != "" {
			st.Text = &text
		}
		parts = append(parts, Part{Statement: st})
	}
	one("", b.from.Comment, b.to.Comment)
	for _, c := range b.to.Columns {
		if old := b.from.Column(c.Name); old != nil {
			one(c.Name, old.Comment, c.Comment)
		}
	}
	return parts
}

// New gives the statements that make a table that is not there.
func New(t *schema.Table) []Part {
	st, ok := CreateTable(t)
	if !ok || t.Opaque != "" {
		return []Part{{Notes: []string{"table " + t.Name + " cannot be said in the language: write it with native"}}}
	}
	parts := []Part{{Statement: st}}
	b := &between{from: &schema.Table{}, to: t}
	_, made := b.indexes()
	if t.Comment != "" {
		made = append(made, Part{Statement: &sqltext.CommentOn{Table: sqltext.Name{Name: t.Name}, Text: &t.Comment}})
	}
	return append(parts, made...)
}

// Schema gives the statements that make all tables and views of one schema into
// those of another. A table that goes beside one that comes may have got another
// name: that is a person's to decide.
func Schema(from, to *schema.Schema, text schema.Text) []Part {
	var views, parts, last []Part
	for _, v := range from.Views {
		if w := to.View(v.Name); w == nil || schema.Words(w.Query) != schema.Words(v.Query) {
			views = append(views, Part{Statement: &sqltext.DropView{View: sqltext.Name{Name: v.Name}}})
		}
	}
	var added []string
	for _, t := range Ordered(to) {
		if old := from.Table(t.Name); old != nil {
			parts = append(parts, Table(old, t, text)...)
		} else {
			added = append(added, t.Name)
			parts = append(parts, New(t)...)
		}
	}
	ordered := Ordered(from)
	slices.Reverse(ordered) // what refers goes before what is referred to
	for _, t := range ordered {
		if to.Table(t.Name) != nil {
			continue
		}
		p := Part{Statement: &sqltext.DropTable{Table: sqltext.Name{Name: t.Name}}}
		p.Decide = append(p.Decide, fmt.Sprintf("is table %s to go, with its rows? What is wanted does not speak of it. "+
			"If it stays, delete the drop", t.Name))
		for _, a := range added {
			p.Decide = append(p.Decide, fmt.Sprintf("is table %s another name for %s? Then write: alter table %s rename to "+
				"%s, instead of the create and the drop", a, t.Name, t.Name, a))
		}
		parts = append(parts, p)
	}
	for _, w := range to.Views {
		if v := from.View(w.Name); v == nil || schema.Words(w.Query) != schema.Words(v.Query) {
			last = append(last, Part{Statement: &sqltext.CreateView{View: sqltext.Name{Name: w.Name},
				Query: sqltext.Query{Text: w.Query}}})
		}
	}
	return append(append(views, parts...), last...)
}

// DecideMark begins a comment that asks a person something: as long as it stands in a
// file, the migration is refused.
const DecideMark = "-- decide: "

// Text writes parts as the text of a migration.
func Text(parts []Part) string {
	var b strings.Builder
	for i, p := range parts {
		if i > 0 {
			b.WriteByte('\n')
		}
		for _, d := range p.Decide {
			b.WriteString(DecideMark + d + "; else delete this line.\n")
		}
		for _, n := range p.Notes {
			b.WriteString("-- " + n + ".\n")
		}
		if p.Statement != nil {
			b.WriteString(sqltext.PrintStatement(p.Statement) + ";\n")
		}
	}
	return b.String()
}
