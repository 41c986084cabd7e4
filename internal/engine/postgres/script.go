package postgres

import (
	"context"
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/pattern"
)

// A script for psql: each part is a block of the server's own language, so that it can wait for a lock in tries,
// and commit between batches. Every statement is run as text, as a run of Lastboard's sends it.

// Loops implements engine.Scripted.
func (d *database) Loops() bool { return true }

// Script implements engine.Scripted.
func (d *database) Script(ctx context.Context, s *engine.Script) (string, error) {
	for _, p := range s.Parts {
		if err := possible(p); err != nil {
			return "", err
		}
	}
	sum, err := d.tablesSum(ctx, s.Tables)
	if err != nil {
		return "", err
	}
	w := &scriptWriter{Script: s}
	for _, line := range s.Title {
		w.comment(line)
	}
	w.settings(d)
	w.helpers()
	w.say("checks")
	w.block(func() {
		w.refuse("current_setting('lastboard.client')::int < 100000", "this script is for psql of version 10 and newer")
		w.refuse(fmt.Sprintf("current_setting('server_version_num')::int / 10000 <> %d", d.number/10000),
			fmt.Sprintf("this script was made for a server of PostgreSQL %d: make it again", d.number/10000))
		w.refuse("current_database() <> "+literal(d.config.Database), "this script was made for database "+d.config.Database)
		w.refuse("exists (select from pg_namespace where nspname = 'lastboard' and pg_get_userbyid(nspowner) <> "+
			"current_user)", "run this script as the account to which the schema lastboard belongs")
		w.refuse("not pg_try_advisory_lock("+claimKey+")", "another Lastboard or script is changing this database")
		w.refuse("("+sum.sql+") <> "+literal(sum.text),
			"the tables are not as they were when this script was made: make it again")
		w.lines(s.First)
	})
	if len(s.Make) > 0 {
		w.say("make the ledger")
		w.block(func() { w.lines(s.Make); w.line("perform pg_temp.lastboard_own();") })
	}
	w.block(func() { w.lines(s.Claim) })
	w.plain(s.Lent)
	if len(s.Proofs) > 0 {
		w.say("prove what has to hold before anything is changed")
		w.block(func() { w.lines(s.Proofs) })
	}
	for _, p := range s.Parts {
		w.part(p)
	}
	w.block(func() { w.lines(s.Leave); w.line("perform pg_temp.lastboard_own();") })
	w.say("done: lastboard status and lastboard audit show how things stand")
	return w.b.String(), nil
}

// possible refuses what has no form in a script.
func possible(p engine.Part) error {
	if p.Step == nil || p.Step.Outside == nil {
		return nil
	}
	for _, st := range p.Step.Outside.Statements {
		if st.Each || st.Unless != "" {
			return fmt.Errorf("%s: which statements that takes is found out as it goes, part by part of the table", p.What)
		}
	}
	return nil
}

// scriptWriter writes one.
type scriptWriter struct {
	*engine.Script
	b     strings.Builder
	depth int // of what is written next
}

// line writes a line, or a statement whose text has several.
func (w *scriptWriter) line(text string) {
	w.b.WriteString(strings.Repeat("  ", w.depth) + text + "\n")
}

// within writes what stands between two lines.
func (w *scriptWriter) within(begin, end string, body func()) {
	w.line(begin)
	w.depth++
	body()
	w.depth--
	w.line(end)
}

func (w *scriptWriter) comment(text string) {
	for _, line := range strings.SplitAfter(strings.TrimSuffix(engine.Comment(text), "\n"), "\n") {
		w.line(strings.TrimSuffix(line, "\n"))
	}
}

// say writes what comes, for those who read the script and for those who look on.
func (w *scriptWriter) say(what string) {
	w.line("")
	w.comment(what)
	w.line(`\echo ` + literal(engine.OneLine(what)))
}

