package postgres

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// need makes what a change and its steps speak of, as far as it is not there yet.
func (t *trial) need(ctx context.Context, c *schema.Change, steps []*engine.Step) error {
	for _, n := range c.Subjects() {
		if err := t.subject(ctx, n); err != nil {
			return err
		}
	}
	words, kept := map[string]bool{}, map[string]*schema.Schema{}
	for _, s := range steps {
		statements := s.SQL
		if s.Proof != nil {
			statements = []string{s.Proof.SQL}
		}
		for _, sql := range statements {
			tokens, _ := sqltext.Scan(translate(sql, 0), sqltext.Migration)
			for i, tok := range tokens {
				if tok.Kind != sqltext.Word && tok.Kind != sqltext.Quoted {
					continue
				}
				words[tok.Value] = true
				if i+2 < len(tokens) && tokens[i+1].Is(".") &&
					(tok.Value == own || strings.HasPrefix(tok.Value, engine.Prefix+"kept_")) {
					if err := t.kept(ctx, kept, tok.Value, tokens[i+2].Value); err != nil {
						return err
					}
				}
			}
		}
	}
	for _, table := range t.base.Tables {
		_, n := t.d.split(table.Name)
		if words[n] || words[strings.ToLower(n)] {
			if err := t.make(ctx, table); err != nil {
				return err
			}
		}
	}
	for _, v := range t.base.Views {
		_, n := t.d.split(v.Name)
		if words[n] {
			if err := t.view(ctx, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// subject makes a table with all that is tied to it: tables that it refers to, those
// that refer to it, and views.
func (t *trial) subject(ctx context.Context, n string) error {
	table := t.base.Table(n)
	if table == nil {
		return nil
	}
	for _, k := range table.ForeignKeys {
		if other := t.base.Table(k.Table); other != nil {
			if err := t.make(ctx, other); err != nil {
				return err
			}
		}
	}
	if err := t.make(ctx, table); err != nil {
		return err
	}
	for _, o := range t.base.Tables {
		if slices.ContainsFunc(o.ForeignKeys, func(k *schema.ForeignKey) bool { return schema.SameName(k.Table, n) }) {
			if err := t.make(ctx, o); err != nil {
				return err
			}
		}
	}
	if err := t.tie(ctx); err != nil {
		return err
	}
	names := map[string]bool{strings.ToLower(tableOf(table).Name): true}
	for size := 0; size != len(names); {
		size = len(names)
		for _, v := range t.base.Views {
			if mentions(v.Query, names) {
				names[strings.ToLower(tableOf(&schema.Table{Name: v.Name}).Name)] = true
				if err := t.view(ctx, v); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func mentions(text string, names map[string]bool) bool {
	tokens, _ := sqltext.Scan(text, sqltext.Migration)
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && names[strings.ToLower(t.Value)]
	})
}

// make makes an empty table like a real one, but for foreign keys.
func (t *trial) make(ctx context.Context, table *schema.Table) error {
	if t.made[table.Name] || table.Opaque != "" {
		return nil
	}
	t.made[table.Name] = true
	ns, _ := t.d.split(table.Name)
	if err := t.place(ctx, ns); err != nil {
		return err
	}
	bare := *table
	bare.ForeignKeys, bare.Own = nil, nil
	t.left[table.Name] = table.ForeignKeys
	bare.Columns = slices.Clone(table.Columns)
	for i, c := range bare.Columns {
		if c.Options["sequence"] != "" { // its default is the real sequence's, and nothing is ever inserted
			copied := *c
			copied.Options = nil
			bare.Columns[i] = &copied
		}
	}
	for _, sql := range (Engine{}).CreateSQL(&bare) {
		if _, err := exec(ctx, t.conn, t.there(sql), nil); err != nil {
			return fmt.Errorf("table %s cannot be copied to try the change: %w", table.Name, err)
		}
	}
	if err := t.part(ctx, table); err != nil {
		return err
	}
	for _, tr := range table.Own {
		if err := t.own(ctx, tr, ownFunctions(table, tr)); err != nil {
			return err
		}
	}
	if len(table.Triggers) > 0 {
		// Nothing of the applications' acts in a trial.
		_, err := exec(ctx, t.conn, t.there("alter table "+name(table.Name)+" disable trigger user"), nil)
		return err
	}
	return nil
}

// part gives the copy of a table whose rows stand in parts one, which holds any row: what the server does
// with rows shows there.
func (t *trial) part(ctx context.Context, table *schema.Table) error {
	by := table.Options[partitionedBy]
	if by == "" {
		return nil
	}
	bound := "default"
	if strings.HasPrefix(by, "HASH") {
		bound = "for values with (modulus 1, remainder 0)"
	}
	part := schema.ConstraintName(table, nil, engine.Prefix+"part")
	if ns, _ := t.d.split(table.Name); ns != t.d.home {
		part = ns + "." + part
	}
	t.parts = append(t.parts, part)
	_, err := exec(ctx, t.conn, t.there("create table "+name(part)+" partition of "+name(table.Name)+" "+bound), nil)
	return err
}

// ownFunctions names the functions that a trigger of Lastboard's calls; none for one that keeps two
// names equal.
func ownFunctions(t *schema.Table, tr *schema.Trigger) []string {
	if kept := keptBy(tr); kept != "" {
		return []string{kept + goneSuffix, kept + movedSuffix, kept + "_new", kept + cameSuffix,
			kept + turnSuffix}
	}
	if column := suppliedBy(t, tr); column != "" {
		return []string{supplyFunction(t, column)}
	}
	if column := watchedBy(t, tr); column != "" {
		return []string{watchName(t, "", watchKind, column)}
	}
	return nil
}

// own makes a trigger of Lastboard's, with the functions that it calls; none are for one that stays
// out of the trial.
func (t *trial) own(ctx context.Context, tr *schema.Trigger, functions []string) error {
	if functions == nil {
		return nil
	}
	for _, f := range functions {
		if _, err := exec(ctx, t.conn, t.there(function(f, "")), nil); err != nil {
			return err
		}
	}
	_, err := exec(ctx, t.conn, t.there(tr.SQL), nil)
	return err
}

// tie adds the foreign keys whose both ends are there.
func (t *trial) tie(ctx context.Context) error {
	for _, n := range slices.Sorted(maps.Keys(t.left)) {
		var rest []*schema.ForeignKey
		for _, k := range t.left[n] {
			if !t.made[n] || !t.made[k.Table] {
				rest = append(rest, k)
				continue
			}
			if _, err := exec(ctx, t.conn, t.there(addForeignKey(&schema.Table{Name: n}, k)), nil); err != nil {
				return fmt.Errorf("table %s cannot be copied to try the change: %w", n, err)
			}
		}
		t.left[n] = rest
	}
	return nil
}

// view makes a view over empty tables.
func (t *trial) view(ctx context.Context, v *schema.View) error {
	if t.made[v.Name] {
		return nil
	}
	t.made[v.Name] = true
	for _, table := range t.base.Tables {
		if mentions(v.Query, map[string]bool{strings.ToLower(tableOf(table).Name): true}) {
			if err := t.make(ctx, table); err != nil {
				return err
			}
		}
	}
	for _, other := range t.base.Views {
		if other != v && mentions(v.Query, map[string]bool{strings.ToLower(
			tableOf(&schema.Table{Name: other.Name}).Name): true}) {
			if err := t.view(ctx, other); err != nil {
				return err
			}
		}
	}
	ns, _ := t.d.split(v.Name)
	if err := t.place(ctx, ns); err != nil {
		return err
	}
	if _, err := exec(ctx, t.conn, t.there(v.SQL), nil); err != nil {
		return fmt.Errorf("view %s cannot be copied to try the change: %w", v.Name, err)
	}
	return nil
}

// kept makes an empty copy of a table of Lastboard's own that a step reads; known are the
// schemas that were read for it.
func (t *trial) kept(ctx context.Context, known map[string]*schema.Schema, ns, n string) error {
	key := ns + "." + n
	if t.made[key] {
		return nil
	}
	if known[ns] == nil {
		real, err := (&reader{query: t.d.Query, where: "n.nspname = " + literal(ns),
			spell: func(_, x string) string { return ns + "." + x }}).read(ctx)
		if err != nil {
			return err
		}
		known[ns] = real
	}
	table := known[ns].Table(key)
	if table == nil {
		return nil // a step makes it
	}
	bare := *table
	bare.Triggers, bare.Own = nil, nil
	if ns != own {
		bare.ForeignKeys = nil
	}
	return t.make(ctx, &bare)
}
