package cli

import (
	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newStatus(g *global) *cobra.Command {
	var waiting bool
	c := &cobra.Command{
		Use:   "status",
		Short: "Where each migration stands",
		Long: `Lists every migration with its state: waiting, running, stopped (in the middle,
safe to run again) or settled. With --waiting the exit code is 5 when one waits.`,
		Example: `  lastboard status
  lastboard status --waiting --quiet`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := g.open(c.Context(), engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			st, err := s.stand(c.Context())
			if err != nil {
				return err
			}
			list, wrong := st.list(), st.fits()
			if s.JSON {
				err = s.Document(map[string]any{"migrations": list, "errors": view.FaultsJSON(wrong)})
			} else {
				s.Status(list)
				opened, err := plan.Open(st.known, s.engine)
				if err != nil {
					return err
				}
				if len(opened) > 0 {
					s.Line("")
				}
				for _, o := range opened {
					s.StaysOpen(o)
				}
				if wrong != nil {
					s.Failure(wrong)
				}
			}
			if err != nil {
				return err
			}
			if wrong != nil {
				return exitCode(fault.Of(wrong))
			}
			if waiting && len(st.waiting(nil)) > 0 {
				return exitCode(fault.Differs)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&waiting, "waiting", false, "exit with 5 when a migration waits")
	return c
}

// list gives the line of each migration, from the ledger and from the files.
func (st *standing) list() []view.MigrationStatus {
	list := []view.MigrationStatus{}
	for _, k := range st.known {
		state := k.State
		if state == ledger.Running && st.alive == nil {
			state = ledger.Stopped
		}
		m := view.MigrationStatus{Version: k.Version, Name: k.Name, Title: k.Title, State: state, Checksum: k.Checksum}
		if state == ledger.Stopped || state == ledger.Running {
			m.Direction = &k.Direction
		}
		if k.AdvancedAt != "" {
			m.AdvancedAt = &k.AdvancedAt
		}
		if k.SettledAt != "" {
			m.SettledAt = &k.SettledAt
		}
		if k.AdvancedAt != "" && k.SettledAt != k.AdvancedAt {
			m.OpenedAt = &k.AdvancedAt
		}
		list = append(list, m)
	}
	for _, f := range st.waiting(nil) {
		list = append(list, view.MigrationStatus{Version: f.Version, Name: f.Name, Title: f.File.Title, State: ledger.Waiting,
			Checksum: f.Checksum()})
	}
	return list
}
