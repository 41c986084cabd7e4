// Package adopt writes the migration that would make the tables of a database
// that nobody made with migrations.
//
// A table is written in the language only if playing that statement gives the
// table attribute by attribute; what the language has no words for is written as
// a native statement, as the engine itself would make it.
package adopt

import (
	"fmt"
	"strings"

	"lastboard/internal/core/restate"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Migration gives the text of the first migration, the names of what had to be written natively, and
// of what could not be written.
func Migration(s *schema.Schema, beside []engine.Beside, e engine.Engine, database string) (text string, native,
	leftOut []string) {
	var b strings.Builder
	fmt.Fprintf(&b, "-- The tables as they were when %s came under care\n", database)
	b.WriteString("-- Written from the database; on that database it was recorded without being run.\n\n")
	played := &schema.Schema{}
	write := func(st sqltext.Statement) { b.WriteString(sqltext.PrintStatement(st) + ";\n\n") }
	others := func(first bool) {
		for _, o := range beside {
			if o.SQL != "" && o.First == first {
				native = append(native, o.What)
				write(&sqltext.Native{Engines: []string{e.About().Name}, SQL: o.SQL, NoWayBack: true})
			}
		}
	}
	others(true)
	tables := restate.Ordered(s)
	for _, t := range tables {
		statements, after, ok := portable(t, played, e)
		if ok {
			played = after
			for _, st := range statements {
				write(st)
			}
		} else {
			native = append(native, "table "+t.Name)
			write(nativeTable(t, e))
			played.Tables = append(played.Tables, t)
		}
		if t.Comment != "" && t.Options["definition"] == "" {
			write(&sqltext.CommentOn{Table: sqltext.Name{Name: t.Name}, Text: &t.Comment})
		}
	}
	others(false)
	for _, t := range tables {
		for _, tr := range t.Triggers {
			native = append(native, "trigger "+tr.Name)
			write(&sqltext.Native{Engines: []string{e.About().Name}, SQL: e.TriggerSQL(tr), NoWayBack: true})
		}
	}
	for _, v := range s.Views {
		st := &sqltext.CreateView{View: sqltext.Name{Name: v.Name}, Query: sqltext.Query{Text: v.Query}}
		if again, err := sqltext.Parse("", sqltext.PrintStatement(st)+";"); err == nil && len(again.Statements) == 1 {
			write(again.Statements[0])
			continue
		}
		native = append(native, "view "+v.Name)
		write(&sqltext.Native{Engines: []string{e.About().Name}, SQL: v.SQL, NoWayBack: true})
	}
	for _, o := range beside {
		if o.SQL == "" {
			leftOut = append(leftOut, o.What)
		}
	}
	return strings.TrimSuffix(b.String(), "\n"), native, leftOut
}

func nativeTable(t *schema.Table, e engine.Engine) *sqltext.Native {
	sql := t.Options["definition"]
	if sql == "" {
		bare := *t
		bare.Triggers, bare.Comment = nil, ""
		sql = strings.Join(e.CreateSQL(&bare), ";\n")
	}
	return &sqltext.Native{Engines: []string{e.About().Name}, SQL: sql, Touching: []sqltext.Name{{Name: t.Name}},
		NoWayBack: true}
}

// portable gives the statements that make a table, if playing them gives it.
func portable(t *schema.Table, played *schema.Schema, e engine.Engine) ([]sqltext.Statement, *schema.Schema, bool) {
	if t.Opaque != "" || len(t.Options) > 0 {
		return nil, nil, false
	}
	create, ok := restate.CreateTable(t)
	if !ok {
		return nil, nil, false
	}
	statements := []sqltext.Statement{create}
	for _, x := range t.Indexes {
		st, ok := restate.CreateIndex(t, x)
		if !ok {
			return nil, nil, false
		}
		statements = append(statements, st)
	}
	after := played
	for i, st := range statements {
		// Through the text, since that is what will be played.
		f, err := sqltext.Parse("", sqltext.PrintStatement(st)+";")
		if err != nil || len(f.Statements) != 1 {
			return nil, nil, false
		}
		statements[i] = f.Statements[0]
		if after, _, err = schema.Apply(after, f.Statements[0], e.About().Env(nil)); err != nil {
			return nil, nil, false
		}
	}
	made := *e.Holds(&schema.TableChange{After: after.Table(t.Name)})
	made.Triggers, made.Comment = t.Triggers, t.Comment
	for _, d := range schema.CompareTables(t, &made, e.Text) {
		if d.Attribute == "declared type" && d.Found == "" || d.Attribute == "options" &&
			strings.Contains(d.Expected+d.Found, "implied not null") ||
			d.Object == "foreign key" && d.Expected+d.Found == "references=implied" {
			continue // another spelling of the same
		}
		return nil, nil, false
	}
	return statements, after, true
}