// settings writes those of psql and of its session, which are those of a run.
func (w *scriptWriter) settings(d *database) {
	w.line(`
\set ON_ERROR_STOP on
\set AUTOCOMMIT on
\set QUIET on
\o /dev/null
select set_config('lastboard.client', :'VERSION_NUM', false);
select set_config('lastboard.token', md5(random()::text || clock_timestamp()::text || pg_backend_pid()), false);
select set_config('lastboard.began', clock_timestamp()::text, false);
\o
` + strings.ReplaceAll(strings.TrimSpace(settings), "\n\t", "\n") + `;
-- Where the server can tell that its client is gone, it goes on with nothing.
do $$ begin perform set_config('client_connection_check_interval', '1s', false); exception when others then null; end $$;`)
	if d.role != "" {
		w.line("set role " + quote(d.role) + ";")
	}
	w.line("set search_path = " + quote(d.home) + ";")
}

// helpers writes functions of the session: what each transaction begins with, and what keeps the ledger the runner's
// own.
func (w *scriptWriter) helpers() {
	w.line("")
	w.comment("Begins a transaction: this script has to be the one runner still, and its tables are locked against\n" +
		"others who change them, so that what follows waits for nobody but those who read or write them just now.")
	w.within("create function pg_temp.lastboard_begin(wait text, variadic tables text[]) returns void\n"+
		"language plpgsql as $$ declare t text; begin", "end $$;", func() {
		w.line("perform set_config('lastboard.writes', 'on', true);")
		w.line("perform set_config('lock_timeout', " + milliseconds(autovacuumYields) + ", true);")
		w.within("foreach t in array tables loop", "end loop;", func() {
			w.line("if exists (select from pg_class where oid = to_regclass(t) and relkind in ('r', 'p')) then execute " +
				"format('lock table %s in share update exclusive mode', t); end if;")
		})
		w.line("perform set_config('lock_timeout', wait, true);")
		for _, l := range w.Beat {
			w.line(valueMarks.Replace(translate(l.SQL, 0)) + ";")
		}
		w.line("if not found then raise exception 'another Lastboard has taken this run over'; end if;")
	})
	w.line("")
	w.comment("Takes the rights on the ledger from others that the database gives by default.")
	w.within("create function pg_temp.lastboard_own() returns void language plpgsql as $$ declare who text; begin",
		"end $$;", func() {
			w.within("for who in select distinct case name when 'public' then name else quote_ident(name) end from ("+
				strings.TrimSpace(selectOthers)+") others(name, what, kept) loop", "end loop;", func() {
				for _, what := range []string{"schema", "all tables in schema", "all sequences in schema"} {
					w.line("execute 'revoke all on " + what + " lastboard from ' || who;")
				}
			})
		})
}

// known is what tables are made of, as a query gives it now.
type known struct{ sql, text string }

func (d *database) tablesSum(ctx context.Context, tables []string) (known, error) {
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = "to_regclass(" + literal(name(t)) + ")::oid"
	}
	k := known{sql: strings.ReplaceAll(selectSum, "{tables}", "array["+strings.Join(names, ", ")+"]::oid[]")}
	r, err := d.Query(ctx, k.sql)
	if err == nil {
		k.text = text(r.Values[0][0])
	}
	return k, err
}

const selectSum = `select coalesce(md5(string_agg(x, chr(10) order by x collate "C")), '') from (
		select format('%s %s %s %s %s %s %s %s', a.attrelid::regclass, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attgenerated, a.attidentity, pg_get_expr(f.adbin, f.adrelid), a.attcollation) as x
			from pg_attribute a left join pg_attrdef f on f.adrelid = a.attrelid and f.adnum = a.attnum where a.attrelid = any({tables}) and a.attnum > 0 and not a.attisdropped
		union all select format('%s %s %s %s', conrelid::regclass, conname, pg_get_constraintdef(oid), convalidated) from pg_constraint where conrelid = any({tables})
		union all select format('%s %s', pg_get_indexdef(indexrelid), indisvalid) from pg_index where indrelid = any({tables})
		union all select format('%s %s', pg_get_triggerdef(oid), tgenabled) from pg_trigger where tgrelid = any({tables}) and not tgisinternal
	) parts`

// tagged quotes a text with dollars, and a tag that is not in it.
func tagged(text, tag string) string {
	for strings.Contains(text+"$", "$"+tag) {
		tag += "_"
	}
	return "$" + tag + "$" + text + "$" + tag + "$"
}

