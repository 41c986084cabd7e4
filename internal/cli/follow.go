package cli

import (
	"context"
	"errors"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newFollow(g *global) *cobra.Command {
	return &cobra.Command{
		Use:   "follow",
		Short: "A live view of what is running, from any terminal",
		Long: `Shows each step of what is running, how far it is, rows a second, the time left, what a
batch takes, how far replicas are behind and who is in the way; h, r, f and s hold it,
release it, speed and slow it. On a pipe it prints a line a second until the run ends.`,
		Example: `  lastboard follow
  lastboard follow --json | jq .work.rows`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx := c.Context()
			screen := !g.json && term.IsTerminal(int(os.Stdout.Fd())) && term.IsTerminal(int(os.Stdin.Fd()))
			s, err := g.open(ctx, engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			if !screen {
				return s.followLines(ctx)
			}
			i := s.db.Info()
			title := s.name() + ": " + i.Title + " " + i.Version + ", " + i.Name
			if i.Host != "" {
				title += " at " + i.Host
			}
			return s.Follow(ctx, view.Following{Title: title, Look: s.followed,
				Steer: func(ctx context.Context, w view.Wish) error { return g.wish(ctx, s, w) }})
		},
	}
}

// followLines prints a line a second until the run ends.
func (s *session) followLines(ctx context.Context) error {
	for {
		f, err := s.followed(ctx)
		if err == nil && (f.Runner == nil || f.Work != nil) {
			err = s.FollowLine(f)
		}
		if err != nil || f.Runner == nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Second):
		}
	}
}

// wish passes on what somebody who looks on wants, on a connection that may write.
func (g *global) wish(ctx context.Context, s *session, w view.Wish) (err error) {
	db, err := s.engine.Open(ctx, s.project.Path(s.database.URL), engine.Write)
	if err != nil {
		return openFault(err)
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	other := *s
	other.db, other.ledger = db, ledger.For(db, s.project.ID)
	r, work, _, err := other.running(ctx)
	if err != nil {
		return err
	}
	if r == nil {
		return fault.New(fault.Refused, "nothing-runs", "", "nothing is running any more")
	}
	_, err = other.steer(ctx, func(p ledger.Pace) ledger.Pace {
		p.Held = (p.Held || w == view.Hold) && w != view.Release
		p.Pause = other.steered(p.Pause, work, w == view.Faster, w == view.Slower)
		return p
	})
	return err
}
