package schema

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// nameLimit is the shortest limit for names of the supported engines, in bytes.
const nameLimit = 63

// ConstraintName names an unnamed constraint: table_columns_kind, cut with a
// hash at the limit, and numbered if the table has one of that name.
func ConstraintName(t *Table, columns []string, kind string) string {
	_, table, qualified := strings.Cut(t.Name, ".")
	if !qualified {
		table = t.Name
	}
	base := strings.Join(append(append([]string{table}, columns...), kind), "_")
	for n := 1; ; n++ {
		name := base
		if n > 1 {
			name = fmt.Sprintf("%s_%d", base, n)
		}
		if len(name) > nameLimit {
			sum := sha256.Sum256([]byte(name))
			end := "_" + hex.EncodeToString(sum[:4])
			if kind == "limit" || kind == "mirror" || kind == "aside" || kind == "trial" ||
				kind == "supply" { // engines know one by its end
				end += "_" + kind
			}
			name = strings.ToValidUTF8(name[:nameLimit-len(end)], "") + end
		}
		if t.constraint(name) == "" && t.Index(name) == nil {
			return name
		}
	}
}

// resolve refuses names that the table does not have.
func resolve(t *Table, e sqltext.Expr) error {
	for _, r := range sqltext.Refs(e) {
		if r.Table != "" && !SameName(r.Table, t.Name) {
			return problem(r.Pos, "name-unknown", "", "the expression can use table %s alone, not %s", t.Name, r.Table)
		}
		if t.Column(r.Column) == nil {
			cure := didYouMean(r.Column, t.ColumnNames())
			if cure == "" {
				cure = "a string stands between single quotes, a name between double ones"
			}
			return problem(r.Pos, "name-unknown", cure, "table %s has no column %s", t.Name, r.Column)
		}
	}
	return nil
}

// unsteady are functions that give another result each time.
var unsteady = map[string]bool{
	"random": true, "rand": true, "now": true, "uuid": true, "gen_random_uuid": true, "randomblob": true,
	"clock_timestamp": true, "localtimestamp": true, "last_insert_rowid": true, "changes": true, "total_changes": true,
}

// Unsteady names the first thing in e that does not give the same for the same
// row each time; "" if there is none.
func Unsteady(e sqltext.Expr) string {
	found := ""
	sqltext.Walk(e, func(x sqltext.Expr) bool {
		switch x := x.(type) {
		case *sqltext.Now:
			found = x.Name
		case *sqltext.Call:
			if unsteady[x.Name] {
				found = x.Name + "()"
			}
		}
		return found == ""
	})
	return found
}

// validate resolves the names of every expression of the table and refuses what
// no engine could hold.
func (a *applier) validate(t *Table, at sqltext.Pos) error {
	for i, c := range t.Columns {
		for _, o := range t.Columns[:i] {
			if SameName(o.Name, c.Name) {
				return problem(at, "name-taken", "", "columns %s and %s of table %s differ in case alone", o.Name, c.Name, t.Name)
			}
		}
		if k := t.PrimaryKey; c.Identity != nil && (k == nil || len(k.Columns) != 1 || k.Columns[0] != c.Name) {
			return problem(at, "identity-needs-key", "make it the primary key",
				"column %s of table %s numbers itself and has to be the primary key", c.Name, t.Name)
		}
		if c.Generated != nil && t.computedFrom(c.Name, c.Name, nil) {
			return problem(at, "generated-loop", "compute it from columns that hold a value",
				"the generated column %s of table %s is computed from itself", c.Name, t.Name)
		}
		if c.Generated != nil {
			if err := steady(t, c.Generated.Expr, at, "the generated column "+c.Name,
				"set a default, write a fixed date, or compute it when it is read"); err != nil {
				return err
			}
		}
	}
	for _, k := range t.Checks {
		if err := steady(t, k.Expr, at, "the check "+k.Name,
			"compare with a column, or check it where it is written"); err != nil {
			return err
		}
	}
	for _, x := range t.Indexes {
		for _, p := range x.Parts {
			if p.Expr != nil {
				if err := steady(t, *p.Expr, at, "the index "+x.Name, "store the value in a column and index that"); err != nil {
					return err
				}
			}
		}
		if x.Where != nil {
			if err := steady(t, *x.Where, at, "the index "+x.Name, "compare with a fixed value"); err != nil {
				return err
			}
		}
	}
	return nil
}

