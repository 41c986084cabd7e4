package cli

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"lastboard/internal/core/check"
	"lastboard/internal/core/describe"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
	"lastboard/internal/view"
)

func newDescribe(g *global) *cobra.Command {
	var rows int
	var compare, at string
	c := &cobra.Command{
		Use:   "describe [TABLE]",
		Short: "Show tables as they stand",
		Long: `Without a table it lists them all. With one it shows its columns, keys, checks,
indexes, what depends on it, and who has the database open. --rows shows some rows.
--at 0005 shows the tables as that migration left them; --compare 0004 shows what has
changed since that one, attribute by attribute, until now or until --at.`,
		Example: `  lastboard describe
  lastboard describe vessel --rows 5
  lastboard describe vessel --compare 0004
  lastboard describe vessel --at 0003`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			s, err := g.open(ctx, engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			tables, err := s.tablesAt(ctx, at)
			if err != nil {
				return err
			}
			var t *schema.Table
			if len(args) == 1 {
				if v := tables.View(args[0]); v != nil && !s.JSON {
					s.Line("%s is a view: %s", v.Name, v.Query)
					return nil
				}
				if t = tables.Table(args[0]); t == nil && compare == "" {
					return noTable(tables, args[0])
				}
			}
			switch {
			case compare != "":
				name := ""
				if len(args) == 1 {
					name = args[0]
				}
				return s.compare(ctx, tables, name, compare, at)
			case at != "":
				return s.describeThen(tables, t)
			case t == nil:
				return s.describeAll(ctx, tables)
			}
			return s.describeOne(ctx, tables, t, rows)
		},
	}
	c.Flags().IntVar(&rows, "rows", 0, "show this many rows")
	c.Flags().StringVar(&compare, "compare", "", "show what has changed since a migration")
	c.Flags().StringVar(&at, "at", "", "show the tables as a migration left them")
	return c
}

// tablesAt gives the tables as they stand, or as a migration left them.
func (s *session) tablesAt(ctx context.Context, version string) (*schema.Schema, error) {
	if version == "" {
		return s.tablesNow(ctx)
	}
	tables, _, err := s.tablesAfter(ctx, version)
	return tables, err
}

// tablesNow gives the tables as they stand, in the words of the migrations that made them.
func (s *session) tablesNow(ctx context.Context) (*schema.Schema, error) {
	live, err := s.db.Schema(ctx)
	if err != nil {
		return nil, err
	}
	if exists, err := s.ledger.Exists(ctx); err != nil || !exists {
		return live, nil // the tables are what they are, whatever the ledger is
	}
	known, err := s.ledger.Migrations(ctx)
	if err != nil {
		return live, nil // of which audit speaks
	}
	return s.inWords(live, known), nil
}

// inWords gives tables in the words of the migrations that have made them: the database, and so the
// ledger, say it in their own.
func (s *session) inWords(tables *schema.Schema, by []*ledgerMigration) *schema.Schema {
	var ran []*migration.Migration
	for _, k := range by {
		if m, err := migration.Parse("", k.Version, k.Name, k.Source); err == nil { // else audit speaks of it
			ran = append(ran, m)
		}
	}
	return describe.InWords(tables, check.Tables(ran, s.engine), s.engine.Text)
}

// tablesAfter gives the tables as a migration that has run left them.
func (s *session) tablesAfter(ctx context.Context, version string) (*schema.Schema, *ledgerMigration, error) {
	st, err := s.stand(ctx)
	if err != nil {
		return nil, nil, err
	}
	i := slices.IndexFunc(st.known, func(k *ledgerMigration) bool { return sameVersion(k.Version, version) })
	if i < 0 {
		return nil, nil, fault.New(fault.Usage, "version-unknown", "see lastboard status", "the ledger knows no migration %s",
			version)
	}
	tables, err := ledger.TablesAfter(st.known[:i+1])
	if err != nil {
		return nil, nil, err
	}
	return s.inWords(tables, st.known[:i+1]), st.known[i], nil
}

// describeThen shows tables of the past, which have no rows any more; nil means all.
func (s *session) describeThen(tables *schema.Schema, t *schema.Table) error {
	list := tables.Tables
	if t != nil {
		list = []*schema.Table{t}
	}
	var shown []*describe.Table
	for _, t := range list {
		shown = append(shown, describe.Then(tables, t))
	}
	if s.JSON {
		return s.Document(view.DescribeJSON(shown, nil))
	}
	for _, d := range shown {
		s.OneTable(d)
	}
	return nil
}

