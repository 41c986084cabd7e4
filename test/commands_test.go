package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestTidy(t *testing.T) {
	o := adopted(t, pier...)
	o.must("tidy")
	o.migration("0002-papers", "-- Papers\r\n-- of the vessels\r\nALTER TABLE vessel ADD papers INT, -- a number\r\n "+
		" ADD due DATE;\r\n")
	o.must("advance", "--yes")
	o.wants(o.code(5, "tidy", "--check"), "0002-papers.sql: not tidy")
	o.wants(o.code(5, "tidy", "--diff"), "-ALTER TABLE vessel ADD papers INT, -- a number",
		"+  add column papers integer, -- a number", "+-- of the vessels")
	o.wants(o.code(5, "tidy", "--diff", "--json"), `"changes"`)
	o.wants(o.code(0, "tidy"), "0002-papers.sql: tidied")
	want := "-- Papers\n-- of the vessels\nalter table vessel\n  add column papers integer, -- a number\n  add " +
		"column due date;\n"
	if got := o.read("migrations/0002-papers.sql"); got != want {
		t.Errorf("wanted\n%s\ngot\n%s", want, got)
	}
	o.wants(o.code(0, "tidy", "--check"), "2 migrations, all tidy")
	// The checksum is of what it means: a tidied file is not an edited one.
	o.wants(o.code(0, "status"), "settled")
	o.must("audit")
	o.migration("0003-bad", "-- Bad\nalter tabel vessel;\n")
	o.wants(o.code(2, "tidy"), "0003-bad.sql:2:7")
}

func TestKept(t *testing.T) {
	o := adopted(t, pier...)
	o.wants(o.code(0, "kept"), "nothing is kept")
	o.migration("0002-drops", "-- Drops\ndrop view named; alter table vessel drop length_ft; drop table visit;\n")
	o.migration("0003-fills", "-- Fills\nbackfill vessel set name = upper(name);\n")
	o.must("advance", "--yes")
	o.wants(o.code(0, "kept"), "dropped column", "vessel.length_ft", "dropped table", "visit", "values before a fill",
		"vessel.name")
	r := o.code(0, "kept", "0003")
	o.wants(r, "vessel.name")
	if strings.Contains(r.stdout, "visit") {
		t.Errorf("wanted 0003 alone: %s", r)
	}
	var doc struct {
		Kept []struct {
			Version, What string
			Rows          int
		}
	}
	if err := json.Unmarshal([]byte(o.must("kept", "--json")), &doc); err != nil || len(doc.Kept) != 3 ||
		doc.Kept[0].Rows != 3 {
		t.Errorf("wanted three things of 3 rows first: %v %+v", err, doc)
	}
	o.wants(o.code(0, "kept", "--older-than", "1d"), "nothing is kept")
	o.wants(o.code(2, "kept", "--older-than", "soon"), `"soon" is no age`)
	o.wants(o.code(2, "kept", "0009"), "there is no migration 0009")
	o.wants(o.code(2, "kept", "--discard", "--yes"), "discard what?")
	o.wants(o.code(3, "kept", "0003", "--discard"), "nobody is there to confirm")
	o.wants(o.code(0, "kept", "0003", "--discard", "--yes"), "discarded what was kept in 1 table")
	o.wants(o.code(0, "ledger"), "discarded", "what was kept of table vessel")
	o.exec("delete from vessel where id = 3") // nothing follows the rows any more
	o.must("retreat", "--to", "2", "--yes")
	o.same("select name from vessel order by id", "TERN\nSKUA") // given up
	o.must("retreat", "--to", "1", "--yes")
	o.same("select length_ft from vessel order by id", "20.5\nnull")
	o.same("select count(*) from visit", "2")
}