// computedFrom reports whether a column is computed from another, perhaps by way of
// others; seen are those that were looked at.
func (t *Table) computedFrom(name, from string, seen []string) bool {
	c := t.Column(name)
	if c == nil || c.Generated == nil || HasName(seen, name) {
		return false
	}
	seen = append(seen, name)
	for _, used := range t.Mentioned(c.Generated.Expr) {
		if SameName(used, from) || t.computedFrom(used, from, seen) {
			return true
		}
	}
	return false
}

// steady asserts that an expression that an engine keeps can be kept.
func steady(t *Table, e Expr, at sqltext.Pos, where, cure string) error {
	if e.Tree == nil {
		return nil
	}
	if err := resolve(t, e.Tree); err != nil {
		if p := err.(*Problem); !p.Pos.Known() {
			p.Pos = at
		}
		return err
	}
	if sqltext.HasSubquery(e.Tree) {
		return problem(at, "expression-not-steady", "", "%s reads other rows, and no engine can keep that right", where)
	}
	if what := Unsteady(e.Tree); what != "" {
		return problem(at, "expression-not-steady", cure, "%s uses %s, which gives another result each time", where, what)
	}
	return nil
}

// SameMeaning reports whether an expression is the column itself, cast, trimmed or
// rounded.
func SameMeaning(e sqltext.Expr, column string) bool {
	switch e := e.(type) {
	case *sqltext.Ref:
		return SameName(e.Column, column)
	case *sqltext.Cast:
		return SameMeaning(e.X, column)
	case *sqltext.Trim:
		return e.Chars == nil && SameMeaning(e.X, column)
	case *sqltext.Call:
		return slices.Contains([]string{"round", "floor", "ceiling", "trim", "ltrim", "rtrim", "coalesce"}, e.Name) &&
			len(e.Args) > 0 && SameMeaning(e.Args[0], column)
	case *sqltext.Case:
		for _, w := range e.Whens {
			if !SameMeaning(w.Then, column) && !isLiteral(w.Then) {
				return false
			}
		}
		return e.Else == nil || SameMeaning(e.Else, column) || isLiteral(e.Else)
	}
	return false
}

func isLiteral(e sqltext.Expr) bool {
	_, ok := e.(*sqltext.Literal)
	return ok
}

// Widens reports whether every value of one type is one of another just as it is, so
// that programs which know the first can go on.
func Widens(from, to sqltext.Type) bool {
	if from.Native || to.Native {
		return from.Equal(to)
	}
	sizes := map[string]int{"tinyint": 1, "smallint": 2, "integer": 3, "bigint": 4}
	switch {
	case from.IsInteger() && to.IsInteger():
		a, b := sizes[from.Name], sizes[to.Name]
		return a <= b && from.Unsigned == to.Unsigned || a < b && from.Unsigned && !to.Unsigned
	case from.Name == "enum" && to.Name == "enum":
		return !slices.ContainsFunc(from.Values, func(v string) bool { return !slices.Contains(to.Values, v) })
	case from.Name == "varchar" && to.Name == "varchar", from.Name == "varbinary" && to.Name == "varbinary":
		return from.Args[0] <= to.Args[0]
	case from.Name == "varchar" && to.Name == "text", from.Name == "enum" && to.Name == "text":
		return true
	case from.Name == "numeric" && to.Name == "numeric":
		a, b := digitsOf(from), digitsOf(to)
		return b == [2]int{} || a != [2]int{} && a[0] <= b[0] && a[1] <= b[1]
	}
	return from.Equal(to)
}

// digitsOf gives how many digits a number may have before and after the point; none of
// both for any number.
func digitsOf(t sqltext.Type) [2]int {
	switch len(t.Args) {
	case 1:
		return [2]int{t.Args[0], 0}
	case 2:
		return [2]int{t.Args[0] - t.Args[1], t.Args[1]}
	}
	return [2]int{}
}
