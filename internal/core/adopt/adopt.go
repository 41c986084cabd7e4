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
	var b strings.Builder
	fmt.Fprintf(&b, "-- The tables as they were when %s came under care\n", database)
	b.WriteString("-- Written from the database; on that database it was recorded without being run.\n\n")
	played := &schema.Schema{}
	write := func(st sqltext.Statement) {
		if e.About().Schemas {
			restate.Qualify(st)
		}
		b.WriteString(sqltext.PrintStatement(st) + ";\n\n")
	}
	engines := []string{e.About().Name}
	others := func(place engine.BesidePlace) {
		for _, o := range beside {
			switch {
			case o.Place != place:
			case o.SQL == "" || place == engine.Rights && !rights:
				leftOut = append(leftOut, o.What)
			default:
				native = append(native, o.What)
				write(&sqltext.Native{Engines: engines, SQL: o.SQL, NoWayBack: true})
			}
		}
	}
	others(engine.BeforeTables)
	tables := restate.Ordered(s)
	var natively []string // tables and views that are written so
	var circles []*schema.Table
	for i, t := range tables {
		if t.Opaque == schema.Dotted {
			leftOut = append(leftOut, "table "+t.Name+" ("+t.Opaque+")")
			continue
		}
		if bare := before(t, tables[i+1:], e); bare != t {
			circles, t = append(circles, t), bare
		}
		statements, after, ok := portable(t, played, e)
		if ok && !onNative(t, natively, e) {
			played = after
			for _, st := range statements {
				write(st)
			}
		} else {
			ok, natively = false, append(natively, t.Name)
			native = append(native, "table "+t.Name)
			write(nativeTable(whole(t, beside), e))
			played.Tables = append(played.Tables, t)
		}
		if t.Comment != "" && ok {
			write(&sqltext.CommentOn{Table: sqltext.Name{Name: t.Name}, Text: &t.Comment})
		}
	}
	for _, t := range circles {
		made := before(t, tables[slices.Index(tables, t)+1:], e).ForeignKeys
		for _, k := range t.ForeignKeys {
			if slices.Contains(made, k) {
				continue
			}
			if schema.HasName(natively, t.Name) || schema.HasName(natively, k.Table) {
				native = append(native, "foreign key "+k.Name+" of table "+t.Name)
				write(&sqltext.Native{Engines: engines, SQL: keySQL(t, k, e), Touching: []sqltext.Name{{Name: t.Name}},
					NoWayBack: true})
				continue
			}
			write(&sqltext.AlterTable{Table: sqltext.Name{Name: t.Name},
				Actions: []sqltext.Action{&sqltext.AddConstraint{Constraint: restate.ForeignKey(k)}}})
		}
	}
	others(engine.BehindTables)
	for _, t := range tables {
		for _, tr := range t.Triggers {
			native = append(native, "trigger "+tr.Name)
			write(&sqltext.Native{Engines: engines, SQL: e.TriggerSQL(tr), NoWayBack: true})
		}
	}
	for _, v := range s.Views {
		st := &sqltext.CreateView{View: sqltext.Name{Name: v.Name}, Query: sqltext.Query{Text: v.Query}}
		if again, err := sqltext.Parse("", sqltext.PrintStatement(st)+";"); err == nil && len(again.Statements) == 1 &&
			!v.More &&
			!viewOnNative(v, natively, e) {
			write(again.Statements[0])
			continue
		}
		natively = append(natively, v.Name)
		native = append(native, "view "+v.Name)
		write(&sqltext.Native{Engines: engines, SQL: v.SQL, NoWayBack: true})
	}
	others(engine.BehindViews)
	others(engine.Rights)
	return strings.TrimSuffix(b.String(), "\n"), native, leftOut
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
	return strings.Join(slices.DeleteFunc(e.CreateSQL(&with), func(sql string) bool {
		return slices.Contains(plain,
			sql)
	}),
		";\n")
}

// onNative reports whether a table refers to one that is written natively. A server that does not try
// all such statements beforehand knows nothing of it then.
func onNative(t *schema.Table, natively []string, e engine.Engine) bool {
	return !e.About().File && slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
		return schema.HasName(natively, k.Table)
	})
}

// viewOnNative reports whether a view reads what is written natively.
func viewOnNative(v *schema.View, natively []string, e engine.Engine) bool {
	tokens, _ := sqltext.Scan(v.Query, sqltext.Engine)
	return !e.About().File && slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && slices.ContainsFunc(natively,
			func(n string) bool { return schema.SameName(n[strings.LastIndex(n, ".")+1:], t.Value) })
	})
}

// whole gives a table with what its model does not say of it.
func whole(t *schema.Table, beside []engine.Beside) *schema.Table {
	out := *t
	out.Options = maps.Clone(t.Options)
	for _, o := range beside {
		if o.Place != engine.OfTable || o.Table != t.Name {
			continue
		}
		if out.Options == nil {
			out.Options = map[string]string{}
		}
		out.Options[o.What] = o.SQL
	}
	return &out
}

func nativeTable(t *schema.Table, e engine.Engine) *sqltext.Native {
	sql := t.Options["definition"]
	if sql == "" {
		bare := *t
		bare.Triggers = nil
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
