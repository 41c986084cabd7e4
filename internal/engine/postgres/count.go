package postgres

import (
	"context"
	"slices"
	"strings"
)

// Up to how many rows and bytes a table is counted exactly.
const (
	exactRows  = 2_000_000
	exactBytes = 256 << 20
)

// Count counts a small table, and takes the engine's own estimate for a large one.
func (d *database) Count(ctx context.Context, table string, size bool) (rows, bytes int64, err error) {
	r, err := d.Query(ctx, "select "+selectSize+" from pg_class c, "+leaves+" where c.oid = to_regclass(?) "+
		"group by c.oid, c.relkind", name(table))
	if err != nil || len(r.Values) == 0 {
		return 0, 0, err
	}
	estimate, bytes := number(r.Values[0][0]), number(r.Values[0][2])
	if counted(estimate, number(r.Values[0][1]), bytes, text(r.Values[0][3])) {
		if r, err = d.Query(ctx, "select count(*) from "+name(table)); err != nil {
			return 0, 0, err
		}
		return number(r.Values[0][0]), bytes, nil
	}
	return estimate, bytes, nil
}

// leaves are the tables that hold the rows of one, which may be partitioned, and selectSize says how many
// rows, pages and bytes they have, and what kind the table is.
const (
	leaves = "lateral (select p.oid, p.reltuples, p.relpages from pg_class p where p.oid = c.oid and c.relkind <> " +
		"'p' union all " +
		"select p.oid, p.reltuples, p.relpages from pg_partition_tree(c.oid) t join pg_class p on p.oid = t.relid where " +
		"c.relkind = 'p' and p.relkind <> 'p') l"
	selectSize = "sum(greatest(l.reltuples, 0))::bigint, sum(l.relpages)::bigint, " +
		"sum(pg_table_size(l.oid))::bigint, c.relkind::text"
)

// counted reports whether the rows of a table are worth to be counted: one that was never analysed says
// nothing of them. Those of another server are asked of nobody.
func counted(estimate, pages, bytes int64, kind string) bool {
	return kind != "f" && (estimate < exactRows && bytes < exactBytes || pages == 0)
}

// CountAll implements engine.Counter, with two statements for some hundred tables.
func (d *database) CountAll(ctx context.Context, tables []string) (rows, bytes map[string]int64, err error) {
	rows, bytes = map[string]int64{}, map[string]int64{}
	for chunk := range slices.Chunk(tables, 200) {
		list := make([]string, len(chunk))
		for i, t := range chunk {
			list[i] = "(" + literal(t) + ", " + literal(name(t)) + ")"
		}
		r, err := d.Query(ctx, "select v.n, "+selectSize+" from (values "+strings.Join(list,
			", ")+") v(n, q) join pg_class c "+
			"on c.oid = to_regclass(v.q), "+leaves+" group by v.n, c.relkind")
		if err != nil {
			return nil, nil, err
		}
		var counts []string
		for _, v := range r.Values {
			n := text(v[0])
			rows[n], bytes[n] = number(v[1]), number(v[3])
			if counted(rows[n], number(v[2]), bytes[n], text(v[4])) {
				counts = append(counts, "select "+literal(n)+", count(*) from "+name(n))
			}
		}
		if len(counts) == 0 {
			continue
		}
		if r, err = d.Query(ctx, strings.Join(counts, " union all ")); err != nil {
			return nil, nil, err
		}
		for _, v := range r.Values {
			rows[text(v[0])] = number(v[1])
		}
	}
	return rows, bytes, nil
}
