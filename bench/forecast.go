package main

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// foreseen are changes whose time and longest wait are forecast, one of each kind of step.
var foreseen = []struct{ what, migration, flag string }{
	{"nullable column", "alter table call add later integer", ""},
	{"column with using", "alter table call add tag varchar(60) using (code || '!')", ""},
	{"column not null using", "alter table call add tag varchar(60) not null using (code || '!')", ""},
	{"stored generated column", "alter table call add twice bigint generated always as (n * 2) stored",
		"--let-writers-wait"},
	{"backfill", "backfill call set x = n + 1", ""},
	{"backfill, old values kept", "backfill call set note = note || '.'", ""},
	{"set not null", "alter table call alter note set not null", ""},
	{"set not null using", "alter table call alter x set not null using (n)", ""},
	{"check", "alter table call add constraint positive check (n >= 0)", ""},
	{"foreign key", "alter table call add constraint at_berth foreign key (berth_id) references berth", ""},
	{"unique", "alter table call add constraint one_code unique (code)", ""},
	{"index", "create index call_code on call (code)", ""},
	{"wider type", "alter table call alter code set data type varchar(80)", ""},
	{"another type", "alter table call alter n set data type bigint", ""},
	{"column goes", "alter table call drop note", ""},
	{"another name", "alter table call rename column note to remark", ""},
	{"rows go", "delete from call where n < 500000000", ""},
}

// forecasts prints of each kind of change what was forecast of its time and of the longest wait of a writer, forward
// and back, and what came, beside writers, on each engine.
func (b *bench) forecasts() error {
	h, err := b.openHarbour()
	if err != nil {
		return err
	}
	defer h.Stop()
	r, err := b.openRoads()
	if err != nil {
		return err
	}
	defer r.Stop()
	r.copies = 1000 // the two servers' projects stand in one folder
	p, err := b.openPier()
	if err != nil {
		return err
	}
	var met, all, waitMet int
	for _, s := range []struct {
		name  string
		fresh func(live bool, migration string) (database, project string, err error)
		open  func(database string) (*sql.DB, error)
		drop  func(database string) error
	}{
		{"PostgreSQL", h.fresh, func(database string) (*sql.DB, error) { return sql.Open("pgx", h.URL(database)) }, h.Drop},
		{"MariaDB", r.fresh, r.open, r.Drop},
		{"SQLite", p.fresh, p.open, p.drop},
	} {
		if !strings.Contains(s.name, *on) {
			continue
		}
		for _, f := range foreseen {
			if !strings.Contains(f.what, *kinds) {
				continue
			}
			database, project, err := s.fresh(true, f.migration)
			if err != nil {
				return err
			}
			flags := strings.Fields("--yes " + f.flag)
			if s.name == "SQLite" { // which works for half of the time at most, and has one lock for all
				flags = []string{"--yes", "--let-writers-wait"}
			} else if err := restless(project); err != nil {
				return err
			}
			open := func() (*sql.DB, error) { return s.open(database) }
			insert := comes
			if strings.HasSuffix(f.migration, " note") || strings.Contains(f.migration, "rename") {
				insert = `insert into "call" (n, berth_id, code) values (1, 1, 'new %d')`
			}
			if strings.Contains(f.migration, "alter x set not null") {
				insert = `insert into "call" (n, berth_id, code, note, x) values (1, 1, 'new %d', 'n', 1)`
			}
			for _, way := range [][]string{{"forecast", "advance"}, {"forecast", "settle"},
				{"forecast --back 1", "retreat --to 1 --settle"}} {
				if way[1] == "settle" && strings.Contains(f.migration, "tag varchar(60) not null") {
					continue // the writers know nothing of the column
				}
				said, err := b.said(project, way[1] == "settle", strings.Fields(way[0])...)
				if err != nil {
					return fmt.Errorf("%s, %s: %w", s.name, f.what, err)
				}
				if said == nil {
					continue // there is nothing to settle
				}
				w, err := besideWriters(open, insert, func() error {
					_, err := b.lastboard(project, append(strings.Fields(way[1]), flags...)...)
					return err
				})
				verb, _, _ := strings.Cut(way[1], " ")
				if err != nil {
					fmt.Printf("%-11s %-26s %-8s %v\n", s.name, f.what, verb, err)
					break
				}
				var told struct {
					Entries []struct {
						What    string  `json:"what"`
						Seconds float64 `json:"seconds"`
					} `json:"entries"`
				}
				if err := b.document(project, &told, "ledger", "--json"); err != nil {
					return err
				}
				took := 0.0
				for _, e := range told.Entries {
					if e.Seconds > 0 {
						took = e.Seconds // the last is the newest
					}
				}
				wait := max(w.insert, w.update).Seconds()
				slower := "insert"
				if w.update > w.insert {
					slower = "update"
				}
				in := took < 0.1 && said.Seconds < 0.2 || took >= said.Seconds/2 && took <= said.Seconds*2
				within := wait < 0.1 || wait <= 2*max(said.Longest, 0.2) // lock_wait
				all++
				if in {
					met++
				}
				if within {
					waitMet++
				}
				fmt.Printf("%-11s %-26s %-8s %7d rows  said %7.2f s  took %7.2f s  %5.2f %s   wait said %6.3f s  met %6.3f s "+
					"(%s) %s\n", s.name, f.what, verb, *rows, said.Seconds, took, took/max(said.Seconds, 0.001), mark(in),
					said.Longest, wait, slower, mark(within))
			}
			if err := s.drop(database); err != nil {
				return err
			}
		}
	}
	fmt.Printf("forecasts: %d of %d times between half and twice what was said (90 %% wanted), %d of %d longest waits "+
		"within twice (99 %% wanted)\n", met, all, waitMet, all)
	return nil
}

// restless lets backfills of a project take no rests: for how long these last is known.
func restless(project string) error {
	f, err := os.OpenFile(filepath.Join(project, "lastboard.toml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString("[databases.dev.pace]\nwork_share = '100 %'\n")
	return errors.Join(err, f.Close())
}

// saying is what a forecast says of a run, in seconds.
type saying struct{ Seconds, Longest float64 }

// said gives what the forecast says of the way forward or back, or of what settles it; nil where there is no such.
func (b *bench) said(project string, settle bool, args ...string) (*saying, error) {
	var all struct {
		Longest    float64 `json:"longest_wait_seconds"`
		Migrations []struct {
			Stage   string  `json:"stage"`
			Seconds float64 `json:"seconds"`
		} `json:"migrations"`
	}
	if err := b.document(project, &all, append(args, "--json")...); err != nil {
		return nil, err
	}
	var out *saying
	for _, m := range all.Migrations {
		if (m.Stage == "settle") != settle {
			continue
		}
		if out == nil {
			out = &saying{Longest: all.Longest}
		}
		out.Seconds += m.Seconds
	}
	return out, nil
}

func mark(in bool) string {
	if in {
		return " "
	}
	return "*"
}

// document runs a command and reads its JSON.
func (b *bench) document(project string, into any, args ...string) error {
	c := exec.Command(b.program, args...)
	c.Dir = project
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Run(); err != nil {
		return fmt.Errorf("lastboard %s: %w\n%s%s", strings.Join(args, " "), err, out.String(), errs.String())
	}
	return json.Unmarshal(out.Bytes(), into)
}
