package plan

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Facts are what a plan was made from beside its migration: with them the same plan is made
// again later, whatever has become of the tables since. The ledger keeps them with a run, so
// that what a stopped run goes on with is planned anew and compared, and no row of the
// ledger is run because it stands there.
type Facts struct {
	Program string `json:"program"` // that planned, and the server that it asked
	Server  string `json:"server"`
	Live    bool   `json:"live"`
	// Overlaps means that overlaps could stay open, and Opens that its one does.
	Overlaps bool          `json:"overlaps,omitempty"`
	Opens    bool          `json:"opens,omitempty"`
	Short    float64       `json:"short"` // seconds
	Now      string        `json:"now"`   // what current_timestamp is for existing rows
	Kept     []ledger.Kept `json:"kept"`
	Number   int64         `json:"number"` // of the last table of kept values before it
	// Before is the tables, as far as the ledger's own record of them says otherwise.
	Before *schema.Delta `json:"before"`
	// Order is that of the tables' names before.
	Order []string `json:"order"`
	// Home is the schema of tables that are named without one.
	Home string `json:"home,omitempty"`
	// Changes are what the engine said of each change that was planned, in turn.
	Changes []ChangeFacts `json:"changes"`
	// There are the tables of which it was asked whether they are there.
	There map[string]bool `json:"there,omitempty"`
	// Steps are those of the advance, where it is taken back before its end.
	Steps []ledger.Step `json:"steps,omitempty"`
}

// ChangeFacts are what the engine said of one change: how large its tables are, and on the
// empty copies in which ways each of its steps was made, and what the tables became.
type ChangeFacts struct {
	Rows  map[string]int64 `json:"rows"`
	Bytes map[string]int64 `json:"bytes"`
	Ways  [][]string       `json:"ways"`
	After *schema.Delta    `json:"after"`
}

// replay gives a planner that asks the facts in place of a database. base is the tables as
// the ledger has them.
func replay(e engine.Engine, f *Facts, base *schema.Schema) *Planner {
	before := f.Before.On(base)
	before.Home = f.Home
	slices.SortStableFunc(before.Tables, func(a, b *schema.Table) int {
		return slices.Index(f.Order, a.Name) - slices.Index(f.Order, b.Name)
	})
	p := &Planner{trial: &retold{changes: f.Changes, current: before}, current: before, told: f}
	p.Again(Input{Engine: e, Live: f.Live, Overlaps: f.Overlaps, Short: f.Short, Kept: f.Kept, KeptNumber: f.Number})
	p.now = f.Now
	return p
}

// Encode gives the facts of a plan as the ledger keeps them.
func (p *Plan) Encode(before *schema.Delta, program, server string) (json.RawMessage, error) {
	f := *p.Facts
	f.Before, f.Program, f.Server, f.Home = before, program, server, p.Before.Home
	for _, t := range p.Before.Tables {
		f.Order = append(f.Order, t.Name)
	}
	return json.Marshal(&f)
}

// AgainAdvance plans an advance anew from the facts of its first plan.
func AgainAdvance(e engine.Engine, f *Facts, base *schema.Schema, m *migration.Migration) (*Plan, error) {
	return sound(func() (*Plan, error) { return replay(e, f, base).Advance(context.Background(), m) })
}

// AgainRetreat plans a retreat anew from the facts of its first plan.
func AgainRetreat(e engine.Engine, f *Facts, base *schema.Schema, m *ledger.Migration) (*Plan, error) {
	return sound(func() (*Plan, error) {
		return replay(e, f, base).Retreat(context.Background(), Progress{Record: m, Steps: f.Steps})
	})
}

// sound gives an error where facts do not fit together so that planning from them breaks:
// somebody may have changed the ledger.
func sound(again func() (*Plan, error)) (p *Plan, err error) {
	defer func() {
		if r := recover(); r != nil {
			p, err = nil, fmt.Errorf("what the ledger says of the tables does not fit together: %v", r)
		}
	}()
	return again()
}

// retold is a trial of which it is known how it went.
type retold struct {
	changes []ChangeFacts
	current *schema.Schema
}

