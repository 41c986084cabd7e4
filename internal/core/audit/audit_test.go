package audit_test

import (
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"lastboard/internal/core/audit"
	"lastboard/internal/core/backfill"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
)

const first = `-- Open the office
create table berth (id integer primary key, code varchar(8) not null unique, depth_cm integer default 400);
create table vessel (id integer primary key, name varchar(40) not null, flag enum('NO', 'DK') default 'NO', berth_id integer references berth, constraint named check (name <> ''));
create index by_name on vessel (name);
create view moored as select name, code from vessel join berth on berth.id = berth_id;
`

// port is a database whose migrations have run.
type port struct {
	*testing.T
	db    engine.Database
	files []*migration.Migration
}

func newPort(t *testing.T) *port {
	t.Helper()
	db, err := sqlite.Engine{}.Open(t.Context(), "sqlite:"+filepath.Join(t.TempDir(), "harbour.db"), engine.Create)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	p := &port{T: t, db: db}
	m, err := migration.Parse("0001-open.sql", "0001", "open", first)
	if err != nil {
		t.Fatal(err)
	}
	p.files = append(p.files, m)
	r := &run.Runner{Engine: sqlite.Engine{}, DB: db,
		Options: run.Options{LockWait: time.Second, LockTries: 1, Pace: backfill.Pace{BatchTime: time.Second}}}
	if err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	_, err = r.Advance(t.Context(), m, nil)
	if err := errors.Join(err, r.End()); err != nil {
		t.Fatal(err)
	}
	p.exec("insert into berth (id, code) values (1, 'A1')",
		"insert into vessel (id, name, berth_id) values (1, 'Tern', 1)")
	return p
}

func (p *port) exec(statements ...string) {
	p.Helper()
	for _, s := range statements {
		if err := p.db.Exec(p.Context(), s); err != nil {
			p.Fatalf("%s: %v", s, err)
		}
	}
}

func (p *port) audit() []audit.Finding {
	p.Helper()
	l := ledger.Of(p.db)
	known, err := l.Migrations(p.Context())
	if err != nil {
		p.Fatal(err)
	}
	list, err := audit.Run(p.Context(), audit.Input{Engine: sqlite.Engine{}, DB: p.db, Ledger: l, Files: p.files,
		Known: known})
	if err != nil {
		p.Fatal(err)
	}
	return list
}

// What somebody changed by hand is found, by its name and attribute, and the statements
// that are given with it put it right.
func TestWhatWasChangedByHandIsMended(t *testing.T) {
	for _, c := range []struct{ by, finds string }{
		{"alter table vessel add column mast text", "vessel column mast exists"},
		{"alter table vessel rename column name to title", "vessel column name exists"},
		{"drop index by_name", "vessel index by_name exists"},
		{"drop index by_name · create index by_name on vessel (name desc)", "vessel index by_name columns"},
		{"create index extra on vessel (flag)", "vessel index extra exists"},
		{"drop view moored", " view moored exists"},
		{"drop view moored · create view moored as select name from vessel", " view moored query"},
		{"create view more as select 1 as one", " view more exists"},
		{"create trigger loud after insert on vessel begin select 1; end", "vessel trigger loud exists"},
		{"create table extra (id integer primary key)", "extra table extra exists"},
		{"drop view moored · drop table vessel", "vessel table vessel exists"},
		{"alter table berth drop column depth_cm", "berth column depth_cm exists"},
	} {
		t.Run(c.by, func(t *testing.T) {
			p := newPort(t)
			if list := p.audit(); len(list) != 0 {
				t.Fatalf("at the start there is %+v", list)
			}
			p.exec(strings.Split(c.by, " · ")...)
			list := p.audit()
			found := slices.IndexFunc(list, func(f audit.Finding) bool {
				return strings.TrimSpace(f.Table+" "+f.Object+" "+f.Name+" "+f.Attribute) == strings.TrimSpace(c.finds)
			})
			if found < 0 {
				t.Fatalf("found %+v", list)
			}
			if f := list[found]; f.Expected == f.Found {
				t.Errorf("it should be %q and is %q", f.Expected, f.Found)
			}
			var mended []string
			for _, f := range list {
				if f.Mend == "" || slices.Contains(mended, f.Mend) {
					continue
				}
				mended = append(mended, f.Mend)
				p.exec(strings.Split(f.Mend, ";\n")...)
			}
			if list := p.audit(); len(list) != 0 {
				t.Errorf("after\n%s\nthere is %+v", strings.Join(mended, "\n"), list)
			}
		})
	}
}

// The ledger and the files are compared, too.
func TestFilesThatAreNotThoseThatRan(t *testing.T) {
	p := newPort(t)
	was := p.files
	edited, err := migration.Parse("0001-open.sql", "0001", "open", first+"alter table vessel add mast text;\n")
	if err != nil {
		t.Fatal(err)
	}
	same, err := migration.Parse("0001-open.sql", "0001", "open",
		strings.ReplaceAll("-- Another title\r\n"+first[strings.Index(first, "\n")+1:], "create table", "CREATE  TABLE"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		what  string
		files []*migration.Migration
		finds string
	}{
		{"as they ran", was, ""}, {"the same in other words", []*migration.Migration{same}, ""},
		{"edited since", []*migration.Migration{edited}, "migration 0001 text"}, {"gone", nil, "migration 0001 file"},
	} {
		p.files = c.files
		var got []string
		for _, f := range p.audit() {
			got = append(got, f.Object+" "+f.Name+" "+f.Attribute)
			if f.Mend == "" {
				t.Errorf("%s: it does not say what to do", c.what)
			}
		}
		if strings.Join(got, ", ") != c.finds {
			t.Errorf("%s: found %s, wanted %s", c.what, got, c.finds)
		}
	}
}

// What is kept and has gone is said, as is what is Lastboard's own and needed by nothing.
func TestWhatIsKeptAndWhatIsLeft(t *testing.T) {
	p := newPort(t)
	m, err := migration.Parse("0002-drop.sql", "0002", "drop", "-- Drop\nalter table berth drop column depth_cm;\n")
	if err != nil {
		t.Fatal(err)
	}
	p.files = append(p.files, m)
	r := &run.Runner{Engine: sqlite.Engine{}, DB: p.db, Options: run.Options{LockWait: time.Second, LockTries: 1}}
	if err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	_, err = r.Advance(t.Context(), m, nil)
	if err := errors.Join(err, r.End()); err != nil {
		t.Fatal(err)
	}
	if list := p.audit(); len(list) != 0 {
		t.Fatalf("after a drop there is %+v", list)
	}
	p.exec("create table lastboard_kept_9 (k1)")
	if list := p.audit(); len(list) != 1 || list[0].Object != "leftover table" ||
		!strings.HasPrefix(list[0].Mend, "drop table if exists") {
		t.Errorf("found %+v", list)
	}
	p.exec("drop table lastboard_kept_9", "drop trigger if exists lastboard_kept_1_gone",
		"drop trigger if exists lastboard_kept_1_moved", "drop table lastboard_kept_1")
	if list := p.audit(); len(list) == 0 || list[0].Object != "kept data" ||
		!strings.Contains(list[0].Mend, "cannot be brought back") {
		t.Errorf("found %+v", list)
	}
}
