package test

import (
	"fmt"
	"strings"
	"testing"
)

// TestManyTables is a database of many tables, of which a change touches few: what it
// breaks in others is still found, and nothing of them gets lost.
func TestManyTables(t *testing.T) {
	beside(t)
	var statements []string
	for i := range 60 {
		statements = append(statements, fmt.Sprintf("create table buoy_%d (id integer primary key, name text not null, "+
			"depth_m numeric default %d)", i, i),
			fmt.Sprintf("create index buoy_%d_by_name on buoy_%d (name)", i, i),
			fmt.Sprintf("insert into buoy_%d (id, name) values (1, 'b%d'), (2, 'c')", i, i))
	}
	o := newOffice(t, append(statements,
		"create table light (id integer primary key, buoy_id integer references buoy_7, color text)",
		"insert into light values (1, 2, 'red')",
		"create view deep as select id, depth_m from buoy_9 where depth_m > 1",
		"create trigger lit after insert on light begin update buoy_11 set name = new.color where id = new.buoy_id; end")...)
	o.must("adopt", "--yes")
	base := o.snapshot()
	// One that works for each thing that a change could reach.
	works := []string{
		"alter table buoy_1 add flag varchar(9) not null default 'NO', rename depth_m to depth;\nalter table buoy_1 " +
			"rename to beacon;\n",
		"alter table buoy_2 add other text using ((select b.name from buoy_3 b where b.id = buoy_2.id));\n",
		"alter table buoy_4 add constraint named check (name <> '');\nalter table buoy_5 add light_id integer " +
			"references light;\n",
		"create view shallow as select id, depth_m from buoy_6 where depth_m < 9;\n",
		"create table quay (id integer primary key, buoy_id integer not null references buoy_8);\ninsert into quay (id, " +
			"buoy_id) values (1, 2);\n",
		"drop table buoy_12;\nalter table buoy_7 add kind varchar(9);\ncreate index quay_by_buoy on quay (buoy_id);\n",
		"-- by hand\nbackfill buoy_13 set name = (select color from light where id = 1) where id = 1;\ndelete from " +
			"buoy_14 where id = 2;\nassert (select count(*) from buoy_15) = 2;\n",
	}
	for i, text := range works {
		o.migration(fmt.Sprintf("%04d-change", i+2), "-- A change\n"+text)
	}
	refused := []struct{ text, want string }{
		{"alter table buoy_9 drop depth_m;\n", "deep"},
		{"drop table buoy_11;\n", "lit"},
		{"create index buoy_20_by_name on buoy_21 (name);\n", "buoy_20_by_name"},
		{"alter table buoy_22 rename to buoy_23;\n", "buoy_23"},
		{"drop table buoy_8;\n", "quay"},
		{"alter table buoy_6 drop depth_m;\n", "shallow"},
	}
	last := fmt.Sprintf("%04d-change", len(works)+2)
	for _, c := range refused {
		o.migration(last, "-- A change\n"+c.text)
		r := o.code(3, "check")
		if !strings.Contains(r.stdout+r.stderr, c.want) {
			t.Errorf("%s: wanted %q in %s", c.text, c.want, r)
		}
	}
	o.migration(last, "-- A change\nalter table buoy_40 add seen timestamp;\n")
	o.must("check")
	o.must("advance", "--yes")
	o.same("select name, flag, depth from beacon order by id", "b1|NO|1\nc|NO|1")
	o.same("select other from buoy_2 order by id", "b3\nc")
	o.same("select name from buoy_13 order by id", "red\nc")
	o.wants(o.code(0, "audit"), "matches:")
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(base)
}
