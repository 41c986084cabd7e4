package schema_test

import (
	"slices"
	"strings"
	"testing"

	"lastboard/internal/schema"
)

// TestSwapping goes through the stages of another type, forward and back: where the columns stand, what
// each is, and that nothing is left of it in the end.
func TestSwapping(t *testing.T) {
	s, _, err := play(t, &schema.Schema{}, "create table vessel (id integer primary key, tons integer not null default "+
		"7, "+
		"flag text)")
	if err != nil {
		t.Fatal(err)
	}
	_, change, err := play(t, s, "alter table vessel alter tons set data type bigint")
	if err != nil {
		t.Fatal(err)
	}
	as := change.Table
	plain := func(c *schema.Column) schema.Column { return schema.Column{Type: c.Type} }
	for last, want := range map[bool][]string{
		true: {"id tons:integer flag lastboard_tons_aside:bigint", "id lastboard_tons_aside:integer flag tons:bigint",
			"id flag tons:bigint"},
		false: {"id tons:integer lastboard_tons_aside:bigint flag", "id lastboard_tons_aside:integer tons:bigint flag",
			"id tons:bigint flag"},
	} {
		shown := func(t *schema.Table) string {
			var list []string
			for _, c := range t.Columns {
				name := c.Name
				if strings.Contains(name, "tons") {
					name += ":" + c.Type.Name
				}
				list = append(list, name)
			}
			return strings.Join(list, " ")
		}
		now := as.Before
		var tables []*schema.Table
		for i, stage := range []schema.SwapStage{schema.SwapBeside, schema.SwapTurn, schema.SwapEnd} {
			tables = append(tables, now)
			now = schema.Swapping(stage, now, as, plain, last).After
			if got := shown(now); got != want[i] {
				t.Errorf("%s: %s, and should be %s", stage, got, want[i])
			}
		}
		turned := schema.Swapping(schema.SwapTurn, tables[1], as, plain, last).After
		if c := turned.Column("tons"); !c.NotNull || c.Default == nil {
			t.Errorf("the column has lost what it had: %v", c)
		}
		if c := turned.Column("lastboard_tons_aside"); c.NotNull || c.Default != nil {
			t.Errorf("something is asked of what is out of sight: %v", c)
		}
		back := schema.Swapping(schema.SwapTurn, turned, as.Invert(), plain, last).After
		if got := shown(back); got != want[0] {
			t.Errorf("back: %s, and should be %s", got, want[0])
		}
		in := &schema.Schema{Tables: []*schema.Table{turned}}
		if got := schema.InSight(in).Tables[0].ColumnNames(); slices.Contains(got, "lastboard_tons_aside") || len(got) != 3 {
			t.Errorf("in sight are %v", got)
		}
		if got := schema.Unswapped(turned, []string{"tons"}).Column("tons").Type.Name; got != "integer" {
			t.Errorf("it was of type %s", got)
		}
	}
}

// TestLinkOf is what a statement says of columns that are made from each other.
func TestLinkOf(t *testing.T) {
	s, _, err := play(t, &schema.Schema{}, "create table vessel (id integer primary key, label text not null, feet "+
		"numeric(7,1) not null default 1)")
	if err != nil {
		t.Fatal(err)
	}
	for statement, want := range map[string]string{
		"alter table vessel add column port text not null using (left(label, 3)), drop column label restore using " +
			"(port)": "label|port",
		"alter table vessel alter feet set data type numeric(7,2) using (feet * 0.3) restore using (meters / 0.3), rename " +
			"column " +
			"feet to meters": "feet|meters",
	} {
		_, change, err := play(t, s, statement)
		if err != nil {
			t.Fatal(err)
		}
		l := schema.LinkOf(change.Table)
		old, fresh := l.Columns()
		if got := strings.Join(old, ",") + "|" + strings.Join(fresh, ","); got != want {
			t.Errorf("%s: %s", statement, got)
		}
		beside := schema.Beside(change.Table, l,
			func(_ schema.Link, c *schema.Column, _ schema.LinkStage) schema.Column { return *c })
		if got := beside.After.ColumnNames(); len(got) != 4 || got[3] != fresh[0] {
			t.Errorf("%s: beside: %v", statement, got)
		}
		ended := schema.Ended(beside.After, change.Table, l)
		if got := ended.After.ColumnNames(); len(got) != 3 || slices.Contains(got, old[0]) || ended.Restore[old[0]] == nil {
			t.Errorf("%s: in the end: %v", statement, got)
		}
		if got := schema.Unlinked(beside.After, l).ColumnNames(); !slices.Equal(got, change.Table.Before.ColumnNames()) {
			t.Errorf("%s: before it were %v", statement, got)
		}
	}
}
