package sqltext

import (
	"strconv"
	"strings"
)

// Print gives the statements of a file in their canonical form, without
// comments. Parsing what it gives leads to the same tree.
func Print(f *File) string {
	var b strings.Builder
	for i, s := range f.Statements {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(PrintStatement(s))
		b.WriteString(";\n")
	}
	return b.String()
}

// PrintStatement gives one statement in its canonical form, without a semicolon.
func PrintStatement(s Statement) string {
	switch s := s.(type) {
	case *CreateTable:
		return printCreateTable(s)
	case *DropTable:
		return "drop table " + s.Table.print() + discard(s.Discard)
	case *AlterTable:
		actions := make([]string, len(s.Actions))
		for i, a := range s.Actions {
			actions[i] = "\n  " + PrintAction(a)
		}
		return "alter table " + s.Table.print() + strings.Join(actions, ",")
	case *CreateIndex:
		return printCreateIndex(s)
	case *DropIndex:
		return "drop index " + s.Index.print() + " on " + s.Table.print()
	case *RenameIndex:
		return "alter index " + s.Index.print() + " on " + s.Table.print() + " rename to " + printName(s.To)
	case *CreateView:
		return "create view " + s.View.print() + " as " + s.Query.Text
	case *DropView:
		return "drop view " + s.View.print()
	case *CommentOn:
		return printComment(s)
	case *Backfill:
		return printBackfill(s)
	case *Insert:
		return printInsert(s)
	case *Delete:
		return "delete from " + s.Table.print() + " where " + PrintExpr(s.Where) + discard(s.Discard)
	case *Assert:
		return "assert " + PrintExpr(s.Expr) + choose(s.Message != "", " else "+quoteString(s.Message), "")
	case *Native:
		return printNative(s)
	}
	return ""
}

func discard(d bool) string { return choose(d, " discard", "") }

func (n Name) print() string {
	if n.Schema == "" {
		return printName(n.Name)
	}
	return printName(n.Schema) + "." + printName(n.Name)
}

func printNames(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = printName(n)
	}
	return "(" + strings.Join(list, ", ") + ")"
}

func printCreateTable(s *CreateTable) string {
	var lines []string
	for _, c := range s.Columns {
		lines = append(lines, "  "+PrintColumn(c))
	}
	for _, c := range s.Constraints {
		lines = append(lines, "  "+PrintConstraint(c))
	}
	return "create table " + s.Table.print() + " (\n" + strings.Join(lines, ",\n") + "\n)"
}

// PrintColumn gives a column's definition.
func PrintColumn(c *ColumnDef) string {
	var b strings.Builder
	b.WriteString(printName(c.Name) + " " + c.Type.String())
	if c.NotNull {
		b.WriteString(" not null")
	}
	if c.Default != nil {
		b.WriteString(" default " + printDefault(c.Default))
	}
	if c.PrimaryKey {
		b.WriteString(" primary key")
	}
	if c.Unique {
		b.WriteString(" unique")
	}
	for _, e := range c.Checks {
		b.WriteString(" check (" + PrintExpr(e) + ")")
	}
	if g := c.Generated; g != nil {
		b.WriteString(" generated always as (" + PrintExpr(g.Expr) + ")" + choose(g.Kind != "", " "+g.Kind, ""))
	}
	if c.Identity != nil {
		b.WriteString(" " + printIdentity(c.Identity))
	}
	if c.References != nil {
		b.WriteString(" " + printReference(c.References))
	}
	if c.Collate != "" {
		b.WriteString(" collate " + printName(c.Collate))
	}
	if c.OnUpdateNow {
		b.WriteString(" on update current_timestamp")
	}
	if c.Comment != "" {
		b.WriteString(" comment " + quoteString(c.Comment))
	}
	if c.Position != nil {
		b.WriteString(" " + printPlace(*c.Position))
	}
	return b.String()
}

// printDefault puts anything but a plain value in parentheses.
func printDefault(e Expr) string {
	text := PrintExpr(e)
	for {
		u, signed := e.(*Unary)
		if !signed || u.Op == "not" {
			break
		}
		e = u.X
	}
	if _, collated := e.(*Collate); collated || strength(e) < bindPrimary {
		return "(" + text + ")"
	}
	return text
}

func printPlace(p Place) string {
	where := "first"
	if p.After != "" {
		where = "after " + printName(p.After)
	}
	return where + choose(p.Rebuild, " rebuild", "")
}

func printIdentity(i *Identity) string {
	text := "generated " + choose(i.Always, "always", "by default") + " as identity"
	if i.Start != nil {
		text += " (start with " + strconv.FormatInt(*i.Start, 10) + ")"
	}
	return text
}

func printReference(r *Reference) string {
	text := "references " + r.Table.print()
	if len(r.Columns) > 0 {
		text += " " + printNames(r.Columns)
	}
	if r.OnDelete != "" {
		text += " on delete " + r.OnDelete
	}
	if r.OnUpdate != "" {
		text += " on update " + r.OnUpdate
	}
	return text
}

// PrintConstraint gives a table constraint.
func PrintConstraint(c *Constraint) string {
	text := ""
	if c.Name != "" {
		text = "constraint " + printName(c.Name) + " "
	}
	switch c.Kind {
	case PrimaryKey:
		return text + "primary key " + printNames(c.Columns)
	case Unique:
		return text + "unique " + printNames(c.Columns)
	case Check:
		return text + "check (" + PrintExpr(c.Expr) + ")"
	}
	return text + "foreign key " + printNames(c.Columns) + " " + printReference(c.Ref)
}

