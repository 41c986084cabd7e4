package restate

import (
	"strings"

	"lastboard/internal/sqltext"
)

// Qualify parts the names of tables in a statement that come from a model, in which a table of another
// schema is called by both: where tables stand in schemas, none has a dot in its own name.
func Qualify(st sqltext.Statement) {
	part := func(n *sqltext.Name) {
		if schema, name, ok := strings.Cut(n.Name, "."); ok && n.Schema == "" {
			n.Schema, n.Name = schema, name
		}
	}
	constraint := func(c *sqltext.Constraint) {
		if c != nil && c.Ref != nil {
			part(&c.Ref.Table)
		}
	}
	switch st := st.(type) {
	case *sqltext.CreateTable:
		part(&st.Table)
		for _, c := range st.Constraints {
			constraint(c)
		}
	case *sqltext.AlterTable:
		part(&st.Table)
		for _, a := range st.Actions {
			if add, ok := a.(*sqltext.AddConstraint); ok {
				constraint(add.Constraint)
			}
		}
	case *sqltext.CreateIndex:
		part(&st.Table)
	case *sqltext.DropIndex:
		part(&st.Table)
	case *sqltext.CommentOn:
		part(&st.Table)
	case *sqltext.DropTable:
		part(&st.Table)
	case *sqltext.CreateView:
		part(&st.View)
	case *sqltext.DropView:
		part(&st.View)
	case *sqltext.Native:
		for i := range st.Touching {
			part(&st.Touching[i])
		}
	}
}
