package uses

import (
	"context"
	"testing"
	"time"

	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// onlooker is a database of which a test says what it tells.
type onlooker struct {
	seen   map[string]engine.Seen
	asked  []engine.Asked
	unseen string
	code   []engine.Code
}

func (o onlooker) Seen(_ context.Context, _ *schema.Table, column string) (engine.Seen, error) {
	return o.seen[column], nil
}
func (o onlooker) Asked(context.Context) ([]engine.Asked, string, error) {
	return o.asked, o.unseen, nil
}
func (o onlooker) Now(context.Context) (time.Time, error)      { return time.Now(), nil }
func (o onlooker) Code(context.Context) ([]engine.Code, error) { return o.code, nil }

// TestWords is what is said of a name by what a database tells.
func TestWords(t *testing.T) {
	opened := time.Date(2031, 5, 1, 10, 0, 0, 0, time.UTC)
	before, after := opened.Add(-time.Hour), opened.Add(time.Hour)
	file, err := sqltext.Parse("0005-names.sql",
		"-- Names\nalter table vessel drop column flag;\nalter table vessel rename column name to "+
			"title;\nalter table vessel add column class text not null using (name);\ndrop table old_berth;\n")
	if err != nil {
		t.Fatal(err)
	}
	open := []Open{{plan.Opened{Version: "0005", Later: file.Statements}, opened}}
	tables := &schema.Schema{Tables: []*schema.Table{{Name: "vessel"}}}
	const unseen = "there may be more"
	for _, c := range []struct {
		what          string
		db            onlooker
		column        string
		written, read string
		by            int
	}{
		{"nothing is told", onlooker{unseen: unseen}, "flag", Unknown, Unknown, 0},
		{"all is told", onlooker{}, "flag", NotSeen, NotSeen, 0},
		{"writes are counted", onlooker{unseen: unseen, seen: map[string]engine.Seen{"flag": {Counted: true}}}, "flag",
			NotSeen, Unknown, 0},
		{"one was counted", onlooker{unseen: unseen, seen: map[string]engine.Seen{"flag": {Counted: true, Times: 1}}}, "flag",
			Used, Unknown, 0},
		{"a session reads", onlooker{asked: []engine.Asked{{SQL: "select FLAG from app.vessel v", Last: after}}}, "flag",
			NotSeen, Used, 1},
		{"a session read before", onlooker{asked: []engine.Asked{{SQL: "select flag from vessel", Last: before}}}, "flag",
			NotSeen, NotSeen, 0},
		{"a session writes", onlooker{asked: []engine.Asked{{SQL: "update vessel set \"flag\" = 'a'", Last: after}}}, "flag",
			Used, NotSeen, 1},
		{"another table", onlooker{asked: []engine.Asked{{SQL: "select flag from fleet", Last: after}}}, "flag", NotSeen,
			NotSeen, 0},
		{"in a text", onlooker{asked: []engine.Asked{{SQL: "select 'flag' from vessel", Last: after}}}, "flag", NotSeen,
			NotSeen, 0},
		{"counted since before", onlooker{asked: []engine.Asked{{SQL: "select flag from vessel", Times: 9, Since: before}}},
			"flag", NotSeen, Unknown, 0},
		{"counted since", onlooker{asked: []engine.Asked{{SQL: "select flag from vessel", Times: 9, Since: after}}}, "flag",
			NotSeen, Used, 1},
		{"all columns", onlooker{asked: []engine.Asked{{SQL: "select v.* from vessel v", Last: after}}}, "flag", NotSeen,
			Unknown, 0},
		{"how many", onlooker{asked: []engine.Asked{{SQL: "select count(*), 2 * id from vessel", Last: after}}}, "flag",
			NotSeen, NotSeen, 0},
		{"values without a list", onlooker{asked: []engine.Asked{{SQL: "insert into vessel values (1)", Last: after}}},
			"flag", Unknown, NotSeen, 0},
		{"such that are counted", onlooker{asked: []engine.Asked{{SQL: "insert into vessel values (1)", Last: after}},
			seen: map[string]engine.Seen{"flag": {Counted: true}}}, "flag", NotSeen, NotSeen, 0},
		{"our own", onlooker{asked: []engine.Asked{{SQL: "select flag from vessel as lastboard_rows", Last: after}}}, "flag",
			NotSeen, NotSeen, 0},
		{"a view", onlooker{code: []engine.Code{{What: "view fleet", SQL: "select flag from vessel"}}}, "flag", NotSeen,
			Used, 1},
		{"the old name", onlooker{asked: []engine.Asked{{SQL: "select name from vessel", Last: after}}}, "name", NotSeen,
			Used, 1},
		{"the new name", onlooker{asked: []engine.Asked{{SQL: "select title from vessel", Last: after}}}, "name", NotSeen,
			NotSeen, 0},
		{"left out", onlooker{asked: []engine.Asked{{SQL: "insert into app.vessel (id, name) values (1, 'class')",
			Last: after}}}, "class", Used, NotSeen, 1},
		{"given", onlooker{asked: []engine.Asked{{SQL: "insert into vessel (id, class) values (1, 'a')", Last: after}}},
			"class", NotSeen, NotSeen, 0},
		{"without a list", onlooker{asked: []engine.Asked{{SQL: "insert into vessel values (1, 'a')", Last: after}}}, "class",
			Unknown, NotSeen, 0},
		{"read, which is no insert", onlooker{asked: []engine.Asked{{SQL: "select id from vessel", Last: after}}}, "class",
			NotSeen, NotSeen, 0},
		{"a table", onlooker{asked: []engine.Asked{{SQL: "delete from old_berth", Last: after}}}, "", Used, NotSeen, 1},
	} {
		r, err := Look(t.Context(), c.db, tables, open)
		if err != nil {
			t.Fatal(err)
		}
		found := false
		for _, u := range r.Uses {
			if u.Column != c.column || u.After {
				continue
			}
			found = true
			if u.Written != c.written || u.Read != c.read || len(u.By) != c.by {
				t.Errorf("%s: written: %s, read: %s, by %v; wanted %s, %s, by %d", c.what, u.Written, u.Read, u.By, c.written,
					c.read, c.by)
			}
			if used := c.written == Used || c.read == Used; r.Before() != used {
				t.Errorf("%s: programs of before were seen: %v", c.what, r.Before())
			}
		}
		if !found {
			t.Errorf("%s: nothing is said of it", c.what)
		}
	}
}
