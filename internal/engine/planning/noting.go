package planning

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Noting is what is noted of rows while their table is walked, so that each is done exactly
// once: what was done is known by what is kept of a row, which follows its key.
type Noting struct {
	Kept string   // the table of kept values, beside which the notes stand
	Keys []string // of the walked table
	Came bool     // rows that come are noted, too: they are not done
	Bare bool     // statements name its tables as they are called, each once
}

// Moved names the table of the keys of rows that got another one, which may be behind what
// is walked already.
func (n Noting) Moved() string { return n.Kept + "_moved" }

// New names the table of the keys of rows that came.
func (n Noting) New() string { return n.Kept + "_new" }

// Names reports whether a trigger of Lastboard's own names a column: it quotes them all.
func Names(tr *schema.Trigger, column string) bool {
	tokens, _ := sqltext.Scan(tr.SQL, sqltext.Engine)
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return t.Kind == sqltext.Quoted && schema.SameName(t.Value, column)
	})
}

// Among gives the condition that the key of a row is noted.
func (p *Planner) Among(n Noting) string {
	list := make([]string, len(n.Keys))
	for i, k := range n.Keys {
		list[i] = p.Name(p.Table.Name) + "." + p.Column(k)
	}
	return "(" + strings.Join(list, ", ") + ") in (select " + KeptSQL("k", len(list)) + " from " + p.Name(n.Moved()) + ")"
}

// NoteKept lets it be noted which rows get another key while kept values are put back into
// added columns; the function that it gives adds, after that, what puts the values back into
// those rows. called gives the names of columns as they stand.
func (p *Planner) NoteKept(columns []*schema.Column, called func(*schema.Column) string) (rest func()) {
	kept := map[string]*schema.Kept{}
	for _, c := range columns {
		if f, ok := p.FillOf(c); ok && f.Kept != nil {
			kept[f.Kept.Table] = f.Kept
		}
	}
	if len(kept) == 0 || !p.Beside() {
		return func() {}
	}
	tables := slices.Sorted(maps.Keys(kept))
	for _, t := range tables {
		p.Dialect.Note(p, p.Add(engine.Sync, 0, "note rows of "+p.Table.Name+" whose key changes"),
			Noting{Kept: t, Keys: kept[t].Keys})
	}
	return func() {
		for _, t := range tables {
			n := Noting{Kept: t, Keys: kept[t].Keys}
			p.last("put back what was kept of rows whose key changed meanwhile", n, func(n Noting) (statements []string) {
				for _, c := range columns {
					if f, ok := p.FillOf(c); ok && f.Kept != nil && f.Kept.Table == t {
						statements = append(statements, p.keptAdded(n, c, called(c), f)...)
					}
				}
				return statements
			})
		}
	}
}

// keptAdded gives the statements that put what is kept of noted rows into an added column.
func (p *Planner) keptAdded(n Noting, c *schema.Column, name string, f schema.Fill) []string {
	_, k := p.kept(n)
	condition := p.Name(p.Table.Name) + "." + p.Column(name) + " is null"
	for i, r := range f.Kept.Reads {
		condition += " and " + p.Same(fmt.Sprint(k, ".r", i+1), p.Name(p.Table.Name)+"."+p.Column(r))
	}
	list := []string{p.fromKept(n, []string{name}, []string{k + "." + f.Kept.Column}, condition)}
	if f.Expr == nil || sqltext.HasSubquery(f.Expr) {
		return list
	}
	return append(list, "update "+p.Name(p.Table.Name)+" set "+p.Column(name)+" = "+p.As(p.Render(f.Expr, Computed), c)+
		" where "+p.Among(n)+" and "+p.Column(name)+" is null and not exists (select 1"+p.keptFor(n, c, f.Kept)+")")
}

// Added lists the columns that were not there.
func (p *Planner) Added() []*schema.Column {
	return slices.DeleteFunc(slices.Clone(p.After.Columns), func(c *schema.Column) bool { return p.From(c) != nil })
}

