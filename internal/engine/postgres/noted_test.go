package postgres_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/engine"
	"lastboard/internal/engine/enginetest"
	"lastboard/internal/engine/postgres"
	"lastboard/internal/schema"
)

// TestNotedRowsAreFoundByKey does the steps of fills on a table with many rows, and asks the server before each
// statement about noted rows how it would find them: not by reading the table, or what is kept of it, from end to end.
func TestNotedRowsAreFoundByKey(t *testing.T) {
	const office = "create table vessel (id integer primary key, name text not null, registry varchar(20));\n" +
		"create table berth (id integer primary key);\n"
	e, ctx := postgres.Engine{}, context.Background()
	for _, statement := range []string{
		"alter table vessel alter registry set not null using ('none')", "backfill vessel set registry = upper(name)",
		"backfill vessel set registry = name where mod(id, 3) = 0",
	} {
		db, err := e.Open(ctx, newDatabase(t), engine.Create)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		do := func(sql string) {
			t.Helper()
			if err := db.Exec(ctx, sql); err != nil {
				t.Fatalf("%s: %s: %v", statement, sql, err)
			}
		}
		for _, sql := range append(e.Place(), "create table vessel (id integer primary key, name text not null, registry "+
			"varchar(20))", "insert into vessel (id, name) select n, 'ship ' || n from generate_series(1, 60000) n",
			"analyze vessel") {
			do(sql)
		}
		asked := 0
		for _, s := range enginetest.Planned(t, e, &schema.Schema{Home: "public"}, office, statement, 1_000_000, true) {
			list := s.SQL
			switch {
			case s.Proof != nil:
				continue
			case s.Batch != nil:
				list = nil
				for _, sql := range s.Batch.Do {
					list = append(list, engine.Whole(sql))
				}
			}
			if slices.ContainsFunc(list, ofNoted) { // which the step itself lets the server count
				do(`insert into "lastboard"."kept_1_moved" select n from generate_series(1, 60000, 6000) n on conflict do nothing`)
			}
			for _, sql := range list {
				if ofNoted(sql) {
					asked++
					plan, err := db.Query(ctx, "explain "+sql)
					if err != nil {
						t.Fatalf("%s: %s: %v", statement, sql, err)
					}
					if text := fmt.Sprint(plan.Values); strings.Contains(text, "Seq Scan on vessel") ||
						strings.Contains(text, "Seq Scan on kept_1 ") {
						t.Errorf("%s: it reads a whole table: %s\n%s", statement, sql, text)
					}
				}
				if !strings.HasPrefix(sql, "lock ") {
					do(sql)
				}
			}
		}
		if asked == 0 {
			t.Errorf("%s: no statement is about noted rows", statement)
		}
	}
}

// ofNoted reports whether a statement writes rows that are noted.
func ofNoted(sql string) bool {
	for _, verb := range []string{"insert into", "update", "delete from"} {
		if strings.HasPrefix(sql, verb+" ") && !strings.HasPrefix(sql, `delete from "lastboard"."kept_1_moved"`) {
			return strings.Contains(sql, `_moved"`)
		}
	}
	return false
}
