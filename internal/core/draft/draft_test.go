package draft_test

import (
	"errors"
	"strings"
	"testing"

	"lastboard/internal/core/draft"
	"lastboard/internal/core/fault"
	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

const present = `
create table berth (id integer primary key, code varchar(8) not null unique, depth_cm integer);
create table vessel (id integer primary key, name varchar(40) not null, registry varchar(20), flag enum('NO', 'DK') default 'NO', berth_id integer references berth, constraint named check (name <> ''));
create index by_name on vessel (name);
create view moored as select name from vessel where berth_id is not null;
`

// play gives the tables that statements lead to.
func play(t *testing.T, s *schema.Schema, text string) *schema.Schema {
	t.Helper()
	f, err := sqltext.Parse("wanted.sql", text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	for _, st := range f.Statements {
		after, change, err := schema.Apply(s, st, sqlite.Engine{}.About().Env(nil))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		if c := change.Table; c != nil && c.After != nil {
			*c.After = *sqlite.Engine{}.Holds(c)
		}
		s = after
	}
	return s
}

// What is drafted leads from the present tables to the wanted ones; a line that could mean
// two things is a question.
func TestDraftsLeadToWhatIsWanted(t *testing.T) {
	for _, c := range []struct {
		what, from, to string // a text in the file of the present tables, and what is wanted for it
		says           []string
		asks           bool
	}{
		{"nothing", "", "", nil, false},
		{"a column", "depth_cm integer)", "depth_cm integer, lit boolean not null default false)",
			[]string{"add column lit boolean not null default false"}, false},
		{"a longer type", "varchar(40) not null", "varchar(60) not null",
			[]string{"alter column name set data type varchar(60)"}, false},
		{"a default", "default 'NO'", "default 'DK'", []string{"alter column flag set default 'DK'"}, false},
		{"no default", " default 'NO'", "", []string{"alter column flag drop default"}, false},
		{"may be null", "code varchar(8) not null", "code varchar(8)", []string{"alter column code drop not null"}, false},
		{"an index", "create view", "create index by_flag on vessel (flag);\ncreate view",
			[]string{"create index by_flag on vessel (flag)"}, false},
		{"no index", "create index by_name on vessel (name);", "", []string{"drop index by_name on vessel"}, false},
		{"a check", "check (name <> '')", "check (name <> '' and name <> '?')",
			[]string{"drop constraint named", "add constraint named check"}, false},
		{"a view", "where berth_id is not null", "where berth_id > 0",
			[]string{"drop view moored", "create view moored as select name from vessel where berth_id > 0"}, false},
		{"no foreign key", " references berth", "", []string{"drop constraint vessel_berth_id_reference"}, false},
		{"a table", "create view", "create table pilot (id integer primary key);\ncreate view",
			[]string{"create table pilot"}, false},
		{"a comment", "create view", "comment on table vessel is 'what floats';\ncreate view",
			[]string{"comment on table vessel is 'what floats'"}, false},
		{"a rename or a drop", "depth_cm integer", "draught_cm integer", []string{"rename"}, true},
		{"a drop", ", depth_cm integer", "", []string{"drop column depth_cm"}, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			now, wanted := play(t, &schema.Schema{}, present), present
			if c.from != "" {
				if wanted = strings.Replace(present, c.from, c.to, 1); wanted == present {
					t.Fatal("the case changes nothing")
				}
			}
			text, err := draft.Wanted(now, "wanted.sql", wanted, sqlite.Engine{})
			if err != nil {
				t.Fatal(err)
			}
			if c.says == nil && text != "" {
				t.Errorf("there is nothing to do, and it says\n%s", text)
			}
			for _, says := range c.says {
				if !strings.Contains(text, says) {
					t.Errorf("it does not say %s:\n%s", says, text)
				}
			}
			if asks := strings.Contains(text, "?"); asks != c.asks && c.what != "a check" {
				t.Errorf("it asks: %v\n%s", asks, text)
			}
			if c.asks {
				return
			}
			got, want := play(t, now, text), play(t, &schema.Schema{}, wanted)
			for _, d := range schema.Compare(want, got, (sqlite.Engine{}).Text) {
				if d.Attribute != "position" {
					t.Errorf("it leads to another: %v\n%s", d, text)
				}
			}
		})
	}
}

// A file that says what to do instead of what is wanted is refused where it does.
func TestWhatIsNotWanted(t *testing.T) {
	for _, c := range []struct{ text, rule string }{
		{"create table v (id integer primary key);\nbackfill v set id = 1;", "statement-unwanted"},
		{"drop table vessel;", "statement-unwanted"}, {"insert into v (id) values (1);", "statement-unwanted"},
		{"create table v (id integer, id integer);", "name-taken"}, {"create index i on nowhere (a);", "name-unknown"},
	} {
		_, err := draft.Wanted(&schema.Schema{}, "wanted.sql", c.text, sqlite.Engine{})
		var list fault.List
		var f *fault.Fault
		if errors.As(err, &list) && len(list) > 0 {
			f = list[0]
		} else if !errors.As(err, &f) {
			t.Errorf("%s: got %v", c.text, err)
			continue
		}
		if f.Rule != c.rule || f.Where.Line == 0 || f.Where.File != "wanted.sql" {
			t.Errorf("%s: got %s at %+v (%v), wanted %s", c.text, f.Rule, f.Where, f, c.rule)
		}
	}
}

// TestWhatIsMadeNatively is that a file whose native statements make what is there asks for nothing,
// and that those which make what is not there are what is to be done.
func TestWhatIsMadeNatively(t *testing.T) {
	now := play(t, &schema.Schema{}, present)
	now.Table("vessel").Triggers = []*schema.Trigger{{Name: "seen", SQL: "create trigger seen"}}
	there := "native sqlite $$create table berth (id integer primary key, code text, depth_cm any) strict$$ touching " +
		"berth no way back;\n" +
		present[strings.Index(present, "create table vessel"):strings.Index(present, "create view")] +
		"native sqlite $$create view moored as select name from vessel where berth_id is not null$$ no way back;\n" +
		"native sqlite $$create trigger \"seen\" after insert on vessel begin select 1; end$$ no way back;\n"
	for _, c := range []struct{ more, says string }{
		{"", ""},
		{"native sqlite $$create table log (t text) strict$$ touching log no way back;\n",
			"create table log (t text) strict"},
		{"native sqlite $$create view other as select 1$$ no way back;\n", "create view other"},
		{"native sqlite $$create trigger if not exists late after insert on vessel begin select 1; end$$ no way back;\n",
			"trigger if not exists late"},
	} {
		text, err := draft.Wanted(now, "wanted.sql", there+c.more, sqlite.Engine{})
		if err != nil {
			t.Fatal(err)
		}
		if c.says == "" && text != "" || !strings.Contains(text, c.says) {
			t.Errorf("%q: it says\n%s", c.says, text)
		}
	}
}
