package schema_test

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// office is the tables that statements are applied to.
const office = `
create table berth (id integer primary key, code varchar(8) not null unique);
create table vessel (
  id integer primary key, name varchar(40) not null, registry text, length_ft numeric(6,1) default 10,
  berth_id integer references berth (id) on delete set null, label text generated always as (name || '!'),
  constraint long check (length_ft > 0), unique (name, registry)
);
create index by_name on vessel (name desc, (lower(registry))) where registry is not null;
create view named as select name from vessel;
`

func text(e schema.Expr) string { return e.String() }

// play applies the statements of a text, the last of which gives the result.
func play(t *testing.T, s *schema.Schema, src string) (*schema.Schema, *schema.Change, error) {
	t.Helper()
	f, err := sqltext.Parse("test", strings.TrimSuffix(strings.TrimSpace(src), ";")+";")
	if err != nil {
		t.Fatal(err)
	}
	var c *schema.Change
	for _, st := range f.Statements {
		after, change, err := schema.Apply(s, st, sqlite.Engine{}.About().Env(people))
		if err != nil {
			return s, nil, err
		}
		s, c = after, change
	}
	return s, c, nil
}

// people is the one file that migrations of these tests read.
func people(name string) (*schema.Table, error) {
	if name != "people.csv" {
		return nil, errors.New("there is no file " + name)
	}
	return &schema.Table{Name: name, Columns: []*schema.Column{{Name: "vessel"}, {Name: "owner"}}}, nil
}

