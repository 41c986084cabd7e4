package test

import (
	"strings"
	"testing"
)

// leave lets runs die, and makes by hand what others may have left; it gives how audit
// names each of it.
func leave(o *office) (names []string) {
	o.migration("0002-tag", "-- A tag\nalter table vessel add tag varchar(20);\n")
	o.dies("tried:1", "advance", "--yes")
	names = append(names, "leftover claim")
	switch {
	case o.url == "":
		o.exec("create table lastboard_kept_77 (k1 integer)",
			"create trigger lastboard_kept_77_gone after delete on vessel begin delete from lastboard_kept_77 where k1 = "+
				"old.id; end")
	case o.onMariaDB():
		o.dies("tried:1", "forecast")
		o.exec("create table lastboard_kept_77 (k1 integer)",
			"create trigger lastboard_kept_77_gone after delete on vessel for each row delete from lastboard_kept_77 where "+
				"k1 = old.id",
			"create trigger lastboard_vessel_insert_fill before insert on vessel for each row set new.flag = new.flag")
		names = append(names, "leftover database lastboard_trial_", "leftover trigger lastboard_vessel_insert_fill")
	default:
		o.dies("tried:1", "forecast", "--probe")
		o.exec("create table lastboard.kept_77 (k1 integer)",
			"create function lastboard.kept_77_gone() returns trigger language plpgsql as $$ begin delete from "+
				"lastboard.kept_77 where k1 = old.id; return old; end $$",
			"create trigger lastboard_kept_77_gone after delete on vessel for each row execute function "+
				"lastboard.kept_77_gone()")
		names = append(names, "leftover schema lastboard_trial_", "leftover function lastboard_kept_77_gone")
	}
	// that alone is not for a run to take away
	return append(names, "leftover trigger lastboard_kept_77_gone", "leftover table lastboard_kept_77")
}

// dies runs the program until it is killed at a place.
func (o *office) dies(place string, args ...string) {
	o.Helper()
	o.env = []string{"LASTBOARD_FAULT=" + place}
	r := o.run(args...)
	o.env = nil
	if !r.killed {
		o.Fatalf("it was not killed at %s: %s", place, r)
	}
}

// TestLeftoversOfDeadRuns is that what a run leaves that dies is found and named by audit,
// and taken away and named by the next run, or by audit where it is asked to.
func TestLeftoversOfDeadRuns(t *testing.T) {
	// Trials beside it on the server would take what is left of others away, too.
	alone, err := startServer(t, "MariaDB")
	if err != nil {
		t.Fatal(err)
	}
	for name, make := range map[string]func(*testing.T) *office{
		"SQLite": func(t *testing.T) *office { return wide(t) }, "PostgreSQL": wideServer,
		"MariaDB": func(t *testing.T) *office {
			running.Store(t, true) // one after the other
			return wideMariaDBOn(t, alone.database)
		},
	} {
		for _, way := range [][]string{{"audit", "--clear", "--yes"}, {"advance", "--yes"}, {"retreat", "--to", "1"}} {
			t.Run(name+" "+way[0], func(t *testing.T) {
				o := make(t)
				start := o.snapshot()
				names := leave(o)
				o.wants(o.code(5, "audit"), names...)
				r := o.run(way...)
				if way[0] == "audit" && r.code != 0 {
					t.Errorf("something is left: %s", r)
				}
				if way[0] != "audit" {
					o.wants(o.code(5, "audit"), "leftover table lastboard_kept_77")
					o.must("audit", "--clear", "--yes")
					names = names[:len(names)-1]
				}
				for _, n := range names {
					n = strings.TrimPrefix(n, "leftover ")
					if !strings.Contains(r.String(), "cleared away: "+n) && !strings.Contains(r.String(), "cleared away: the "+n) {
						t.Errorf("it does not name %s: %s", n, r)
					}
				}
				o.wants(o.code(0, "audit"), "matches:")
				if way[0] == "advance" {
					o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				}
				o.unchanged(start)
			})
		}
	}
}

// TestClearAsksAndTellsPrograms is that audit takes nothing away unasked, and that a program
// is told in the one document.
func TestClearAsksAndTellsPrograms(t *testing.T) {
	o := wide(t)
	if doc := o.must("audit", "--clear", "--json"); !strings.Contains(doc, `"cleared": []`) {
		t.Errorf("nothing was left: %s", doc)
	}
	o.exec("create table lastboard_kept_77 (k1 integer)")
	o.wants(o.code(3, "audit", "--clear"), "nobody is there to confirm")
	o.wants(o.code(5, "audit"), "lastboard_kept_77")
	if doc := o.must("audit", "--clear", "--json", "--yes"); !strings.Contains(doc,
		`"table lastboard_kept_77, left behind by a crashed run"`) || !strings.Contains(doc, `"matches": true`) {
		t.Errorf("it does not say what it took away: %s", doc)
	}
}

// TestUnfinishedIsNamed is that audit says of a migration that has stopped what it has made
// meanwhile, and that this stays until it goes on.
func TestUnfinishedIsNamed(t *testing.T) {
	o := wideMariaDB(t)
	start := o.snapshot()
	o.migration("0002-tag", "-- A tag\nalter table vessel add tag varchar(80) not null using (name || '!');\n")
	o.dies("batch-committed:2", "advance", "--yes", "--let-writers-wait")
	r := o.code(5, "audit", "--clear", "--yes")
	o.wants(r, "unfinished trigger lastboard_vessel_insert_fill", "lastboard advance goes on with",
		"cleared away: the claim of")
	o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")
	o.unchanged(start)
}

// TestHalfBuiltIndexIsNamed is that the next run names the index that it takes away because
// another has died while it was built.
func TestHalfBuiltIndexIsNamed(t *testing.T) {
	o := wideServer(t)
	o.migration("0002-key", "-- A key\ncreate index by_flag on vessel (flag);\n")
	o.dies("outside-begun:1", "advance", "--yes")
	db := o.open()
	defer db.Close()
	// What a build leaves that is ended in its middle.
	if _, err := db.Exec("create unique index concurrently by_flag on vessel (flag)"); err == nil {
		t.Fatal("a unique index of values that are not")
	}
	o.same("select indisvalid from pg_index where indexrelid = 'by_flag'::regclass", "false")
	r := o.code(0, "advance", "--yes")
	o.wants(r, "cleared away: what a crashed run left behind in step", "by_flag")
	o.same("select indisvalid from pg_index where indexrelid = 'by_flag'::regclass", "true")
}