// valueMarks gives what stands in the place of marks in a statement.
var valueMarks = strings.NewReplacer(
	string(engine.Moment), `to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"')`,
	string(engine.Account), "session_user::text",
	string(engine.Machine), "coalesce(host(inet_client_addr()), 'local')",
	string(engine.Token), "current_setting('lastboard.token')",
	string(engine.Took), "extract(epoch from clock_timestamp() - current_setting('lastboard.began')::timestamptz)::float8",
)

// variables are those of a block which stand for marks.
var variables = map[string]string{
	"written": "written", "lastkey": "quote_literal(next_key)", "upperkey": "quote_literal(upper_key)", "turn": "turn",
	"range": "range", "offset": "(size - 1)",
}

var variableMarks = pattern.Of("\x00(written|lastkey|upperkey|turn|range|offset)\x00")

// statement gives the text of a statement as an expression of a block.
func statement(sql string) string {
	sql = valueMarks.Replace(translate(sql, 0))
	var b strings.Builder
	last := 0
	for _, at := range variableMarks().FindAllStringSubmatchIndex(sql, -1) {
		b.WriteString(tagged(sql[last:at[0]], "step") + " || " + variables[sql[at[2]:at[3]]] + " || ")
		last = at[1]
	}
	b.WriteString(tagged(sql[last:], "step"))
	return b.String()
}

// block writes one of the server's language, which is a transaction.
func (w *scriptWriter) block(body func(), more ...string) {
	outer := w.b
	w.b = strings.Builder{}
	w.line("\ndeclare")
	w.line("  n bigint; written bigint := 0; expected bigint; problem text;")
	for _, m := range more {
		w.line("  " + m)
	}
	w.within("begin", "end", body)
	text := strings.TrimSuffix(w.b.String(), "\n") + " "
	w.b = outer
	w.line("do " + tagged(text, "script") + ";")
}

// refusedLocks are the errors after which a transaction is tried again.
const refusedLocks = "exception when lock_not_available or deadlock_detected or serialization_failure then"

// tries writes a block whose transaction is tried until its locks are given.
func (w *scriptWriter) tries(o engine.TxOptions, body func()) {
	if o.LockWait <= 0 {
		w.block(func() { w.begin(o); body() })
		return
	}
	w.block(func() {
		w.within(fmt.Sprintf("for try in 1..%d loop", max(w.LockTries, 1)), "end loop;", func() {
			w.within("begin", refusedLocks, func() {
				w.line("expected := null;")
				w.begin(o)
				body()
				w.line("return;")
			})
			w.line(fmt.Sprintf("  if try = %d then raise; end if;", max(w.LockTries, 1)))
			w.line("end;")
			w.line("perform pg_sleep(least(try * 0.1, 5));")
		})
	})
}

// begin writes what a transaction begins with.
func (w *scriptWriter) begin(o engine.TxOptions) {
	wait := o.LockWait
	if wait <= 0 {
		wait = patience
	}
	call := "perform pg_temp.lastboard_begin(" + milliseconds(wait)
	for _, table := range o.Strong {
		call += ", " + literal(name(table))
	}
	if len(o.Strong) == 0 {
		call += ", variadic '{}'"
	}
	w.line(call + ");")
}

// refuse stops the script where a condition holds.
func (w *scriptWriter) refuse(condition, why string) {
	w.line("if " + condition + " then raise exception using message = " + literal(why) + "; end if;")
}

// lines writes statements.
func (w *scriptWriter) lines(list []engine.Line) {
	for _, l := range list {
		if l.Begins != "" {
			w.comment(l.Begins)
			w.line("written := 0; expected := null;")
		}
		switch {
		case l.SQL == "", l.Holds: // each transaction begins with that
		case l.Asserts && l.Otherwise != "":
			w.line("execute " + statement("select r::text from ("+l.SQL+") r limit 1") + " into problem;")
			w.line("if problem is not null then raise exception using message = " + literal(l.Otherwise+": ") +
				" || problem; end if;")
		case l.Asserts:
			w.line("execute " + statement("select (select value from json_each_text(row_to_json(r)) limit 1) from ("+l.SQL+
				") r limit 1") + " into problem;")
			w.line("if problem is not null then raise exception using message = problem; end if;")
		default:
			w.line("execute " + statement(l.SQL) + ";")
			w.counted(l)
		}
	}
}