// TestKeptOfAnEditedMigration is that what a retreat kept is for the same migration
// alone.
func TestKeptOfAnEditedMigration(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-a", "-- A\nalter table vessel add a text using (name);\n")
	o.must("advance", "--yes")
	o.exec("update vessel set a = 'mine' where id = 1")
	o.must("retreat", "--to", "1", "--yes")
	o.migration("0002-a", "-- A\nalter table vessel add a text using (upper(name));\n")
	o.must("advance", "--yes")
	o.same("select a from vessel order by id", "TERN\nSKUA\nEMBER")
}

func TestAudit(t *testing.T) {
	o := newOffice(t, pier...)
	o.wants(o.code(3, "audit"), "has no ledger yet")
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add a varchar(9) not null default 'x'; alter table "+
		"vessel drop a;\n")
	o.must("advance", "--yes")
	o.wants(o.code(0, "audit"), "matches:")
	o.exec("alter table vessel add column rust text", "create index by_berth on vessel (berth_id)", "drop view named",
		"create table strange (n integer)",
		"create table lastboard_kept_99 (k1)", "drop trigger log_berth")
	r := o.code(5, "audit")
	o.wants(r, "column rust", "index by_berth", "view named", "strange", "lastboard_kept_99", "trigger log_berth",
		"to mend it:", `alter table "vessel" drop column "rust"`, `drop index "by_berth"`,
		"CREATE VIEW", `drop table if exists main."lastboard_kept_99"`, "CREATE TRIGGER log_berth")
	var doc struct {
		Matches     bool
		Differences []struct{ Table, Object, Name, Attribute, Expected, Found, Mend string }
	}
	if err := json.Unmarshal([]byte(o.code(5, "audit", "--json").stdout), &doc); err != nil || doc.Matches ||
		len(doc.Differences) < 6 {
		t.Fatalf("%v %+v", err, doc)
	}
	// What it shows is what mends it.
	done := map[string]bool{}
	for _, d := range doc.Differences {
		if !done[d.Mend] {
			done[d.Mend] = true
			o.exec(d.Mend)
		}
	}
	o.wants(o.code(0, "audit"), "matches:")
	o.migration("0002-change", "-- A change\nalter table vessel add b text;\n")
	o.wants(o.code(5, "audit"), "migration 0002: text", "edited since")
	if err := os.Remove(filepath.Join(o.dir, "migrations", "0002-change.sql")); err != nil {
		t.Fatal(err)
	}
	o.wants(o.code(5, "audit"), "migration 0002: file", "lastboard ledger 0002 --source prints its text")
}

func TestDraftWanted(t *testing.T) {
	o := adopted(t,
		"create table berth (id integer primary key, code text not null)",
		"create table vessel (id integer primary key, name text, length_ft numeric(6,1), flag varchar(2) default 'NO', "+
			"constraint long check (length_ft > 0))",
		"create index by_name on vessel (name)", "create view named as select name from vessel",
		"create table old (id integer primary key)",
		"insert into vessel values (1, 'Tern', 20.5, null)")
	o.write("wanted.sql", `-- As it should be
create table berth (id integer primary key, code text not null unique);
create table vessel (
  id integer primary key, name varchar(40) not null, length_m numeric(7,2), flag varchar(2), berth_id integer references berth (id),
  constraint longer check (length_m > 1)
);
create index by_name on vessel (name desc);
create view named as select name, flag from vessel;
create table log (id bigint generated by default as identity primary key, text text not null);
comment on table log is 'what happened';
`)
	o.must("draft", "As it should be", "--wanted", "wanted.sql")
	text := o.read("migrations/0002-as-it-should-be.sql")
	for _, want := range []string{
		"-- decide: is vessel.length_m another name for length_ft?", "-- decide: is table log another name for old?",
		"set data type varchar(40)", "alter column name set not null",
		"alter column flag drop default", "add column berth_id integer", "drop constraint long",
		"add constraint longer check (length_m > 1)", "drop index by_name", "(name desc)", "create table log",
		"drop table old", "comment on table log is 'what happened'", "unique (code)",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("wanted %q in\n%s", want, text)
		}
	}
	o.wants(o.code(3, "check"), "undecided", "only a person can answer")
	o.wants(o.code(3, "advance", "--yes"), "undecided")
	// A person decides: it is another column, and the table is another table.
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		if !strings.HasPrefix(line, "-- decide:") {
			lines = append(lines, line)
		}
	}
	o.migration("0002-as-it-should-be", strings.Join(lines, "\n"))
	o.must("advance", "--yes")
	o.wants(o.code(0, "draft", "Again", "--wanted", "wanted.sql"), "the tables are as wanted.sql wants them")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select length_ft, flag from vessel", "20.5|null")
	o.write("wrong.sql", "-- Wrong\ncreate table t (id integer);\nbackfill t set id = 1;\n")
	o.wants(o.code(3, "draft", "Wrong", "--wanted", "wrong.sql"), "wrong.sql:3:1", "statement-unwanted")
	o.wants(o.code(2, "draft", "Wrong", "--wanted", "nosuch.sql"), "cannot be read")
}

