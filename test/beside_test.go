package test

import (
	"regexp"
	"strings"
	"testing"
)

// TestWhatNoModelHolds are things of a table that PostgreSQL lets go of without a word, or
// that stand in the way: each is named before anything is touched, or stays as it is.
func TestWhatNoModelHolds(t *testing.T) {
	o := newServerOffice(t, "create table berth (id integer primary key, code varchar(9))",
		"create table vessel (id integer primary key, name varchar(40) not null, flag varchar(9), length_m numeric(7,2), tons integer, berth_id integer)",
		"insert into vessel (id, name, flag, tons) select n, 'v' || n, 'NO', n from generate_series(1, 50) n",
		"do $$ begin create role harbour_clerk; exception when duplicate_object then null; end $$",
		"grant select (flag, name) on vessel to harbour_clerk", "grant update (flag) on vessel to public",
		"create statistics flag_tons on flag, tons from vessel", "alter table vessel alter flag set storage external", "alter table vessel alter tons set statistics 700",
		"create function noted() returns trigger language plpgsql as $$ begin raise exception 'must not fire'; end $$",
		"create trigger noting before update on vessel for each row execute function noted()", "alter table vessel disable trigger noting",
		"alter table vessel enable row level security", "create policy short on vessel using (length_m < 400)",
		"alter table vessel replica identity full", "alter table vessel set (fillfactor = 70)", "cluster vessel using vessel_pkey")
	o.must("adopt", "--yes")
	base := o.snapshot()
	stands := "select relreplident, relrowsecurity, array_to_string(reloptions, ','), (select tgenabled from pg_trigger where tgname = 'noting'), " +
		"(select count(*) from pg_index where indrelid = c.oid and indisclustered) from pg_class c where relname = 'vessel'"
	as := regexp.MustCompile(`(string|int64|bool):`).ReplaceAllString(o.query(stands), "")
	for _, c := range []struct {
		text string
		says []string
	}{
		{"alter table vessel drop flag;\n", []string{"with flag goes ", "what harbour_clerk may do with flag", "what public may do with flag", "the statistics flag_tons", "the settings of flag"}},
		{"alter table vessel drop tons;\n", []string{"with tons goes ", "the statistics flag_tons", "the settings of tons"}},
	} {
		o.migration("0002-change", "-- A change\n"+c.text)
		o.wants(o.code(0, "check"), append(c.says, "goes-along")...)
		o.wants(o.code(0, "forecast"), c.says...)
	}
	o.migration("0002-change", "-- A change\nalter table vessel drop length_m;\n")
	o.wants(o.code(3, "check"), "policy short")
	o.migration("0002-change", "-- A change\nalter table vessel drop berth_id;\n")
	if r := o.code(0, "check"); strings.Contains(r.stdout, "goes-along") {
		t.Errorf("nothing goes along with berth_id: %s", r)
	}
	// What stays in place keeps what it has, forward and back.
	o.migration("0002-change", "-- A change\nalter table vessel rename flag to nation, alter tons set data type bigint, alter name set data type varchar(60), add built date;\nalter table vessel rename to ship;\nbackfill ship set nation = lower(nation);\n")
	o.must("advance", "--yes")
	o.same(strings.ReplaceAll(stands, "'vessel'", "'ship'"), as)
	o.same("select has_column_privilege('harbour_clerk', 'ship', 'nation', 'select'), has_column_privilege('harbour_clerk', 'ship', 'name', 'select'), has_column_privilege('harbour_clerk', 'ship', 'tons', 'select')", "true|true|false")
	o.same("select attstattarget from pg_attribute where attrelid = 'ship'::regclass and attname = 'tons'", "700")
	o.same("select count(*) from pg_statistic_ext", "1")
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(base)
	o.same(stands, as)
	o.wants(o.code(0, "audit"), "matches:")
}
