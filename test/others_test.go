package test

import (
	"strings"
	"testing"
)

// TestWhatOthersMakeStays is that what somebody else adds to a table while a run goes on stays,
// whether the run goes on or is taken back, and that audit names it.
func TestWhatOthersMakeStays(t *testing.T) {
	beside(t)
	for name, make := range wides {
		for _, back := range []bool{false, true} {
			t.Run(name+map[bool]string{true: ", back", false: ", on"}[back], func(t *testing.T) {
				o := make(t)
				if name == "SQLite" {
					o.write("lastboard.toml", liveFile)
				}
				o.migration("0002-tag", "-- A tag\nalter table vessel add column tag varchar(80) not null using (name || "+
					"'!');\nalter table berth add column depth integer;\n")
				o.dies("batch-committed:2", "advance", "--yes", "--let-writers-wait")
				o.exec("alter table vessel add column salary integer", "update vessel set salary = id",
					"create index by_salary on vessel (salary)",
					"create table pier (id integer primary key, n integer)", "insert into pier values (1, 2)",
					"alter table berth add column pay integer", "update berth set pay = 9")
				last := []string{"advance", "--yes", "--settle", "--let-writers-wait"}
				if back {
					last = []string{"retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"}
				}
				o.must(last...)
				o.same("select count(*), sum(salary) from vessel", "3000|4501500")
				o.same("select sum(pay) from berth", "360")
				o.same("select n from pier", "2")
				if r := o.code(5, "audit"); !strings.Contains(r.stdout, "salary") && !back || !strings.Contains(r.stdout, "pier") {
					t.Errorf("audit does not name them: %s", r)
				}
				if r := o.code(5, "audit"); strings.ContainsAny(r.stdout, "\x00{\ufffd") {
					t.Errorf("what would mend it cannot be run as it stands: %q", r.stdout)
				}
				columns := o.must("describe", "vessel")
				if strings.Contains(columns, "tag") == back || !strings.Contains(columns, "by_salary") {
					t.Errorf("it is\n%s", columns)
				}
			})
		}
	}
}
