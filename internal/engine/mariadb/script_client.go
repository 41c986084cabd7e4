package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/pattern"
)

// A script for the server's own client: each part is a compound statement, which can try again where a lock is not
// given, and commit between batches. A compound statement cannot lock tables for a while: such a window is written out,
// has one try, and ends the script where that is not given.

// Loops implements engine.Scripted.
func (d *database) Loops() bool { return true }

// Script implements engine.Scripted.
func (d *database) Script(ctx context.Context, s *engine.Script) (string, error) {
	w := &clientWriter{Script: s, d: d}
	sum, err := d.tablesSum(ctx, s.Tables)
	if err != nil {
		return "", err
	}
	for _, line := range s.Title {
		w.comment(line)
	}
	w.comment("Run it with: mariadb --skip-reconnect")
	w.add("\nset names utf8mb4 collate " + bytewise + ";\n" + settings + ";\n" +
		"set session transaction isolation level read committed;\n")
	if d.role != "" {
		w.add("set role " + quote(d.role) + ";\n")
	}
	w.add("use " + quote(d.config.DBName) + ";\n" +
		"set @lastboard_token = md5(concat(uuid(), rand(), connection_id())), @lastboard_began = sysdate(6), " +
		"@lastboard_written = 0;\n")
	version, _, _ := strings.Cut(d.version, "-")
	major := strings.Join(strings.Split(version, ".")[:2], ".")
	w.say("checks")
	w.compound(func() {
		w.add("set @lastboard_clock = sysdate(6);\ndo sleep(0.01);\n")
		w.refuse("sysdate(6) = @lastboard_clock", "the server runs with sysdate-is-now, by which no batch can be timed")
		w.refuse("version() not like "+literal(major+".%"),
			"this script was made for a server of MariaDB "+major+": make it again")
		w.refuse("get_lock("+literal(d.claimName())+", 0) <> 1", "another Lastboard or script is changing this database")
		w.refuse("("+sum.sql+") <> "+literal(sum.text),
			"the tables are not as they were when this script was made: make it again")
		w.lines(s.First)
	})
	if len(s.Make) > 0 {
		w.say("make the ledger")
		w.makeLedger()
	}
	w.transaction(s.Claim)
	w.plain(s.Lent)
	if len(s.Proofs) > 0 {
		w.say("prove what has to hold before anything is changed")
		w.compound(func() { w.lines(s.Proofs) })
	}
	for _, p := range s.Parts {
		w.say(p.What)
		w.part(p)
	}
	w.transaction(s.Leave)
	w.say("done: lastboard status and lastboard audit show how things stand")
	return w.b.String(), w.err
}

// clientWriter writes one.
type clientWriter struct {
	*engine.Script
	d   *database
	b   strings.Builder
	err error
}

func (w *clientWriter) add(text string) { w.b.WriteString(text) }

func (w *clientWriter) comment(text string) { w.add(engine.Comment(text)) }

// say writes what comes, for those who read the script and for those who look on.
func (w *clientWriter) say(what string) {
	w.add("\n")
	w.comment(what)
	w.add("select " + literal(engine.OneLine(what)) + " as '';\n")
}

// sum is what tables are made of, as a query gives it now.
type sum struct{ sql, text string }

func (d *database) tablesSum(ctx context.Context, tables []string) (sum, error) {
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = literal(t)
	}
	s := sum{sql: strings.ReplaceAll(selectSum, "{tables}", strings.Join(append(names, "''"), ", "))}
	r, err := d.query(ctx, s.sql)
	if err == nil {
		s.text = text(r.Values[0][0])
	}
	return s, err
}

const selectSum = `select coalesce(md5(group_concat(x order by x separator '|')), '') from (
		select concat_ws(' ', table_name, column_name, column_type, is_nullable, column_default, extra, collation_name, generation_expression) as x from information_schema.columns where table_schema = database() and table_name in ({tables})
		union all select concat_ws(' ', table_name, index_name, seq_in_index, column_name, sub_part, non_unique) from information_schema.statistics where table_schema = database() and table_name in ({tables})
		union all select concat_ws(' ', table_name, constraint_name, check_clause) from information_schema.check_constraints where constraint_schema = database() and table_name in ({tables})
		union all select concat_ws(' ', table_name, constraint_name, column_name, referenced_table_name, referenced_column_name) from information_schema.key_column_usage where table_schema = database() and table_name in ({tables})
		union all select concat_ws(' ', event_object_table, trigger_name, action_timing, event_manipulation, action_statement) from information_schema.triggers where event_object_schema = database() and event_object_table in ({tables})
	) parts`

