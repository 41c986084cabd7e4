package sqlite

import (
	"strings"

	"lastboard/internal/schema"
)

// SQLite has no columns that take the time of every update: a trigger does it. It
// acts when an update leaves the column as it was, and not on its own update.

const onUpdateSuffix = "on_update"

func onUpdateName(t *schema.Table, c *schema.Column) string {
	return schema.ConstraintName(&schema.Table{Name: t.Name}, []string{c.Name}, onUpdateSuffix)
}

func onUpdateSQL(t *schema.Table, c *schema.Column) string {
	name := onUpdateName(t, c)
	keys := cursor(t)
	match := make([]string, len(keys))
	for i, k := range keys {
		match[i] = k + " = new." + k
	}
	column := quote(c.Name)
	return "create trigger " + quote(name) + " after update on " + quote(t.Name) + " for each row when new." + column +
		" is old." + column +
		" and new." + column + " is not current_timestamp begin update " + quote(t.Name) + " set " + column +
		" = current_timestamp where " +
		strings.Join(match, " and ") + "; end"
}

// onUpdateChanges gives the triggers of before that go, by name, and the columns of
// after that need a new one.
func onUpdateChanges(before, after *schema.Table) (gone []string, added []*schema.Column) {
	was := map[string]string{}
	for _, c := range before.Columns {
		if c.OnUpdateNow {
			was[onUpdateName(before, c)] = onUpdateSQL(before, c)
		}
	}
	for _, c := range after.Columns {
		if !c.OnUpdateNow {
			continue
		}
		if name := onUpdateName(after, c); was[name] == onUpdateSQL(after, c) {
			delete(was, name)
		} else {
			added = append(added, c)
		}
	}
	return sortedOptions(was), added
}

// quietly gives statements that write rows of the table, between others that keep
// its triggers for the time of an update from acting: Lastboard's own updates leave
// that time as it is.
func quietly(t *schema.Table, statements []string) []string {
	var off, on []string
	for _, c := range t.Columns {
		if c.OnUpdateNow {
			off = append(off, "drop trigger "+quote(onUpdateName(t, c)))
			on = append(on, onUpdateSQL(t, c))
		}
	}
	return append(append(off, statements...), on...)
}

// takeOnUpdate turns the triggers that keep times into what they stand for.
func takeOnUpdate(t *schema.Table) {
	var rest []*schema.Trigger
	for _, tr := range t.Triggers {
		if c := keepsTimeOf(t, tr); c != nil {
			c.OnUpdateNow = true
		} else {
			rest = append(rest, tr)
		}
	}
	t.Triggers = rest
}

// keepsTimeOf gives the column whose time a trigger keeps; nil if it is another's.
func keepsTimeOf(t *schema.Table, tr *schema.Trigger) *schema.Column {
	if !strings.Contains(tr.Name, "_"+onUpdateSuffix) {
		return nil
	}
	for _, c := range t.Columns {
		if onUpdateName(t, c) == tr.Name && schema.Words(onUpdateSQL(t, c)) == schema.Words(tr.SQL) {
			return c
		}
	}
	return nil
}
