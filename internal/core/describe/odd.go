package describe

import (
	"context"
	"fmt"
	"slices"
	"unicode/utf8"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// OddOf is how many rows are read to choose some from.
const OddOf = 500

// Odd gives at most n of some rows, in their order: those that a person would look for. In each column behind
// the first keys these are one that is null, the longest value and the shortest; the rest are the first ones.
func Odd(r *engine.Rows, keys, n int) *engine.Rows {
	if len(r.Values) <= n {
		return r
	}
	var chosen []int
	choose := func(i int) {
		if i >= 0 && len(chosen) < n && !slices.Contains(chosen, i) {
			chosen = append(chosen, i)
		}
	}
	for c := keys; c < len(r.Columns); c++ {
		choose(slices.IndexFunc(r.Values, func(v []any) bool { return v[c] == nil }))
	}
	for _, longest := range []bool{true, false} {
		for c := keys; c < len(r.Columns); c++ {
			choose(extreme(r.Values, c, longest))
		}
	}
	for i := range r.Values {
		choose(i)
	}
	slices.Sort(chosen)
	out := &engine.Rows{Columns: r.Columns}
	for _, i := range chosen {
		out.Values = append(out.Values, r.Values[i])
	}
	return out
}

// extreme gives the first row with the longest or the shortest value of a column; -1 where all are as long.
func extreme(rows [][]any, column int, longest bool) int {
	at, best, differ := -1, 0, false
	for i, v := range rows {
		if v[column] == nil {
			continue
		}
		size := utf8.RuneCountInString(fmt.Sprint(v[column]))
		differ = differ || at >= 0 && size != best
		if at < 0 || longest && size > best || !longest && size < best {
			at, best = i, size
		}
	}
	if !differ {
		return -1
	}
	return at
}

// HasAll reports whether a table has all columns by which and of which something is kept.
func HasAll(t *schema.Table, k *engine.Keeping) bool {
	return !slices.ContainsFunc(slices.Concat(k.Keys, k.Columns), func(c string) bool { return t.Column(c) == nil })
}

// Written reads n rows of which values are kept, odd ones first, with those before and after, and gives the
// table by which they are shown.
func Written(ctx context.Context, db engine.Database, t *schema.Table, k *engine.Keeping, n int) (*engine.Rows,
	*schema.Table, error) {
	place, as := &schema.Table{Name: k.Kept, PrimaryKey: &schema.Key{}}, &schema.Table{}
	var names []string
	add := func(letter string, i int, column, shown string) {
		held, seen := *t.Column(column), *t.Column(column)
		held.Name, seen.Name = fmt.Sprint(letter, i+1), shown
		place.Columns, as.Columns = append(place.Columns, &held), append(as.Columns, &seen)
		if letter == "k" {
			place.PrimaryKey.Columns = append(place.PrimaryKey.Columns, held.Name)
		} else {
			names = append(names, held.Name)
		}
	}
	for i, c := range k.Keys {
		add("k", i, c, c)
	}
	for i, c := range k.Columns {
		add("o", i, c, c+" before")
		add("w", i, c, c+" after")
	}
	rows, err := db.Sample(ctx, place, names, OddOf)
	if err != nil {
		return nil, nil, err
	}
	rows = Odd(rows, len(k.Keys), n)
	rows.Columns = as.ColumnNames()
	return rows, as, nil
}
