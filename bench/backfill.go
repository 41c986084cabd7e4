package main

import (
	"fmt"
	"slices"
	"time"
)

// place is a server of the benchmark's own, with copies of one database.
type place interface {
	// fresh makes a copy, and a project for it in which a migration waits.
	fresh(live bool, migration string) (database, project string, err error)
	exec(database string, statements ...string) error
	Drop(database string) error
	lastboard(project string, args ...string) (usage, error)
	spent(project string) (map[string]time.Duration, error)
}

// backfills compares backfills with one update of the whole table. Each round does all of
// them, so that they meet the same machine.
func backfills(name string, s place, twoWorkers float64) error {
	runs := []struct {
		what, migration, workers string
		wanted                   float64
		took                     []time.Duration
		rest                     []time.Duration // of these, beside the rows
	}{
		{migration: "assert true"}, // the update
		{what: "without kept values", migration: "backfill call set x = n + 1 discard", workers: "1", wanted: 0.95},
		{what: "with kept values", migration: "backfill call set x = n + 1", workers: "1", wanted: 0.65},
		{what: "with two workers", migration: "backfill call set x = n + 1 discard", workers: "2", wanted: twoWorkers},
	}
	for round := range *rounds {
		for at := range runs {
			i := (at + round) % len(runs) // none is always the first
			r := &runs[i]
			database, project, err := s.fresh(false, r.migration)
			if err != nil {
				return err
			}
			began := time.Now()
			if i == 0 {
				err = s.exec(database, `update "call" set x = n + 1`)
			} else {
				_, err = s.lastboard(project, "advance", "--yes", "--workers", r.workers)
			}
			if err != nil {
				return err
			}
			r.took = append(r.took, time.Since(began))
			if i > 0 {
				by, err := s.spent(project)
				if err != nil {
					return err
				}
				r.rest = append(r.rest, r.took[len(r.took)-1]-by["backfill"])
			}
			if err := s.Drop(database); err != nil {
				return err
			}
		}
	}
	plain := slices.Min(runs[0].took)
	for _, r := range runs[1:] {
		ours := slices.Min(r.took)
		rest := r.rest[slices.Index(r.took, ours)]
		fmt.Printf("%s, backfill of %d rows %s, against one update: %.2f (%.0f / %.0f ms; at least %.2f wanted), "+
			"and %.2f with the %.0f ms for looking, proving and recording\n", name, *rows, r.what,
			float64(plain)/float64(ours-rest), ms(plain), ms(ours-rest), r.wanted, float64(plain)/float64(ours), ms(rest))
	}
	return nil
}
