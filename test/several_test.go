package test

import (
	"os"
	"path/filepath"
	"testing"
)

// TestSeveralMigrationsAreForeseen is that what is known beforehand of migrations further on
// is refused before the first one runs, and that a refusal after some have run says so.
func TestSeveralMigrationsAreForeseen(t *testing.T) {
	beside(t)
	onEach(t, append(berthsOf(3), "create table pier (id integer primary key, name varchar(20))",
		"insert into pier values (1, null)"), func(t *testing.T, o *office) {
		add := "-- A depth\nalter table berth add column feet integer;\n"
		strict := "-- Names for all\nalter table pier alter column name set not null;\n"
		o.migration("0002-feet", add)
		o.migration("0003-names", strict)
		before := o.snapshot()
		o.wants(o.code(3, "advance", "--yes"), "rows-would-break", "0003-names")
		o.unchanged(before)

		// A table that somebody has changed, further on.
		o.migration("0003-names", "-- More of piers\nalter table pier add column feet integer;\n")
		o.exec("alter table pier add column spare integer")
		before = o.snapshot()
		o.wants(o.code(3, "advance", "--yes"), "changed-by-hand", "pier")
		o.unchanged(before)
		o.exec("alter table pier drop column spare")

		// What depends on the rows of an earlier one is found in its turn.
		o.migration("0003-names", "-- One depth is unknown\nbackfill berth set depth = null where id = 2;\n")
		o.migration("0004-names", "-- Depths for all\nalter table berth alter column depth set not null;\n")
		r := o.code(4, "advance", "--yes", "--json")
		o.wants(r, `"outcome":"stopped"`, `"version":"0003","state":"settled"`,
			"0002 is settled, 0003 is settled, which stays; of this migration nothing was changed")
		o.wants(o.code(0, "status"), "0002", "0004")
		o.same("select count(*) from berth where depth is null", "1")

		// A way back that ends at one without any is refused before it begins.
		o.migration("0004-names", "-- A view\nnative "+engineWord(o)+
			" $$create view deep as select id from berth$$ no way back;\n")
		o.migration("0005-feet", "-- A spare\nalter table berth add column spare integer;\n")
		o.must("advance", "--yes")
		before = o.snapshot()
		o.wants(o.code(3, "retreat", "--to", "0003", "--yes"), "no-way-back", "0004")
		o.unchanged(before)
		o.must("retreat", "--to", "0004", "--yes")
	})
}

// TestCheckSaysWhatAdvanceRefuses is that check names what advance would refuse, and advance all
// of it at once.
func TestCheckSaysWhatAdvanceRefuses(t *testing.T) {
	beside(t)
	onEach(t, berthsOf(500), func(t *testing.T, o *office) {
		o.paced("lock_wait = '100us'\n")
		o.migration("0002-less", "-- Less\nalter table berth rename column depth to deep, alter depth set default "+
			"5;\nalter table berth add column twice integer generated always as (id * 2) stored;\n")
		o.wants(o.code(0, "check"), "warning needs-overlap", "--settle")
		r := o.code(3, "advance", "--yes")
		o.wants(r, "needs-overlap", "writers-would-wait", "--let-writers-wait", "--settle")
		o.exec("alter table berth add column spare integer")
		before := o.snapshot()
		o.wants(o.code(3, "check"), "error changed-by-hand", "spare")
		o.unchanged(before)
	})
}

// TestNearestWords is that what was probably meant is said of words that there are not, and that
// the project is found from a folder within it.
func TestNearestWords(t *testing.T) {
	o := adopted(t, pier...)
	o.wants(o.code(2, "advance", "--setle"), "there is no flag --setle: did you mean --settle?")
	o.wants(o.code(2, "advance", "0002"), "did you mean lastboard advance --to 0002?")
	o.wants(o.code(2, "help", "advence"), "there is no command advence: did you mean advance?")
	o.code(0, "help", "advance")
	within := &office{T: t, dir: filepath.Join(o.dir, "notes", "old")}
	if err := os.MkdirAll(within.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	within.wants(within.code(0, "status"), "0001", "adopted")
	within.wants(within.code(2, "status", "--project", "."), "there is no lastboard.toml")
}