func TestDescribeThenAndNow(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-more", "-- More\nalter table vessel add papers varchar(9), alter name set data type varchar(40);\n")
	o.migration("0003-less", "-- Less\nnative sqlite $$drop trigger log_berth$$ touching vessel back $$select 1$$; "+
		"alter table vessel drop berth_id; drop table visit;\n")
	o.must("advance", "--yes", "--to", "2")
	o.wants(o.code(0, "describe", "vessel"), "varchar(40)", "up to 40 characters", "33.3 %",
		"nothing enforces the type of")
	r := o.code(0, "describe", "vessel", "--at", "1")
	o.wants(r, "name", "text")
	if strings.Contains(r.stdout, "papers") {
		t.Errorf("wanted the table of then: %s", r)
	}
	o.must("advance", "--yes")
	o.wants(o.code(0, "describe", "--at", "2"), "visit", "berth_id", "papers")
	o.wants(o.code(0, "describe", "vessel", "--compare", "1", "--at", "2"), "column papers", "varchar(9)",
		"column name: type")
	r = o.code(0, "describe", "--compare", "2")
	o.wants(r, "column berth_id", "table visit")
	o.wants(o.code(2, "describe", "--at", "9"), "the ledger knows no migration 9")
}

// TestRenamesAreShownAsRenames is that a column or table with another name is compared
// with what it was, and not shown as one that went and one that came.
func TestRenamesAreShownAsRenames(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-names", "-- Names\nalter table vessel rename name to title, alter registry set not null using "+
		"('x');\nalter table vessel rename to ship;\nalter table ship rename title to painted;\n")
	r := o.code(0, "advance", "--yes")
	o.wants(r, "table ship: name", "column painted: name", "column registry: not null")
	compared := o.code(0, "describe", "ship", "--compare", "1")
	o.wants(compared, "column painted: name", "table ship: name")
	for _, r := range []result{r, compared} {
		if strings.Contains(r.stdout, "lost") || strings.Contains(r.stdout, "is dropped") ||
			strings.Contains(r.stdout, "title") {
			t.Errorf("nothing is lost by another name: %s", r)
		}
	}
}

