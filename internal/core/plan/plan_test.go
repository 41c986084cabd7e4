package plan_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
)

// chart is a database in a new file, and what is planned on it.
type chart struct {
	testing.TB
	db engine.Database
	in plan.Input
}

func newChart(t testing.TB, rows int) *chart {
	t.Helper()
	db, err := sqlite.Engine{}.Open(t.Context(), "sqlite:"+filepath.Join(t.TempDir(), "harbour.db"), engine.Create)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	c := &chart{t, db, plan.Input{Engine: sqlite.Engine{}, DB: db, Short: 0.2}}
	for _, sql := range []string{
		"create table berth (id integer primary key, code text not null)",
		"create table vessel (id integer primary key, name text not null, flag text, berth_id integer references berth)",
		"create index by_name on vessel (name)", "create view named as select name from vessel",
		"create trigger seen after update of flag on vessel begin select 1; end",
		fmt.Sprintf("insert into vessel (id, name) select value, 'v' || value from (with recursive s(value) as (select "+
			"1 union all select value + 1 from s where value < %d) select value from s)", rows),
	} {
		if err := db.Exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

func (c *chart) planner() *plan.Planner {
	c.Helper()
	p, err := plan.New(c.Context(), c.in)
	if err != nil {
		c.Fatal(err)
	}
	c.Cleanup(func() { p.Close() })
	return p
}

func (c *chart) migration(text string) *migration.Migration {
	c.Helper()
	m, err := migration.Parse("0002-change.sql", "0002", "change", "-- A change\n"+text+";\n")
	if err != nil {
		c.Fatal(err)
	}
	return m
}

func (c *chart) advance(text string) *plan.Plan {
	c.Helper()
	p, err := c.planner().Advance(c.Context(), c.migration(text))
	if err != nil {
		c.Fatal(err)
	}
	return p
}

// The tables after a plan are those that the statements say, and nothing has happened.
func TestAPlanChangesNothing(t *testing.T) {
	c := newChart(t, 10)
	before, err := c.db.Schema(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	p := c.advance("alter table vessel add column code text not null using (name || '!'), rename column flag to " +
		"colours; create index by_code on vessel (code)")
	after := p.After.Table("vessel")
	if after == nil || after.Column("code") == nil || !after.Column("code").NotNull || after.Column("flag") != nil ||
		after.Column("colours") == nil || len(after.Indexes) != 2 {
		t.Errorf("it leads to %+v", after)
	}
	now, err := c.db.Schema(t.Context())
	if err != nil || len(schema.Compare(before, now, (sqlite.Engine{}).Text)) > 0 {
		t.Errorf("the tables have changed: %v, %v", schema.Compare(before, now, (sqlite.Engine{}).Text), err)
	}
	for i, s := range p.Steps {
		if s.Number != i+1 || s.Stage != "open" || s.Table == "" {
			t.Errorf("step %d is %+v", i+1, s)
		}
	}
	if got := p.Touched(); !slices.Equal(got, []string{"vessel"}) {
		t.Errorf("it touches %v", got)
	}
}

// Steps that share a transaction stand together; what is done in batches, or asks for it,
// stands alone.
func TestUnits(t *testing.T) {
	step := func(number int, change func(*engine.Step)) *engine.Step {
		s := &engine.Step{Number: number, WritersWait: engine.WaitBriefly}
		if change != nil {
			change(s)
		}
		return s
	}
	alone, batch, off := func(s *engine.Step) { s.Alone = true }, func(s *engine.Step) { s.Batch = &engine.Batch{} },
		func(s *engine.Step) { s.ForeignKeysOff = true }
	for _, c := range []struct {
		steps []*engine.Step
		want  string
	}{
		{nil, ""}, {[]*engine.Step{step(1, nil), step(2, nil)}, "1 2"},
		{[]*engine.Step{step(1, nil), step(2, batch), step(3, nil), step(4, nil)}, "1|2|3 4"},
		{[]*engine.Step{step(1, alone), step(2, alone)}, "1|2"},
		{[]*engine.Step{step(1, off), step(2, off), step(3, nil)}, "1 2|3"},
		{[]*engine.Step{step(1, func(s *engine.Step) { s.Outside = &engine.Outside{} }), step(2, nil)}, "1|2"},
	} {
		var units []string
		for _, u := range plan.Units(c.steps) {
			var numbers []string
			for _, s := range u {
				numbers = append(numbers, fmt.Sprint(s.Number))
			}
			units = append(units, strings.Join(numbers, " "))
		}
		if got := strings.Join(units, "|"); got != c.want {
			t.Errorf("got %s, wanted %s", got, c.want)
		}
	}
}

func TestHowLongWritersWait(t *testing.T) {
	outside := &engine.Outside{}
	for _, c := range []struct {
		steps   []*engine.Step
		longest float64
		which   int // the step for which they wait the longest; 0 if none is to be asked for
	}{
		{[]*engine.Step{{Seconds: 3, WritersWait: engine.WaitNo}}, 0, 0},
		{[]*engine.Step{{Seconds: 3, WritersWait: engine.WaitThroughout}, {Seconds: 4, WritersWait: engine.WaitThroughout}},
			7, 2},
		{[]*engine.Step{{Seconds: 9, WritersWait: engine.WaitBriefly, Batch: &engine.Batch{}}}, 0, 0},
		{[]*engine.Step{{Seconds: 9, WritersWait: engine.WaitBriefly, Outside: outside}}, 0, 0},
		{[]*engine.Step{{Seconds: 9, Pause: 0.5, WritersWait: engine.WaitBriefly, Outside: outside}}, 0.5, 1},
		{[]*engine.Step{{Seconds: 9, WritersWait: engine.WaitThroughout, Outside: outside},
			{Seconds: 2, WritersWait: engine.WaitBriefly}}, 9, 1},
	} {
		for i, s := range c.steps {
			s.Number = i + 1
		}
		p := &plan.Plan{Steps: c.steps}
		which := 0
		if s := p.Longest(); s != nil {
			which = s.Number
		}
		if got := p.LongestWait(); got != c.longest || which != c.which {
			t.Errorf("%+v: %v s in step %d, wanted %v in %d", c.steps[0], got, which, c.longest, c.which)
		}
	}
}

// What is dangerous about a migration is told with its plan.
func TestWarnings(t *testing.T) {
	for _, c := range []struct{ text, rules string }{
		{"alter table vessel add column note text", "rows-stay-null"},
		{"alter table vessel add column note text not null default ''", ""},
		{"backfill vessel set flag = 'NO'", "fires-triggers"},
		{"backfill vessel set name = upper(name)", ""},
	} {
		t.Run(c.text, func(t *testing.T) {
			ch := newChart(t, 10)
			m := ch.migration(c.text)
			p, err := ch.planner().Advance(t.Context(), m)
			var rules []string
			if err == nil {
				for _, w := range p.Warnings {
					rules = append(rules, w.Rule)
				}
			} else {
				rules = append(rules, err.Error())
			}
			if c.rules == "" && len(rules) > 0 || c.rules != "" && !slices.Contains(rules, c.rules) {
				t.Errorf("it says %v, wanted %q", rules, c.rules)
			}
		})
	}
}

// What cannot be planned is refused where it stands in the file.
func TestWhatCannotBePlanned(t *testing.T) {
	for _, c := range []struct {
		text, rule   string
		line, column int
	}{
		{"alter table vessel drop column name", "name-in-use", 2, 20},
		{"create index i on berth (code);\ndrop table vessel", "name-in-use", 3, 1},
		{"alter table vessel add column x integer generated always as (length(nothing))", "name-unknown", 2, 0},
		{"alter table nothing add column x integer", "name-unknown", 2, 13},
	} {
		t.Run(c.text, func(t *testing.T) {
			ch := newChart(t, 10)
			_, err := ch.planner().Advance(t.Context(), ch.migration(c.text))
			var list fault.List
			if !errors.As(err, &list) || len(list) == 0 {
				t.Fatalf("got %v", err)
			}
			f := list[0]
			if f.Rule != c.rule || f.Where.Line != c.line || c.column > 0 && f.Where.Column != c.column || f.Cure == "" &&
				c.rule == "name-in-use" {
				t.Errorf("got %s at %d:%d (%v), wanted %s at %d:%d", f.Rule, f.Where.Line, f.Where.Column, f, c.rule, c.line,
					c.column)
			}
		})
	}
}

// The way back of a record that went through the ledger's text leads to the tables of before.
func TestTheWayBackOfARecord(t *testing.T) {
	for _, text := range []string{
		"alter table vessel add column code text not null using (name)",
		"alter table vessel drop constraint vessel_berth_id_reference, drop column berth_id",
		"alter table vessel rename column name to title, rename to ship", "drop view named; drop table vessel",
		"create table pilot (id integer primary key, name text)", "create index by_flag on vessel (flag)",
		"drop index by_name on vessel", "alter table vessel alter flag set data type varchar(9), alter flag set " +
			"default 'NO'",
		"alter table vessel add constraint short check (length(name) < 90)", "drop view named",
		"create view more as select id from vessel", "comment on table vessel is 'what floats'",
	} {
		t.Run(text, func(t *testing.T) {
			c := newChart(t, 10)
			planner := c.planner()
			forward, err := planner.Advance(t.Context(), c.migration(text))
			if err != nil {
				t.Fatal(err)
			}
			data, err := plan.EncodeRecords(forward.Records)
			if err != nil {
				t.Fatal(err)
			}
			back, err := planner.Retreat(t.Context(), plan.Progress{Record: &ledger.Migration{Version: "0002", Name: "change",
				Changes: data}})
			if err != nil {
				t.Fatal(err)
			}
			before, after := *forward.Before, *back.After
			before.Tables, after.Tables = ours(before.Tables), ours(after.Tables)
			if d := schema.Compare(&before, &after, (sqlite.Engine{}).Text); len(d) > 0 {
				t.Errorf("it leads to %v", d)
			}
		})
	}
}

// ours leaves out what Lastboard makes for itself.
func ours(list []*schema.Table) []*schema.Table {
	return slices.DeleteFunc(slices.Clone(list), func(t *schema.Table) bool {
		return strings.HasPrefix(t.Name, engine.Prefix)
	})
}

func TestNoWayBack(t *testing.T) {
	c := newChart(t, 10)
	planner := c.planner()
	forward, err := planner.Advance(t.Context(), c.migration(
		"native sqlite $$ create table pier (id integer) $$ touching pier no way back"))
	if err != nil {
		t.Fatal(err)
	}
	data, err := plan.EncodeRecords(forward.Records)
	if err != nil {
		t.Fatal(err)
	}
	_, err = planner.Retreat(t.Context(), plan.Progress{Record: &ledger.Migration{Version: "0002", Changes: data}})
	var f *fault.Fault
	if !errors.As(err, &f) || f.Rule != "no-way-back" || f.Class != fault.Refused {
		t.Errorf("got %v", err)
	}
}

// Which table and column was which before is told over several statements.
func TestOrigins(t *testing.T) {
	c := newChart(t, 10)
	p := c.advance("alter table vessel rename to ship; alter table ship rename column name to title; alter table " +
		"ship rename column title to label; create table pilot (id integer primary key)")
	origins := plan.Origins(p.Records)
	o, ok := origins["ship"]
	if !ok || o.Table != "vessel" || o.Columns["label"] != "name" {
		t.Errorf("ship is %+v", o)
	}
	changes := o.Changes(p.Before.Table("vessel"), p.After.Table("ship"), (sqlite.Engine{}).Text)
	if !slices.ContainsFunc(changes, func(d schema.Difference) bool {
		return d.Attribute == "name" && d.Expected == "name" && d.Found == "label"
	}) {
		t.Errorf("the changes are %v", changes)
	}
}
