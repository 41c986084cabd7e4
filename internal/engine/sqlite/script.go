package sqlite

import (
	"context"
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/pattern"
	"lastboard/internal/sqltext"
)

// A script for sqlite3. That client has neither loops nor conditions: what must not be is inserted into a table of the
// session that does not take it, and batches are written out by the keys that were there when the script was made, the
// last one open.

// Loops implements engine.Scripted.
func (d *database) Loops() bool { return false }

// altersRules finds statements that sqlite3 takes from 3.53 on.
var altersRules = pattern.Of(`^alter table .* (alter column .* not null|add constraint .*|drop constraint .*)$`)

// Script implements engine.Scripted.
func (d *database) Script(ctx context.Context, s *engine.Script) (string, error) {
	w := &scriptWriter{Script: s, needs: "3.35.0"}
	tables, err := d.asTheyAre(ctx, s.Tables)
	if err != nil {
		return "", err
	}
	w.block("checks", s.First, func() {
		w.assert("select 1 where "+tables.sql+" is not "+literal(tables.text),
			"the tables are not as they were when this script was made: make it again")
		if len(s.Make) > 0 {
			w.assert("select 1 from sqlite_schema where name = 'lastboard_meta'",
				"the database has a ledger by now: make this script again")
		} else {
			w.assert("select 1 from lastboard_runner where beat > strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-30 seconds')",
				"another Lastboard or script is changing this database, or did until a moment ago: try again in 30 seconds")
		}
		w.lines(s.Make, nil)
		w.lines(s.Claim, nil)
	})
	w.lines(s.Lent, nil)
	if len(s.Proofs) > 0 {
		w.block("prove what has to hold before anything is changed", s.Proofs, func() {})
	}
	for _, p := range s.Parts {
		w.part(p)
	}
	w.block("done", s.Leave, func() {})
	var head strings.Builder
	for _, line := range s.Title {
		head.WriteString(engine.Comment(line))
	}
	head.WriteString(`
.bail on
.headers off
.mode list
.timeout 30000
create temp table lastboard_run (token text, began text, version, written integer, n integer, expected integer, turn integer);
insert into temp.lastboard_run (token, began) values (hex(randomblob(16)), julianday('now'));
create temp table lastboard_problem (problem text constraint "the script stops here, for the reason above" check (problem is null));
`)
	head.WriteString(assertion("select 1 where cast(substr(sqlite_version(), 3) as real) < "+
		strings.TrimSuffix(strings.TrimPrefix(w.needs, "3."), ".0"),
		"this script needs sqlite3 of version "+w.needs+" or newer"))
	head.WriteString("pragma foreign_keys = on;\n")
	return head.String() + w.b.String(), nil
}

// known is what tables are made of, as a query gives it now.
type known struct{ sql, text string }

func (d *database) asTheyAre(ctx context.Context, tables []string) (known, error) {
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = literal(strings.ToLower(t))
	}
	k := known{sql: "(select group_concat(sql, char(10)) from (select sql from main.sqlite_schema where " +
		"lower(tbl_name) in (" + strings.Join(names, ", ") + ") and sql is not null order by type, name))"}
	r, err := d.Query(ctx, "select coalesce("+k.sql+", '')")
	if err == nil {
		k.sql, k.text = "coalesce("+k.sql+", '')", text(r.Values[0][0])
	}
	return k, err
}

// scriptWriter writes the parts of a script.
type scriptWriter struct {
	*engine.Script
	b     strings.Builder
	needs string
	begun bool // a transaction of the script has ended, which knows how the tables are
}

func (w *scriptWriter) add(text string) { w.b.WriteString(text) }

// block writes a transaction.
func (w *scriptWriter) block(what string, list []engine.Line, more func()) {
	w.add("\n" + engine.Comment(what) + ".print " + literal(engine.OneLine(what)) + "\nbegin immediate;\n")
	if w.begun {
		w.assert("select 1 from temp.lastboard_run where version <> (select schema_version from pragma_schema_version)",
			"somebody has changed a table since this script began")
	}
	w.begun = true
	w.lines(list, nil)
	more()
	w.add("update temp.lastboard_run set version = (select schema_version from pragma_schema_version);\ncommit;\n")
}

// assert stops the script where a query gives a row.
func (w *scriptWriter) assert(query, why string) { w.add(assertion(query, why)) }

func assertion(query, why string) string {
	return "select " + literal(why) + " from (" + query + ") limit 1;\n" +
		"insert into temp.lastboard_problem select 'x' from (" + query + ") limit 1;\n"
}

// marks gives what stands in the place of marks.
var marks = strings.NewReplacer(
	string(engine.Moment), "strftime('%Y-%m-%dT%H:%M:%fZ', 'now')",
	string(engine.Account), "'sqlite3'",
	string(engine.Machine), "'script'",
	string(engine.Token), "(select token from temp.lastboard_run)",
	string(engine.Took), "((julianday('now') - (select began from temp.lastboard_run)) * 86400)",
	string(engine.Written), "(select coalesce(written, 0) from temp.lastboard_run)",
	string(engine.UpperKey), "''",
	engine.Turn, "(select turn from temp.lastboard_run)",
)

// instead names what stands in the place of functions that the client has not: one that fails for every text with such
// a second argument, and one that is null whatever it is given.
var instead = map[string]string{failFunction: "json_extract", markFunction: "json_extract",
	failedFunction: "max(null, "}

