package plan

import (
	"context"
	"fmt"
	"path/filepath"

	"lastboard/internal/core/fault"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// loads checks the files that steps read, before anything is changed, and lends
// their rows to the database for the proofs.
func (p *Planner) loads(ctx context.Context, out *Plan, c *schema.Change, steps []*engine.Step) error {
	for _, s := range steps {
		if s.Load == nil {
			continue
		}
		file, err := out.Migration.Data(s.Load.File)
		if err != nil {
			return err
		}
		if s.Load.Path, err = filepath.Abs(file.Path); err != nil {
			return err
		}
		s.Load.Sum = file.Sum
		if err := file.Check(s.Load.Types, s.Load.Keys); err != nil {
			return fault.New(fault.Refused, "file-would-break", "correct the file", "%v", err)
		}
		if p.told != nil {
			continue
		}
		err = p.in.DB.Lend(ctx, s.Load.Lend, s.Load.LendRow, func(add func([]any) error) error {
			return file.Rows(s.Load.Types, func(_ int, values []any) error { return add(values) })
		})
		if err != nil {
			return fmt.Errorf("reading %s: %w", file.Path, err)
		}
		if !p.untouched(c.Rows.Table.Name) || p.live.Table(c.Rows.Table.Name) == nil {
			continue
		}
		r, err := p.in.DB.Query(ctx, s.Load.Unmatched)
		if err != nil {
			return err
		}
		if n, _ := r.Values[0][0].(int64); n > 0 {
			f := fault.New(0, "file-rows-unmatched", "look whether they are meant", "%d rows of %s belong to no row of %s", n,
				s.Load.File, c.Rows.Table.Name)
			f.Level = fault.Warning
			out.Warnings = append(out.Warnings, at(out.Migration, c.At, f))
		}
	}
	return nil
}
