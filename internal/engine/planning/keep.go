package planning

import (
	"fmt"
	"slices"

	"lastboard/internal/core/schema"
	"lastboard/internal/engine"
)

// NoKey refuses a change whose old values could not be found again by their rows.
func (p *Planner) NoKey(columns string) {
	if p.Table.Key() != nil {
		p.Fail(&engine.Refused{
			Message: fmt.Sprintf("the key of table %s goes in the same statement, so that the values of %s could not be put back to the right rows", p.Table.Name, columns),
			Cure:    "change the key in a migration of its own, or write discard to give the values up",
		})
		return
	}
	p.Fail(&engine.Refused{
		Message: fmt.Sprintf("table %s has no primary key, so that the values of %s could not be put back to the right rows", p.Table.Name, columns),
		Cure:    "add a primary key first, or write discard to give the values up",
	})
}

// Goes reports whether any of the columns is dropped.
func (p *Planner) Goes(columns []string) bool {
	return slices.ContainsFunc(p.Dropped(), func(c *schema.Column) bool { return schema.HasName(columns, c.Name) })
}

// KeyValue gives what a column of the key is after the change, by which kept rows
// are found on the way back.
func (p *Planner) KeyValue(name string) string {
	if c := p.After.Column(name); c != nil {
		if f, ok := p.FillOf(c); ok && !f.OnlyNull && p.From(c) != nil {
			value, _ := p.Value(c, Computed)
			return value
		}
	}
	return p.Column(name)
}