// clientFunctions writes a statement with functions that the client has in the place of Lastboard's own. A text that
// holds the name of one, as the ledger's record of a step does, stays as it is.
func clientFunctions(sql string) (text string, found bool) {
	if !strings.Contains(sql, failFunction) && !strings.Contains(sql, markFunction) {
		return sql, false
	}
	tokens, _ := sqltext.Scan(sql, sqltext.Migration)
	var b strings.Builder
	last := 0
	for i, t := range tokens {
		name := instead[t.Value]
		if t.Kind != sqltext.Word || name == "" || !tokens[i+1].Is("(") {
			continue
		}
		end := t.End()
		if strings.HasSuffix(name, "(null, ") { // which opens the bracket itself
			end = tokens[i+1].End()
		}
		b.WriteString(sql[last:t.Pos.Offset] + name)
		last, found = end, true
	}
	return b.String() + sql[last:], found
}

// statement writes one for the client.
func (w *scriptWriter) statement(sql string) string {
	sql, own := clientFunctions(sql)
	switch { // whose numbers have two digits
	case altersRules().MatchString(sql):
		w.needs = "3.53.0"
	case own:
		w.needs = max(w.needs, "3.38.0")
	}
	return marks.Replace(sql)
}

// lines writes statements.
func (w *scriptWriter) lines(list []engine.Line, replace func(string) string) {
	for _, l := range list {
		if l.Begins != "" {
			w.add(engine.Comment(l.Begins) + "update temp.lastboard_run set written = 0, expected = null;\n")
		}
		sql := l.SQL
		if replace != nil {
			sql = replace(sql)
		}
		sql = w.statement(sql)
		switch {
		case l.SQL == "":
		case l.Asserts && l.Otherwise != "":
			w.assert(sql, l.Otherwise)
		case l.Asserts: // its first column says what is wrong
			w.add(sql + ";\n")
			w.add("insert into temp.lastboard_problem select 'x' from (" + sql + ") limit 1;\n")
		default:
			w.add(sql + ";\n")
			w.counted(l)
		}
	}
}

// counted writes what is to be done with the number of rows that a statement has written.
func (w *scriptWriter) counted(l engine.Line) {
	if !l.Counts && !l.Equal && !l.Holds {
		return
	}
	w.add("update temp.lastboard_run set n = changes();\n")
	if l.Holds {
		w.assert("select 1 from temp.lastboard_run where n = 0", "another Lastboard has taken this run over")
	}
	if l.Counts {
		w.add("update temp.lastboard_run set written = max(coalesce(written, 0), n);\n")
	}
	if l.Equal && (strings.HasPrefix(l.SQL, "insert into ") || strings.HasPrefix(l.SQL, "update ")) {
		w.assert("select 1 from temp.lastboard_run where n <> expected",
			"not all rows were written: a trigger of the table keeps them from it")
		w.add("update temp.lastboard_run set expected = coalesce(expected, n);\n")
	}
}

func (w *scriptWriter) part(p engine.Part) {
	switch {
	case p.Step != nil && p.Step.Batch != nil:
		w.batches(p)
	case p.Step != nil && p.Step.Load != nil:
		w.block(p.What, p.Begun, func() { w.lines(p.Lines, nil) })
	default:
		if p.Options.ForeignKeysOff {
			w.add("\npragma foreign_keys = off;")
		}
		w.block(p.What, p.Lines, func() {})
		if p.Options.ForeignKeysOff {
			w.add("pragma foreign_keys = on;\n")
		}
	}
}

// batches writes a backfill, each batch as a transaction; the last one, which ends the step, has all rows that are
// behind the others.
func (w *scriptWriter) batches(p engine.Part) {
	w.block(p.What, p.Begun, func() { w.add("update temp.lastboard_run set written = 0;\n") })
	behind := "true"
	for i, r := range p.Ranges {
		w.block(fmt.Sprintf("%s, part %d of %d", p.What, i+1, len(p.Ranges)+1), w.Beat, func() {
			w.batch(p, r.Condition)
			w.lines(p.Save, func(sql string) string { return strings.ReplaceAll(sql, string(engine.LastKey), literal(r.Last)) })
		})
		if w.Pause > 0 { // others who wait for the file get their turn
			w.add(".shell sleep 0.05\n")
		}
		behind = r.Behind
	}
	w.block(fmt.Sprintf("%s, part %d of %d", p.What, len(p.Ranges)+1, len(p.Ranges)+1), nil, func() {
		w.batch(p, behind)
		w.lines(p.Lines, nil)
	})
}

// batch writes the statements of one.
func (w *scriptWriter) batch(p engine.Part, condition string) {
	w.add("update temp.lastboard_run set expected = null, n = 0, turn = abs(random());\n")
	for _, sql := range p.Step.Batch.Do {
		l := engine.Line{SQL: sql, Equal: p.Step.Batch.Equal, Asserts: strings.HasPrefix(sql, "select ")}
		w.lines([]engine.Line{l}, func(sql string) string { return strings.ReplaceAll(sql, engine.Range, condition) })
		if strings.Contains(sql, engine.Range) && !l.Asserts && !l.Equal {
			w.add("update temp.lastboard_run set n = changes();\n")
		}
	}
	w.add("update temp.lastboard_run set written = coalesce(written, 0) + n;\n")
}
