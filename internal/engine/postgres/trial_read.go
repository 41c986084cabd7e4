package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// place makes the schema that stands for another.
func (t *trial) place(ctx context.Context, ns string) error {
	if t.places[ns] {
		return nil
	}
	t.places[ns] = true
	_, err := exec(ctx, t.conn, "create schema "+quote(scratch+ns), nil)
	if err != nil {
		return fmt.Errorf("trying the steps needs the right to make a schema that is never committed: %w", err)
	}
	return nil
}

// read takes in what the steps have led to.
func (t *trial) read(ctx context.Context, c *schema.Change) error {
	where := "n.nspname like 'lastboard\\_trial\\_%' and n.nspname <> 'lastboard_trial_lastboard' and n.nspname !~ " +
		"'^lastboard_trial_lastboard_' and c.relname !~ '^lastboard_'"
	r := &reader{
		query: func(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
			rows, err := query(ctx, t.conn, sql, args)
			if err == nil {
				real(rows)
			}
			return rows, err
		},
		where: where, spell: func(ns, n string) string { return spell(t.d.home, strings.TrimPrefix(ns, scratch), n) },
	}
	found, err := r.read(ctx)
	if err != nil {
		return err
	}
	next := &schema.Schema{Home: t.base.Home}
	t.rename(c)
	for _, table := range t.base.Tables {
		if !t.made[table.Name] {
			next.Tables = append(next.Tables, table)
		}
	}
	for _, table := range found.Tables {
		if slices.Contains(t.parts, table.Name) {
			continue
		}
		t.made[table.Name] = true
		t.likeBefore(c, table)
		next.Tables = append(next.Tables, table)
	}
	for _, v := range t.base.Views {
		if !t.made[v.Name] {
			next.Views = append(next.Views, v)
		}
	}
	for _, v := range found.Views {
		t.made[v.Name] = true
		next.Views = append(next.Views, v)
	}
	if c.Table != nil && c.Table.Before != nil {
		next.PutParts(c.Table.Before.Name, c.Table.After)
	}
	t.memory.last = t.base
	t.settle(c, next)
	t.base = t.memory.keep(next)
	return nil
}

// real gives what the server says of the trial the names of the real schemas.
func real(rows *engine.Rows) {
	for _, row := range rows.Values {
		for i, v := range row {
			if s, ok := v.(string); ok && strings.Contains(s, scratch) {
				row[i] = strings.ReplaceAll(s, scratch, "")
			}
		}
	}
}

// rename gives what a table still lacks to the name that it has now.
func (t *trial) rename(c *schema.Change) {
	if c.Table != nil && c.Table.Before != nil && c.Table.After != nil && c.Table.After.Name != c.Table.Before.Name {
		t.left[c.Table.After.Name] = t.left[c.Table.Before.Name]
		delete(t.left, c.Table.Before.Name)
	}
}

// likeBefore gives a table what the trial does not have of it: foreign keys to tables
// that are not there, the sequences of numbers, its options.
func (t *trial) likeBefore(c *schema.Change, table *schema.Table) {
	before := t.base.Table(table.Name)
	was := func(column string) string { return column }
	if c.Table != nil && c.Table.Before != nil && c.Table.After != nil && schema.SameName(c.Table.After.Name, table.Name) {
		before = t.base.Table(c.Table.Before.Name)
		was = func(column string) string { return c.Table.From[column] }
	}
	table.ForeignKeys = append(table.ForeignKeys, t.left[table.Name]...)
	slices.SortFunc(table.ForeignKeys, func(a, b *schema.ForeignKey) int { return strings.Compare(a.Name, b.Name) })
	if x := c.Table; before == nil && x != nil && x.After != nil && x.Rows != nil &&
		schema.SameName(x.After.Name, table.Name) {
		// A table that comes back brings its triggers and sequences along, which it does not have
		// in the trial.
		table.Triggers = x.After.Triggers
		for _, col := range table.Columns {
			if old := x.After.Column(col.Name); old != nil && old.Options["sequence"] != "" && col.Default != nil {
				col.Options, col.Default = old.Options, old.Default
			}
		}
	}
	if before == nil {
		return
	}
	table.Options = before.Options
	for _, col := range table.Columns {
		if old := before.Column(was(col.Name)); old != nil && old.Options["sequence"] != "" && col.Default != nil {
			col.Options = old.Options
		}
	}
}

