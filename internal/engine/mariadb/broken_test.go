package mariadb

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"lastboard/internal/engine"
)

// TestTriggersThatAreHalfRead ends statements at the moment in which the server reads the
// triggers of their table, until a table is left so that nobody can write to it; then it is
// found, and mended.
func TestTriggersThatAreHalfRead(t *testing.T) {
	d := opened(t)
	ctx := t.Context()
	must := func(sql string) {
		t.Helper()
		if _, err := d.session.exec(ctx, sql); err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
	}
	must(`create table "a ""vessel" (id integer primary key, n integer) engine=innodb comment = 'a ship''s'`)
	must(`insert into "a ""vessel" values (1, 1)`)
	must(`create table seen (id integer primary key) engine=innodb`)
	for _, event := range []string{"delete", "update", "insert"} {
		row := map[string]string{"delete": "old"}[event]
		if row == "" {
			row = "new"
		}
		must(fmt.Sprintf(`create trigger "on_%s" after %s on "a ""vessel" for each row delete from seen where id = %s.id`,
			event, event, row))
	}
	const update = `update "a ""vessel" set n = n + 1 where id = 1`
	broken, waited := 0, 0
	for i := range 1000 {
		must(`flush tables "a ""vessel"`)
		ends := func() error {
			_, err := d.session.exec(ctx, fmt.Sprintf("set statement max_statement_time = %f for %s",
				0.00001+rand.Float64()*0.0006, update))
			return err
		}
		if i%2 == 0 { // as it is without a mend
			if ended(ends()) {
				if _, err := d.session.exec(ctx, update); halfRead(err) {
					broken++
					statement := update
					if broken%2 == 0 { // which names no table
						statement = `drop trigger if exists "on_update"`
					}
					d.reread(ctx, statement)
				}
				must(update)
			}
			continue
		}
		if ended(d.endable(ctx, update, ends)) {
			waited++
			must(update)
		}
	}
	t.Logf("%d of 500 left the table half read; of as many, %d were ended, and none did", broken, waited)
	if broken < 3 {
		t.Errorf("only %d statements were ended at that moment: the test has lost its aim", broken)
	}
	for range 400 { // a trigger that is dropped is gone, whatever others have left
		must(`flush tables "a ""vessel"`)
		d.session.exec(ctx, fmt.Sprintf("set statement max_statement_time = %f for %s", 0.00001+rand.Float64()*0.0006,
			update))
		var busy *engine.Busy
		_, err := d.define(ctx, `drop trigger if exists "on_update"`, bounds{wait: time.Second})
		for n := 0; n < 5 && errors.As(err, &busy); n++ { // the machine stood still for as long
			_, err = d.define(ctx, `drop trigger if exists "on_update"`, bounds{wait: time.Second})
		}
		if err != nil {
			t.Fatal(err)
		}
		must(`create trigger "on_update" after update on "a ""vessel" for each row delete from seen where id = new.id`)
	}
	r, err := d.session.query(ctx,
		`select table_comment, (select count(*) from information_schema.triggers where trigger_schema = database()) from information_schema.tables where table_name = 'a "vessel'`)
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprintf("%s %d", text(r.Values[0][0]), number(r.Values[0][1])); got != "a ship's 3" {
		t.Errorf("the table is another: %s", got)
	}
}