// clientMarks gives what stands in the place of marks.
var clientMarks = strings.NewReplacer(
	string(engine.Moment), "concat(left(date_format(sysdate(6), '%Y-%m-%dT%H:%i:%s.%f'), 23), 'Z')",
	string(engine.Account), "substring_index(user(), '@', 1)",
	string(engine.Machine), "substring_index(user(), '@', -1)",
	string(engine.Token), "@lastboard_token",
	string(engine.Took), "timestampdiff(microsecond, @lastboard_began, sysdate(6)) / 1e6",
	string(engine.Written), "@lastboard_written",
	string(engine.LastKey), "@lastboard_next_key",
	string(engine.UpperKey), "@lastboard_upper_key",
	engine.Turn, "@lastboard_turn",
)

// sql gives a statement as the server takes it.
func (w *clientWriter) sql(sql string) string {
	return clientMarks.Replace(w.d.place.of(w.d.session.defined(translate(sql))))
}

// text gives a statement as an expression: a text, in which the condition of a batch is put together.
func (w *clientWriter) text(sql string) string {
	sql = w.sql(sql)
	var parts []string
	last := 0
	for _, at := range placed().FindAllStringSubmatchIndex(sql, -1) {
		parts = append(parts, literal(sql[last:at[0]]), "@lastboard_"+sql[at[2]:at[3]])
		last = at[1]
	}
	if last == 0 {
		return literal(sql)
	}
	return "concat(" + strings.Join(append(parts, literal(sql[last:])), ", ") + ")"
}

// placed finds marks in whose place stands what a variable holds: the condition of a batch, and how many rows come
// before its last.
var placed = pattern.Of("\x00(range|offset)\x00")

// top writes statements by themselves.
func (w *clientWriter) top(sql string) {
	if !strings.Contains(sql, ";") {
		w.add(sql + ";\n")
		return
	}
	end := "//"
	for strings.Contains(sql, end) {
		end += "/"
	}
	w.add("delimiter " + end + "\n" + sql + "\n" + end + "\ndelimiter ;\n")
}

// compound writes a compound statement.
func (w *clientWriter) compound(body func()) {
	outer := w.b
	w.b = strings.Builder{}
	w.add("begin not atomic\ndeclare lastboard_n, lastboard_done bigint;\n" +
		"declare lastboard_tries, lastboard_again, lastboard_refused int default 0;\n" +
		"declare lastboard_size bigint default 10;\ndeclare lastboard_took double;\ndeclare lastboard_batch datetime(6);\n")
	body()
	w.add("end")
	text := w.b.String()
	w.b = outer
	w.top(text)
}

// tries writes what is done again where a lock is not given.
func (w *clientWriter) tries(body func()) {
	w.add("lastboard_try: loop\nset lastboard_again = 0;\nbegin\n" +
		"declare exit handler for 1205, 1213, 1969 begin rollback; set lastboard_again = 1; end;\n")
	body()
	w.add("end;\nif lastboard_again = 0 then leave lastboard_try; end if;\n")
	w.lost()
	w.add("do sleep(least(0.05 * lastboard_tries, 1));\nend loop;\n")
}

// lost counts the tries.
func (w *clientWriter) lost() {
	w.add("set lastboard_tries = lastboard_tries + 1;\n")
	w.refuse(fmt.Sprintf("lastboard_tries >= %d", max(w.LockTries, 1)), "the lock was not given: somebody else is writing")
}

// refuse stops the script where a condition holds.
func (w *clientWriter) refuse(condition, why string) {
	w.add("if " + condition + " then signal sqlstate '45000' set message_text = " + literal(brief(why)) + "; end if;\n")
}

// brief keeps a message within what the server takes.
func brief(s string) string { return string([]rune(s)[:min(len([]rune(s)), 120)]) }

// lines writes statements within a compound one.
func (w *clientWriter) lines(list []engine.Line) {
	for _, l := range list {
		if l.Begins != "" {
			w.comment(l.Begins)
			w.add("set @lastboard_written = 0;\n")
		}
		switch {
		case l.SQL == "":
		case strings.Contains(l.SQL, engine.Noted):
			w.fails("the keys of rows that are inserted are told to the client alone")
		case l.Asserts && l.Otherwise != "":
			w.add("execute immediate " + w.text("select exists ("+l.SQL+") into @lastboard_problem") + ";\n")
			w.refuse("@lastboard_problem", strings.TrimSuffix(l.Otherwise, "; the first"))
		case l.Asserts:
			w.add("set @lastboard_problem = null;\nexecute immediate " + w.text("select * into @lastboard_problem from ("+l.SQL+
				") q limit 1") + ";\nif @lastboard_problem is not null then signal sqlstate '45000' set message_text = " +
				"@lastboard_problem; end if;\n")
		default:
			w.add("execute immediate " + w.text(l.SQL) + ";\n")
			w.counted(l)
		}
	}
}

