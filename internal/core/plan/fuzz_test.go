package plan_test

import (
	"encoding/json"
	"testing"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
)

const fuzzed = "-- A change\nalter table vessel add hull varchar(9) not null using (name || '!');\ncreate table " +
	"pier (id integer primary key);\nbackfill berth set code = upper(code);\n"

// FuzzLedger reads whatever stands in a ledger where its records, the tables after them and the
// facts of a plan should: it is understood, or an error says that it is not.
func FuzzLedger(f *testing.F) {
	m, err := migration.Parse("0002-change.sql", "0002", "change", fuzzed)
	if err != nil {
		f.Fatal(err)
	}
	c := newChart(f, 3)
	base, err := c.db.Schema(f.Context())
	if err != nil {
		f.Fatal(err)
	}
	planner, err := plan.New(f.Context(), c.in)
	if err != nil {
		f.Fatal(err)
	}
	p, err := planner.Advance(f.Context(), m)
	if err != nil {
		f.Fatal(err)
	}
	changes, err := plan.EncodeRecords(p.Records)
	if err != nil {
		f.Fatal(err)
	}
	wanted, err := json.Marshal(schema.Since(p.Before, p.After))
	if err != nil {
		f.Fatal(err)
	}
	facts, err := p.Encode(schema.Since(base, p.Before), "1", "SQLite")
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(changes), []byte(wanted), []byte(facts))
	f.Add([]byte("[null]"), []byte(`{"tables":[null]}`), []byte(`{"changes":[{}]}`))
	f.Fuzz(func(t *testing.T, changes, wanted, facts []byte) {
		known := &ledger.Migration{Version: "0002", Name: "change", Source: fuzzed, Checksum: m.Checksum(),
			State: ledger.Settled, Changes: changes, Wanted: wanted}
		after, err := ledger.TablesAfter([]*ledger.Migration{known})
		if err == nil {
			schema.Compare(after, base, sqlite.Engine{}.Text)
		}
		if _, err := plan.DecodeRecords(changes); err == nil {
			plan.Unfiled(known, nil)
			plan.Unfiled(known, m)
		}
		var was plan.Facts
		if ledger.Decode(facts, &was) == nil {
			if again, err := plan.AgainAdvance(sqlite.Engine{}, &was, base, m); err == nil {
				plan.Unequal(again.Steps, p.Steps)
			}
			plan.AgainRetreat(sqlite.Engine{}, &was, base, known)
		}
	})
}
