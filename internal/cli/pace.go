package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"time"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/project"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newPace(g *global) *cobra.Command {
	var f struct {
		hold, release, faster, slower, reset bool
		batchTime                            time.Duration
	}
	c := &cobra.Command{
		Use:   "pace",
		Short: "Hold, release, slow or speed what is running, from any terminal",
		Long: `Shows how hard a running backfill works, or changes that for as long as the run goes
on; it heeds the change within a second. --hold stops it between two batches, with
nothing locked, until --release. --slower doubles the pause after each batch, --faster
halves it. --batch-time says what one batch may take. --reset goes back to what the
project says.`,
		Example: `  lastboard pace
  lastboard pace --hold
  lastboard pace --release
  lastboard pace --slower --batch-time 50ms`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			steers := f.hold || f.release || f.faster || f.slower || f.reset || f.batchTime != 0
			switch {
			case f.hold && f.release, f.faster && f.slower:
				return fault.New(fault.Usage, "usage", "say one of the two", "these ask for opposite things")
			case f.batchTime < 0 || f.batchTime > time.Minute || f.batchTime > 0 && f.batchTime < time.Millisecond:
				return fault.New(fault.Usage, "usage", "say a time from 1ms to 1m", "no batch can take %s", f.batchTime)
			}
			mode := engine.Read
			if steers {
				mode = engine.Write
			}
			s, err := g.open(c.Context(), mode)
			if err != nil {
				return err
			}
			defer s.close()
			r, w, p, err := s.running(c.Context())
			if err != nil {
				return err
			}
			if r == nil {
				if steers {
					return ledger.NothingRuns()
				}
				if s.JSON {
					return s.Document(map[string]any{"runner": nil})
				}
				s.Line("nothing is running on this database")
				return nil
			}
			if steers {
				if p, err = s.steer(c.Context(), func(p ledger.Pace) ledger.Pace {
					if f.reset {
						p = ledger.AsSaid
					}
					p.Held = (p.Held || f.hold) && !f.release
					p.Pause = s.steered(p.Pause, w, f.faster, f.slower)
					if f.batchTime > 0 {
						p.BatchTime = f.batchTime.Seconds()
					}
					return p
				}); err != nil {
					return err
				}
			}
			if s.JSON {
				return s.Document(map[string]any{"runner": view.RunnerJSON(r), "work": w, "pace": view.PaceJSON(p)})
			}
			s.Pace(r, w, p)
			return nil
		},
	}
	c.Flags().BoolVar(&f.hold, "hold", false, "do nothing until it is released")
	c.Flags().BoolVar(&f.release, "release", false, "go on")
	c.Flags().BoolVar(&f.faster, "faster", false, "halve the pause after each batch")
	c.Flags().BoolVar(&f.slower, "slower", false, "double the pause after each batch")
	c.Flags().BoolVar(&f.reset, "reset", false, "work as the project says")
	c.Flags().DurationVar(&f.batchTime, "batch-time", 0, "what one batch may take, as 50ms")
	return c
}

// The shares of a pause: below the least one there is none, and no run is slowed further
// than to the greatest.
const (
	leastPause    = 0.05
	greatestPause = 64
)

// steered gives the pause after a batch, against the batch, when somebody wants it longer or
// shorter.
func (s *session) steered(pause float64, w *ledger.Work, faster, slower bool) float64 {
	now := pause
	if now < 0 && w != nil {
		now = ledger.PauseOf(w.WorkShare)
	}
	switch {
	case slower:
		return min(max(now, 0.25)*2, greatestPause)
	case faster && s.db.Info().Host == "": // a file has one writer
		return max(now/2, ledger.PauseOf(project.MostOfAFile))
	case faster && now/2 < leastPause:
		return 0
	case faster:
		return now / 2
	}
	return pause
}

// running gives who changes the database, what it does, and what is wanted of it; all nil
// when nobody does.
func (s *session) running(ctx context.Context) (*ledger.Runner, *ledger.Work, ledger.Pace, error) {
	exists, err := s.ledger.Exists(ctx)
	if err != nil || !exists {
		return nil, nil, ledger.AsSaid, err
	}
	r, err := s.ledger.Runner(ctx)
	if err != nil || r == nil {
		return nil, nil, ledger.AsSaid, err
	}
	w, err := s.ledger.Work(ctx, r)
	if err != nil {
		return nil, nil, ledger.AsSaid, err
	}
	p, err := s.ledger.Pace(ctx)
	return r, w, p, err
}

// steer changes what is wanted of the run and gives it, as often tried as it takes where a run
// holds the database.
func (s *session) steer(ctx context.Context, change func(ledger.Pace) ledger.Pace) (ledger.Pace, error) {
	by, host := "unknown", "unknown"
	if u, err := user.Current(); err == nil {
		by = u.Username
	}
	if h, err := os.Hostname(); err == nil {
		host = h
	}
	var now ledger.Pace
	for try := 1; ; try++ {
		err := s.trySteer(ctx, func(p ledger.Pace) ledger.Pace {
			now = change(p)
			now.By, now.Host = by, host
			return now
		})
		var busy *engine.Busy
		if err == nil {
			return now, nil
		}
		if try == paceTries || !errors.As(err, &busy) {
			return now, openFault(err)
		}
		select {
		case <-ctx.Done():
			return now, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (s *session) trySteer(ctx context.Context, change func(ledger.Pace) ledger.Pace) error {
	tx, err := s.db.Begin(ctx, engine.TxOptions{})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := ledger.Steer(ctx, tx, change); err != nil {
		return err
	}
	return tx.Commit()
}

// paceTries bounds how often the right to write is asked for.
const paceTries = 250

// followed gives all that follow shows.
func (s *session) followed(ctx context.Context) (*view.Followed, error) {
	out := &view.Followed{}
	var err error
	if out.Runner, out.Work, out.Pace, err = s.running(ctx); err != nil || out.Runner == nil {
		return out, err
	}
	if w := out.Work; w != nil {
		if out.Steps, err = s.ledger.Steps(ctx, w.Version, w.Direction); err != nil {
			return nil, fmt.Errorf("the steps of migration %s: %w", w.Version, err)
		}
	}
	return out, nil
}
