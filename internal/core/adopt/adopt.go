// Package adopt writes the migration that would make the tables of a database
// that nobody made with migrations.
//
// A table is written in the language only if playing that statement gives the
// table attribute by attribute; what the language has no words for is written as
// a native statement, as the engine itself would make it.
package adopt

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/restate"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Migration gives the text of the first migration, the names of what had to be written natively, and
// of what could not be written.
func Migration(s *schema.Schema, beside []engine.Beside, e engine.Engine, database string, rights bool) (text string,
	native, leftOut []string) {
	w := &writer{e: e, beside: beside, rights: rights, played: &schema.Schema{}}
	fmt.Fprintf(&w.text, "-- The tables as they were when %s came under care\n", database)
	w.text.WriteString("-- Written from the database; on that database it was recorded without being run.\n\n")
	w.others(engine.BeforeTables)
	tables := restate.Ordered(withParts(s, beside))
	for i, t := range tables {
		w.table(t, tables[i+1:])
	}
	for i, t := range tables {
		w.circle(t, tables[i+1:])
	}
	w.others(engine.BehindTables)
	for _, t := range tables {
		for _, tr := range t.Triggers {
			w.natively("trigger "+tr.Name, e.TriggerSQL(tr))
		}
	}
	for _, v := range s.Views {
		w.view(v)
	}
	w.others(engine.BehindViews)
	w.others(engine.Rights)
	return strings.TrimSuffix(w.text.String(), "\n"), w.native, w.leftOut
}

// withParts gives a schema in which the parts of tables are tables of their own.
func withParts(s *schema.Schema, beside []engine.Beside) *schema.Schema {
	out := *s
	out.Tables = slices.Clone(s.Tables)
	for i, t := range out.Tables {
		for _, o := range beside {
			if o.Part != nil && o.Part.Name == t.Name {
				out.Tables[i] = o.Part
			}
		}
	}
	return &out
}

// writer writes the migration.
type writer struct {
	e      engine.Engine
	beside []engine.Beside
	rights bool
	text   strings.Builder
	played *schema.Schema // the tables that what is written makes
	// native names what was written natively, leftOut what could not be written, and unread the tables and
	// views among the first: a server that does not try all such statements beforehand knows nothing of them.
	native, leftOut, unread []string
}

func (w *writer) write(st sqltext.Statement) {
	if w.e.About().Schemas {
		restate.Qualify(st)
	}
	w.text.WriteString(sqltext.PrintStatement(st) + ";\n\n")
}

func (w *writer) natively(what, sql string, touching ...string) {
	st := &sqltext.Native{Engines: []string{w.e.About().Name}, SQL: sql, NoWayBack: true}
	for _, t := range touching {
		st.Touching = append(st.Touching, sqltext.Name{Name: t})
	}
	w.native = append(w.native, what)
	w.write(st)
}

// others writes what stands beside the tables and can be made at a place.
func (w *writer) others(place engine.BesidePlace) {
	for _, o := range w.beside {
		switch {
		case o.Place != place:
		case o.SQL == "" || place == engine.Rights && !w.rights:
			w.leftOut = append(w.leftOut, o.What)
		default:
			w.natively(o.What, o.SQL)
		}
	}
}

// table writes a table, without the foreign keys to those that come later.
func (w *writer) table(t *schema.Table, later []*schema.Table) {
	if t.Opaque == schema.Dotted {
		w.leftOut = append(w.leftOut, "table "+t.Name+" ("+t.Opaque+")")
		return
	}
	t = before(t, later, w.e)
	statements, after, ok := portable(t, w.played, w.e)
	if !ok || w.onNative(t) {
		w.unread = append(w.unread, t.Name)
		w.natively("table "+t.Name, tableSQL(whole(t, w.beside), w.e), t.Name)
		w.played.Tables = append(w.played.Tables, t)
		return
	}
	w.played = after
	for _, st := range statements {
		w.write(st)
	}
	if t.Comment != "" {
		w.write(&sqltext.CommentOn{Table: sqltext.Name{Name: t.Name}, Text: &t.Comment})
	}
}