// undone gives the condition that a row is neither done nor came meanwhile.
func (p *Planner) undone(n Noting) string {
	switch {
	case n.Bare && !n.Came: // the statement itself leaves alone what is kept already
		return ""
	case !n.Came:
		return " and (select 1" + p.keptRow(n) + ") is null"
	case n.Bare:
		return " and (select 1 from " + p.Name(n.New()) + " where " + p.rowMatch(p.Name(n.New()), p.Table, n.Keys) +
			") is null"
	}
	return " and (select 1" + p.keptRow(n) + ") is null and (select 1 from " + p.Name(n.New()) + " n where " +
		p.rowMatch("n", p.Table, n.Keys) + ") is null"
}

// kept gives the table of kept values as a statement reads it, and as it calls it.
func (p *Planner) kept(n Noting) (from, called string) {
	name := p.Name(n.Kept)
	if n.Bare {
		return name, name
	}
	return name + " k", "k"
}

// fromKept gives the statement that gives noted rows values of what is kept of them.
func (p *Planner) fromKept(n Noting, columns, values []string, condition string) string {
	from, k := p.kept(n)
	return p.UpdateFrom(p.Name(p.Table.Name), from, columns, values,
		" where "+p.Among(n)+" and "+p.rowMatch(k, p.Table, n.Keys)+" and "+condition)
}

// last does what is left for noted rows.
func (p *Planner) last(what string, n Noting, left func(Noting) []string) {
	standing := p.Table
	if p.Standing != nil {
		standing = p.Standing
	}
	p.Dialect.Last(p, what, n, func(n Noting) []string { return p.Quietly(standing, left(n)) })
}

// RowKeys are the columns of a table by which its rows are found, for the triggers that let
// follow what is kept or noted of them under k1….
type RowKeys struct {
	Dialect
	Names []string
	// Equals is how values of each are compared where that is not by =.
	Equals map[string]string
}

// Equal writes how two values of a column are compared.
func (r RowKeys) Equal(name string) string {
	if op := r.Equals[name]; op != "" {
		return " " + op + " "
	}
	return " = "
}

// List lists them as they are kept.
func (r RowKeys) List() string { return KeptSQL("k", len(r.Names)) }

// Of lists them in a row of a trigger, "old" or "new".
func (r RowKeys) Of(row string) string {
	list := make([]string, len(r.Names))
	for i, k := range r.Names {
		list[i] = row + "." + r.Column(k)
	}
	return strings.Join(list, ", ")
}

// Gone gives the statement that takes away what tables have of such a row.
func (r RowKeys) Gone(row string, tables ...string) string {
	match := make([]string, len(r.Names))
	for i, k := range r.Names {
		match[i] = fmt.Sprintf("k%d%s%s.%s", i+1, r.Equal(k), row, r.Column(k))
	}
	sql := ""
	for _, t := range tables {
		sql += "delete from " + r.Name(t) + " where " + strings.Join(match, " and ") + "; "
	}
	return sql
}

// Came gives the statement that takes away what a table has of the keys of rows that came,
// which are in a table of their own: a row went unseen that had the key before, by a truncate
// or past the triggers.
func (r RowKeys) Came(table, rows string) string {
	match := make([]string, len(r.Names))
	for i, k := range r.Names {
		match[i] = fmt.Sprintf("k.k%d%sn.%s", i+1, r.Equal(k), r.Column(k))
	}
	return "delete from " + r.Name(table) + " k using " + rows + " n where " + strings.Join(match, " and ") + "; "
}

// Moved gives the statements that give what tables have of a row its new key. What they had
// of another row that had this key before goes.
func (r RowKeys) Moved(tables ...string) string {
	sql := ""
	for _, t := range tables {
		sql += r.Gone("new", t) + r.Renewed(t) + "; "
	}
	return sql
}

// Renewed gives the statement that gives what a table has of a row its new key.
func (r RowKeys) Renewed(table string) string {
	sets := make([]string, len(r.Names))
	for i, k := range r.Names {
		sets[i] = fmt.Sprintf("k%d = new.%s", i+1, r.Column(k))
	}
	_, old, _ := strings.Cut(strings.TrimSuffix(r.Gone("old", table), "; "), " where ")
	return "update " + r.Name(table) + " set " + strings.Join(sets, ", ") + " where " + old
}

// Changed gives the condition that a row gets another key; differs writes that two values
// are not the same.
func (r RowKeys) Changed(differs func(a, b string) string) string {
	list := make([]string, len(r.Names))
	for i, k := range r.Names {
		list[i] = differs("old."+r.Column(k), "new."+r.Column(k))
	}
	return strings.Join(list, " or ")
}
