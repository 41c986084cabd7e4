// Package check finds what is wrong or dangerous in migrations without a
// database: it plays them from the first on a model of the tables.
package check

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Migrations gives every finding of the migrations, in their order. The first is
// played on no tables at all.
func Migrations(list []*migration.Migration, e engine.Engine) fault.List {
	c := checker{engine: e, tables: &schema.Schema{}}
	for _, m := range list {
		c.migration(m)
	}
	return c.findings
}

// One gives the findings of a migration on the tables as they are before it, and the tables after it as
// far as it can be played.
func One(m *migration.Migration, before *schema.Schema, e engine.Engine) (fault.List, *schema.Schema) {
	c := checker{engine: e, tables: before}
	c.migration(m)
	return c.findings, c.tables
}

// Tables gives the tables that migrations make, as far as they can be played on no tables at all.
func Tables(list []*migration.Migration, e engine.Engine) *schema.Schema {
	tables := &schema.Schema{}
	for _, m := range list {
		for _, st := range m.File.Statements {
			if after, _, err := schema.Apply(tables, st, e.About().Env(m.CSV)); err == nil {
				tables = after
			}
		}
	}
	return tables
}

// Statements gives the findings of a migration that need no rows: for one whose
// tables a database knows.
func Statements(m *migration.Migration, tables *schema.Schema, e engine.Engine) fault.List {
	c := checker{engine: e, m: m, tables: tables}
	c.heading()
	for _, st := range m.File.Statements {
		c.statement(st)
		if after, _, err := schema.Apply(c.tables, st, e.About().Env(m.CSV)); err == nil {
			c.tables = after
		}
	}
	return c.findings
}

type checker struct {
	engine   engine.Engine
	m        *migration.Migration
	tables   *schema.Schema
	lost     bool                             // an earlier statement could not be played
	gone     map[string][]*sqltext.DropColumn // columns that the migration has dropped so far, by table
	findings fault.List
}

func (c *checker) add(level fault.Level, pos sqltext.Pos, rule, cure, format string, args ...any) {
	c.findings = append(c.findings, &fault.Fault{
		Level: level, Class: fault.Refused, Rule: rule, Message: fmt.Sprintf(format, args...), Cure: cure,
		Where:  fault.Where{File: c.m.Path, Line: pos.Line, Column: pos.Column},
		Source: sqltext.SourceLine(c.m.File.Source, pos.Line),
	})
}

func (c *checker) migration(m *migration.Migration) {
	c.m = m
	c.heading()
	if f := plan.Undecided(m); f != nil {
		c.findings = append(c.findings, f)
	}
	for _, st := range m.File.Statements {
		c.statement(st)
		after, _, err := schema.Apply(c.tables, st, c.engine.About().Env(m.CSV))
		var unknown *schema.ErrUnknown
		switch {
		case err == nil:
			c.tables = after
		case errors.As(err, &unknown):
			c.add(fault.Note, st.Start(), "table-unknown", "check with a database",
				"%s since native SQL has changed it: this statement was not checked against it", unknown.Error())
		case !c.lost:
			f := plan.Located(m, err)
			c.findings = append(c.findings, f)
			c.lost = f.Rule == "name-unknown" || f.Rule == "not-yet-run"
		}
	}
}

// heading finds what a file as a whole lacks.
func (c *checker) heading() {
	c.gone = map[string][]*sqltext.DropColumn{}
	switch f := c.m.File; {
	case len(f.Statements) == 0:
		c.add(fault.Error, sqltext.Pos{Line: 1, Column: 1}, "migration-empty", plan.EmptyCure,
			"the migration has no statements")
	case f.Title == "":
		c.add(fault.Note, f.Statements[0].Start(), "title-missing", "begin the file with a comment: -- what changes, and why",
			"the migration has no title")
	}
}