func (w *clientWriter) fails(why string) {
	if w.err == nil {
		w.err = errors.New(why)
	}
}

// counted writes what is to be done with the number of rows that a statement has written. Whether statements wrote
// as many each is not compared: to this client the server counts no row that gets the value which it has.
func (w *clientWriter) counted(l engine.Line) {
	if !l.Counts && !l.Holds {
		return
	}
	if l.Counts {
		w.add("set @lastboard_written = greatest(@lastboard_written, row_count());\n")
	}
	if l.Holds { // the time may be the one that is written already
		w.add("execute immediate " + w.text("select not exists (select 1 from lastboard_runner where token = "+
			string(engine.Token)+") into @lastboard_problem") + ";\n")
		w.refuse("@lastboard_problem", "another Lastboard has taken this run over")
	}
}

// plain writes statements as they are, each by itself.
func (w *clientWriter) plain(list []engine.Line) {
	for _, l := range list {
		w.top(w.sql(l.SQL))
	}
}

// transaction writes statements that share one, which is tried again where a lock is not given.
func (w *clientWriter) transaction(list []engine.Line) {
	w.compound(func() {
		w.tries(func() {
			w.add("start transaction;\n")
			w.lines(list)
			w.add("commit;\n")
		})
	})
}

func (w *clientWriter) part(p engine.Part) {
	switch {
	case p.Step != nil && p.Step.Batch != nil:
		w.batches(p)
	case p.Step != nil && p.Step.Outside != nil:
		w.outside(p)
	case p.Step != nil && p.Step.Load != nil:
		w.add("start transaction;\n")
		for _, l := range p.Begun {
			if l.SQL != "" {
				w.top(w.sql(l.SQL))
			}
		}
		w.compound(func() { w.lines(p.Lines) })
		w.add("commit;\n")
	default:
		w.transaction(p.Lines)
	}
}

// outside writes statements that define something, each of which commits by itself.
func (w *clientWriter) outside(p engine.Part) {
	w.transaction(p.Begun)
	for _, sql := range p.Step.Mend {
		if !strings.HasPrefix(sql, "select ") {
			w.transaction([]engine.Line{{SQL: sql}})
		}
	}
	for _, st := range p.Step.Outside.Statements {
		w.defining(p, st.SQL)
	}
	w.transaction(p.Lines)
}

func (w *clientWriter) defining(p engine.Part, sql string) {
	if head, rest := modeOf(sql); head != "" {
		w.top(head)
		w.top(w.sql(rest))
		w.top((Engine{}).Preamble())
		return
	}
	switch {
	case strings.Contains(sql, engine.Between):
		w.window(sql)
	case !p.Step.Native && strings.HasPrefix(sql, "select "):
		w.compound(func() { w.lines([]engine.Line{{SQL: sql, Asserts: true}}) })
	case p.Step.Native || !defines(sql):
		w.compound(func() { w.lines(w.Beat) })
		w.top(w.sql(sql))
	default:
		w.compound(func() {
			w.lines(w.Beat)
			wait := "1" // of one that works for long, at its end too
			if instant(sql) {
				wait = "0"
			}
			w.tries(func() {
				w.add("set session lock_wait_timeout = " + wait + ";\n")
				w.inWays(sql)
			})
			w.add("set session lock_wait_timeout = 5;\n")
		})
	}
}

// inWays writes an alter in the ways in which the server may make it, the cheapest first.
func (w *clientWriter) inWays(sql string) {
	if !strings.Contains(sql, algorithm) {
		w.add("execute immediate " + w.text(sql) + ";\n")
		return
	}
	w.add("set lastboard_refused = 1;\n")
	for _, way := range ways {
		w.add("if lastboard_refused then begin\n\tdeclare exit handler for 1845, 1846, 1118 set lastboard_refused = 1;\n" +
			"\tset lastboard_refused = 0;\n\texecute immediate " + w.text(strings.ReplaceAll(sql, algorithm, way)) +
			";\nend; end if;\n")
	}
	w.refuse("lastboard_refused", "the server refuses this change of the table in every way")
}

