package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

const triggerCure = "set global log_bin_trust_function_creators = 1, or grant super, or connect as a user who has it"

// mayMake asserts the right that triggers need beside TRIGGER where the server writes a
// binary log.
func (d *database) mayMake(ctx context.Context, steps []*engine.Step) error {
	triggers := slices.ContainsFunc(steps, func(s *engine.Step) bool {
		return slices.ContainsFunc(s.SQL, func(sql string) bool {
			return strings.HasPrefix(sql, "create or replace trigger ")
		})
	})
	if !triggers || !d.logs || d.trusts {
		return nil
	}
	r, err := d.query(ctx, "show grants")
	if err != nil {
		return err
	}
	for _, v := range r.Values {
		if g := text(v[0]); strings.Contains(g, " ON *.* ") &&
			(strings.Contains(g, "ALL PRIVILEGES") || strings.Contains(g, "SUPER") || strings.Contains(g, "BINLOG ADMIN")) {
			return nil
		}
	}
	return &engine.Refused{Message: "this needs a trigger, and the server writes a binary log and lets user " +
		d.config.User + " make none", Cure: triggerCure}
}

// needed names what would not survive without a table, or without some of its columns:
// triggers, routines and events, which the server looks at only when they run. It is told
// by their texts.
func (t *trial) needed(ctx context.Context, c *schema.TableChange) ([]string, error) {
	gone := map[string]bool{}
	table := c.After == nil || !schema.SameName(c.After.Name, c.Before.Name)
	if c.After != nil {
		for _, col := range c.Dropped() {
			gone[strings.ToLower(col.Name)] = true
		}
		for from := range c.Renamed() {
			gone[strings.ToLower(from)] = true
		}
	}
	if !table && len(gone) == 0 {
		return nil, nil
	}
	var list []string
	name := map[string]bool{strings.ToLower(c.Before.Name): true}
	look := func(kind string, query func(context.Context, string, ...any) (*engine.Rows, error), sql,
		database string) error {
		r, err := query(ctx, fmt.Sprintf(sql, literal(database)))
		if err != nil {
			return err
		}
		for _, v := range r.Values {
			on, body := text(v[1]), text(v[2])
			own := schema.SameName(on, c.Before.Name)
			if strings.HasPrefix(text(v[0]), engine.Prefix) {
				continue
			}
			uses := own || mentions(body, name)
			switch {
			case table && mentions(body, name): // a table's own triggers go with it
			case len(gone) > 0 && uses && mentions(body, gone):
			default:
				continue
			}
			if what := kind + " " + text(v[0]); !slices.Contains(list, what) {
				list = append(list, what)
			}
		}
		return nil
	}
	real := t.d.config.DBName
	for _, part := range []struct {
		kind, sql, database string
		query               func(context.Context, string, ...any) (*engine.Rows, error)
	}{
		{"trigger", "select trigger_name, event_object_table, action_statement from information_schema.triggers where " +
			"event_object_schema = %s", t.name, t.s.query},
		{"routine", "select routine_name, '', routine_definition from information_schema.routines where routine_schema = %s",
			real, t.d.query},
		{"event", "select event_name, '', event_definition from information_schema.events where event_schema = %s", real,
			t.d.query},
	} {
		if err := look(part.kind, part.query, part.sql, part.database); err != nil {
			return nil, err
		}
	}
	return list, nil
}
