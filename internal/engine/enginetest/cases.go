package enginetest

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

func readsWhatItMakes(t *testing.T, target Target) {
	h := open(t, target, first)
	made := h.now
	other := open(t, target, "create table other (id integer primary key);")
	for _, table := range []string{"berth", "vessel", "crew"} {
		for _, sql := range target.Engine.CreateSQL(made.Table(table)) {
			other.exec(sql)
		}
	}
	other.read()
	for _, table := range []string{"berth", "vessel", "crew"} {
		if d := schema.CompareTables(made.Table(table), other.now.Table(table), target.Engine.Text); len(d) > 0 {
			t.Errorf("the statements that make table %s make another: %v", table, d)
		}
	}
	again, err := h.db.Schema(h.ctx)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(again.Tables, made.Tables) {
		t.Error("a table that has not changed is another object when it is read again")
	}
}

func transactions(t *testing.T, target Target) {
	h := open(t, target, first)
	tx, err := h.db.Begin(h.ctx, engine.TxOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if n, err := tx.Exec(h.ctx, "insert into berth (id, code) values (?, ?), (?, ?)", int64(1), "A1", int64(2),
		"it's ?"); err != nil || n != 2 {
		t.Fatalf("two rows were to be written, %d were: %v", n, err)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	if err := tx.Rollback(); err != nil {
		t.Errorf("taking back twice: %v", err)
	}
	if got := h.one("select count(*) from berth"); got != "0" {
		t.Errorf("after taking it back there are %s rows", got)
	}
	h.exec("insert into berth (id, code) values (3, 'B')")
	if got := h.one("select code from berth where id = ?", int64(3)); got != "B" {
		t.Errorf("after the commit the row is %q", got)
	}
}

func claims(t *testing.T, target Target) {
	url := target.New(t)
	var list []engine.Database
	for range 2 {
		db, err := target.Engine.Open(t.Context(), url, engine.Create)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		list = append(list, db)
	}
	release, ok, err := list[0].Claim()
	if err != nil || !ok {
		t.Fatalf("the first runner is refused: %v", err)
	}
	if _, ok, err := list[1].Claim(); ok || err != nil {
		t.Errorf("a second runner is let in (%v)", err)
	}
	if !list[1].Claimed() {
		t.Error("a second program does not see that there is a runner")
	}
	release()
	let := false
	for range 50 { // a server may take a moment to notice
		if again, ok, err := list[1].Claim(); err == nil && ok {
			again()
			let = true
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if !let {
		t.Error("the next runner is not let in")
	}
	// Runners that come and go are alone, each.
	var inside, came atomic.Int32
	var all sync.WaitGroup
	for _, db := range list {
		all.Go(func() {
			for range 40 {
				release, ok, err := db.Claim()
				if err != nil {
					t.Error(err)
					return
				}
				if !ok {
					time.Sleep(time.Millisecond)
					continue
				}
				if n := inside.Add(1); n != 1 {
					t.Errorf("%d runners are at work", n)
				}
				came.Add(1)
				time.Sleep(time.Millisecond)
				inside.Add(-1)
				release()
			}
		})
	}
	all.Wait()
	if came.Load() < 10 {
		t.Errorf("only %d runners were let in", came.Load())
	}
}

func trials(t *testing.T, target Target) {
	h := open(t, target, first)
	h.exec("insert into berth (id, code) values (1, 'A1')",
		"insert into vessel (id, name, berth_id) values (1, 'Tern', 1)")
	before := h.now
	c := h.apply(h.parse("alter table vessel drop note discard, add flag text not null default 'x', rename name to " +
		"title;")[0])
	list, err := h.Engine.Steps(c, h.facts())
	if err != nil {
		t.Fatal(err)
	}
	trial, err := h.db.Trial(h.ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := trial.Run(h.ctx, c, list); err != nil {
		t.Fatal(err)
	}
	after, err := trial.Schema(h.ctx)
	if err != nil {
		t.Fatal(err)
	}
	if v := after.Table("vessel"); v == nil || v.Column("title") == nil || v.Column("note") != nil {
		t.Error("the trial does not show what the steps lead to")
	}
	if err := trial.Close(); err != nil {
		t.Fatal(err)
	}
	h.read()
	if d := schema.Compare(before, h.now, h.Engine.Text); len(d) > 0 {
		t.Errorf("the trial has changed the database: %v", d)
	}
	if got := h.one("select count(*) from vessel"); got != "1" {
		t.Errorf("the trial has changed rows: %s", got)
	}
}

func steps(t *testing.T, target Target) {
	h := open(t, target, first)
	h.exec("insert into berth (id, code) values (1, 'A1')",
		"insert into vessel (id, name, berth_id, note) values (1, 'Tern', 1, 'old'), (2, 'Skua', null, null)")
	for _, text := range changes {
		if strings.Contains(text, "drop depth") {
			h.do(h.apply(h.parse("alter table berth drop constraint berth_depth_check, drop constraint deep;")[0]))
		}
		h.do(h.apply(h.parse(text)[0]))
	}
	if got := h.one("select title, tag, note from ship order by id"); got != "Tern Tern! old; Skua Skua! n" {
		t.Errorf("the rows are %s", got)
	}
}

func back(t *testing.T, target Target) {
	for _, text := range changes {
		if strings.Contains(text, "drop depth") || strings.Contains(text, "drop constraint heavy") ||
			strings.Contains(text, "flag is") || strings.Contains(text, "drop flag") || strings.Contains(text, "(tag, id") {
			continue // stands on one before it
		}
		h := open(t, target, first)
		start := h.now
		c := h.apply(h.parse(text)[0])
		h.do(c)
		if c.Table == nil || c.Table.Before == nil {
			continue
		}
		forward := *c.Table
		forward.After = h.now.Table(forward.After.Name)
		inverse := forward.Invert()
		inverse.Discard = map[string]bool{}
		for _, col := range inverse.Before.Columns {
			inverse.Discard[col.Name] = true
		}
		h.do(&schema.Change{What: "take back: " + text, Table: inverse})
		if d := schema.Compare(start, h.now, h.Engine.Text); len(d) > 0 {
			t.Errorf("%s, taken back: %v", text, d)
		}
	}
}

func violations(t *testing.T, target Target) {
	h := open(t, target, first)
	h.exec("insert into berth (id, code) values (1, 'A1')")
	for _, c := range []struct{ sql, rule string }{
		{"insert into berth (id, code) values (2, 'A1')", "unique"},
		{"insert into berth (id, code) values (1, 'B')", "unique"},
		{"insert into berth (id, code) values (3, null)", "not null"},
		{"insert into berth (id, code, depth) values (4, 'C', -1)", "check"},
		{"insert into vessel (name, berth_id) values ('a', 77)", "foreign key"},
	} {
		tx, err := h.db.Begin(h.ctx, engine.TxOptions{})
		if err != nil {
			t.Fatal(err)
		}
		_, err = tx.Exec(h.ctx, c.sql)
		if err == nil {
			err = tx.Commit()
		}
		tx.Rollback()
		var v *engine.Violation
		if !errors.As(err, &v) || v.Rule != c.rule {
			t.Errorf("%s: wanted a violation of %s, got %v", c.sql, c.rule, err)
		}
	}
}

func values(t *testing.T, target Target) {
	h := open(t, target, "create table v (id integer primary key, n bigint, f double precision, s text, b blob, d "+
		"numeric(9,2), m timestamp);")
	args := []any{int64(1), int64(-9007199254740993), 2.5, "größer ' ? \\", []byte{0, 255, 39}, "12.50",
		"2031-12-31 23:59:59"}
	h.inTx(func(tx engine.Tx) error {
		_, err := tx.Exec(h.ctx, "insert into v (id, n, f, s, b, d, m) values (?, ?, ?, ?, ?, ?, ?)", args...)
		return err
	})
	h.exec("insert into v (id) values (2)")
	r, err := h.db.Sample(h.ctx, h.now.Table("v"), []string{"n", "f", "s", "b"}, 5)
	if err != nil {
		t.Fatal(err)
	}
	want := [][]any{{int64(1), args[1], args[2], args[3], args[4]}, {int64(2), nil, nil, nil, nil}}
	if got := fmt.Sprintf("%#v", r.Values); got != fmt.Sprintf("%#v", want) {
		t.Errorf("the values are\n%s\nand should be\n%#v", got, want)
	}
	nulls, err := h.db.Nulls(h.ctx, h.now.Table("v"))
	if err != nil || !slices.Equal(nulls, []int64{0, 1, 1, 1, 1, 1, 1}) {
		t.Errorf("the nulls are %v: %v", nulls, err)
	}
	if rows, bytes, err := h.db.Count(h.ctx, "v", true); err != nil || rows != 2 || bytes <= 0 {
		t.Errorf("there are %d rows in %d bytes: %v", rows, bytes, err)
	}
}

func lends(t *testing.T, target Target) {
	h := open(t, target, "create table v (id integer primary key, s text);")
	source := &schema.Source{File: "f.csv", Alias: "f", On: []sqltext.JoinPair{{Column: "id", Other: "id"}},
		Table: &schema.Table{Columns: []*schema.Column{
			{Name: "id", Type: sqltext.Type{Name: "integer"}}, {Name: "s", Type: sqltext.Type{Name: "text"}}}}}
	c := &schema.Change{Rows: &schema.RowChange{Table: h.now.Table("v"), From: source,
		Set: []sqltext.Assignment{{Column: "s", Value: &sqltext.Ref{Table: "f", Column: "s"}}}}}
	list, err := h.Engine.Steps(c, h.facts())
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(list, func(s *engine.Step) bool { return s.Load != nil })
	if i < 0 {
		t.Fatal("no step loads a file")
	}
	load := list[i].Load
	if err := h.db.Lend(h.ctx, load.Lend, load.LendRow, func(add func([]any) error) error {
		return errors.Join(add([]any{int64(1), "one"}), add([]any{int64(1), "two"}))
	}); err != nil {
		t.Fatal(err)
	}
	h.exec("insert into v (id) values (1)")
	found := 0
	for _, s := range list {
		if s.Proof != nil && s.Proof.Rule == "rows-ambiguous" {
			r, err := h.db.Query(h.ctx, s.Proof.SQL)
			if err != nil {
				t.Fatal(err)
			}
			found += len(r.Values)
		}
	}
	if found != 1 {
		t.Errorf("the proof over lent rows finds %d rows, not 1", found)
	}
	h.read()
	if len(h.now.Tables) != 1 {
		t.Errorf("what is lent shows among the tables: %d", len(h.now.Tables))
	}
}

func pure(t *testing.T, target Target) {
	h := open(t, target, first)
	for _, text := range changes[:8] {
		var plans []string
		for range 2 {
			h.kept = 0
			c := h.apply(h.parse(text)[0])
			list, err := h.Engine.Steps(c, h.facts())
			if err != nil {
				t.Fatal(err)
			}
			plan := ""
			for _, s := range list {
				plan += fmt.Sprintf("%+v\n", *s)
			}
			plans = append(plans, stripAddresses(plan))
		}
		if plans[0] != plans[1] {
			t.Errorf("%s is planned in two ways:\n%s\n%s", text, plans[0], plans[1])
		}
	}
}

// stripAddresses takes pointers out of what %+v prints.
func stripAddresses(s string) string {
	words := strings.Fields(s)
	for i, w := range words {
		if at := strings.Index(w, "0x"); at >= 0 {
			words[i] = w[:at]
		}
	}
	return strings.Join(words, " ")
}

func batches(t *testing.T, target Target) {
	h := open(t, target, "create table v (id integer primary key, n integer);")
	for i := range 25 {
		h.exec(fmt.Sprintf("insert into v (id, n) values (%d, 0)", i*i-50))
	}
	f := h.facts()
	f.Short = 0
	c := &schema.Change{Rows: &schema.RowChange{Table: h.now.Table("v"), Discard: true,
		Set: []sqltext.Assignment{{Column: "n", Value: &sqltext.Binary{Op: "+", L: &sqltext.Ref{Column: "n"},
			R: &sqltext.Literal{Kind: sqltext.NumberLiteral, Text: "1"}}}}}}
	list, err := h.Engine.Steps(c, f)
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(list, func(s *engine.Step) bool { return s.Batch != nil })
	if i < 0 {
		t.Fatal("no step runs in batches")
	}
	b := list[i].Batch
	last, upper, rounds := int64(-1000), int64(526), 0
	for last < upper {
		condition := b.Keys[0] + " > " + fmt.Sprint(last)
		r, err := h.db.Query(h.ctx, strings.ReplaceAll(b.Next, engine.Range, condition), int64(3))
		if err != nil {
			t.Fatal(err)
		}
		next := upper
		if len(r.Values) > 0 {
			next, _ = r.Values[0][0].(int64)
		}
		for _, sql := range b.Do {
			h.exec(strings.ReplaceAll(sql, engine.Range, condition+" and "+b.Keys[0]+" <= "+fmt.Sprint(next)))
		}
		last = next
		rounds++
	}
	if got := h.one("select min(n), max(n), count(*) from v"); got != "1 1 25" || rounds != 7 {
		t.Errorf("after %d batches of four the rows are %s", rounds, got)
	}
	if got := h.one(b.Upper); got != fmt.Sprint(upper) {
		t.Errorf("the greatest key is %s", got)
	}
}
