package test

import "testing"

// quay is an office whose tables say more of themselves than pier's.
var quay = []string{
	"create table berth (id integer primary key, code text not null unique, depth_cm integer)",
	"insert into berth values (1, 'A1', 520), (2, 'A2', 610), (3, 'B1', null)",
	"create table vessel (id integer primary key autoincrement, name text not null, registry text, berth_id integer references berth, length_ft numeric(6,1), seen text, label text generated always as (name || '!'))",
	"insert into vessel (id, name, registry, berth_id, length_ft, seen) values (1, 'Tern', '12', 1, 20.5, '2031-05-01'), (2, 'Skua', '007', 1, null, '2031-05-02 10:30:00'), (5, 'Ember', 'x', 2, 31, null)",
	"create index by_name on vessel (name)",
	"create view named as select name from vessel",
	"create trigger seen_now after insert on vessel begin update vessel set registry = upper(new.registry) where id = new.id; end",
	"create table dues (vessel_id integer references vessel on delete cascade, year integer, amount numeric(6,2), primary key (vessel_id, year))",
	"insert into dues values (1, 2030, 10.5), (1, 2031, 11), (2, 2031, 99.99)",
	"create table tally (n integer, t text)",
	"insert into tally values (1, 'a'), (2, 'b')",
}

// eachStatement is a case for each statement and action: what it does to quay, and what
// a query on SQLite gives then.
var eachStatement = []struct{ name, statement, query, want string }{
	{"type: wider", "alter table dues alter amount set data type numeric(9,2)", "select typeof(amount), amount from dues where vessel_id = 2", "real|99.99"},
	{"type: number to text", "alter table dues alter amount set data type varchar(10)", "select amount from dues", "10.50\n11.00\n99.99"},
	{"type: text to number, by an expression", "alter table vessel alter registry set data type integer using (case when registry = 'x' then null else cast(registry as integer) end)",
		"select registry from vessel order by id", "12\n7\nnull"},
	{"type: another unit and name", "alter table vessel alter length_ft set data type numeric(7,2) using (round(length_ft * 0.3048, 2)) restore using (length_m / 0.3048), rename length_ft to length_m",
		"select length_m from vessel order by id", "6.25\nnull\n9.45"},
	{"type: to an enum", "alter table berth alter code set data type enum('A1', 'A2', 'B1', 'C1')", "select code from berth", "A1\nA2\nB1"},
	{"type: an enum with one value more", "alter table berth alter code set data type enum('A1', 'A2', 'B1'); alter table berth alter code set data type enum('A1', 'A2', 'B1', 'C1'); insert into berth (id, code) values (4, 'C1')",
		"select code from berth where id > 2", "B1\nC1"},
	{"type: an enum that got a value more, dropped", "alter table berth alter code set data type enum('A1', 'A2', 'B1'); alter table berth alter code set data type enum('A1', 'A2', 'B1', 'C1'); alter table berth drop constraint berth_code_unique, drop code",
		"select count(*) from pragma_table_info('berth')", "2"},
	{"type: to a timestamp", "alter table vessel alter seen set data type timestamp", "select seen || '' from vessel order by id", "2031-05-01 00:00:00\n2031-05-02 10:30:00\nnull"},
	{"type: a truth and a large number", "alter table vessel add steam boolean; backfill vessel set steam = true; alter table vessel alter steam set data type bigint; alter table vessel alter steam set data type boolean; alter table vessel alter steam set data type smallint", "select distinct steam from vessel", "1"},
	{"type: of the key", "alter table tally add primary key (t); alter table tally alter t set data type varchar(4) using (t || '0')", "select t from tally", "a0\nb0"},
	{"type: unsigned", "alter table berth alter depth_cm set data type smallint unsigned", "select depth_cm from berth", "520\n610\nnull"},
	{"type: beside an index, a view and a trigger", "alter table vessel alter name set data type varchar(40)", "select name from named order by name desc", "Tern\nSkua\nEmber"},
	{"rename: a table, with all that refers to it", "alter table vessel rename to ship", "select (select count(*) from named), (select count(*) from dues d join ship s on s.id = d.vessel_id), (select \"table\" from pragma_foreign_key_list('dues'))", "3|3|ship"},
	{"rename: a table and a column in one", "alter table berth rename to mooring, rename code to place", "select place from mooring where id = 2", "A2"},
	{"rename: an index", "alter index by_name on vessel rename to vessel_by_name", "select name from sqlite_schema where type = 'index' and tbl_name = 'vessel'", "vessel_by_name"},
	{"rename: a constraint", "alter table berth add constraint deep check (depth_cm > 0); alter table berth rename constraint deep to deep_enough", "select sql like '%deep_enough%' from sqlite_schema where name = 'berth'", "1"},
	{"rename: a foreign key", "alter table vessel rename constraint vessel_berth_id_reference to at_berth", "select sql like '%at_berth%' from sqlite_schema where name = 'vessel'", "1"},
	{"generated: virtual on a full table", "alter table dues add with_tax numeric(9,2) generated always as (round(amount * 1.2, 2)) virtual", "select with_tax from dues", "12.6\n13.2\n119.99"},
	{"generated: stored on a full table", "alter table dues add with_tax numeric(9,2) generated always as (round(amount * 1.2, 2)) stored", "select with_tax from dues", "12.6\n13.2\n119.99"},
	{"generated: another formula", "alter table vessel alter label set expression as (upper(name))", "select label from vessel order by id", "TERN\nSKUA\nEMBER"},
	{"generated: no more", "alter table vessel alter label drop expression; backfill vessel set label = 'mine' where id = 1", "select label from vessel order by id", "mine\nSkua!\nEmber!"},
	{"position: first, by copying", "alter table vessel add code text first rebuild", "select name from pragma_table_info('vessel') where cid = 0", "code"},
	{"position: two after one", "alter table berth add one text after id rebuild, add two text after id rebuild", "select group_concat(name) from pragma_table_info('berth')", "id,one,two,code,depth_cm"},
	{"position: last where nothing is copied", "alter table berth add one text first", "select group_concat(name) from pragma_table_info('berth')", "id,code,depth_cm,one"},
	{"position: of a column that is there", "alter table berth alter depth_cm set position after id rebuild", "select group_concat(name) from pragma_table_info('berth')", "id,depth_cm,code"},
	{"rebuild", "alter table vessel rebuild", "select count(*) from vessel", "3"},
	{"time of update", "alter table berth add changed_at timestamp on update current_timestamp; native sqlite $$update berth set depth_cm = 5 where id = 1$$ touching berth back $$update berth set depth_cm = 520 where id = 1$$",
		"select changed_at is not null from berth", "1\n0\n0"},
	{"time of update: not of our own", "alter table berth add changed_at timestamp on update current_timestamp; backfill berth set depth_cm = 1", "select count(changed_at), sum(depth_cm) from berth", "0|3"},
	{"time of update: no more", "alter table berth add changed_at timestamp on update current_timestamp; alter table berth alter changed_at drop on update", "select count(*) from sqlite_schema where type = 'trigger' and tbl_name = 'berth'", "0"},
	{"time of update: after two renames", "alter table berth add a timestamp on update current_timestamp; alter table berth rename a to b; alter table berth rename to mooring",
		"select name from sqlite_schema where type = 'trigger' and tbl_name = 'mooring'", "mooring_b_on_update"},
	{"identity: added to a key", "alter table berth alter id add generated by default as identity; native sqlite $$insert into berth (code) values ('Z')$$ touching berth back $$delete from berth where code = 'Z'$$", "select max(id) from berth", "4"},
	{"identity: no more", "alter table vessel alter id drop identity", "select sql like '%autoincrement%' from sqlite_schema where name = 'vessel'", "0"},
	{"identity: a new column numbers the rows", "alter table tally add id bigint generated by default as identity primary key", "select id, t from tally", "1|a\n2|b"},
	{"identity: from a number on", "create table log (id integer generated by default as identity (start with 50000) primary key, t text); insert into log (t) values ('a'), ('b')", "select id from log", "50000\n50001"},
	{"identity: goes on from a number", "alter table vessel alter id restart with 50000; insert into vessel (name) values ('New')", "select max(id) from vessel", "50000"},
	{"identity: another type of whole numbers", "alter table vessel alter id set data type bigint using (id)", "select count(*) from vessel", "3"},
	{"time of update: beside nulls that are filled", "alter table berth add changed_at timestamp on update current_timestamp, alter depth_cm set not null using (1)", "select depth_cm, changed_at is null from berth where id = 3", "1|1"},
	{"type: an enum of a computed column", "alter table vessel rename to ship, alter label set data type enum('Tern!', 'Skua!', 'Ember!')", "select label from ship where id = 1", "Tern!"},
	{"type: a plain cast, and another way back for late rows", "alter table vessel alter registry set data type varchar(30) restore using ('back')", "select registry from vessel order by id", "12\n007\nx"},
	{"type: values that no cast would give back", "backfill vessel set seen = 'soon' where id = 5; alter table vessel alter registry set data type varchar(9) using (coalesce(registry, '') || '?')", "select registry from vessel order by id", "12?\n007?\nx?"},
	{"type: not null no more, and copied", "alter table vessel alter name drop not null, rebuild", "select \"notnull\" from pragma_table_info('vessel') where name = 'name'", "0"},
	{"type: the same column twice in one migration", "alter table berth alter depth_cm set data type varchar(9); alter table berth alter depth_cm set data type text using (depth_cm || 'm')", "select depth_cm from berth where id = 1", "520m"},
	{"type: the same, with other values", "alter table berth alter depth_cm set data type integer using (depth_cm / 10)", "select depth_cm from berth", "52\n61\nnull"},
	{"primary key: added", "alter table tally add primary key (n)", "select pk from pragma_table_info('tally')", "1\n0"},
	{"primary key: dropped", "alter table dues drop primary key", "select sum(pk) from pragma_table_info('dues')", "0"},
	{"primary key: another", "alter table dues drop primary key, add constraint pk primary key (year, vessel_id)", "select group_concat(pk) from pragma_table_info('dues')", "2,1,0"},
	{"foreign key on a full table", "alter table vessel drop constraint vessel_berth_id_reference; alter table vessel add constraint at foreign key (berth_id) references berth on delete set null",
		"select on_delete from pragma_foreign_key_list('vessel')", "SET NULL"},
	{"backfill: from another table", "backfill vessel set registry = b.code || name from berth as b on (berth_id = b.id) where b.depth_cm > 600", "select registry from vessel order by id", "12\n007\nA2Ember"},
	{"backfill: from its own table", "backfill dues set amount = amount + last.amount from dues as last on (vessel_id = last.vessel_id) where last.year = year - 1", "select amount from dues", "10.5\n21.5\n99.99"},
	{"insert: values", "insert into berth (id, code, depth_cm) values (7, 'C1', 100 * 2), (8, 'it''s', null)", "select id, code, depth_cm from berth where id > 3", "7|C1|200\n8|it's|null"},
	{"insert: numbered by the table", "insert into vessel (name) values ('One'), ('Two')", "select id, name from vessel where id > 5", "6|One\n7|Two"},
	{"insert: a query", "insert into berth (id, code) select id + 10, 'V' || name from vessel", "select code from berth where id > 10", "VTern\nVSkua\nVEmber"},
	{"insert: then what needs it", "insert into berth (id, code) values (9, 'Roads'); alter table vessel alter berth_id set not null using (9); insert into vessel (name, berth_id) values ('Late', 9)", "select count(*) from vessel where berth_id = 9", "1"},
	{"delete: rows that nobody refers to", "delete from berth where depth_cm is null", "select code from berth", "A1\nA2"},
	{"delete: after what refers", "delete from dues where vessel_id = 1; delete from vessel where id = 1", "select count(*), (select count(*) from dues) from vessel", "2|1"},
	{"drop table with its rows", "drop table dues", "select count(*) from sqlite_schema where name = 'dues'", "0"},
}

