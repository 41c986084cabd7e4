package plan

import (
	"slices"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Claimed is what a migration is said to have done, by somebody else than a run.
type Claimed struct {
	Records []*Record
	Before  *schema.Schema
	After   *schema.Schema // the tables as it would have left them, without limits of types
	Touched []string       // names of tables and views that it concerns, before and after
	// Unseen counts its statements of which the tables show nothing: fills, inserted and
	// deleted rows, native SQL.
	Unseen int
}

// Claim plays a migration on tables as an earlier one has left them, without a database.
func Claim(m *migration.Migration, before *schema.Schema, e engine.Engine) (*Claimed, error) {
	out := &Claimed{Before: before, After: before}
	add := func(names ...string) {
		for _, n := range names {
			if n != "" && !schema.HasName(out.Touched, n) {
				out.Touched = append(out.Touched, n)
			}
		}
	}
	for i, st := range m.File.Statements {
		after, change, err := schema.Apply(out.After, st, e.About().Env(m.CSV))
		if err != nil {
			return nil, Located(m, err)
		}
		switch t := change.Table; {
		case t != nil:
			add(change.Subjects()...)
			if t.After != nil {
				add(t.After.Name)
				*after.Table(t.After.Name) = *e.Holds(t)
			}
			if t.Before != nil && t.After != nil {
				out.Unseen += len(t.Converted())
			}
		case change.View != nil:
			for _, v := range []*schema.View{change.View.Before, change.View.After} {
				if v != nil {
					add(v.Name)
				}
			}
		default:
			if _, asserts := st.(*sqltext.Assert); !asserts {
				out.Unseen++
			}
		}
		r := newRecord(change, out.After, after)
		r.Statement, r.Stage = i, ledger.Open
		out.Records, out.After = append(out.Records, r), after
	}
	return out, nil
}

// Differs lists in what existing tables differ from what the migration would have made. Limits of
// types that an engine does not enforce by itself may be there or not.
func (c *Claimed) Differs(live *schema.Schema, text schema.Text) (list []schema.Difference) {
	want := &schema.Schema{Views: c.After.Views}
	for _, t := range c.After.Tables {
		want.Tables = append(want.Tables, unlimited(t, live.Table(t.Name)))
	}
	for _, d := range schema.Compare(want, live, text) {
		if schema.HasName(c.Touched, d.Table) || d.Table == "" && schema.HasName(c.Touched, d.Name) {
			list = append(list, d)
		}
	}
	return list
}

// unlimited gives a table without the limits of types that another has not; keys that are not null by
// a table's form alone are so in both.
func unlimited(t, found *schema.Table) *schema.Table {
	if found == nil {
		return t
	}
	out := *t
	out.Columns = slices.Clone(t.Columns)
	for i, c := range out.Columns {
		there := found.Column(c.Name)
		if there == nil {
			continue
		}
		col := *c
		if there.Limit == "" {
			col.Limit = ""
		}
		if len(c.Options) == 0 && c.NotNull == there.NotNull {
			col.Options = there.Options
		}
		out.Columns[i] = &col
	}
	return &out
}

// On takes the existing tables into the record: what the last of its statements made.
func (c *Claimed) On(live *schema.Schema) {
	done := map[string]bool{}
	for i := len(c.Records) - 1; i >= 0; i-- {
		t := c.Records[i].Table
		if t == nil || t.After == nil || done[t.After.Name] {
			continue
		}
		done[t.After.Name] = true
		if found := live.Table(t.After.Name); found != nil {
			t.After = found
		}
	}
}
