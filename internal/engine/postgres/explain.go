package postgres

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
)

// node is a part of the server's plan of a query.
type node struct {
	Kind     string `json:"Node Type"`
	Parent   string `json:"Parent Relationship"`
	Subplan  string `json:"Subplan Name"`
	Relation string `json:"Relation Name"`
	Alias    string `json:"Alias"`
	Plans    []node `json:"Plans"`
}

// ReadsWhole implements engine.Explainer: what is scanned in a part that is done for each row,
// and not once for all of them.
func (d *database) ReadsWhole(ctx context.Context, query string) (list []string, err error) {
	r, err := d.Query(ctx, "explain (format json) "+strings.Replace(query, "?", "1", 1))
	if err != nil || len(r.Values) == 0 {
		return nil, err
	}
	var plans []struct{ Plan node }
	if err := json.Unmarshal([]byte(text(r.Values[0][0])), &plans); err != nil {
		return nil, err
	}
	var look func(n node, within bool)
	look = func(n node, within bool) {
		within = within || n.Parent == "SubPlan" && !strings.Contains(n.Subplan, "hashed")
		if within && n.Kind == "Seq Scan" && !slices.Contains(list, n.Alias) {
			list = append(list, n.Alias)
		}
		for _, p := range n.Plans {
			look(p, within)
		}
	}
	for _, p := range plans {
		look(p.Plan, false)
	}
	return list, nil
}