// window writes statements that run while tables are locked.
func (w *clientWriter) window(text string) {
	w.compound(func() { w.lines(w.Beat) })
	w.add("set session lock_wait_timeout = 1, wait_timeout = 1;\n")
	list := strings.Split(text, engine.Between)
	for i, sql := range list {
		sql = w.sql(sql)
		if i > 0 && strings.Contains(sql, algorithm) {
			sql = strings.ReplaceAll(sql, ", "+algorithm, "")
		}
		w.top(sql)
	}
	w.add("unlock tables;\nset session lock_wait_timeout = 5, wait_timeout = " + forever + ";\n")
}

// batches writes a backfill: a loop in which each batch is a transaction.
func (w *clientWriter) batches(p engine.Part) {
	b := p.Step.Batch
	w.transaction(p.Begun)
	columns := make([]string, len(b.Keys))
	for i, k := range b.Keys {
		columns[i] = k[strings.LastIndex(k, `."`)+1:]
		w.add("set @lastboard_kind_" + fmt.Sprint(i+1) + " = (select " + keyKind + " from information_schema.columns where " +
			"table_schema = database() and table_name = " + literal(p.Step.Table) + " and column_name = " +
			literal(strings.ReplaceAll(strings.Trim(columns[i], `"`), `""`, `"`)) + ");\n")
	}
	into := func(what string) string {
		list := make([]string, len(columns))
		for i := range columns {
			list[i] = fmt.Sprintf("@lastboard_%s_%d", what, i+1)
		}
		return strings.Join(list, ", ")
	}
	found := func(what, sql string) {
		w.add("set " + strings.ReplaceAll(into(what), ", ", " = null, ") + " = null;\nexecute immediate " +
			w.text("select "+strings.Join(columns, ", ")+" into "+into(what)+" from ("+sql+") q") + ";\n")
	}
	w.compound(func() {
		w.add("set " + strings.ReplaceAll(into("last"), ", ", " = null, ") + " = null;\n" +
			"set @lastboard_written = 0, @lastboard_upper_key = null, @lastboard_next_key = null, lastboard_done = 0;\n" +
			"lastboard_batches: loop\nset lastboard_again = 0, lastboard_n = 0, lastboard_batch = sysdate(6),\n" +
			"\t@lastboard_turn = unix_timestamp(sysdate(6)) * 1000000 div 1;\n" +
			"if lastboard_size > 1 then set session innodb_lock_wait_timeout = 0;\n" +
			"else set session innodb_lock_wait_timeout = 1; end if;\n" +
			"begin\ndeclare exit handler for 1205, 1213, 1969 begin rollback; set lastboard_again = 1; end;\n" +
			"declare continue handler for not found begin end;\nstart transaction;\n")
		w.lines(w.Beat)
		w.add("if @lastboard_upper_key is null then\n")
		found("upper", b.Upper)
		w.add("if @lastboard_upper_1 is not null then set @lastboard_upper_key = " + keyText(len(columns), "upper") +
			"; end if;\nend if;\nif @lastboard_upper_key is not null then\n")
		w.add("set @lastboard_range = " + clientRange(b, "upper") + ";\n")
		at := strings.LastIndex(b.Next, "?")
		w.add("set @lastboard_offset = lastboard_size - 1;\n")
		found("next", b.Next[:at]+"\x00offset\x00"+b.Next[at+1:])
		w.add("if @lastboard_next_1 is null then set ")
		for i := range columns {
			w.add(fmt.Sprintf("@lastboard_next_%d = @lastboard_upper_%d, ", i+1, i+1))
		}
		w.add("@lastboard_next_key = @lastboard_upper_key; else set @lastboard_next_key = " + keyText(len(columns), "next") +
			"; end if;\n")
		w.add("set @lastboard_range = " + clientRange(b, "next") + ";\n")
		for _, sql := range b.Do {
			if strings.HasPrefix(sql, "select ") {
				w.lines([]engine.Line{{SQL: sql, Asserts: true}})
				continue
			}
			w.lines([]engine.Line{{SQL: sql}})
			if strings.Contains(sql, engine.Range) {
				w.add("set lastboard_n = row_count();\n")
			}
		}
		w.add("set @lastboard_written = lastboard_done + lastboard_n;\n")
		w.lines(p.Save)
		w.add("end if;\ncommit;\nend;\nif lastboard_again then\n")
		w.lost()
		w.add("set lastboard_size = greatest(lastboard_size div 8, 1);\ndo sleep(least(0.02 * lastboard_tries, 1));\n" +
			"iterate lastboard_batches;\nend if;\nset lastboard_tries = 0;\n" +
			"if @lastboard_upper_key is null then leave lastboard_batches; end if;\nset lastboard_done = @lastboard_written")
		for i := range columns {
			w.add(fmt.Sprintf(", @lastboard_last_%d = @lastboard_next_%d", i+1, i+1))
		}
		w.add(fmt.Sprintf(";\nif @lastboard_next_key = @lastboard_upper_key then leave lastboard_batches; end if;\n"+
			"set lastboard_took = timestampdiff(microsecond, lastboard_batch, sysdate(6)) / 1e6;\n"+
			"set lastboard_size = least(greatest(floor(lastboard_size * "+
			"least(greatest(%.3f / greatest(lastboard_took, 1e-6), 0.25), 2)), "+
			"if(lastboard_took > %.3f, 1, 30)), 500000);\n"+
			"do sleep(%.3f * lastboard_took);\nend loop;\nset session innodb_lock_wait_timeout = 1;\n"+
			"set @lastboard_written = lastboard_done;\n", w.BatchTime, max(2*w.BatchTime, 0.02),
			w.Pause))
	})
	w.transaction(p.Lines)
}