// statement finds what can be seen in one statement alone.
func (c *checker) statement(st sqltext.Statement) {
	switch st := st.(type) {
	case *sqltext.CreateTable:
		c.name(st.Table.Pos, st.Table.Name)
		for _, col := range st.Columns {
			c.column(nil, col)
			if col.Default != nil {
				c.fits(col.Pos, col.Name, col.Type, col.Default)
			}
		}
		for _, k := range st.Constraints {
			c.expr(nil, k.Expr, k.Pos)
		}
	case *sqltext.DropTable:
		c.discard(st.At, st.Discard, "the rows of table "+st.Table.Name)
	case *sqltext.AlterTable:
		c.alter(st)
	case *sqltext.CreateIndex:
		c.name(st.Index.Pos, st.Index.Name)
		c.expr(c.table(st.Table), st.Where, st.At)
	case *sqltext.RenameIndex:
		c.name(st.At, st.To)
	case *sqltext.CreateView:
		c.name(st.View.Pos, st.View.Name)
	case *sqltext.Delete:
		c.discard(st.At, st.Discard, "the deleted rows of table "+st.Table.Name)
		c.expr(c.table(st.Table), st.Where, st.At)
	case *sqltext.Insert:
		for _, row := range st.Rows {
			for _, e := range row {
				c.expr(nil, e, st.At)
			}
		}
	case *sqltext.Backfill:
		c.discard(st.At, st.Discard, "the old values of table "+st.Table.Name)
		t := c.table(st.Table)
		for _, set := range st.Set {
			c.expr(t, set.Value, set.Pos)
			c.nullable(t, set.Value, set.Pos)
			c.invented(set.Value, set.Pos)
		}
		c.expr(t, st.Where, st.At)
	case *sqltext.Native:
		if st.NoWayBack {
			c.add(fault.Warning, st.At, "no-way-back", "write back $$ … $$ if there is one",
				"the native statement has no way back, and so has the migration")
		}
		c.add(fault.Note, st.At, "native", "", "native SQL runs as it is written, on %s alone",
			strings.Join(st.Engines, " and "))
	}
}

func (c *checker) discard(pos sqltext.Pos, discard bool, what string) {
	if discard {
		c.add(fault.Warning, pos, "discard-loses-data", "leave out discard to keep them until they are no longer wanted",
			"%s will not be kept: a retreat cannot bring them back", what)
	}
}

// invented notes that a clock makes up history for existing rows.
func (c *checker) invented(e sqltext.Expr, pos sqltext.Pos) {
	if what := schema.Unsteady(e); strings.HasPrefix(what, "current_") {
		c.add(fault.Note, pos, "invented-history", "leave old rows null, if it is not known when they came",
			"existing rows get the time of the migration as %s: one value for all, and not when they came", what)
	}
}

// expr finds arithmetic that surprises, and what has no equal on the engine. The table is
// the one whose rows it reads, as far as that is known.
func (c *checker) expr(t *schema.Table, e sqltext.Expr, pos sqltext.Pos) {
	if e == nil {
		return
	}
	if err := c.engine.Portable(t, e); err != nil {
		c.add(fault.Error, pos, "not-portable", "", "%v", err)
	}
	sqltext.Walk(e, func(x sqltext.Expr) bool {
		switch x := x.(type) {
		case *sqltext.Binary:
			if x.Op == "/" && wholeNumber(x.L) && wholeNumber(x.R) {
				c.add(fault.Warning, pos, "integer-division", "write one of them with a point: 50.0 / 100",
					"%s divides whole numbers and drops the rest", sqltext.PrintExpr(x))
			}
		case *sqltext.Call:
			if x.Name == "round" && len(x.Args) == 2 && c.engine.About().Binary {
				c.add(fault.Note, pos, "half-way-rounding", "compute in whole units where a half must go up",
					"%s may round a half otherwise on %s, which has no decimals", sqltext.PrintExpr(x), c.engine.About().Title)
			} else if (x.Name == "upper" || x.Name == "lower") && c.engine.About().PlainCase {
				c.add(fault.Note, pos, "letters-beyond-ascii", "", "%s leaves letters beyond a-z as they are on %s", x.Name,
					c.engine.About().Title)
			} else if !slices.Contains(sqltext.Functions, x.Name) {
				level, cure := fault.Note, ""
				if near, ok := sqltext.Nearest(x.Name, sqltext.Functions); ok {
					level, cure = fault.Warning, "did you mean "+near+"?"
				}
				c.add(level, pos, "function-native", cure, "%s() is no function of the language and is passed on as it is", x.Name)
			}
		}
		return true
	})
}

func wholeNumber(e sqltext.Expr) bool {
	l, ok := e.(*sqltext.Literal)
	return ok && l.Kind == sqltext.NumberLiteral && !strings.ContainsAny(l.Text, ".eE")
}