func start(t *testing.T) *schema.Schema {
	t.Helper()
	s, _, err := play(t, &schema.Schema{}, office)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestStatementsChangeOnlyWhatTheySay compares the tables before and after each
// statement, attribute by attribute.
func TestStatementsChangeOnlyWhatTheySay(t *testing.T) {
	cases := []struct{ statement, want string }{
		{"alter table vessel rename name to title",
			"column name of table vessel is missing; column label of table vessel: generated is title || '!' and should be " +
				"name || '!'; " +
				"unique vessel_name_registry_unique of table vessel: columns is title, registry and should be name, registry; " +
				"index by_name of table vessel: columns is title desc, (lower(registry)) and should be name desc, " +
				"(lower(registry)); " +
				"column title of table vessel is there and should not be"},
		{"alter table vessel alter length_ft drop default",
			"column length_ft of table vessel: default is nothing and should be 10"},
		{"alter table vessel alter registry set default 'none'",
			"column registry of table vessel: default is 'none' and should be nothing"},
		{"alter table vessel alter registry set not null using ('x')",
			"column registry of table vessel: not null is yes and should be no"},
		{"alter table vessel alter name drop not null", "column name of table vessel: not null is no and should be yes"},
		{"alter table vessel drop constraint long", "check long of table vessel is missing"},
		{"alter table vessel drop constraint vessel_berth_id_reference",
			"foreign key vessel_berth_id_reference of table vessel is missing"},
		{"alter table vessel add flag char(2) default 'NO', add constraint f check (flag <> '')",
			"column flag of table vessel is there and should not be; check f of table vessel is there and should not be"},
		{"alter table vessel drop label", "column label of table vessel is missing"},
		{"drop index by_name on vessel", "index by_name of table vessel is missing"},
		{"comment on column vessel.name is 'as painted'",
			"column name of table vessel: comment is as painted and should be nothing"},
		{"comment on table vessel is 'what floats'", "table vessel: comment is what floats and should be nothing"},
		{"drop view named", "view named is missing"},
		{"create view v as select 1", "view v is there and should not be"},
		{"drop table vessel", "table vessel is missing"},
		{"create table made (a text)", "table made is there and should not be"},
		{"backfill vessel set registry = 'x'", ""},
		{"alter table vessel alter registry set data type varchar(9)",
			"column registry of table vessel: type is varchar(9) and should be text"},
		{"alter table vessel alter length_ft set data type real using (length_ft * 2) discard",
			"column length_ft of table vessel: type is real and should be numeric(6,1)"},
		{"alter table vessel alter label set expression as (upper(name))",
			"column label of table vessel: generated is upper(name) and should be name || '!'"},
		{"alter table vessel alter label drop expression",
			"column label of table vessel: generated is nothing and should be name || '!'; column label of table vessel: " +
				"stored is nothing and should be no"},
		{"alter table vessel add noted timestamp on update current_timestamp",
			"column noted of table vessel is there and should not be"},
		{"alter table vessel rename constraint long to longer",
			"check long of table vessel is missing; check longer of table vessel is there and should not be"},
		{"alter index by_name on vessel rename to named_so",
			"index by_name of table vessel is missing; index named_so of table vessel is there and should not be"},
		{"alter table vessel drop primary key", "primary key  of table vessel is missing"},
		{"alter table vessel alter id add generated by default as identity",
			"column id of table vessel: identity is by default and should be nothing"},
		{"alter table vessel rebuild", ""},
		{"alter table vessel add a text first", "column a of table vessel is there and should not be"},
		{"alter table vessel alter registry set position first rebuild",
			"column id of table vessel: position is 2 and should be 1; column name of table vessel: position is 3 and " +
				"should be 2; column registry of table vessel: position is 1 and should be 3"},
		{"insert into berth (id, code) values (1, 'A')", ""},
		{"delete from vessel where id = 1", ""},
		{"backfill vessel set registry = b.code from berth as b on (berth_id = b.id)", ""},
		{"backfill vessel set registry = p.owner from csv 'people.csv' as p on (id = p.vessel)", ""},
	}
	for _, c := range cases {
		before := start(t)
		after, change, err := play(t, before, c.statement)
		if err != nil {
			t.Errorf("%s: %v", c.statement, err)
			continue
		}
		if got := differences(before, after); got != c.want {
			t.Errorf("%s: wanted\n%s\ngot\n%s", c.statement, c.want, got)
		}
		if d := differences(start(t), before); d != "" {
			t.Errorf("%s changed its argument: %s", c.statement, d)
		}
		inverted(t, c.statement, change)
	}
}

func differences(want, got *schema.Schema) string {
	var list []string
	for _, d := range schema.Compare(want, got, text) {
		list = append(list, d.String())
	}
	return strings.Join(list, "; ")
}

// inverted asserts that a change taken back twice is the change.
func inverted(t *testing.T, statement string, c *schema.Change) {
	t.Helper()
	if c.Table == nil {
		return
	}
	twice := c.Table.Invert().Invert()
	if twice.Before != c.Table.Before || twice.After != c.Table.After || len(twice.From) != len(c.Table.From) {
		t.Errorf("%s: taken back twice it is another change", statement)
	}
	for to, from := range c.Table.From {
		if twice.From[to] != from {
			t.Errorf("%s: taken back twice, %s comes from %s and not from %s", statement, to, twice.From[to], from)
		}
	}
}

func TestChangesSayWhatRowsGet(t *testing.T) {
	_, c, err := play(t, start(t), `alter table vessel
		add a text using (name || registry), add b timestamp default current_timestamp, add d integer default 4,
		alter registry set not null using (name), rename length_ft to length, drop label, drop constraint long,
		drop berth_id restore using (id), drop constraint vessel_berth_id_reference`)
	if err != nil {
		t.Fatal(err)
	}
	ch := c.Table
	for column, want := range map[string]string{"a": "name || registry", "b": "current_timestamp", "registry": "name"} {
		if got := ch.Fill[column].Expr; got == nil || sqltext.PrintExpr(got) != want {
			t.Errorf("%s gets %v, wanted %s", column, got, want)
		}
	}
	if _, filled := ch.Fill["d"]; filled || !ch.Fill["registry"].OnlyNull {
		t.Errorf("a constant default needs no fill, and only nulls of registry are filled: %+v", ch.Fill)
	}
	if sqltext.PrintExpr(ch.Restore["berth_id"]) != "id" || ch.From["length"] != "length_ft" {
		t.Errorf("restore %v, from %v", ch.Restore, ch.From)
	}
	var added, dropped []string
	for _, col := range ch.Added() {
		added = append(added, col.Name)
	}
	for _, col := range ch.Dropped() {
		dropped = append(dropped, col.Name)
	}
	if !slices.Equal(added, []string{"a", "b", "d"}) || !slices.Equal(dropped, []string{"berth_id", "label"}) {
		t.Errorf("added %v, dropped %v", added, dropped)
	}
	before, renames := ch.BeforeRenames()
	if before.Column("length_ft") == nil || renames["length_ft"] != "length" {
		t.Errorf("before the renames: %v, %v", before.ColumnNames(), renames)
	}
}

func TestStatementsThatAreRefused(t *testing.T) {
	cases := []struct{ statement, rule string }{
		{"alter table vessel drop name", "name-in-use"}, {"alter table vessel drop berth_id", "name-in-use"},
		{"alter table berth drop id", "name-in-use"},
		{"alter table berth drop constraint berth_code_unique, add a text references berth (code)", "reference-not-unique"},
		{"alter table vessel rename name to registry", "name-taken"},
		{"alter table vessel rename name to a, rename registry to name", "name-taken"},
		{"alter table vessel rename registry to a, add registry text", "action-conflict"},
		{"alter table vessel drop registry, rename registry to b", "name-in-use"},
		{"alter table vessel alter name set not null, alter name set not null", "action-twice"},
		{"alter table vessel add a text, add A text", "name-taken"}, {"create table t (a text, A text)", "name-taken"},
		{"create table t (a text primary key, b text primary key)", "key-twice"},
		{"create table t (a text, constraint c check (a > ''), constraint c check (a < 'z'))", "name-taken"},
		{"create table t (id bigint generated always as identity)", "identity-needs-key"},
		{"create table lastboard_mine (a text)", "name-taken"},
		{"create table by_name (a text)", "name-taken"}, {"create table named (a text)", "name-taken"},
		{"create index vessel on berth (code)", "name-taken"},
		{"create index i on vessel (nosuch)", "name-unknown"},
		{"create index i on vessel ((random()))", "expression-not-steady"},
		{"create index i on vessel (name) where name > current_date", "expression-not-steady"},
		{"drop index nosuch on vessel", "name-unknown"},
		{"drop view vessels", "name-unknown"}, {"drop table named", "name-unknown"}, {"drop table berth", "name-in-use"},
		{"alter table vessel add a text generated always as ((select 1))", "expression-not-steady"},
		{"alter table vessel add c text generated always as ('a') default 'x'", "generated-default"},
		{"alter table vessel add c text generated always as ('a') using ('x')", "generated-set"},
		{"backfill vessel set label = 'x'", "generated-set"},
		{"alter table vessel add a text using (other.name)", "name-unknown"},
		{"alter table other.vessel add a text", "name-unknown"},
		{"alter table vessel alter id drop not null", "key-nullable"},
		{"alter table vessel alter label set default 'x'", "generated-default"},
		{"create table t (a text, foreign key (a) references nosuch)", "name-unknown"},
		{"create table t (a integer references vessel (berth_id))", "reference-not-unique"},
		{"comment on column vessel.nosuch is 'x'", "name-unknown"}, {"backfill vessel set id = 3", "key-set"},
		{"alter table berth drop constraint berth_id_primary", "name-in-use"},
		{"create table t (a text); alter table t drop a", "table-without-columns"},
		{"alter table vessel drop label restore using ('x')", "generated-set"},
		{"alter table vessel alter label set not null using ('x')", "generated-set"},
	}
	for _, c := range cases {
		_, _, err := play(t, start(t), c.statement)
		var p *schema.Problem
		if !errors.As(err, &p) {
			t.Errorf("%s: wanted a problem, got %v", c.statement, err)
		} else if p.Rule != c.rule {
			t.Errorf("%s: wanted %s, got %s (%s)", c.statement, c.rule, p.Rule, p.Message)
		}
	}
}

func TestWhatNativeSQLChangedIsNotKnown(t *testing.T) {
	s, _, err := play(t, start(t), "native sqlite $$drop index by_name$$ touching vessel no way back")
	if err != nil {
		t.Fatal(err)
	}
	_, _, err = play(t, s, "alter table vessel add a text")
	var unknown *schema.ErrUnknown
	if !errors.As(err, &unknown) || unknown.Table != "vessel" {
		t.Errorf("wanted that nothing is known of vessel, got %v", err)
	}
}

func TestModelsSurviveTheLedger(t *testing.T) {
	want := start(t)
	data, err := json.Marshal(want)
	if err != nil {
		t.Fatal(err)
	}
	var got schema.Schema
	if err := json.Unmarshal(data, &got); err != nil {
		t.Fatal(err)
	}
	if d := differences(want, &got); d != "" {
		t.Errorf("what came back differs: %s", d)
	}
}

func TestConstraintNames(t *testing.T) {
	long := &schema.Table{Name: strings.Repeat("harbour", 8)}
	a := schema.ConstraintName(long, []string{"first_column", "second"}, "unique")
	b := schema.ConstraintName(long, []string{"first_column", "third"}, "unique")
	if len(a) > 63 || len(b) > 63 || a == b {
		t.Errorf("names that are cut must fit and differ: %s, %s", a, b)
	}
	taken := &schema.Table{Name: "t", Checks: []*schema.Check{{Name: "t_a_check"}}}
	if got := schema.ConstraintName(taken, []string{"a"}, "check"); got != "t_a_check_2" {
		t.Errorf("wanted the next free name, got %s", got)
	}
}

func TestTextsThatAreOneThing(t *testing.T) {
	same := [][2]string{{`"id"  > 0`, "ID>0"}, {"[a b] = `a b`", `"a b" = "A B"`}, {"lower( x )", "LOWER(x)"},
		{"a -- why\n+ b", "a + b"}}
	for _, c := range same {
		if schema.Words(c[0]) != schema.Words(c[1]) {
			t.Errorf("%q and %q are one thing: %q, %q", c[0], c[1], schema.Words(c[0]), schema.Words(c[1]))
		}
	}
	for _, c := range [][2]string{{"'A'", "'a'"}, {"a", "'a'"}, {"a b", "ab"}} {
		if schema.Words(c[0]) == schema.Words(c[1]) {
			t.Errorf("%q and %q are two things", c[0], c[1])
		}
	}
}

// TestRenamedTable is that everything that names the table follows.
func TestRenamedTable(t *testing.T) {
	s, c, err := play(t, start(t), "alter table berth rename to mooring, rename code to place")
	if err != nil {
		t.Fatal(err)
	}
	if s.Table("berth") != nil || s.Table("mooring") == nil || s.Table("vessel").ForeignKeys[0].Table != "mooring" {
		t.Errorf("got %+v", s.Table("vessel").ForeignKeys[0])
	}
	before, renames := c.Table.BeforeRenames()
	if before.Name != "berth" || before.Column("code") == nil || renames["code"] != "place" {
		t.Errorf("under the names of before: %s %v %v", before.Name, before.ColumnNames(), renames)
	}
}

// TestPositions is where columns stand that were put somewhere.
func TestPositions(t *testing.T) {
	for statement, want := range map[string]string{
		"add a text first": "a id name registry length_ft berth_id label",
		"add a text after name, add b text after name":         "id name a b registry length_ft berth_id label",
		"add a text first, add b text first":                   "a b id name registry length_ft berth_id label",
		"alter label set position after id":                    "id label name registry length_ft berth_id",
		"add a text after name, alter id set position after a": "name a id registry length_ft berth_id label",
		"rename name to title, add a text after title":         "id title a registry length_ft berth_id label",
	} {
		s, _, err := play(t, start(t), "alter table vessel "+statement)
		if err != nil {
			t.Errorf("%s: %v", statement, err)
			continue
		}
		if got := strings.Join(s.Table("vessel").ColumnNames(), " "); got != want {
			t.Errorf("%s: wanted %s, got %s", statement, want, got)
		}
	}
}

// TestDelta is that what has changed, put on what was, gives what is.
func TestDelta(t *testing.T) {
	before := start(t)
	after, _, err := play(t, before, "drop view named; alter table vessel drop label; create table log (id integer); "+
		"create view v as select 1; drop index by_name on vessel")
	if err != nil {
		t.Fatal(err)
	}
	d := schema.Since(before, after)
	if len(d.Tables) != 2 || len(d.Views) != 1 || len(d.Gone) != 0 || len(d.ViewsGone) != 1 {
		t.Errorf("got %+v", d)
	}
	if got := differences(after, d.On(before)); got != "" {
		t.Errorf("put on what was it gives another: %s", got)
	}
	data, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	var read schema.Delta
	if err := json.Unmarshal(data, &read); err != nil {
		t.Fatal(err)
	}
	if got := differences(after, read.On(before)); got != "" {
		t.Errorf("written and read it gives another: %s", got)
	}
	if list := d.Mismatch(after, text); len(list) > 0 {
		t.Errorf("wanted no mismatch, got %v", list)
	}
	if list := d.Mismatch(before, text); len(list) == 0 {
		t.Error("wanted the mismatch of what was")
	}
	back := schema.Since(after, before)
	if got := differences(before, back.On(after)); got != "" {
		t.Errorf("the way back gives another: %s", got)
	}
}

func TestWidens(t *testing.T) {
	cases := []struct {
		from, to string
		want     bool
	}{
		{"smallint", "integer", true}, {"integer", "smallint", false}, {"smallint unsigned", "integer", true},
		{"integer", "integer unsigned", false}, {"integer unsigned", "integer", false},
		{"varchar(5)", "varchar(9)", true}, {"varchar(9)", "varchar(5)", false}, {"varchar(5)", "text", true},
		{"text", "varchar(5)", false},
		{"numeric(6,2)", "numeric(9,2)", true}, {"numeric(6,2)", "numeric(6,3)", false}, {"numeric(6,2)", "numeric", true},
		{"numeric", "numeric(6,2)", false},
		{"enum('a', 'b')", "enum('a', 'b', 'c')", true}, {"enum('a', 'b')", "enum('a')", false}, {"enum('a')", "text", true},
		{"date", "timestamp", false}, {"date", "date", true}, {"integer", "text", false}, {"real", "double precision", false},
	}
	for _, c := range cases {
		from, _ := sqltext.ParseType(c.from)
		to, _ := sqltext.ParseType(c.to)
		if got := schema.Widens(from, to); got != c.want {
			t.Errorf("%s to %s: wanted %v, got %v", c.from, c.to, c.want, got)
		}
	}
}

func TestSameMeaning(t *testing.T) {
	for expr, want := range map[string]bool{
		"length_ft": true, "round(length_ft)": true, "cast(trim(length_ft) as integer)": true, "coalesce(length_ft, 0)": true,
		"case when length_ft > 9 then 9 else length_ft end": true,
		"length_ft * 2": false, "upper(length_ft)": false, "name": false, "round(length_ft * 0.3048, 2)": false,
	} {
		e, err := sqltext.ParseExpr(expr)
		if err != nil {
			t.Fatal(err)
		}
		if got := schema.SameMeaning(e, "length_ft"); got != want {
			t.Errorf("%s: wanted %v, got %v", expr, want, got)
		}
	}
}

// TestPartsFollowTheirTable is that parts belong to their table under its new name, go with it, have its columns,
// and are no difference; and that a table that a ledger of before calls partitioned is as it is.
func TestPartsFollowTheirTable(t *testing.T) {
	parted := &schema.Table{Name: "call", Columns: []*schema.Column{{Name: "id"}},
		Options: map[string]string{"partition by": "RANGE (id)"}}
	s := &schema.Schema{Tables: []*schema.Table{parted, {Name: "call_1", PartOf: "call",
		Opaque: schema.OpaquePart("call")}, {Name: "port"}}}
	if whole := s.Whole(s.Table("call_1")); len(whole.Columns) != 1 || len(s.Table("call_1").Columns) != 0 {
		t.Errorf("a part has columns %v", whole.Columns)
	}
	after, _, err := play(t, s, "alter table call rename to visit")
	if err != nil {
		t.Fatal(err)
	}
	if list := after.Parts("visit"); len(list) != 1 || list[0].Opaque != schema.OpaquePart("visit") ||
		len(s.Parts("call")) != 1 {
		t.Errorf("after the table got another name its parts are %v", list)
	}
	if _, _, err := play(t, s, "alter table call_1 add column n integer"); err == nil {
		t.Error("a part is changed by itself")
	}
	after, _, err = play(t, s, "drop table call")
	if err != nil || len(after.Tables) != 1 {
		t.Errorf("after the table was dropped there are %d tables: %v", len(after.Tables), err)
	}
	if d := schema.Compare(s, &schema.Schema{Tables: []*schema.Table{parted, {Name: "port"}, {Name: "call_2",
		PartOf: "call"}}}, text); len(d) > 0 {
		t.Errorf("parts that come and go differ: %v", d)
	}
	before := &schema.Table{Name: "call", Columns: parted.Columns, Opaque: "it is partitioned"}
	if d := schema.CompareTables(before, parted, text); len(d) > 0 {
		t.Errorf("a table that was called partitioned differs: %v", d)
	}
}
