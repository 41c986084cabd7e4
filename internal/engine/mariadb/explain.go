package mariadb

import (
	"context"
	"slices"
	"strings"
)

// ReadsWhole implements engine.Explainer.
func (d *database) ReadsWhole(ctx context.Context, query string) (list []string, err error) {
	r, err := d.query(ctx, "explain "+query, int64(1))
	if err != nil {
		return nil, err
	}
	for _, v := range r.Values { // id, select_type, table, type, …
		kind, table, way := text(v[1]), text(v[2]), text(v[3])
		if strings.HasPrefix(kind, "DEPENDENT ") && (way == "ALL" || way == "index") && !slices.Contains(list, table) {
			list = append(list, table)
		}
	}
	return list, nil
}