// counted writes what is to be done with the number of rows that a statement has written.
func (w *scriptWriter) counted(l engine.Line) {
	if !l.Counts && !l.Equal {
		return
	}
	w.line("get diagnostics n = row_count;")
	if l.Counts {
		w.line("written := greatest(written, n);")
	}
	if l.Equal && (strings.HasPrefix(l.SQL, "insert into ") || strings.HasPrefix(l.SQL, "update ")) {
		w.line("if n < expected then raise exception '% of % rows were not written: a trigger of the table keeps them from " +
			"it', expected - n, expected; end if;")
		w.line("if n > expected then raise exception using message = 'rows came meanwhile', errcode = " +
			"'serialization_failure'; end if;")
		w.line("expected := coalesce(expected, n);")
	}
}

// plain writes statements as they are: many of them, with rows, would be too much for one block.
func (w *scriptWriter) plain(list []engine.Line) {
	for _, l := range list {
		if l.SQL != "" {
			w.line(valueMarks.Replace(translate(l.SQL, 0)) + ";")
		}
	}
}

func (w *scriptWriter) part(p engine.Part) {
	w.say(p.What)
	switch {
	case p.Step != nil && p.Step.Batch != nil:
		w.batches(p)
	case p.Step != nil && p.Step.Outside != nil:
		w.outside(p)
	case p.Step != nil && p.Step.Load != nil:
		w.line("begin;")
		w.plain(p.Begun)
		w.tries(engine.TxOptions{}, func() { w.lines(p.Lines) })
		w.line("commit;")
	default:
		w.tries(p.Options, func() { w.lines(p.Lines) })
	}
}

// batches writes a backfill: a loop in which each batch is a transaction.
func (w *scriptWriter) batches(p engine.Part) {
	b := p.Step.Batch
	row, key := keyRow(len(b.Keys))
	look := func(sql string) string {
		return "execute " + statement("select "+row+", "+key+" from ("+sql+") q("+keyNames(len(b.Keys))+")")
	}
	w.tries(engine.TxOptions{}, func() { w.lines(p.Begun) })
	w.block(func() {
		w.within("loop", "end loop;", func() {
			w.line("again := false; expected := null; n := 0; began := clock_timestamp();")
			w.line("turn := (extract(epoch from began) * 1000000)::bigint::text;")
			w.within("begin", refusedLocks, func() {
				w.begin(p.Options)
				w.line("if upper_key is null then " + look(b.Upper) + " into upper_row, upper_key; end if;")
				w.within("if upper_key is not null then", "end if;", func() { w.batch(p, look) })
			})
			w.line("  tries := tries + 1; again := true;")
			w.line(fmt.Sprintf("  if tries >= %d then raise; end if;", 10*max(w.LockTries, 1)))
			w.line("end;")
			w.line("commit;")
			w.within("if again then -- a smaller batch meets fewer others", "end if;", func() {
				w.line("size := greatest(size / 8, 1); perform pg_sleep(least(tries * 0.02, 1)); continue;")
			})
			w.line("exit when upper_key is null;")
			w.line("tries := 0; done := written; last_row := next_row;")
			w.line("exit when next_key = upper_key;")
			w.line("took := extract(epoch from clock_timestamp() - began);")
			w.line(fmt.Sprintf("size := least(greatest((size * least(greatest(%.3f / greatest(took, 0.000001), 0.25), "+
				"2))::bigint, case when took > %.3f then 1 else 30 end), 500000);", w.BatchTime, max(2*w.BatchTime, 0.02)))
			w.line(fmt.Sprintf("perform pg_sleep(%.3f * took);", w.Pause))
		})
		w.line("written := done;")
		w.begin(engine.TxOptions{})
		w.lines(p.Lines)
	}, "tries int := 0; turn text; began timestamptz; took float8; again boolean; range text;",
		"size bigint := 10; done bigint := 0; upper_key text; next_key text;",
		"last_row text[]; upper_row text[]; next_row text[];")
}

