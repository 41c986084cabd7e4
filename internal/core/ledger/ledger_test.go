package ledger_test

import (
	"context"
	"encoding/json"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
)

var ctx = context.Background()

// book is a ledger in a new file.
type book struct {
	*testing.T
	db engine.Database
	*ledger.Ledger
}

func newBook(t *testing.T) *book {
	t.Helper()
	db, err := sqlite.Engine{}.Open(ctx, "sqlite:"+filepath.Join(t.TempDir(), "harbour.db"), engine.Create)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	b := &book{t, db, ledger.Of(db)}
	b.write(func(tx engine.Tx) error { return ledger.Create(ctx, tx, nil, "1.2.3") })
	return b
}

// write does something in a transaction.
func (b *book) write(do func(tx engine.Tx) error) {
	b.Helper()
	if err := b.try(do); err != nil {
		b.Fatal(err)
	}
}

func (b *book) try(do func(tx engine.Tx) error) error {
	tx, err := b.db.Begin(ctx, engine.TxOptions{})
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

func TestExists(t *testing.T) {
	db, err := sqlite.Engine{}.Open(ctx, "sqlite:"+filepath.Join(t.TempDir(), "none.db"), engine.Read)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if ok, err := ledger.Of(db).Exists(ctx); ok || err != nil {
		t.Errorf("a file that is not there has no ledger: %v, %v", ok, err)
	}
	b := newBook(t)
	if ok, err := b.Exists(ctx); !ok || err != nil {
		t.Errorf("wanted a ledger: %v, %v", ok, err)
	}
	b.write(func(tx engine.Tx) error {
		return errors.Join(ledger.PutMeta(ctx, tx, "format", "99"), ledger.PutMeta(ctx, tx, "needs", "7.0.0"))
	})
	_, err = b.Exists(ctx)
	var f *fault.Fault
	if !errors.As(err, &f) || f.Rule != "ledger-newer" || f.Cure != "install Lastboard 7.0.0 or later" {
		t.Errorf("wanted a refusal that names the version, got %v", err)
	}
}

func TestMigrations(t *testing.T) {
	b := newBook(t)
	one := &ledger.Migration{
		Version: "0002", Name: "papers", Title: "Papers", Reason: "Why", State: ledger.Running, Direction: ledger.Advance,
		Checksum: "c", Source: "-- Papers\n",
		Changes: json.RawMessage(`[{"what":"x"}]`), Wanted: json.RawMessage(`{}`),
	}
	other := *one
	other.Version = "10000"
	third := *one
	third.Version = "0003"
	b.write(func(tx engine.Tx) error {
		return errors.Join(ledger.Put(ctx, tx, &other), ledger.Put(ctx, tx, one), ledger.Put(ctx, tx, &third))
	})
	one.State, one.AdvancedAt, one.SettledAt = ledger.Settled, "2031-05-01T10:00:00.000Z", "2031-05-01T10:00:00.000Z"
	b.write(func(tx engine.Tx) error { return ledger.Put(ctx, tx, one) })
	list, err := b.Migrations(ctx)
	if err != nil || len(list) != 3 {
		t.Fatalf("%v, %v", list, err)
	}
	if got := []string{list[0].Version, list[1].Version, list[2].Version}; !slices.Equal(got,
		[]string{"0002", "0003", "10000"}) {
		t.Errorf("they come in the order of their numbers, got %v", got)
	}
	if got := *list[0]; got.State != ledger.Settled || got.AdvancedAt != one.AdvancedAt || got.Source != one.Source ||
		string(got.Changes) != string(one.Changes) {
		t.Errorf("wanted %+v, got %+v", one, got)
	}
	b.write(func(tx engine.Tx) error { return ledger.Forget(ctx, tx, "0003") })
	if list, _ = b.Migrations(ctx); len(list) != 2 {
		t.Errorf("wanted it forgotten, got %v", list)
	}
}

func TestStepsAndCheckpoints(t *testing.T) {
	b := newBook(t)
	steps := []*engine.Step{{Number: 1, What: "first", SQL: []string{"select 1"}},
		{Number: 2, What: "second", Batch: &engine.Batch{Keys: []string{"id"}}}}
	b.write(func(tx engine.Tx) error {
		return errors.Join(ledger.PutSteps(ctx, tx, "0002", ledger.Advance, steps),
			ledger.StepDone(ctx, tx, "0002", ledger.Advance, 1, time.Now(), 7, 2, time.Second),
			ledger.PutCheckpoint(ctx, tx, "0002", ledger.Advance, 2, "last", "upper", 1000),
			ledger.PutCheckpoint(ctx, tx, "0002", ledger.Advance, 2, "later", "upper", 2000))
	})
	list, err := b.Steps(ctx, "0002", ledger.Advance)
	if err != nil || len(list) != 2 || list[0].State != "done" || list[0].Rows != 7 || list[1].State != "waiting" ||
		list[1].Step.Batch.Keys[0] != "id" {
		t.Errorf("got %+v, %v", list, err)
	}
	last, upper, rows, begun, err := b.Checkpoint(ctx, "0002", ledger.Advance, 2)
	if err != nil || last != "later" || upper != "upper" || rows != 2000 || !begun {
		t.Errorf("got %s %s %d %v %v", last, upper, rows, begun, err)
	}
	if _, _, _, begun, _ = b.Checkpoint(ctx, "0002", ledger.Retreat, 2); begun {
		t.Error("the way back has not begun")
	}
	b.write(func(tx engine.Tx) error { return ledger.PutSteps(ctx, tx, "0002", ledger.Advance, steps[:1]) })
	if list, _ = b.Steps(ctx, "0002", ledger.Advance); len(list) != 1 || list[0].State != "waiting" {
		t.Errorf("new steps take the place of the old, got %+v", list)
	}
	if _, _, _, begun, _ = b.Checkpoint(ctx, "0002", ledger.Advance, 2); begun {
		t.Error("and their checkpoints are gone")
	}
}

func TestKept(t *testing.T) {
	b := newBook(t)
	k := &engine.Keeping{Table: "vessel", Kept: "lastboard_kept_4", Keys: []string{"id"}, Columns: []string{"flag"},
		What: engine.KeptColumn, Statement: 2}
	b.write(func(tx engine.Tx) error {
		return errors.Join(ledger.Keep(ctx, tx, "0002", ledger.Advance, "sum", k),
			ledger.Keep(ctx, tx, "0002", ledger.Advance, "sum", k), ledger.PutKeptNumber(ctx, tx, 9))
	})
	list, last, err := b.Kept(ctx)
	if err != nil || len(list) != 1 || last != 9 {
		t.Fatalf("what is recorded already stays as it is: %+v %d %v", list, last, err)
	}
	if got := list[0]; got.Version != "0002" || got.Checksum != "sum" || got.Keeping.Kept != k.Kept ||
		got.Keeping.Statement != 2 || time.Since(got.Time()) > time.Minute {
		t.Errorf("got %+v", got)
	}
	b.write(func(tx engine.Tx) error { return ledger.LetGo(ctx, tx, k.Kept) })
	if list, last, _ = b.Kept(ctx); len(list) != 0 || last != 9 {
		t.Errorf("a number is never given twice: %+v %d", list, last)
	}
}

func TestModels(t *testing.T) {
	b := newBook(t)
	table := func(name, column string) string {
		data, err := json.Marshal(&schema.Table{Name: name, Columns: []*schema.Column{{Name: column}}})
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	b.write(func(tx engine.Tx) error {
		return errors.Join(ledger.PutModel(ctx, tx, ledger.Model{Kind: "table", Name: "vessel"}, table("Vessel", "a")),
			ledger.PutModel(ctx, tx, ledger.Model{Kind: "table", Name: "berth"}, table("berth", "a")),
			ledger.PutModel(ctx, tx, ledger.Model{Kind: "view", Name: "named"}, `{"Name":"named","Query":"select 1"}`),
			ledger.PutModel(ctx, tx, ledger.Model{Kind: "table", Name: "vessel"}, table("Vessel", "b")),
			ledger.DropModel(ctx, tx, ledger.Model{Kind: "table", Name: "berth"}))
	})
	s, err := b.Tables(ctx)
	if err != nil || len(s.Tables) != 1 || s.Table("vessel") == nil || s.Tables[0].Column("b") == nil ||
		s.View("named").Query != "select 1" {
		t.Errorf("got %+v, %v", s, err)
	}
}

// TestTablesAfter puts together what each migration changed.
func TestTablesAfter(t *testing.T) {
	list := []*ledger.Migration{
		{Version: "0001", Wanted: json.RawMessage(
			`{"tables":[{"Name":"vessel","Columns":[{"Name":"id"}]},{"Name":"berth","Columns":[{"Name":"id"}]}],"views":[{"Name":"v","Query":"select 1"}]}`)},
		{Version: "0002", Wanted: json.RawMessage(
			`{"tables":[{"Name":"vessel","Columns":[{"Name":"id"},{"Name":"flag"}]}],"gone":["berth"],"views_gone":["v"]}`)},
		{Version: "0003", Wanted: json.RawMessage(`{"tables":[{"Name":"log","Columns":[{"Name":"id"}]}]}`)},
	}
	for n, want := range map[int][]string{1: {"vessel", "berth"}, 2: {"vessel"}, 3: {"vessel", "log"}} {
		s, err := ledger.TablesAfter(list[:n])
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, table := range s.Tables {
			names = append(names, table.Name)
		}
		if !slices.Equal(names, want) || (len(s.Views) == 1) != (n == 1) ||
			(s.Table("vessel").Column("flag") != nil) != (n > 1) {
			t.Errorf("after %d: wanted %v, got %v and %d views", n, want, names, len(s.Views))
		}
	}
	if _, err := ledger.TablesAfter([]*ledger.Migration{{Version: "0001", Wanted: json.RawMessage(`[`)}}); err == nil {
		t.Error("a damaged record is an error")
	}
}

func TestOneRunner(t *testing.T) {
	b := newBook(t)
	me := &ledger.Runner{Token: "me", By: "ash", Host: "pier", Process: 1, Since: time.Now()}
	elsewhere := &ledger.Runner{Token: "you", By: "elm", Host: "quay", Process: 2, Since: time.Now()}
	b.write(func(tx engine.Tx) error { return ledger.TakeOver(ctx, tx, me, false) })
	err := b.try(func(tx engine.Tx) error { return ledger.TakeOver(ctx, tx, elsewhere, false) })
	var f *fault.Fault
	if !errors.As(err, &f) || f.Rule != "runner-busy" {
		t.Fatalf("wanted a refusal, got %v", err)
	}
	for _, part := range []string{"ash on pier", "process 1", "since"} {
		if !strings.Contains(f.Message, part) {
			t.Errorf("wanted %q in %q", part, f.Message)
		}
	}
	// On the same host a recorded runner is dead: its claim is free.
	again := &ledger.Runner{Token: "again", By: "ash", Host: "pier", Process: 3, Since: time.Now()}
	b.write(func(tx engine.Tx) error { return ledger.TakeOver(ctx, tx, again, false) })
	err = b.try(func(tx engine.Tx) error { return ledger.Beat(ctx, tx, me) })
	if !errors.As(err, &f) || f.Rule != "runner-replaced" || f.Class != fault.Stopped {
		t.Errorf("the one that was replaced has to stop, got %v", err)
	}
	b.write(func(tx engine.Tx) error {
		return errors.Join(ledger.Beat(ctx, tx, again), ledger.Leave(ctx, tx, again))
	})
	b.write(func(tx engine.Tx) error { return ledger.TakeOver(ctx, tx, elsewhere, false) })
}

func TestEntriesAreOnlyAdded(t *testing.T) {
	b := newBook(t)
	for i := range 3 {
		b.write(func(tx engine.Tx) error {
			return ledger.Record(ctx, tx, ledger.Entry{At: ledger.Now(), Version: "0002", What: "advanced", By: "ash",
				Host: "pier", Seconds: 0.5, Rows: int64(i), Note: "n"})
		})
	}
	list, err := b.Entries(ctx)
	if err != nil || len(list) != 3 || list[0].Rows != 0 || list[2].Rows != 2 || list[1].Seconds != 0.5 {
		t.Errorf("got %+v, %v", list, err)
	}
}

// What is left is told apart by whether anything needs it, and by whether a run may take it
// away by itself.
func TestWhatIsLeft(t *testing.T) {
	b := newBook(t)
	for _, sql := range []string{
		"create table vessel (id integer primary key)", "create table lastboard_kept_1 (k1)",
		"create trigger lastboard_kept_1_gone after delete on vessel begin delete from lastboard_kept_1; end",
		"create table lastboard_kept_2 (k1)", "create trigger lastboard_kept_2_gone after delete on vessel begin delete " +
			"from lastboard_kept_2; end", "create table lastboard_csv_1 (a)", "create table lastboard_entry_copy (a)",
	} {
		if err := b.db.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	b.write(func(tx engine.Tx) error {
		return ledger.Keep(ctx, tx, "0001", ledger.Advance, "sum",
			&engine.Keeping{Table: "vessel", Kept: "lastboard_kept_1", What: engine.KeptColumn})
	})
	look := func() (left, passing, unfinished string) {
		t.Helper()
		list, needed, err := b.Left(ctx)
		if err != nil {
			t.Fatal(err)
		}
		var names, pass, rest []string
		for _, o := range list {
			if names = append(names, strings.TrimPrefix(o.Name, engine.Prefix)); ledger.Passing(o) {
				pass = append(pass, strings.TrimPrefix(o.Name, engine.Prefix))
			}
			if o.Drop == "" {
				t.Errorf("%s: nothing takes it away", o.Name)
			}
			if ledger.KeptValues(o) != (o.Name == "lastboard_kept_2") {
				t.Errorf("%s: it is a table of kept values: %v", o.Name, ledger.KeptValues(o))
			}
		}
		for _, o := range needed {
			rest = append(rest, strings.TrimPrefix(o.Name, engine.Prefix))
		}
		slices.Sort(names)
		slices.Sort(pass)
		slices.Sort(rest)
		return strings.Join(names, " "), strings.Join(pass, " "), strings.Join(rest, " ")
	}
	const all = "csv_1 entry_copy kept_2 kept_2_gone"
	if left, passing, unfinished := look(); left != all || passing != "csv_1 kept_2_gone" || unfinished != "" {
		t.Errorf("left: %s; passing: %s; unfinished: %s", left, passing, unfinished)
	}
	// While a migration is in its middle all of it may be needed.
	b.write(func(tx engine.Tx) error {
		return ledger.Put(ctx, tx, &ledger.Migration{Version: "0002", Name: "x", State: ledger.Stopped,
			Direction: ledger.Advance, Changes: json.RawMessage("[]"), Wanted: json.RawMessage("{}")})
	})
	if left, _, unfinished := look(); left != "" || unfinished != all {
		t.Errorf("left: %s; unfinished: %s", left, unfinished)
	}
}

func TestADeadRunner(t *testing.T) {
	b := newBook(t)
	if dead, err := b.Dead(ctx); dead != nil || err != nil {
		t.Errorf("nobody is %v, %v", dead, err)
	}
	long := &ledger.Runner{Token: "x", By: "ash", Host: "far away", Process: 1, Since: time.Now()}
	b.write(func(tx engine.Tx) error { return ledger.TakeOver(ctx, tx, long, false) })
	if dead, err := b.Dead(ctx); dead != nil || err != nil {
		t.Errorf("one that was heard of just now is dead: %v, %v", dead, err)
	}
	b.write(func(tx engine.Tx) error {
		_, err := tx.Exec(ctx, "update lastboard_runner set beat = '2001-01-01T00:00:00.000Z'")
		return err
	})
	if dead, err := b.Dead(ctx); err != nil || dead == nil ||
		!strings.HasPrefix(dead.String(), "ash on far away (process 1), since ") {
		t.Errorf("one that has been silent for long is %v, %v", dead, err)
	}
	if r, err := b.Runner(ctx); r != nil || err != nil {
		t.Errorf("it is at work: %v, %v", r, err)
	}
}
