package sqlite

import (
	"context"
	"slices"
	"strings"
)

// ReadsWhole implements engine.Explainer: what is scanned, or given an index of its own, in a
// part of the query that is done for each row.
func (d *database) ReadsWhole(ctx context.Context, query string) (list []string, err error) {
	r, err := d.Query(ctx, "explain query plan "+query, int64(1))
	if err != nil {
		return nil, err
	}
	within := map[int64]bool{}
	for _, v := range r.Values { // a part comes before what is in it
		id, parent, what := number(v[0]), number(v[1]), text(v[3])
		within[id] = within[parent] || strings.HasPrefix(what, "CORRELATED ")
		words := strings.Fields(what)
		if !within[id] || len(words) < 2 || words[0] != "SCAN" &&
			!(words[0] == "SEARCH" && strings.Contains(what, " AUTOMATIC ")) {
			continue
		}
		if !slices.Contains(list, words[1]) {
			list = append(list, words[1])
		}
	}
	return list, nil
}