// batch writes the statements of one batch.
func (w *scriptWriter) batch(p engine.Part, look func(string) string) {
	b := p.Step.Batch
	w.line("range := " + keyRange(b.Keys, "upper_row") + ";")
	w.line("next_key := null;")
	at := strings.LastIndex(b.Next, "?")
	w.line(look(b.Next[:at]+"\x00offset\x00"+b.Next[at+1:]) + " into next_row, next_key;")
	w.line("if next_key is null then next_row := upper_row; next_key := upper_key; end if;")
	w.line("range := " + keyRange(b.Keys, "next_row") + ";")
	for _, sql := range b.Do {
		w.lines([]engine.Line{{SQL: sql, Asserts: strings.HasPrefix(sql, "select "), Equal: b.Equal}})
		if strings.Contains(sql, engine.Range) && !strings.HasPrefix(sql, "select ") && !b.Equal {
			w.line("get diagnostics n = row_count;")
		}
	}
	w.line("written := done + n;")
	w.lines(p.Save)
}

// keyNames names the columns of a key.
func keyNames(n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("k%d", i+1)
	}
	return strings.Join(list, ", ")
}

// keyRow gives the values of a key as an array of texts, and as the ledger writes them.
func keyRow(n int) (row, key string) {
	var texts, parts []string
	for i := range n {
		k := fmt.Sprintf("k%d", i+1)
		texts = append(texts, k+"::text")
		parts = append(parts, strings.ReplaceAll("json_build_array(case when pg_typeof({k}) in ('smallint'::regtype, "+
			"'integer'::regtype, 'bigint'::regtype, 'oid'::regtype) then 'int' when pg_typeof({k}) in ('real'::regtype, "+
			"'double precision'::regtype) then 'real' when pg_typeof({k}) = 'boolean'::regtype then 'bool' "+
			"when pg_typeof({k}) = 'bytea'::regtype then 'blob' else 'text' end, "+
			"case when pg_typeof({k}) = 'bytea'::regtype then translate(encode({k}::text::bytea, 'base64'), chr(10), '') "+
			"else {k}::text end)", "{k}", k))
	}
	return "array[" + strings.Join(texts, ", ") + "]", "json_build_array(" + strings.Join(parts, ", ") + ")::text"
}

// keyRange gives the condition that a key is above the last one that is done, and not above another, as an expression
// of a block.
func keyRange(keys []string, upper string) string {
	left := "(" + strings.Join(keys, ", ") + ")"
	right := func(row string) string {
		list := make([]string, len(keys))
		for i := range list {
			list[i] = fmt.Sprintf("quote_literal(%s[%d])", row, i+1)
		}
		return "'(' || " + strings.Join(list, " || ', ' || ") + " || ')'"
	}
	return "case when last_row is null then '' else " + tagged(left+" > ", "step") + " || " + right("last_row") +
		" || ' and ' end || " + tagged(left+" <= ", "step") + " || " + right(upper)
}

// outside writes statements that are each a transaction of their own, or none at all.
func (w *scriptWriter) outside(p engine.Part) {
	w.tries(engine.TxOptions{}, func() { w.lines(p.Begun) })
	for _, st := range p.Step.Outside.Statements {
		if st.Direct {
			w.line(translate(st.SQL, 0) + ";")
			continue
		}
		o := engine.TxOptions{LockWait: p.Options.LockWait, Strong: p.Step.Strong}
		if st.Patient {
			o = engine.TxOptions{}
		}
		w.tries(o, func() {
			if st.First != "" {
				w.lines([]engine.Line{{SQL: st.First}})
			}
			w.lines([]engine.Line{{SQL: st.SQL, Asserts: !p.Step.Native && strings.HasPrefix(st.SQL, "select ")}})
		})
	}
	w.tries(engine.TxOptions{}, func() {
		if p.Step.Outside.Done != "" {
			w.lines([]engine.Line{{SQL: "select " + literal(p.Step.What+": it has not come about") + " where not exists (" +
				p.Step.Outside.Done + ")", Asserts: true}})
		}
		w.lines(p.Lines)
	})
}