// PrintAction gives one action of an alter table.
func PrintAction(a Action) string {
	using := func(e Expr) string {
		if e == nil {
			return ""
		}
		return "\n    using (" + PrintExpr(e) + ")"
	}
	restore := func(e Expr) string {
		if e == nil {
			return ""
		}
		return "\n    restore using (" + PrintExpr(e) + ")"
	}
	column := func(c string) string { return "alter column " + printName(c) }
	switch a := a.(type) {
	case *AddColumn:
		return "add column " + PrintColumn(a.Column) + using(a.Using)
	case *DropColumn:
		return "drop column " + printName(a.Column) + restore(a.Restore) + discard(a.Discard)
	case *RenameColumn:
		return "rename column " + printName(a.Column) + " to " + printName(a.To)
	case *RenameTable:
		return "rename to " + printName(a.To)
	case *SetType:
		return column(a.Column) + " set data type " + a.Type.String() + using(a.Using) + restore(a.Restore) +
			discard(a.Discard)
	case *SetDefault:
		if a.Value == nil {
			return column(a.Column) + " drop default"
		}
		return column(a.Column) + " set default " + printDefault(a.Value)
	case *SetNotNull:
		return column(a.Column) + " set not null" + using(a.Using)
	case *SetExpression:
		if a.Value == nil {
			return column(a.Column) + " drop expression"
		}
		return column(a.Column) + " set expression as (" + PrintExpr(a.Value) + ")"
	case *SetOnUpdate:
		return column(a.Column) + choose(a.On, " set on update current_timestamp", " drop on update")
	case *SetIdentity:
		if a.Identity == nil {
			return column(a.Column) + " drop identity"
		}
		return column(a.Column) + " add " + printIdentity(a.Identity)
	case *Restart:
		return column(a.Column) + " restart with " + strconv.FormatInt(a.With, 10)
	case *SetPosition:
		return column(a.Column) + " set position " + printPlace(a.Position)
	case *DropNotNull:
		return column(a.Column) + " drop not null"
	case *AddConstraint:
		return "add " + PrintConstraint(a.Constraint)
	case *DropConstraint:
		return "drop constraint " + printName(a.Name)
	case *DropPrimaryKey:
		return "drop primary key"
	case *RenameConstraint:
		return "rename constraint " + printName(a.Name) + " to " + printName(a.To)
	case *Rebuild:
		return "rebuild"
	}
	return ""
}

func printCreateIndex(s *CreateIndex) string {
	parts := make([]string, len(s.Parts))
	for i, p := range s.Parts {
		if p.Expr != nil {
			parts[i] = "(" + PrintExpr(p.Expr) + ")"
		} else {
			parts[i] = printName(p.Column)
		}
		parts[i] += choose(p.Desc, " desc", "")
	}
	text := "create " + choose(s.Unique, "unique ", "") + "index " + s.Index.print() + " on " + s.Table.print() + " (" +
		strings.Join(parts, ", ") + ")"
	if s.Where != nil {
		text += " where " + PrintExpr(s.Where)
	}
	return text
}

func printComment(s *CommentOn) string {
	text := "comment on table " + s.Table.print()
	if s.Column != "" {
		text = "comment on column " + s.Table.print() + "." + printName(s.Column)
	}
	if s.Text == nil {
		return text + " is null"
	}
	return text + " is " + quoteString(*s.Text)
}

func printBackfill(s *Backfill) string {
	var b strings.Builder
	b.WriteString("backfill " + s.Table.print() + " set")
	for i, a := range s.Set {
		b.WriteString(choose(i > 0, ",", "") + "\n  " + printName(a.Column) + " = " + PrintExpr(a.Value))
	}
	if f := s.From; f != nil {
		b.WriteString("\n  from ")
		if f.CSV != "" {
			b.WriteString("csv " + quoteString(f.CSV))
		} else {
			b.WriteString(f.Table.print())
		}
		if f.Alias != "" {
			b.WriteString(" as " + printName(f.Alias))
		}
		pairs := make([]string, len(f.On))
		for i, on := range f.On {
			pairs[i] = printName(on.Column) + " = " + printName(on.Table) + "." + printName(on.Other)
		}
		b.WriteString(" on (" + strings.Join(pairs, ", ") + ")")
	}
	if s.Where != nil {
		b.WriteString("\n  where " + PrintExpr(s.Where))
	}
	return b.String() + discard(s.Discard)
}

func printInsert(s *Insert) string {
	text := "insert into " + s.Table.print() + " " + printNames(s.Columns)
	if s.Query != nil {
		return text + " " + s.Query.Text
	}
	rows := make([]string, len(s.Rows))
	for i, r := range s.Rows {
		var p exprPrinter
		p.list(r)
		rows[i] = "\n  (" + p.String() + ")"
	}
	return text + " values" + strings.Join(rows, ",")
}

func printNative(s *Native) string {
	var b strings.Builder
	b.WriteString("native " + strings.Join(s.Engines, ", ") + " " + dollarQuote(s.SQL))
	if len(s.Touching) > 0 {
		names := make([]string, len(s.Touching))
		for i, n := range s.Touching {
			names[i] = n.print()
		}
		b.WriteString("\n  touching " + strings.Join(names, ", "))
	}
	if s.DoneWhen != nil {
		b.WriteString("\n  done when (" + PrintExpr(s.DoneWhen) + ")")
	}
	if s.NoWayBack {
		return b.String() + "\n  no way back"
	}
	return b.String() + "\n  back " + dollarQuote(s.Back)
}

// dollarQuote puts text between the first pair of marks that it cannot close.
func dollarQuote(text string) string {
	for i := 0; ; i++ {
		mark := "$$"
		if i > 0 {
			mark = "$sql" + strconv.Itoa(i) + "$"
		}
		if strings.Index(text+mark, mark) == len(text) {
			return mark + text + mark
		}
	}
}
