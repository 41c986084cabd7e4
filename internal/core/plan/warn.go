package plan

import (
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
)

// warn adds what only the database can tell of a statement: rows that stay null,
// and triggers that a backfill fires.
func (p *Planner) warn(out *Plan, m *migration.Migration, st sqltext.Statement, c *schema.Change) {
	note := func(level fault.Level, rule, cure, format string, args ...any) {
		f := at(m, st.Start(), fault.New(0, rule, cure, format, args...))
		f.Level = level
		out.Warnings = append(out.Warnings, f)
	}
	if t := c.Table; t != nil && t.Before != nil && t.After != nil {
		rows := p.rows[t.Before.Name]
		for _, col := range t.Added() {
			_, filled := t.Fill[col.Name]
			if rows > 0 && !filled && col.Default == nil && col.Generated == nil && !col.NotNull {
				note(fault.Note, "rows-stay-null", "write using (expression) to give them a value", "%d rows of %s will have no %s", rows, t.Before.Name, col.Name)
			}
		}
		if len(t.Fill) > 0 {
			p.warnTriggers(note, t.Before, nil)
		}
	}
	if c.Rows != nil {
		var columns []string
		for _, s := range c.Rows.Set {
			columns = append(columns, s.Column)
		}
		p.warnTriggers(note, c.Rows.Table, columns)
	}
}

// warnTriggers counts the user's own triggers that an update would fire.
func (p *Planner) warnTriggers(note func(fault.Level, string, string, string, ...any), t *schema.Table, columns []string) {
	var names []string
	for _, tr := range t.Triggers {
		if firesOnUpdate(tr.SQL, columns) {
			names = append(names, tr.Name)
		}
	}
	if len(names) > 0 {
		note(fault.Warning, "fires-triggers", "drop them with a native statement before it and make them again after it, if they should not act",
			"filling %s fires %s once for each row", t.Name, strings.Join(names, ", "))
	}
}

// firesOnUpdate reads a trigger's head: before or after an update, perhaps of
// some columns alone.
func firesOnUpdate(sql string, columns []string) bool {
	head, _, _ := strings.Cut(schema.Words(sql), " begin ")
	_, event, found := strings.Cut(" "+head+" ", " update ")
	if !found {
		return false
	}
	of, _, _ := strings.Cut(event, " on ")
	list, limited := strings.CutPrefix(strings.TrimSpace(of), "of ")
	if !limited {
		return true
	}
	for name := range strings.SplitSeq(list, ",") {
		if schema.HasName(columns, strings.TrimSpace(name)) {
			return true
		}
	}
	return false
}
