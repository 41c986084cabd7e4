package run

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// tables is what the ledger remembers of the tables, kept at hand for the time of
// a run: only what changes is written.
type tables struct {
	stored map[ledger.Model]string // as the ledger has them
	next   map[ledger.Model]string // as it has them once the transaction is committed; nil for no others
	texts  map[any]string          // of a *schema.Table or *schema.View that was written before
}

// load reads what the ledger remembers, once.
func (t *tables) load(ctx context.Context, l *ledger.Ledger) error {
	if t.stored != nil {
		return nil
	}
	stored, err := l.Models(ctx)
	t.stored, t.texts = stored, map[any]string{}
	return err
}

func (t *tables) text(x any) (string, error) {
	if text, ok := t.texts[x]; ok {
		return text, nil
	}
	data, err := json.Marshal(x)
	if err == nil {
		t.texts[x] = string(data)
	}
	return string(data), err
}

// save writes all tables as they are now, in the transaction that led to them.
func (t *tables) save(ctx context.Context, tx engine.Tx, now *schema.Schema) error {
	found := map[ledger.Model]string{}
	for _, x := range now.Tables {
		if err := t.add(found, model("table", x.Name), x); err != nil {
			return err
		}
	}
	for _, v := range now.Views {
		if err := t.add(found, model("view", v.Name), v); err != nil {
			return err
		}
	}
	return t.put(ctx, tx, found)
}

func model(kind, name string) ledger.Model {
	return ledger.Model{Kind: kind, Name: strings.ToLower(name)}
}

// add writes a table or a view among those that are found.
func (t *tables) add(found map[ledger.Model]string, m ledger.Model, x any) error {
	text, err := t.text(x)
	found[m] = text
	return err
}

// saveChanged writes the tables that a run has changed, as they are now, but for what others
// have made of them meanwhile: that, and what they have made of other tables, stays a
// difference.
func (t *tables) saveChanged(ctx context.Context, tx engine.Tx, now *schema.Schema, d *schema.Delta,
	others []string) error {
	if len(t.stored) == 0 {
		return t.save(ctx, tx, now)
	}
	found := maps.Clone(t.stored)
	for _, w := range d.Tables {
		x := now.Table(w.Name)
		if x == nil || schema.HasName(others, w.Name) {
			x = w
		}
		if err := t.add(found, model("table", w.Name), x); err != nil {
			return err
		}
	}
	for _, w := range d.Views {
		x := now.View(w.Name)
		if x == nil {
			x = w
		}
		if err := t.add(found, model("view", w.Name), x); err != nil {
			return err
		}
	}
	for _, n := range d.Gone {
		delete(found, model("table", n))
	}
	for _, n := range d.ViewsGone {
		delete(found, model("view", n))
	}
	return t.put(ctx, tx, found)
}

// committed is called once the transaction is committed in which tables were saved. One that was taken back
// is done once more, and what it wrote is written again.
func (t *tables) committed() {
	if t.next != nil {
		t.stored, t.next = t.next, nil
	}
}

// put writes what is another than the ledger has.
func (t *tables) put(ctx context.Context, tx engine.Tx, found map[ledger.Model]string) error {
	for m, text := range found {
		if t.stored[m] != text {
			if err := ledger.PutModel(ctx, tx, m, text); err != nil {
				return err
			}
		}
	}
	for m := range t.stored {
		if _, ok := found[m]; !ok {
			if err := ledger.DropModel(ctx, tx, m); err != nil {
				return err
			}
		}
	}
	t.next = found
	return nil
}

// unchanged compares the tables that a plan touches, as they are now, with what the ledger
// says they are.
func (r *Runner) unchanged(ctx context.Context, p *plan.Plan, now *schema.Schema) error {
	if err := r.asLeft(ctx, append(p.Touched(), p.Changed()...), now); err != nil {
		return err
	}
	return r.viewsAsLeft(p.StandIns, now)
}

// AsLeft does so for a run that is not about to begin, with the tables before a plan.
func (r *Runner) AsLeft(ctx context.Context, p *plan.Plan) error {
	r.ledger = ledger.For(r.DB, r.Project)
	if exists, err := r.ledger.Exists(ctx); err != nil || !exists {
		return err
	}
	return r.unchanged(ctx, p, p.Before)
}

// asLeft compares some tables, as they are now, with what the ledger says they are.
func (r *Runner) asLeft(ctx context.Context, names []string, now *schema.Schema) error {
	if err := r.tables.load(ctx, r.ledger); err != nil || len(r.tables.stored) == 0 {
		return err
	}
	for _, name := range names {
		text, known := r.tables.stored[model("table", name)]
		found := now.Table(name)
		if !known {
			continue
		}
		if found == nil {
			return fault.New(fault.Refused, "changed-by-hand", "make it again, or retreat to before it was made",
				"table %s is gone, and no migration dropped it", name)
		}
		want := &schema.Table{}
		if err := ledger.Decode([]byte(text), want); err != nil {
			return fmt.Errorf("table %s in the ledger: %w", name, err)
		}
		if d := schema.CompareTables(want, found, r.Engine.Text); len(d) > 0 {
			return fault.New(fault.Refused, "changed-by-hand",
				"put it back as it was, or write what was done as a migration and put it back",
				"table %s is not as the last migration left it: %s", name, d[0])
		}
	}
	return nil
}

// viewsAsLeft compares some views with what the ledger says they are: one that somebody has put in the
// place of Lastboard's own is not taken away.
func (r *Runner) viewsAsLeft(names []string, now *schema.Schema) error {
	for _, name := range names {
		text, known := r.tables.stored[model("view", name)]
		found, want := now.View(name), &schema.View{}
		if !known || found == nil {
			continue
		}
		if err := ledger.Decode([]byte(text), want); err != nil {
			return fmt.Errorf("view %s in the ledger: %w", name, err)
		}
		if schema.Words(want.Query) != schema.Words(found.Query) {
			return fault.New(fault.Refused, "changed-by-hand", "drop it, or make it again as it was",
				"view %s is not as the last migration left it", name)
		}
	}
	return nil
}
