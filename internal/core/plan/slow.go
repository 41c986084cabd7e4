package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A lookup that finds its rows by no index reads a whole table for each row that is written:
// what takes a moment on the data of a developer takes hours on those of a port.

const (
	// readRate is how many rows a second an engine reads so; measured, all three are near it.
	readRate = 1.5e7
	// slowest is how many seconds a statement may be expected to look up unasked.
	slowest = 10
)

// slowLookups asks the engine how it would do the steps of a change that look something up,
// adds to their forecast what they read, and says what would take too long.
func (p *Planner) slowLookups(ctx context.Context, out *Plan, m *migration.Migration, st sqltext.Statement,
	c *schema.Change) error {
	e, ok := p.in.DB.(engine.Explainer)
	if !ok || p.told != nil {
		return nil
	}
	for _, s := range out.Steps {
		if s.Change != len(out.Records)-1 || s.Proof != nil || !s.PreviewReadsMore() {
			continue
		}
		whole, err := e.ReadsWhole(ctx, s.Preview)
		if err != nil {
			continue // it reads what is not there yet
		}
		tables := sourcesOf(c)
		for _, alias := range whole {
			table := p.current.Table(tables[strings.ToLower(alias)])
			if table == nil {
				continue
			}
			columns := lookedUpBy(c, alias, table)
			if leads(table, columns) && !leads(p.live.Table(table.Name), columns) {
				continue // an index that is planned before it
			}
			inner, _, err := p.in.DB.Count(ctx, table.Name, false)
			if err != nil {
				return err
			}
			seconds := float64(p.rows[s.Table]) * float64(inner) / readRate
			s.Seconds += seconds
			if seconds < slowest || out.Slow != nil {
				continue
			}
			cure := "an index on the columns of " + table.Name + " by which it looks"
			if len(columns) > 0 {
				cure = "an index beforehand: create index on " + table.Name + " (" + strings.Join(columns, ", ") + ")"
			}
			out.Slow = at(m, st.Start(), fault.New(fault.Refused, "slow-statement", cure+"; or allow it with --slow-statement",
				"it reads all of %s for each row of %s, %d rows for each of %d: about %s", table.Name, s.Table, inner,
				p.rows[s.Table], duration(seconds)))
		}
	}
	return nil
}

// leads reports whether an index of a table begins with one of some columns.
func leads(t *schema.Table, columns []string) bool {
	return t != nil && slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool {
		return len(x.Parts) > 0 && slices.Contains(columns, x.Parts[0].Column)
	})
}

// duration gives seconds in words.
func duration(seconds float64) string {
	switch {
	case seconds < 120:
		return fmt.Sprintf("%.0f s", seconds)
	case seconds < 7200:
		return fmt.Sprintf("%.0f min", seconds/60)
	}
	return fmt.Sprintf("%.0f h", seconds/3600)
}

// queries gives the texts of the queries in a change's expressions.
func queries(c *schema.Change) (list []string) {
	look := func(e sqltext.Expr) {
		sqltext.Walk(e, func(x sqltext.Expr) bool {
			switch x := x.(type) {
			case *sqltext.Subquery:
				list = append(list, x.Query.Text)
			case *sqltext.In:
				if x.Query != nil {
					list = append(list, x.Query.Text)
				}
			}
			return true
		})
	}
	if c.Rows != nil {
		for _, s := range c.Rows.Set {
			look(s.Value)
		}
		look(c.Rows.Where)
	}
	if c.Delete != nil {
		look(c.Delete.Where)
	}
	if c.Table != nil {
		for _, f := range c.Table.Fill {
			look(f.Expr)
		}
	}
	return list
}

// sourcesOf gives the tables that a change's queries read, by the names that they give them.
func sourcesOf(c *schema.Change) map[string]string {
	tables := map[string]string{}
	for _, q := range queries(c) {
		tokens, _ := sqltext.Scan(q, sqltext.Migration)
		named := func(t sqltext.Token) bool { return t.Kind == sqltext.Word || t.Kind == sqltext.Quoted }
		for i, t := range tokens {
			if !(t.Is("from") || t.Is("join") || t.Is(",")) || !named(tokens[i+1]) {
				continue
			}
			i++
			table := tokens[i].Value
			if tokens[i+1].Is(".") && named(tokens[i+2]) {
				table, i = table+"."+tokens[i+2].Value, i+2
			}
			tables[strings.ToLower(tableName(table))] = table
			if tokens[i+1].Is("as") {
				i++
			}
			if named(tokens[i+1]) && !slices.ContainsFunc([]string{"where", "join", "left", "inner", "cross", "on", "order",
				"group", "limit", "union"}, tokens[i+1].Is) {
				tables[strings.ToLower(tokens[i+1].Value)] = table
			}
		}
	}
	return tables
}

// lookedUpBy lists the columns of a table that queries compare with something else.
func lookedUpBy(c *schema.Change, alias string, table *schema.Table) (columns []string) {
	for _, q := range queries(c) {
		tokens, _ := sqltext.Scan(q, sqltext.Migration)
		for i, t := range tokens {
			if !strings.EqualFold(t.Value, alias) || !tokens[i+1].Is(".") || i+3 >= len(tokens) {
				continue
			}
			col := table.Column(tokens[i+2].Value)
			if compared := tokens[i+3].Is("=") || i > 0 && tokens[i-1].Is("="); compared && col != nil &&
				!slices.Contains(columns, col.Name) {
				columns = append(columns, col.Name)
			}
		}
	}
	return columns
}
