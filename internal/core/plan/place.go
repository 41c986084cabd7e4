package plan

import (
	"errors"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Located turns what [schema.Apply] says of a statement into a fault with its
// place in the migration's file.
func Located(m *migration.Migration, err error) *fault.Fault {
	var p *schema.Problem
	if errors.As(err, &p) {
		return at(m, wordAt(m, p), fault.New(fault.Refused, p.Rule, p.Cure, "%s", p.Message))
	}
	return fault.New(fault.Refused, "table-unknown", "", "%s", err.Error())
}

// wordAt gives the place of the word that a problem is about.
func wordAt(m *migration.Migration, p *schema.Problem) sqltext.Pos {
	if p.Name == "" {
		return p.Pos
	}
	tokens, _ := sqltext.Scan(m.File.Source, sqltext.Migration)
	for _, t := range tokens {
		named := t.Kind == sqltext.Word || t.Kind == sqltext.Quoted
		if t.Pos.Offset >= p.Pos.Offset && named && schema.SameName(t.Value, p.Name) {
			return t.Pos
		}
		if t.Pos.Offset >= p.Pos.Offset && t.Is(";") {
			break
		}
	}
	return p.Pos
}

func (p *Planner) located(m *migration.Migration, pos sqltext.Pos, err error) *fault.Fault {
	var f *fault.Fault
	if errors.As(err, &f) {
		if f.Where.File == "" {
			return at(m, pos, f)
		}
		return f
	}
	if problem := (*schema.Problem)(nil); errors.As(err, &problem) {
		return Located(m, err)
	}
	var r *engine.Refused
	if errors.As(err, &r) {
		return at(m, pos, fault.New(fault.Refused, "engine-refuses", r.Cure, "%s", r.Message))
	}
	out := at(m, pos, fault.New(fault.Of(err), "failed", "", "%v", err))
	out.Err = err
	var cannot *engine.CannotOpen
	if errors.As(err, &cannot) {
		out.Cure = cannot.Cure
	}
	return out
}

// Place gives what a proof found its place in the migration: the part of the
// statement that names the column, or the statement.
func Place(m *migration.Migration, s *engine.Step, f *fault.Fault) *fault.Fault {
	st := m.File.Statements[s.Statement]
	pos := st.Start()
	column := ""
	if s.Proof != nil {
		column = s.Proof.Column
	}
	switch st := st.(type) {
	case *sqltext.AlterTable:
		for _, a := range st.Actions {
			switch a := a.(type) {
			case *sqltext.AddColumn:
				if schema.SameName(a.Column.Name, column) {
					pos = a.At
				}
			case *sqltext.SetNotNull:
				if schema.SameName(a.Column, column) {
					pos = a.At
				}
			case *sqltext.SetType:
				if schema.SameName(a.Column, column) {
					pos = a.At
				}
			case *sqltext.Restart:
				pos = a.At
			}
		}
	case *sqltext.Backfill:
		for _, set := range st.Set {
			if schema.SameName(set.Column, column) {
				pos = set.Pos
			}
		}
	}
	return at(m, pos, f)
}

// at gives a fault its place in a migration's file.
func at(m *migration.Migration, pos sqltext.Pos, f *fault.Fault) *fault.Fault {
	f.Where = fault.Where{File: m.Path, Line: pos.Line, Column: pos.Column}
	f.Source = sqltext.SourceLine(m.File.Source, pos.Line)
	return f
}

// EmptyCure is what to do about a migration without statements.
const EmptyCure = "write its statements, or delete the file"

// Undecided refuses a migration in which a person still has to decide something, or to write
// anything at all.
func Undecided(m *migration.Migration) *fault.Fault {
	if len(m.File.Statements) == 0 {
		return at(m, sqltext.Pos{Line: 1, Column: 1}, fault.New(fault.Refused, "migration-empty", EmptyCure,
			"the migration has no statements"))
	}
	c := m.Undecided()
	if c == nil {
		return nil
	}
	return at(m, c.Pos, fault.New(fault.Refused, "undecided", "decide, and delete the line",
		"the migration asks something that only a person can answer"))
}
