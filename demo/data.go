package demo

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"time"
)

var (
	vesselNames = []string{
		"Grey Heron", "Tern", "Long Patience", "Skua", "Morning Ebb", "Little Auk", "Harebell", "Saltwind", "Old Bess",
		"Curlew",
		"Fair Crossing", "Northing", "Pole Star", "Quiet Water", "Sandpiper", "Whimbrel", "Windlass", "Kittiwake", "Lantern",
		"Ember",
	}
	ports = []string{"SKR", "HVN", "ORM", "TVE"}
	flags = []string{"NO", "DK", "IS", "SE", ""}
)

// berths is how many berths the harbour has; the last is the roadstead.
const berths = 24

// fill makes the office's rows: the same for the same number of port calls. They
// have the dirt that real tables have: nulls, blanks, registries without a
// number, double spaces, mixed case, and calls at berths that are gone.
func fill(ctx context.Context, db *sql.DB, url string, calls int) error {
	r := rand.New(rand.NewPCG(50_000, 1))
	clock := func(t time.Time) any {
		if url != "" {
			return t
		}
		return t.Format(time.DateTime)
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	insert := func(table string, rows int, row func(i int) []any, columns string) error {
		marks := "$1"
		for i := range len(row(0)) - 1 {
			marks += fmt.Sprintf(", $%d", i+2)
		}
		s, err := tx.PrepareContext(ctx, spell(url, "insert into "+table+" ("+columns+") values ("+marks+")"))
		if err != nil {
			return err
		}
		defer s.Close()
		for i := range rows {
			if _, err := s.ExecContext(ctx, row(i)...); err != nil {
				return fmt.Errorf("row %d of %s: %w", i+1, table, err)
			}
		}
		return nil
	}
	vessels := max(20, calls/100)
	err = insert("vessel", vessels, func(i int) []any {
		var winter any
		if i%3 == 0 {
			winter = fmt.Sprintf("W%d", i%40)
		}
		return []any{i + 1, vesselNames[i%len(vesselNames)], registry(i), float64(180+r.IntN(2200)) / 10, flags[i%len(flags)],
			winter}
	}, "id, name, registry, length_ft, flag, winter_berth")
	if err != nil {
		return err
	}
	err = insert("berth", berths, func(i int) []any {
		return []any{i + 1, fmt.Sprintf("%c%d", 'A'+i/8, i%8+1), 300 + 25*i}
	}, "id, code, depth_cm")
	if err != nil {
		return err
	}
	opened := time.Date(2021, 3, 1, 6, 0, 0, 0, time.UTC)
	err = insert("port_call", calls, func(i int) []any {
		arrived := opened.Add(time.Duration(i) * 11 * time.Minute)
		var left any
		if i < calls-40 {
			left = clock(arrived.Add(time.Duration(2+r.IntN(70)) * time.Hour))
		}
		var berth any = 1 + r.IntN(berths-1)
		switch {
		case i%997 == 0:
			berth = nil
		case i%4999 == 0:
			berth = 90 + i%3
		}
		return []any{1 + r.IntN(vessels), berth, clock(arrived), left, float64(r.IntN(90000)) / 100}
	}, "vessel_id, berth_id, arrived_at, left_at, dues")
	if err != nil {
		return err
	}
	return tx.Commit()
}

// registry writes the n-th vessel's registry as a hand would.
func registry(n int) any {
	port, number := ports[n%len(ports)], 1000+n
	switch {
	case n%53 == 7:
		return port // the number was never written down
	case n%29 == 28:
		return nil
	case n%17 == 16:
		return fmt.Sprintf("%s  %d", port, number)
	case n%13 == 12:
		return fmt.Sprintf(" skr %d ", number)
	}
	return fmt.Sprintf("%s %d", port, number)
}
