package planning

import (
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Total reports whether what existing rows get in a column can be computed of every value that the
// column's type has.
func Total(as *schema.TableChange, column string) bool {
	f, old, c := as.Fill[column], as.Before.Column(as.From[column]), as.After.Column(column)
	if _, constant := f.Expr.(*sqltext.Literal); constant {
		return true
	}
	return f.Cast && (schema.Widens(old.Type, c.Type) || c.Type.Name == "text")
}

// Exact reports whether every value of a column gives back, by a plain cast, what it came from.
func Exact(as *schema.TableChange, column string) bool {
	_, restored := as.Restore[column]
	return as.Fill[column].Cast && !restored && schema.Widens(as.Before.Column(column).Type, as.After.Column(column).Type)
}
