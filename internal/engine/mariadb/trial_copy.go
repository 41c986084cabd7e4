package mariadb

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
	words := map[string]bool{}
	for _, s := range steps {
		statements := slices.Clone(s.SQL)
		if s.Proof != nil {
			statements = []string{s.Proof.SQL}
		}
		for _, sql := range statements {
			tokens, _ := sqltext.Scan(sql, sqltext.Engine)
			for _, tok := range tokens {
				if tok.Kind == sqltext.Word || tok.Kind == sqltext.Quoted {
					words[strings.ToLower(tok.Value)] = true
				}
			}
		}
	}
	for w := range words {
		if strings.HasPrefix(w, engine.Prefix) {
			if err := t.kept(ctx, w); err != nil {
				return err
			}
		}
	}
	for _, table := range t.base.Tables {
		if words[strings.ToLower(table.Name)] {
			if err := t.make(ctx, table); err != nil {
				return err
			}
		}
	}
	for _, v := range t.base.Views {
		if words[strings.ToLower(v.Name)] {
			if err := t.view(ctx, v); err != nil {
				return err
			}
		}
	}
	return t.tie(ctx)
}

// subject makes a table with all that is tied to it: tables that it refers to, those
// that refer to it, and views.
func (t *trial) subject(ctx context.Context, n string) error {
	table := t.base.Table(n)
	if table == nil {
		return nil
	}
	for _, o := range t.base.Tables {
		refers := func(a *schema.Table, b string) bool {
			return slices.ContainsFunc(a.ForeignKeys, func(k *schema.ForeignKey) bool { return schema.SameName(k.Table, b) })
		}
		if o == table || refers(table, o.Name) || refers(o, table.Name) {
			if err := t.make(ctx, o); err != nil {
				return err
			}
		}
	}
	if err := t.tie(ctx); err != nil {
		return err
	}
	names := map[string]bool{strings.ToLower(table.Name): true}
	for size := 0; size != len(names); {
		size = len(names)
		for _, v := range t.base.Views {
			if mentions(v.Query, names) {
				names[strings.ToLower(v.Name)] = true
				if err := t.view(ctx, v); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func mentions(text string, names map[string]bool) bool {
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
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
	t.left[table.Name] = table.ForeignKeys
	if _, err := t.s.exec(ctx, "create table "+quote(table.Name)+" like "+quote(t.d.config.DBName)+"."+
		quote(table.Name)); err != nil {
		return fmt.Errorf("table %s cannot be copied to try the change: %w", table.Name, err)
	}
	for _, tr := range table.Triggers {
		// In its own mode; a trigger that cannot be made here is looked for in the real table.
		_, err := t.s.exec(ctx, "set session sql_mode = "+literal(tr.Mode))
		if err == nil {
			_, err = t.s.exec(ctx, tr.SQL)
		}
		if err != nil {
			t.uncopied[tr.Name] = true
		}
		if _, err := t.s.exec(ctx, "set session sql_mode = "+literal(mode)); err != nil {
			return err
		}
	}
	// Those that let kept values follow their rows come and go with the steps.
	for _, tr := range table.Own {
		// One that a dead run has left may know a column by a name that it has no more.
		if _, err := t.s.exec(ctx, tr.SQL); err != nil && code(err) != errNoColumn {
			return fmt.Errorf("trigger %s cannot be copied to try the change: %w", tr.Name, err)
		}
	}
	return nil
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
			if _, err := t.s.exec(ctx, "set statement foreign_key_checks = 0 for alter table "+quote(n)+" add "+
				foreignKeySQL(k)); err != nil {
				return fmt.Errorf("table %s cannot be copied to try the change: %w", n, err)
			}
			// The server lets the index of the new key take the place of one that it has made
			// itself for the real one.
			for _, x := range ownIndexes(t.base.Table(n), k) {
				if _, err := t.s.exec(ctx, "alter table "+quote(n)+" add "+
					strings.Replace(indexSQL(t.base.Table(n), x), "key ", "key if not exists ", 1)); err != nil {
					return fmt.Errorf("table %s cannot be copied to try the change: %w", n, err)
				}
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
		if mentions(v.Query, map[string]bool{strings.ToLower(table.Name): true}) {
			if err := t.make(ctx, table); err != nil {
				return err
			}
		}
	}
	for _, other := range t.base.Views {
		if other != v && mentions(v.Query, map[string]bool{strings.ToLower(other.Name): true}) {
			if err := t.view(ctx, other); err != nil {
				return err
			}
		}
	}
	if _, err := t.s.exec(ctx, v.SQL); err != nil && code(err) != errViewBroken && code(err) != 1054 {
		return fmt.Errorf("view %s cannot be copied to try the change: %w", v.Name, err)
	}
	return nil
}

// kept makes an empty copy of a table of Lastboard's own that a step speaks of.
func (t *trial) kept(ctx context.Context, name string) error {
	if t.made[name] {
		return nil
	}
	r, err := t.d.query(ctx, hasTable(name)+" and table_type <> 'VIEW'")
	if err != nil || len(r.Values) == 0 {
		return err // a step makes it
	}
	t.made[name] = true
	_, err = t.s.exec(ctx, "create table if not exists "+quote(name)+" like "+quote(t.d.config.DBName)+"."+quote(name))
	return err
}
