package schema_test

import (
	"testing"

	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
)

// TestMerged takes a change back from a table to which other things were done since.
func TestMerged(t *testing.T) {
	const table = "create table vessel (id integer primary key, name text not null, flag text, tons integer, " +
		"constraint heavy check (tons > 0))"
	for _, c := range []struct{ name, change, since, want string }{
		{"an added column", "alter table vessel add column port text", "alter table vessel drop column flag",
			"create table vessel (id integer primary key, name text not null, tons integer, constraint heavy check (tons > 0))"},
		{"a dropped column comes where it stood", "alter table vessel drop column flag",
			"alter table vessel alter name drop not null",
			"create table vessel (id integer primary key, name text, flag text, tons integer, constraint heavy check (tons " +
				"> 0))"},
		{"a renamed column keeps what it got since", "alter table vessel rename column name to title",
			"alter table vessel alter title drop not null, add constraint titled check (title <> '')",
			"create table vessel (id integer primary key, name text, flag text, tons integer, constraint heavy check (tons " +
				"> 0), constraint titled check (name <> ''))"},
		{"an attribute", "alter table vessel alter tons set not null",
			"alter table vessel drop column flag, drop constraint heavy",
			"create table vessel (id integer primary key, name text not null, tons integer)"},
		{"what a later change made goes with nothing", "alter table vessel drop constraint heavy",
			"alter table vessel drop column tons",
			"create table vessel (id integer primary key, name text not null, flag text)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			played := func(s *schema.Schema, text string) (*schema.Table, *schema.Change) {
				after, change, err := play(t, s, text)
				if err != nil {
					t.Fatal(err)
				}
				return after.Tables[0], change
			}
			in := func(t *schema.Table) *schema.Schema { return &schema.Schema{Tables: []*schema.Table{t}} }
			before, _ := played(&schema.Schema{}, table)
			after, change := played(in(before), c.change)
			now, _ := played(in(after), c.since)
			want, _ := played(&schema.Schema{}, c.want)
			got, _ := schema.Merged(now, after, before, change.Table.From)
			if d := schema.CompareTables(want, got, sqlite.Engine{}.Text); len(d) > 0 {
				t.Errorf("%v", d)
			}
			for i, name := range want.ColumnNames() {
				if got.Columns[i].Name != name {
					t.Errorf("column %d is %s, and should be %s", i+1, got.Columns[i].Name, name)
				}
			}
		})
	}
}