func TestSarif(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-bad", "-- Bad\nalter table vessel drop id;\nalter table vessel add \"order\" integer using (50 "+
		"/ 100);\n")
	var doc struct {
		Schema  string `json:"$schema"`
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name  string
					Rules []struct {
						ID               string
						ShortDescription struct{ Text string }
						Help             struct{ Text string }
					}
				}
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(o.code(3, "check", "--sarif").stdout), &doc); err != nil {
		t.Fatal(err)
	}
	if doc.Version != "2.1.0" || !strings.Contains(doc.Schema, "2.1.0") || len(doc.Runs) != 1 ||
		doc.Runs[0].Tool.Driver.Name != "lastboard" {
		t.Fatalf("%+v", doc)
	}
	run := doc.Runs[0]
	if len(run.Results) == 0 {
		t.Fatal("no results")
	}
	for _, r := range run.Results {
		if r.RuleIndex >= len(run.Tool.Driver.Rules) || run.Tool.Driver.Rules[r.RuleIndex].ID != r.RuleID {
			t.Errorf("result %s does not point to its rule", r.RuleID)
		}
		if r.Level != "error" && r.Level != "warning" && r.Level != "note" || r.Message.Text == "" || len(r.Locations) != 1 {
			t.Errorf("%+v", r)
			continue
		}
		if p := r.Locations[0].PhysicalLocation; p.ArtifactLocation.URI != "migrations/0002-bad.sql" ||
			p.Region.StartLine < 1 || p.Region.StartColumn < 1 {
			t.Errorf("%+v", p)
		}
	}
	for _, r := range run.Tool.Driver.Rules {
		if r.ShortDescription.Text == "" || r.Help.Text == "" {
			t.Errorf("rule %s says nothing", r.ID)
		}
	}
}

func TestTopics(t *testing.T) {
	o := newOffice(t)
	for topic, want := range map[string]string{"language": "backfill", "engines": "SQLite", "safety": "kept"} {
		o.wants(o.code(0, "help", topic), want)
	}
}

func TestBackfillFromAFile(t *testing.T) {
	fill := "-- Owners\nbackfill vessel set registry = p.owner, berth_id = p.berth\n  from csv 'people.csv' as p on " +
		"(id = p.vessel)\n  where p.owner <> 'nobody';\n"
	good := "\ufeffvessel,owner,berth\r\n1,\"Ash, M.\",2\r\n2,,\r\n03,nobody,1\r\n77,Elm,1\r\n"
	o := adopted(t, pier...)
	o.migration("0002-owners", fill)
	start := o.snapshot()
	o.wants(o.code(3, "check"), "file-unreadable", "there is no file migrations/people.csv")
	for _, c := range []struct{ name, text, says string }{
		{"empty", "", "is empty"},
		{"no such column", "vessel,name,berth\n1,a,1\n", "p has no column owner"},
		{"two columns of one name", "vessel,owner,Vessel,berth\n", "there are two columns Vessel"},
		{"a column without a name", "vessel,,owner,berth\n", "column 2 has no name"},
		{"a value too many", "vessel,owner,berth\n1,a,1,x\n", "people.csv:2: the line has 4 values, and the header 3"},
		{"no number", "vessel,owner,berth\n1,a,A1\n", "people.csv:2: berth is 'A1', which is no integer"},
		{"no key", "vessel,owner,berth\n1,a,1\n,b,1\n", "people.csv:3: the line has no vessel"},
		{"the same key", "vessel,owner,berth\n1,a,1\n2,b,1\n01,c,1\n",
			"people.csv:4: the line has the same vessel as line 2"},
		{"not UTF-8", "vessel,owner,berth\n1,\xff\xfe,1\n", "people.csv:2: the line is not UTF-8 text"},
		{"a quote that does not end", "vessel,owner,berth\n1,\"a,1\n", "people.csv:2"},
	} {
		o.write("migrations/people.csv", c.text)
		o.wants(o.code(3, "check"), c.says)
		o.wants(o.code(3, "advance", "--yes"), c.says)
		o.unchanged(start)
	}
	o.write("migrations/people.csv", good)
	o.wants(o.code(0, "check"), "file-rows-unmatched", "1 rows of people.csv belong to no row of vessel")
	o.wants(o.code(0, "forecast", "--rows", "3"), "read people.csv", "Ash, M.")
	o.unchanged(start)
	o.must("advance", "--yes")
	o.same("select id, registry, berth_id from vessel order by id", "1|Ash, M.|2\n2|SKR 12|7\n3|SKR|null")
	o.same("select count(*) from sqlite_schema where name like 'lastboard_csv%'", "0")
	end := o.snapshot()
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(start)
	o.must("advance", "--yes")
	o.unchanged(end)
}