// circle writes the foreign keys of a table to those that have come after it.
func (w *writer) circle(t *schema.Table, later []*schema.Table) {
	made := before(t, later, w.e).ForeignKeys
	unread := schema.HasName(w.unread, t.Name)
	if t.Opaque == schema.Dotted || unread && whole(t, w.beside).Options["definition"] != "" {
		return // which has them all
	}
	for _, k := range t.ForeignKeys {
		switch {
		case slices.Contains(made, k):
		case unread || schema.HasName(w.unread, k.Table):
			w.natively("foreign key "+k.Name+" of table "+t.Name, keySQL(t, k, w.e), t.Name)
		default:
			w.write(&sqltext.AlterTable{Table: sqltext.Name{Name: t.Name},
				Actions: []sqltext.Action{&sqltext.AddConstraint{Constraint: restate.ForeignKey(k)}}})
		}
	}
}

func (w *writer) view(v *schema.View) {
	st := &sqltext.CreateView{View: sqltext.Name{Name: v.Name}, Query: sqltext.Query{Text: v.Query}}
	again, err := sqltext.Parse("", sqltext.PrintStatement(st)+";")
	if err == nil && len(again.Statements) == 1 && !v.More && !w.readsNative(v) {
		w.write(again.Statements[0])
	} else {
		w.unread = append(w.unread, v.Name)
		w.natively("view "+v.Name, v.SQL)
	}
	for _, tr := range v.Triggers {
		w.natively("trigger "+tr.Name+" of view "+v.Name, w.e.TriggerSQL(tr))
	}
}

// onNative reports whether a table refers to one that is written natively.
func (w *writer) onNative(t *schema.Table) bool {
	return !w.e.About().File && slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
		return schema.HasName(w.unread, k.Table)
	})
}

// readsNative reports whether a view reads what is written natively.
func (w *writer) readsNative(v *schema.View) bool {
	tokens, _ := sqltext.Scan(v.Query, sqltext.Engine)
	return !w.e.About().File && slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && slices.ContainsFunc(w.unread,
			func(n string) bool { return schema.SameName(n[strings.LastIndex(n, ".")+1:], t.Value) })
	})
}

// before gives a table without the foreign keys to those that come later, which refer to it in turn; a
// file lets a table refer to one that is not there yet.
func before(t *schema.Table, later []*schema.Table, e engine.Engine) *schema.Table {
	waits := func(k *schema.ForeignKey) bool {
		return !schema.SameName(k.Table, t.Name) && slices.ContainsFunc(later,
			func(o *schema.Table) bool { return schema.SameName(o.Name, k.Table) })
	}
	if e.About().File || !slices.ContainsFunc(t.ForeignKeys, waits) {
		return t
	}
	bare := *t
	bare.ForeignKeys = slices.DeleteFunc(slices.Clone(t.ForeignKeys), waits)
	return &bare
}

// keySQL gives the engine's own statements that add a foreign key: what makes the table with it, and
// not without it.
func keySQL(t *schema.Table, k *schema.ForeignKey, e engine.Engine) string {
	with, without := *t, *t
	with.ForeignKeys, without.ForeignKeys = []*schema.ForeignKey{k}, nil
	plain := e.CreateSQL(&without)
	more := slices.DeleteFunc(e.CreateSQL(&with), func(sql string) bool { return slices.Contains(plain, sql) })
	return strings.Join(more, ";\n")
}

// whole gives a table with what its model does not say of it.
func whole(t *schema.Table, beside []engine.Beside) *schema.Table {
	out := *t
	out.Options = maps.Clone(t.Options)
	for _, o := range beside {
		if o.Place != engine.OfTable || o.Part != nil || o.Table != t.Name {
			continue
		}
		if out.Options == nil {
			out.Options = map[string]string{}
		}
		out.Options[o.What] = o.SQL
	}
	return &out
}

// tableSQL gives the engine's own statements that make a table.
func tableSQL(t *schema.Table, e engine.Engine) string {
	if sql := t.Options["definition"]; sql != "" {
		return sql
	}
	bare := *t
	bare.Triggers = nil
	return strings.Join(e.CreateSQL(&bare), ";\n")
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