func (t *retold) Run(_ context.Context, c *schema.Change, steps []*engine.Step) (needed, broken []string, err error) {
	if len(t.changes) == 0 || len(t.changes[0].Ways) != len(steps) {
		return nil, nil, fmt.Errorf("it has other steps than the plan that was recorded")
	}
	for i, ways := range t.changes[0].Ways {
		if err := steps[i].Fill(ways); err != nil {
			return nil, nil, err
		}
	}
	t.current, t.changes = t.changes[0].After.On(t.current), t.changes[1:]
	if c.Table != nil && c.Table.After != nil {
		if got := t.current.Table(c.Table.After.Name); got != nil { // which may have put what came back last
			after := *c.Table.After
			after.Columns = slices.Clone(after.Columns)
			slices.SortStableFunc(after.Columns, func(a, b *schema.Column) int { return got.Place(a.Name) - got.Place(b.Name) })
			c.Table.After = &after
		}
	}
	return nil, nil, nil
}

func (t *retold) Broken(context.Context, []string) ([]string, error) { return nil, nil }
func (t *retold) Schema(context.Context) (*schema.Schema, error)     { return t.current, nil }
func (t *retold) Lasts() bool                                        { return true }
func (t *retold) Close() error                                       { return nil }

// Unequal says how the steps of a plan differ from those that a run recorded, both as they
// are carried out: the first step that does, and the first statement of it, from where they
// part; "" where none does.
func Unequal(planned, recorded []*engine.Step) (step, now, was string) {
	for i := range max(len(planned), len(recorded)) {
		if carriedOut(planned, i) == carriedOut(recorded, i) {
			continue
		}
		a, b := statements(planned, i), statements(recorded, i)
		at := 0
		for at < min(len(a), len(b)) && a[at] == b[at] {
			at++
		}
		if at == len(a) && at == len(b) { // not its statements, but how they are done
			a, b, at = []string{carriedOut(planned, i)}, []string{carriedOut(recorded, i)}, 0
		}
		now, was = "nothing", "nothing"
		if at < len(a) {
			now = a[at]
		}
		if at < len(b) {
			was = b[at]
		}
		now, was = fromWhereTheyPart(now, was)
		list := recorded
		if i >= len(list) {
			list = planned
		}
		return fmt.Sprintf("step %d (%s)", i+1, list[i].What), now, was
	}
	return "", "", ""
}

// fromWhereTheyPart leaves out of two texts what they begin with alike, but for a few words.
func fromWhereTheyPart(a, b string) (string, string) {
	const before, most = 40, 300
	x, y := []rune(a), []rune(b)
	at := 0
	for at < min(len(x), len(y)) && x[at] == y[at] {
		at++
	}
	cut := func(r []rune) string {
		begin, end := max(at-before, 0), min(at+most, len(r))
		text := string(r[begin:end])
		if begin > 0 {
			text = "…" + text
		}
		if end < len(r) {
			text += "…"
		}
		return text
	}
	return cut(x), cut(y)
}

// carriedOut gives what a run does for a step: no forecast, no words for people.
func carriedOut(steps []*engine.Step, i int) string {
	if i >= len(steps) {
		return ""
	}
	s := *steps[i]
	s.What, s.Why, s.Preview, s.Untried, s.Kind, s.Lock, s.WritersWait = "", "", "", "", "", "", ""
	s.Rewrites, s.Early, s.Rows, s.Bytes, s.Seconds, s.Pause = false, false, 0, 0, 0, 0
	s.Ways, s.Counted = nil, ""
	if s.Load != nil {
		l := *s.Load
		l.Path = ""
		s.Load = &l
	}
	data, err := json.Marshal(s)
	if err != nil {
		return err.Error()
	}
	return string(data)
}

// statements gives what a step sends.
func statements(steps []*engine.Step, i int) []string {
	if i >= len(steps) {
		return nil
	}
	s := steps[i]
	sql := slices.Clone(s.SQL)
	if s.Batch != nil {
		sql = append(sql, s.Batch.Do...)
	}
	if s.Outside != nil {
		for _, o := range s.Outside.Statements {
			sql = append(sql, o.SQL)
		}
	}
	return sql
}
