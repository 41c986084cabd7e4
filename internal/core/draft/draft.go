// Package draft writes the migration that makes the tables of a database into those
// that somebody wants, as far as that can be known.
package draft

import (
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/restate"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Wanted gives the text of the statements that make present into what a file of
// create statements describes; "" when there is nothing to change. What it cannot
// know is a question in the text, which check refuses until it is answered. path is
// the file's name for messages. The error is a [fault.List] for what is wrong with
// the file.
func Wanted(present *schema.Schema, path, source string, e engine.Engine) (string, error) {
	m, err := migration.Parse(path, "0000", "wanted", source)
	if err != nil {
		return "", err
	}
	wanted := &schema.Schema{}
	for _, st := range m.File.Statements {
		switch st.(type) {
		case *sqltext.CreateTable, *sqltext.CreateIndex, *sqltext.CreateView, *sqltext.CommentOn, *sqltext.AlterTable:
		default:
			return "", plan.Located(m, &schema.Problem{
				Pos: st.Start(), Rule: "statement-unwanted", Message: st.Verb() + " says nothing of what the tables are",
				Cure: "describe the tables with create table, create index, create view and comment on",
			})
		}
		if wanted, err = apply(wanted, st, e); err != nil {
			return "", fault.List{plan.Located(m, err)}
		}
	}
	parts := restate.Schema(present, wanted, e.Text)
	if missed := missed(present, wanted, parts, e); len(missed) > 0 {
		parts = append(parts, restate.Part{Notes: missed})
	}
	return restate.Text(parts), nil
}

func apply(s *schema.Schema, st sqltext.Statement, e engine.Engine) (*schema.Schema, error) {
	after, change, err := schema.Apply(s, st, e.About().Env(nil))
	if err != nil {
		return nil, err
	}
	if t := change.Table; t != nil && t.After != nil {
		held := e.Holds(t)
		*t.After = *held
	}
	return after, nil
}

// missed plays the statements and lists what they do not lead to.
func missed(present, wanted *schema.Schema, parts []restate.Part, e engine.Engine) []string {
	s := present
	for _, p := range parts {
		if p.Statement == nil {
			continue
		}
		after, err := apply(s, p.Statement, e)
		if err != nil {
			return []string{"this is not all of it: " + strings.ReplaceAll(err.Error(), "\n", " ")}
		}
		s = after
	}
	var list []string
	for _, d := range schema.Compare(wanted, s, e.Text) {
		if d.Object == "trigger" || d.Attribute == "position" || d.Attribute == "declared type" || d.Attribute == "options" {
			continue
		}
		list = append(list, "not written: "+d.String())
	}
	return list
}