// settle gives what was planned the words of the server.
func (t *trial) settle(c *schema.Change, now *schema.Schema) {
	if c.Table != nil && c.Table.After != nil {
		planning.ServerWords(c.Table.After, now.Table(c.Table.After.Name))
	}
}

// needed names what uses the table or the columns that a change drops: the server
// would refuse to drop them, or take what uses them along.
func (t *trial) needed(ctx context.Context, c *schema.TableChange) ([]string, error) {
	var columns []string
	if c.After != nil {
		for _, col := range c.Dropped() {
			columns = append(columns, col.Name)
		}
		for _, col := range c.After.Columns {
			if from, ok := c.From[col.Name]; ok && declaration(c.Before.Column(from)) != declaration(col) {
				columns = append(columns, from)
			}
		}
		p := newPlanner(engine.Facts{Schema: t.base}, c.Before)
		p.Change = c
		p.After, p.Renames = c.BeforeRenames()
		p.remake()
		columns = append(columns, p.remade...)
		if reorders(c) { // a copy takes the place of the table
			columns = c.Before.ColumnNames()
		}
		if len(columns) == 0 {
			return nil, nil
		}
	}
	if err := t.subject(ctx, c.Before.Name); err != nil {
		return nil, err
	}
	ns, n := t.d.split(c.Before.Name)
	var list []string
	add := func(names ...string) {
		for _, x := range names {
			if !slices.Contains(list, x) {
				list = append(list, x)
			}
		}
	}
	inTrial := func(sql string, args ...any) (*engine.Rows, error) { return query(ctx, t.conn, sql, args) }
	there := func(sql string, args ...any) (*engine.Rows, error) { return t.d.Query(ctx, sql, args...) }
	names, err := dependents(inTrial, scratch+ns, n, columns)
	if err != nil {
		return nil, err
	}
	add(names...)
	if names, err = dependents(there, ns, n, columns); err != nil {
		return nil, err
	}
	for _, x := range names { // the trial knows what planned changes have done to views and triggers
		if !strings.HasPrefix(x, "view ") && !strings.HasPrefix(x, "trigger ") &&
			!strings.HasPrefix(x, "materialized view ") {
			add(x)
		}
	}
	return list, nil
}

// selectDependents lists what would not survive without a table, or without some of its
// columns: views, triggers that name a column, policies, functions, publications.
const selectDependents = `
	select distinct case
		when d.classid = 'pg_rewrite'::regclass then (select case v.relkind when 'm' then 'materialized view ' else 'view ' end || v.relname from pg_rewrite w join pg_class v on v.oid = w.ev_class where w.oid = d.objid)
		when d.classid = 'pg_trigger'::regclass then (select 'trigger ' || g.tgname from pg_trigger g where g.oid = d.objid)
		when d.classid = 'pg_policy'::regclass then (select 'policy ' || p.polname from pg_policy p where p.oid = d.objid)
		when d.classid = 'pg_proc'::regclass then (select 'function ' || f.proname from pg_proc f where f.oid = d.objid)
		else pg_describe_object(d.classid, d.objid, d.objsubid) end
	from pg_depend d join pg_class c on c.oid = d.refobjid join pg_namespace n on n.oid = c.relnamespace left join pg_attribute a on a.attrelid = c.oid and a.attnum = d.refobjsubid
	where d.refclassid = 'pg_class'::regclass and n.nspname = ? and c.relname = ? and d.deptype = 'n'
		and d.classid in ('pg_rewrite'::regclass, 'pg_trigger'::regclass, 'pg_policy'::regclass, 'pg_proc'::regclass, 'pg_publication_rel'::regclass)
		and not (d.classid = 'pg_trigger'::regclass and exists (select 1 from pg_trigger g where g.oid = d.objid and (g.tgname ~ '^(zz_|!!?)?lastboard_' or g.tgisinternal)))
		and (? = '' or a.attname = any (string_to_array(?, e'\x1f')))
	order by 1`

func dependents(query func(string, ...any) (*engine.Rows, error), ns, n string, columns []string) ([]string, error) {
	list := strings.Join(columns, "\x1f")
	r, err := query(selectDependents, ns, n, list, list)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, v := range r.Values {
		if v[0] != nil {
			names = append(names, text(v[0]))
		}
	}
	return names, nil
}