func noTable(s *schema.Schema, name string) error {
	var names []string
	for _, t := range s.Tables {
		names = append(names, t.Name)
	}
	cure := "lastboard describe lists them"
	if near, ok := sqltext.Nearest(name, names); ok {
		cure = "did you mean " + near + "?"
	}
	return fault.New(fault.Usage, "name-unknown", cure, "there is no table %s", name)
}

func (s *session) describeAll(ctx context.Context, tables *schema.Schema) error {
	list, err := describe.Tables(ctx, s.db, tables)
	if err != nil {
		return err
	}
	if s.JSON {
		return s.Document(view.DescribeJSON(list, nil))
	}
	s.Overview(list, tables.Views)
	return nil
}

func (s *session) describeOne(ctx context.Context, tables *schema.Schema, t *schema.Table, n int) error {
	d, err := describe.One(ctx, s.db, tables, t)
	if err != nil {
		return err
	}
	d.Users = s.db.Users()
	d.Unenforced = describe.Unenforced(t, s.engine)
	opened, err := s.opened(ctx)
	if err != nil {
		return err
	}
	for _, o := range opened {
		d.Open = append(d.Open, o.Of(t.Name)...)
	}
	var sample *engine.Rows
	if n > 0 {
		if sample, err = s.db.Sample(ctx, t, nil, n); err != nil {
			return err
		}
	}
	if s.JSON {
		return s.Document(view.DescribeJSON([]*describe.Table{d}, sample))
	}
	s.OneTable(d)
	if sample != nil {
		s.Line("")
		s.RowsOf(t, sample)
	}
	return nil
}

// compare shows the tables as they were after a migration beside what they are.
func (s *session) compare(ctx context.Context, now *schema.Schema, table, version, until string) error {
	was, since, err := s.tablesAfter(ctx, version)
	if err != nil {
		return err
	}
	records, err := s.recordsBetween(ctx, since.Version, until)
	if err != nil {
		return err
	}
	origins := plan.Origins(records)
	differences := []schema.Difference{}
	for _, d := range schema.Compare(was, now, s.engine.Text) {
		wanted := table == "" || schema.SameName(d.Table, table) || schema.SameName(d.Name, table)
		if _, followed := origins[d.Table]; wanted && !followed && !movedAway(origins, d.Table) {
			differences = append(differences, d)
		}
	}
	for _, t := range now.Tables {
		o, followed := origins[t.Name]
		if before := was.Table(o.Table); followed && before != nil && (table == "" || schema.SameName(t.Name, table)) {
			differences = append(differences, o.Changes(before, t, s.engine.Text)...)
		} else if followed && (table == "" || schema.SameName(t.Name, table)) {
			differences = append(differences, schema.Difference{Table: t.Name, Object: "table", Name: t.Name,
				Attribute: "exists", Expected: "no", Found: "yes"})
		}
	}
	switch {
	case s.JSON:
		return s.Document(map[string]any{"since": since.Version, "differences": differences})
	case len(differences) == 0:
		s.Line("nothing has changed since %s-%s", since.Version, since.Name)
		return nil
	}
	s.Title("since %s-%s", since.Version, since.Name)
	for len(differences) > 0 {
		name := differences[0].Table
		n := slices.IndexFunc(differences, func(d schema.Difference) bool { return d.Table != name })
		if n < 0 {
			n = len(differences)
		}
		s.Line("%s", name)
		before := was.Table(name)
		if o, followed := origins[name]; followed {
			before = was.Table(o.Table)
		}
		s.Differences(before, now.Table(name), differences[:n])
		differences = differences[n:]
	}
	return nil
}

// recordsBetween gives what the migrations after one have changed, up to another or,
// where that is "", to the last.
func (s *session) recordsBetween(ctx context.Context, version, until string) ([]*plan.Record, error) {
	known, err := s.ledger.Migrations(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(known, func(k *ledgerMigration) bool { return k.Version == version })
	var records []*plan.Record
	for _, k := range known[i+1:] {
		list, err := plan.DecodeRecords(k.Changes)
		if err != nil {
			return nil, err
		}
		records = append(records, list...)
		if until != "" && sameVersion(k.Version, until) {
			break
		}
	}
	return records, nil
}
