package audit

import (
	"context"
	"slices"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/pattern"
	"lastboard/internal/schema"
)

const restoreLedger = "somebody has changed the ledger: bring it back from a backup; lastboard ledger shows what " +
	"was done"

var keptName = pattern.Of(`^lastboard_kept_[0-9]+$|^lastboard_kept_[0-9]+\.`)

// ledgerItself finds what cannot have been written by a run.
func (in *Input) ledgerItself(ctx context.Context) ([]Finding, error) {
	var list []Finding
	add := func(version, attribute, expected, found string) {
		list = append(list, Finding{schema.Difference{Object: "ledger, migration", Name: version, Attribute: attribute,
			Expected: expected, Found: found}, restoreLedger})
	}
	for _, k := range in.Known {
		if _, err := plan.DecodeRecords(k.Changes); err != nil {
			add(k.Version, "what it changed", "readable", err.Error())
		}
		var wanted *schema.Delta
		if err := ledger.Decode(k.Wanted, &wanted); err != nil || wanted == nil {
			add(k.Version, "the tables after it", "readable", "not readable")
		}
		if m, err := migration.Parse("", k.Version, k.Name, k.Source); err != nil || m.Checksum() != k.Checksum {
			add(k.Version, "its text", "as its checksum says", "another")
		}
		if !slices.Contains([]string{ledger.Running, ledger.Stopped, ledger.Open, ledger.Settled}, k.State) {
			add(k.Version, "state", "one that there is", k.State)
		}
	}
	entries, err := in.Ledger.Entries(ctx)
	if err != nil {
		return nil, err
	}
	last := map[string]string{}
	for _, e := range entries {
		if slices.Contains([]string{"adopted", "advanced", "retreated"}, e.What) {
			last[e.Version] = e.What
		}
	}
	for version, what := range last {
		recorded := slices.ContainsFunc(in.Known, func(k *ledger.Migration) bool { return k.Version == version })
		if what != "retreated" && !recorded {
			add(version, "record", "there, since it was "+what, "gone")
		}
	}
	slices.SortFunc(list, func(a, b Finding) int { return len(a.Name) - len(b.Name) })
	kept, _, err := in.Ledger.Kept(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range kept {
		if !keptName().MatchString(k.Keeping.Kept) {
			add(k.Version, "where it keeps values", "a table of kept values", k.Keeping.Kept)
		}
	}
	return list, nil
}
