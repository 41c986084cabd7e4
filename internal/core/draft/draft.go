// Package draft writes the migration that makes the tables of a database into those
// that somebody wants, as far as that can be known.
package draft

import (
	"slices"
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
	wanted := &schema.Schema{Home: present.Home}
	var natives []restate.Part
	for _, st := range m.File.Statements {
		switch st := st.(type) {
		case *sqltext.Native:
			if slices.Contains(st.Engines, e.About().Name) && !holds(wanted, present, st) {
				natives = append(natives, restate.Part{Statement: st})
			}
			continue
		case *sqltext.CreateTable, *sqltext.CreateIndex, *sqltext.CreateView, *sqltext.CommentOn, *sqltext.AlterTable:
		default:
			return "", plan.Located(m, &schema.Problem{
				Pos: st.Start(), Rule: "statement-unwanted", Message: st.Verb() + " says nothing of what the tables are",
				Cure: "describe the tables with create table, create index, create view, comment on, and native statements " +
					"that make things",
			})
		}
		if wanted, err = apply(wanted, st, e); err != nil {
			return "", fault.List{plan.Located(m, err)}
		}
	}
	parts := append(restate.Schema(present, wanted, e.Text), natives...)
	if missed := missed(present, wanted, parts, e); len(missed) > 0 {
		parts = append(parts, restate.Part{Notes: missed})
	}
	for _, p := range parts {
		if p.Statement != nil && e.About().Schemas {
			restate.Qualify(p.Statement)
		}
	}
	return restate.Text(parts), nil
}

// holds reports whether what a native statement makes is there, and takes it over into what is
// wanted, as it is: what it says of it cannot be compared.
func holds(wanted, present *schema.Schema, st *sqltext.Native) bool {
	for _, name := range st.Touching {
		t := present.Table(present.Called(name))
		if t == nil {
			return false
		}
		if wanted.Table(t.Name) == nil {
			wanted.Tables = append(wanted.Tables, t)
		}
	}
	kind, name := makes(st.SQL)
	switch kind {
	case "view":
		v := present.View(name)
		if v != nil && wanted.View(name) == nil {
			wanted.Views = append(wanted.Views, v)
		}
		return v != nil
	case "trigger":
		if strings.Contains(schema.Words(strings.ToLower(st.SQL)), " instead of ") { // of a view: the model knows none
			return true
		}
		return slices.ContainsFunc(present.Tables, func(t *schema.Table) bool {
			return slices.ContainsFunc(t.Triggers, func(tr *schema.Trigger) bool { return schema.SameName(tr.Name, name) })
		})
	}
	return true // the model does not know such things
}

// makes gives the kind and the name of what a statement makes; "" where it makes something else
// than a view or a trigger.
func makes(sql string) (kind, name string) {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	if len(tokens) == 0 || !tokens[0].Is("create") {
		return "", ""
	}
	at := slices.IndexFunc(tokens, func(t sqltext.Token) bool {
		return t.Is("view") || t.Is("trigger") || t.Is("table") || t.Is("function") || t.Is("procedure") || t.Is("(")
	})
	if at < 0 || !tokens[at].Is("view") && !tokens[at].Is("trigger") {
		return "", ""
	}
	kind = strings.ToLower(tokens[at].Value)
	at++
	for at < len(tokens) && (tokens[at].Is("if") || tokens[at].Is("not") || tokens[at].Is("exists")) {
		at++
	}
	if at+2 < len(tokens) && tokens[at+1].Is(".") {
		at += 2
	}
	if at == len(tokens) {
		return "", ""
	}
	return kind, tokens[at].Value
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
