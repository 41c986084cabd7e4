package test

import (
	"testing"
)

// TestAdoptWhatWasDoneByHand records a migration that a person has carried out in the engine's own client,
// if and only if the tables are what it says.
func TestAdoptWhatWasDoneByHand(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table vessel (id integer primary key, name varchar(20) not null, flag varchar(20))",
		"insert into vessel values (1, 'Tern', 'NO'), (2, 'Skua', 'DK')", "create table berth (id integer primary key)"},
		func(t *testing.T, o *office) {
			o.migration("0002-marks", "-- Marks\nalter table vessel add column mark varchar(20) not null default 'x', drop "+
				"column "+
				"flag;\ncreate index vessel_by_name on vessel (name);\ncreate table quay (id integer primary key, code "+
				"varchar(8));\nbackfill vessel set name = upper(name);\n")
			o.migration("0003-more", "-- More\nalter table berth add column depth integer;\n")
			before := o.snapshot()
			o.wants(o.code(5, "adopt", "0002", "--yes"), "the tables are not what 0002-marks says: nothing was recorded",
				"column mark", "table quay", "index vessel_by_name")
			o.unchanged(before)
			o.wants(o.code(3, "adopt", "0003", "--yes"), "0002-marks waits before it")
			o.wants(o.code(2, "adopt", "0009", "--yes"), "there is no migration 0009")
			o.wants(o.code(3, "adopt", "0001", "--yes"), "has run on this database")
			letters, options := "", ""
			if engineWord(o) == "mariadb" {
				letters = " character set utf8mb4 collate utf8mb4_nopad_bin"
				options = " engine=InnoDB" + letters
			}
			o.exec("alter table vessel add column mark varchar(20)"+letters+" not null default 'x'", "create table quay (id "+
				"integer primary "+
				"key, code varchar(8))"+options, "create index vessel_by_name on vessel (name)",
				"alter table berth add column wrong integer")
			o.wants(o.code(5, "adopt", "2", "--yes"), "column flag")
			o.exec("alter table vessel drop column flag")
			o.wants(o.code(3, "adopt", "2"), "nobody is there to confirm")
			o.wants(o.code(0, "adopt", "2", "--yes"), "0002-marks is recorded as settled", "nothing is kept for its way back",
				"not looked at: what 1 part of it did to rows")
			o.wants(o.code(0, "status"), "0002  settled")
			o.wants(o.code(5, "audit"), "column wrong") // of a table that it does not touch
			o.exec("alter table berth drop column wrong")
			o.wants(o.code(0, "audit"), "matches:")
			o.same("select count(*) from vessel where name in ('Tern', 'Skua')", "2")
			o.must("advance", "--yes")
			o.must("retreat", "--to", "1", "--yes")
			o.same("select id, name, flag from vessel order by id", "1|Tern|null\n2|Skua|null")
			o.wants(o.code(0, "audit"), "matches:")
			o.must("advance", "--yes")
			o.wants(o.code(0, "audit"), "matches:")
		})
}
