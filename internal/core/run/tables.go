package run

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/schema"
	"lastboard/internal/engine"
)

// tables is what the ledger remembers of the tables, kept at hand for the time of
// a run: only what changes is written.
type tables struct {
	stored map[ledger.Model]string // as the ledger has them
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

// save writes the tables as they are now, in the transaction that led to them.
func (t *tables) save(ctx context.Context, tx engine.Tx, now *schema.Schema) error {
	found := map[ledger.Model]string{}
	for _, x := range now.Tables {
		text, err := t.text(x)
		if err != nil {
			return err
		}
		found[ledger.Model{Kind: "table", Name: strings.ToLower(x.Name)}] = text
	}
	for _, v := range now.Views {
		text, err := t.text(v)
		if err != nil {
			return err
		}
		found[ledger.Model{Kind: "view", Name: strings.ToLower(v.Name)}] = text
	}
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
	t.stored = found
	return nil
}

// unchanged compares the tables that a plan touches, as they are now, with what the ledger
// says they are.
func (r *Runner) unchanged(ctx context.Context, p *plan.Plan, now *schema.Schema) error {
	if err := r.tables.load(ctx, r.ledger); err != nil || len(r.tables.stored) == 0 {
		return err
	}
	for _, name := range p.Touched() {
		text, known := r.tables.stored[ledger.Model{Kind: "table", Name: strings.ToLower(name)}]
		found := now.Table(name)
		if !known {
			continue
		}
		if found == nil {
			return fault.New(fault.Refused, "changed-by-hand", "make it again, or retreat to before it was made", "table %s is gone, and no migration dropped it", name)
		}
		want := &schema.Table{}
		if err := json.Unmarshal([]byte(text), want); err != nil {
			return fmt.Errorf("table %s in the ledger: %w", name, err)
		}
		if d := schema.CompareTables(want, found, r.Engine.Text); len(d) > 0 {
			return fault.New(fault.Refused, "changed-by-hand", "put it back as it was, or write what was done as a migration and put it back",
				"table %s is not as the last migration left it: %s", name, d[0])
		}
	}
	return nil
}