// keyKind tells how the ledger writes the values of a column.
const keyKind = "case when data_type in ('tinyint', 'smallint', 'mediumint', 'int', 'bigint', 'year') then 'int' " +
	"when data_type in ('float', 'double') then 'real' when data_type = 'decimal' then 'decimal' " +
	"when data_type like '%binary' or data_type like '%blob' or data_type = 'bit' then 'blob' else 'text' end"

// keyText gives a key as the ledger writes it.
func keyText(n int, what string) string {
	list := make([]string, n)
	for i := range list {
		kind, v := fmt.Sprintf("@lastboard_kind_%d", i+1), fmt.Sprintf("@lastboard_%s_%d", what, i+1)
		list[i] = "json_array(if(" + kind + " = 'decimal', 'text', " + kind + "), if(" + kind +
			" = 'blob', replace(to_base64(" + v + "), char(10), ''), cast(" + v + " as char)))"
	}
	return "concat('[', " + strings.Join(list, ", ', ', ") + ", ']')"
}

// keyValue gives a value of a key as it stands in a statement.
func keyValue(what string, i int) string {
	kind, v := fmt.Sprintf("@lastboard_kind_%d", i+1), fmt.Sprintf("@lastboard_%s_%d", what, i+1)
	return "case when " + kind + " in ('int', 'real', 'decimal') then cast(" + v + " as char) when " + kind +
		" = 'blob' then concat('x''', hex(" + v + "), '''') else concat('''', replace(" + v + ", '''', ''''''), '''') end"
}

// clientRange gives the condition that a key is above the last one that is done, and not above another, as an
// expression.
func clientRange(b *engine.Batch, upper string) string {
	return "concat(if(@lastboard_last_1 is null, '', concat(" + clientSide(b.Keys, ">", " > ", "last") + ", ' and ')), " +
		clientSide(b.Keys, "<", " <= ", upper) + ")"
}

// clientSide compares a key with one value, column by column.
func clientSide(keys []string, strict, end, what string) string {
	n := len(keys) - 1
	text := literal(keys[n]+end) + ", " + keyValue(what, n)
	for i := n - 1; i >= 0; i-- {
		v := keyValue(what, i)
		text = strings.Join([]string{literal(keys[i] + " " + strict + " "), v, literal(" or " + keys[i] + " = "), v,
			"' and ('", text, "')'"}, ", ")
	}
	return "concat('(', " + text + ", ')')"
}

// makeLedger writes the statements that make the place of the ledger and its tables.
func (w *clientWriter) makeLedger() {
	p := w.d.place
	if !p.here {
		w.top("create database " + quote(p.database) + " character set utf8mb4 collate " + bytewise)
	}
	w.plain(w.Make)
	if p.here {
		return
	}
	w.add("set @lastboard_identity = md5(concat(uuid(), rand()));\n")
	for _, database := range []string{w.d.config.DBName, p.database} {
		table := quote(database) + "." + quote(identity)
		w.top("create table " + table + " (id varchar(32) not null primary key)" + ownOptions)
		w.top("insert into " + table + " values (@lastboard_identity)")
	}
}
