package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newKept(g *global) *cobra.Command {
	var f runFlags
	var discard bool
	var older string
	c := &cobra.Command{
		Use:   "kept [MIGRATION]",
		Short: "What is kept so that a retreat can restore it, and discard it",
		Long: `Lists what migrations would have destroyed and is kept: dropped columns and tables,
values that were written over, deleted rows. --older-than 30d lists what is older;
keep_days of the pace is the age from which a line is marked as past. --discard gives
up what is listed: the migrations stay, and a retreat no longer restores it.`,
		Example: `  lastboard kept
  lastboard kept 0013
  lastboard kept --older-than 90d --discard --yes`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			age, err := parseAge(older)
			if err != nil {
				return err
			}
			s, err := g.open(c.Context(), engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			version := ""
			if len(args) == 1 {
				version = args[0]
			}
			list, err := s.kept(c.Context(), version, age)
			if err != nil {
				return err
			}
			if !discard {
				return s.showKept(c.Context(), list)
			}
			if version == "" && older == "" {
				return fault.New(fault.Usage, "usage", "name a migration, or add --older-than 30d", "discard what?")
			}
			return s.discard(c.Context(), f, list)
		},
	}
	c.Flags().BoolVar(&discard, "discard", false, "give up what is listed")
	c.Flags().StringVar(&older, "older-than", "", "only what is kept for longer: 30d, 12h")
	addYes(c, &f.yes)
	return c
}

// parseAge reads "30d", or what Go reads as a duration; "" is no age at all.
func parseAge(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return 0, fault.New(fault.Usage, "usage", "write 30d or 12h", "%q is no age", text)
	}
	return d, nil
}

// kept lists what is kept of a migration ("" for all) and for at least as long.
func (s *session) kept(ctx context.Context, version string, age time.Duration) ([]ledger.Kept, error) {
	exists, err := s.ledger.Exists(ctx)
	if err != nil || !exists {
		return nil, err
	}
	all, _, err := s.ledger.Kept(ctx)
	if err != nil {
		return nil, err
	}
	if version != "" {
		st, err := s.stand(ctx)
		if err != nil {
			return nil, err
		}
		if st.knownOf(version) == nil && st.fileOf(version) == nil {
			return nil, fault.New(fault.Usage, "version-unknown", "see lastboard status", "there is no migration %s", version)
		}
	}
	var list []ledger.Kept
	for _, k := range all {
		if (version == "" || sameVersion(k.Version, version)) && time.Since(k.Time()) >= age {
			list = append(list, k)
		}
	}
	return list, nil
}

func (s *session) showKept(ctx context.Context, list []ledger.Kept) error {
	out := []view.KeptThing{}
	for _, k := range list {
		rows, bytes, err := s.db.Count(ctx, k.Keeping.Kept, true)
		if err != nil {
			return fmt.Errorf("what is kept of migration %s: %w", k.Version, err)
		}
		past := time.Since(k.Time()) >= time.Duration(s.keepDays())*24*time.Hour
		out = append(out, view.KeptThing{
			Version: k.Version, Table: k.Keeping.Table, What: k.Keeping.What, Columns: append([]string{}, k.Keeping.Columns...),
			Rows: rows, Bytes: bytes, At: k.At, For: k.Direction, Past: past,
		})
	}
	if s.JSON {
		return s.Document(map[string]any{"kept": out})
	}
	s.Kept(out)
	return nil
}

func (s *session) keepDays() int {
	if n := s.database.Pace.KeepDays; n > 0 {
		return n
	}
	return 30
}

func (s *session) discard(ctx context.Context, f runFlags, list []ledger.Kept) error {
	if len(list) == 0 {
		s.Line("nothing is kept that matches")
		return nil
	}
	if err := s.confirm(f.yes, fmt.Sprintf("On %s: give up what is kept in %s; a retreat will not restore it.", s.name(),
		view.Plural(len(list), "table", "tables"))); err != nil {
		return err
	}
	if err := s.reopen(ctx, engine.Write); err != nil {
		return err
	}
	r := s.runner(f)
	if err := r.Begin(ctx); err != nil {
		return err
	}
	err := r.Discard(ctx, list)
	if e := r.End(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	if s.JSON {
		return s.Document(map[string]any{"discarded": len(list)})
	}
	s.Line("discarded what was kept in %s", view.Plural(len(list), "table", "tables"))
	return nil
}