// TestEachStatement runs each statement and action to its end, and back to the
// start.
func TestEachStatement(t *testing.T) {
	for _, c := range eachStatement {
		t.Run(c.name, func(t *testing.T) { thereAndBack(t, quay, c.statement, c.query, c.want) })
	}
}

// TestEachRefusal is a case that breaks each rule, and changes nothing.
func TestEachRefusal(t *testing.T) {
	for _, c := range eachRefusal {
		t.Run(c.name, func(t *testing.T) { refusal(t, adopted(t, quay...), c.statement, c.rule, c.says) })
	}
}

// eachRefusal is a statement that breaks a rule, the rule, and part of what is said.
var eachRefusal = []struct{ name, statement, rule, says string }{
	{"type: text that is no number", "alter table vessel alter registry set data type integer", "rows-would-break", "'x'"},
	{"type: a value that would be rounded", "alter table dues alter amount set data type integer", "rows-would-break", "amount would be cut, rounded or changed by becoming integer in 2 rows of dues"},
	{"type: a value that would be cut", "alter table vessel alter name set data type varchar(4)", "rows-would-break", "column name (varchar(4) not null) cannot hold what 1 row of vessel would get"},
	{"type: a value that overflows", "alter table dues alter amount set data type numeric(3,2)", "rows-would-break", "3 rows of dues"},
	{"type: a time that would be cut", "alter table vessel alter seen set data type date", "rows-would-break", "'2031-05-02 10:30:00'"},
	{"type: out of range", "alter table berth alter depth_cm set data type tinyint unsigned", "rows-would-break", "2 rows of berth"},
	{"type: not of the enum", "alter table berth alter code set data type enum('A1')", "rows-would-break", "2 rows of berth"},
	{"type: no truth", "alter table berth alter depth_cm set data type boolean", "rows-would-break", "2 rows of berth"},
	{"type: using that does not fit", "alter table vessel alter length_ft set data type numeric(7,2) using (length_ft * 0.3048)", "rows-would-break", "cannot hold"},
	{"type: using that is null", "alter table vessel alter name set data type text using (nullif(name, 'Tern'))", "rows-would-break", "1 row of vessel"},
	{"type: breaks a check", "alter table berth add constraint deep check (depth_cm > 500); alter table berth alter depth_cm set data type integer using (depth_cm / 2)", "", "depth_cm"},
	{"type: breaks uniqueness", "alter table berth alter code set data type char(1) using (substring(code from 1 for 1))", "rows-would-break", "2 rows of berth share theirs"},
	{"type: no key to keep values by", "alter table tally alter t set data type varchar(3) using (t || t)", "engine-refuses", "has no primary key"},
	{"type: the key goes at once", "alter table dues drop primary key, drop year, alter amount set data type text using ('x')", "engine-refuses", "the key of table dues goes in the same statement"},
	{"type: twice", "alter table tally alter n set data type bigint, alter n set data type text", "action-twice", "set data type twice"},
	{"type: and nulls at once", "alter table vessel alter registry set data type varchar(9) using (registry), alter registry set not null using ('')", "action-conflict", "coalesce"},
	{"rename: to a table that is there", "alter table vessel rename to berth", "name-taken", "there is a table berth already"},
	{"rename: two names swapped", "alter table vessel rename name to registry, rename registry to name", "name-taken", "has a column registry already"},
	{"rename: an index that is not there", "alter index by_nme on vessel rename to x", "name-unknown", "did you mean by_name?"},
	{"rename: a constraint to one that is there", "alter table berth add constraint a check (id > 0), add constraint b check (id > 0); alter table berth rename constraint a to b", "name-taken", "has a check b already"},
	{"generated: no such thing", "alter table vessel alter name set expression as (upper(registry))", "not-generated", "column name is not generated"},
	{"generated: not steady", "alter table vessel alter label set expression as (name || current_date)", "expression-not-steady", "gives another result each time"},
	{"generated: from itself", "alter table vessel alter label set expression as (upper(label))", "generated-loop", "is computed from itself"},
	{"generated: from itself, by way of another", "alter table vessel add other text generated always as (label || '?'); alter table vessel alter label set expression as (other || '!')", "generated-loop", "is computed from itself"},
	{"generated: null where none may be", "alter table vessel add a integer not null generated always as (length_ft)", "rows-would-break", "1 row of vessel"},
	{"position: after itself", "alter table vessel alter name set position after name rebuild", "action-conflict", "after itself"},
	{"position: after nothing", "alter table vessel add a text after nosuch", "name-unknown", "to stand after"},
	{"time of update: of a number", "alter table berth alter depth_cm set on update current_timestamp", "on-update-type", "only a timestamp"},
	{"identity: not the key", "alter table berth alter depth_cm add generated always as identity", "identity-needs-key", "has to be the primary key"},
	{"identity: of text", "alter table tally add id text generated always as identity primary key", "identity-type", "only whole numbers"},
	{"identity: numbers in use", "alter table vessel alter id restart with 5", "number-in-use", "have a id of 5 or above"},
	{"identity: restart of what does not number", "alter table berth alter depth_cm restart with 5", "not-identity", "does not number itself"},
	{"primary key: with nulls", "alter table berth drop constraint berth_id_primary, add primary key (depth_cm)", "", "berth"},
	{"primary key: nulls", "alter table vessel drop primary key, add primary key (registry, length_ft)", "", "vessel"},
	{"primary key: duplicates", "alter table dues drop primary key, add primary key (vessel_id)", "rows-would-break", "2 rows of dues share theirs"},
	{"primary key: a second", "alter table dues add primary key (year)", "key-twice", "has a primary key already"},
	{"primary key: referred to", "alter table berth drop primary key", "name-in-use", "foreign key vessel_berth_id_reference"},
	{"backfill: more than one row for a row", "backfill vessel set length_ft = d.amount from dues as d on (id = d.vessel_id)", "rows-ambiguous", "d gives more than one row for 1 row of vessel"},
	{"backfill: an unknown source", "backfill vessel set name = b.code from bert as b on (berth_id = b.id)", "name-unknown", "did you mean berth?"},
	{"backfill: an unknown column of the source", "backfill vessel set name = b.cod from berth as b on (berth_id = b.id)", "name-unknown", "b has no column cod"},
	{"backfill: a column without its source", "backfill vessel set name = code from berth as b on (berth_id = b.id)", "name-unknown", "write b.code"},
	{"backfill: what does not fit", "backfill dues set amount = 'much'", "rows-would-break", "3 rows of dues"},
	{"insert: a key that is there", "insert into berth (id, code) values (2, 'X')", "key-exists", "1 of the rows to insert have the id of a row that berth has"},
	{"insert: a unique value that is there", "insert into berth (id, code) values (9, 'A1')", "key-exists", "the code of a row that berth has"},
	{"insert: no value where one is needed", "insert into berth (id) values (9)", "rows-need-value", "column code is not null and has no default"},
	{"insert: into what computes itself", "insert into vessel (name, label) values ('a', 'b')", "generated-set", "column label is generated"},
	{"insert: where rows have no key", "insert into tally (n) values (1)", "table-without-key", "has no key"},
	{"insert: a reference to nothing", "insert into vessel (name, berth_id) values ('a', 77)", "rows-would-break", "no row of berth has the berth_id of 1 row to insert"},
	{"delete: rows that are referred to", "delete from berth where id = 1", "rows-would-break", "rows of vessel refer to 1 row of berth that would be deleted"},
	{"delete: rows whose references would cascade", "delete from vessel where id = 2", "rows-would-break", "rows of dues refer to 1 row of vessel"},
	{"delete: where rows have no key", "delete from tally where n = 1", "table-without-key", "write discard"},
}

// refusal runs a statement that is refused before anything is changed.
func refusal(t *testing.T, o *office, statement, rule, says string) {
	t.Helper()
	o.migration("0002-change", "-- It must not run\n"+statement+";\n")
	before := o.snapshot()
	if rule != "" {
		o.wants(o.code(3, "check"), rule, says)
	}
	r := o.run("advance", "--yes")
	if r.code != 3 && r.code != 1 {
		t.Fatalf("wanted a refusal, got %s", r)
	}
	o.wants(r, says)
	o.unchanged(before)
}
