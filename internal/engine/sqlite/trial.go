package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// trial is an empty copy of the schema in memory.
type trial struct {
	room
	parked [][]any // rows of selectObjects, of what is not in the room just now
	memory memory
	now    *schema.Schema // the tables as they are; nil when they have to be read
}

const selectCopy = `select m.sql, m.type, m.name from main.sqlite_schema m left join pragma_table_list l on l.schema = 'main' and l.name = m.name
	where m.sql is not null and m.name not like 'sqlite\_%' escape '\' and coalesce(l.type, '') <> 'shadow'
	order by case m.type when 'table' then 1 when 'index' then 2 when 'view' then 3 else 4 end, m.rowid`

// Trial implements engine.Database.
func (d *database) Trial(ctx context.Context) (engine.Trial, error) {
	statements, err := d.Query(ctx, selectCopy)
	if err != nil {
		return nil, err
	}
	room, err := newRoom(ctx)
	if err != nil {
		return nil, err
	}
	t := &trial{room: room}
	for _, row := range statements.Values {
		if _, err := t.conn.ExecContext(ctx, text(row[0])); err != nil {
			return nil, errors.Join(fmt.Errorf("the tables cannot be copied to try the change: %w", err), t.Close())
		}
	}
	if err := copyNotes(ctx, d.Query, t.conn); err != nil {
		return nil, errors.Join(err, t.Close())
	}
	return t, nil
}

func copyNotes(ctx context.Context, from queryer, to *sql.Conn) error {
	notes, err := from(ctx, selectNotes)
	if err != nil {
		return nil // the database has no ledger yet
	}
	for _, row := range notes.Values {
		if _, err := to.ExecContext(ctx, note(text(row[0]), text(row[1]), text(row[2]), text(row[3]))); err != nil {
			return err
		}
	}
	return nil
}

// Lasts implements engine.Trial: the copy is in memory.
func (t *trial) Lasts() bool { return true }

// Schema reads the tables, once after each change.
func (t *trial) Schema(ctx context.Context) (*schema.Schema, error) {
	if t.now != nil {
		return t.now, nil
	}
	s, err := t.memory.read(ctx, t.whole)
	t.now = s
	return s, err
}

func (t *trial) query(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
	return query(ctx, t.conn, sql, args)
}

// whole queries as if what is parked were there.
func (t *trial) whole(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
	rows, err := t.query(ctx, sql, args...)
	if err == nil && sql == selectObjects {
		rows.Values = slices.Concat(t.parked, rows.Values)
	}
	return rows, err
}

// Run implements engine.Trial.
func (t *trial) Run(ctx context.Context, c *schema.Change, steps []*engine.Step) (needed, broken []string, err error) {
	before, err := t.Schema(ctx)
	if err != nil {
		return nil, nil, err
	}
	if err := t.gather(ctx, before, c, steps); err != nil {
		return nil, nil, err
	}
	names := concerned(before, c)
	worked, err := t.working(ctx, before, names)
	if err != nil {
		return nil, nil, err
	}
	if c.Table != nil && c.Table.Before != nil {
		if needed, err = t.needed(ctx, c.Table, names, worked); err != nil || len(needed) > 0 {
			return needed, nil, err
		}
	}
	t.now = nil
	for _, s := range steps {
		if err := t.step(ctx, s); err != nil {
			return nil, nil, err
		}
	}
	after, err := t.Schema(ctx)
	if err != nil {
		return nil, nil, err
	}
	works, err := t.working(ctx, after, names)
	return nil, newlyBroken(worked, works), err
}

// Broken implements engine.Trial.
func (t *trial) Broken(ctx context.Context, names []string) ([]string, error) {
	if err := t.unpark(ctx, nil); err != nil {
		return nil, err
	}
	s, err := t.Schema(ctx)
	if err != nil {
		return nil, err
	}
	works, err := t.working(ctx, s, nil)
	if err != nil {
		return nil, err
	}
	var list []string
	for _, n := range names {
		if works[n] != "" {
			list = append(list, n+" ("+works[n]+")")
		}
	}
	return list, nil
}

// concerned lists the tables and views that a change could break: what it changes,
// what reads that by way of views and triggers, and what is tied to it by foreign
// keys. nil means that it could be anything.
func concerned(s *schema.Schema, c *schema.Change) map[string]bool {
	names := map[string]bool{}
	add := func(n string) { names[strings.ToLower(n)] = true }
	switch {
	case c.Native != nil:
		return nil
	case c.Table != nil && c.Table.Before != nil:
		add(c.Table.Before.Name)
	case c.View != nil && c.View.Before != nil:
		add(c.View.Before.Name)
	default:
		return names
	}
	for size := 0; size != len(names); {
		size = len(names)
		for _, v := range s.Views {
			if mentions(v.SQL, names) {
				add(v.Name)
			}
		}
		for _, t := range s.Tables {
			if slices.ContainsFunc(t.Triggers, func(tr *schema.Trigger) bool { return mentions(tr.SQL, names) }) {
				add(t.Name)
			}
		}
	}
	var tied []string // by foreign keys, and nothing beyond
	for _, t := range s.Tables {
		for _, k := range t.ForeignKeys {
			if names[strings.ToLower(k.Table)] {
				tied = append(tied, t.Name)
			}
		}
	}
	for _, n := range tied {
		add(n)
	}
	return names
}

// mentions reports whether a text could name any of the names.
func mentions(text string, names map[string]bool) bool {
	text = strings.ToLower(text)
	for n := range names {
		if strings.Contains(text, n) || strings.Contains(n, `"`) {
			return true
		}
	}
	return false
}

// reaching are the statements that can write other files than the copy in memory, or that
// belong to how a connection works.
var reaching = []string{"attach", "detach", "vacuum", "pragma", "begin", "commit", "end", "rollback", "savepoint",
	"release"}

func (t *trial) step(ctx context.Context, s *engine.Step) error {
	if s.Native {
		for _, sql := range s.SQL {
			tokens, _ := sqltext.Scan(sql, sqltext.Engine)
			if slices.ContainsFunc(reaching, tokens[0].Is) {
				s.Untried = "it begins with " + tokens[0].Value + ", which could reach beyond a copy in memory"
				return nil
			}
		}
	}
	statements := slices.Concat(s.SQL, s.Mend)
	if s.Proof != nil {
		statements = []string{s.Proof.SQL, s.Proof.Count}
	}
	for _, sql := range statements {
		sql = engine.Whole(sql)
		if _, err := t.conn.ExecContext(ctx, sql); err != nil {
			return &engine.Refused{Message: fmt.Sprintf("SQLite would not %s: %v", s.What, failure(err))}
		}
	}
	if s.Batch != nil {
		for _, sql := range []string{s.Batch.Upper, s.Batch.Second()} {
			if _, err := t.conn.ExecContext(ctx, sql); err != nil {
				return fmt.Errorf("%s: %w", s.What, err)
			}
		}
	}
	return nil
}

// working prepares every way in which the named views and tables are used, and
// gives for each the error that it ends in; "" for one that works. SQLite finds a
// name that is gone only then. No names at all means every one.
func (t *trial) working(ctx context.Context, s *schema.Schema, names map[string]bool) (map[string]string, error) {
	if _, err := t.conn.ExecContext(ctx, "pragma foreign_keys = on"); err != nil {
		return nil, err
	}
	works := map[string]string{}
	explain := func(what, sql string) {
		message := ""
		if r, err := t.conn.QueryContext(ctx, "explain "+sql); err != nil {
			message = err.Error()
		} else {
			r.Close()
		}
		if old, ok := works[what]; !ok || old == "" {
			works[what] = message
		}
	}
	for _, v := range s.Views {
		if names != nil && !names[strings.ToLower(v.Name)] {
			continue
		}
		explain("view "+v.Name, "select * from "+quote(v.Name))
	}
	for _, x := range s.Tables {
		if names != nil && !names[strings.ToLower(x.Name)] {
			continue
		}
		stored := x.Stored()
		if x.Opaque != "" || len(stored) == 0 || len(x.Triggers) == 0 && len(x.ForeignKeys) == 0 && !referred(s, x) {
			continue
		}
		what := "table " + x.Name
		if len(x.Triggers) == 1 {
			what = "trigger " + x.Triggers[0].Name + " of table " + x.Name
		} else if len(x.Triggers) > 1 {
			what = "a trigger of table " + x.Name
		}
		sets := make([]string, len(stored))
		names := make([]string, len(stored))
		for i, c := range stored {
			names[i] = quote(c.Name)
			sets[i] = names[i] + " = " + names[i]
		}
		explain(what, "insert into "+quote(x.Name)+" ("+strings.Join(names, ", ")+") select "+strings.Join(names, ", ")+
			" from "+quote(x.Name))
		explain(what, "update "+quote(x.Name)+" set "+strings.Join(sets, ", "))
		explain(what, "delete from "+quote(x.Name))
	}
	_, err := t.conn.ExecContext(ctx, "pragma foreign_keys = off")
	return works, err
}

func referred(s *schema.Schema, t *schema.Table) bool {
	return slices.ContainsFunc(s.Tables, func(o *schema.Table) bool {
		return slices.ContainsFunc(o.ForeignKeys, func(k *schema.ForeignKey) bool { return schema.SameName(k.Table, t.Name) })
	})
}

func newlyBroken(before, after map[string]string) []string {
	var list []string
	for _, what := range slices.Sorted(maps.Keys(after)) {
		if was, there := before[what]; there && was == "" && after[what] != "" {
			list = append(list, what)
		}
	}
	return list
}

// needed finds what uses the table or the columns that a change drops: it makes
// the table without them, which SQLite lets happen, and looks what no longer
// works.
func (t *trial) needed(ctx context.Context, c *schema.TableChange, names map[string]bool,
	worked map[string]string) ([]string, error) {
	var dropped []*schema.Column
	if c.After != nil {
		if dropped = c.Dropped(); len(dropped) == 0 {
			return nil, nil
		}
	}
	list := firesOn(c.Before, dropped)
	run := func(sql ...string) error {
		for _, s := range sql {
			if _, err := t.conn.ExecContext(ctx, s); err != nil {
				return fmt.Errorf("while looking for what uses table %s: %w", c.Before.Name, err)
			}
		}
		return nil
	}
	if err := run("pragma foreign_keys = off", "pragma legacy_alter_table = on", "begin",
		"drop table "+quote(c.Before.Name)); err != nil {
		return nil, err
	}
	undo := func() error { return run("rollback", "pragma legacy_alter_table = off") }
	if c.After != nil {
		after, _ := c.BeforeRenames()
		statements := []string{createTable(after, after.Name)}
		for _, tr := range c.Before.Triggers {
			statements = append(statements, tr.SQL)
		}
		if err := run(statements...); err != nil {
			return nil, errors.Join(err, undo())
		}
	}
	without, err := t.memory.copy().read(ctx, t.whole)
	if err != nil {
		return nil, errors.Join(err, undo())
	}
	works, err := t.working(ctx, without, names)
	if err = errors.Join(err, undo()); err != nil {
		return nil, err
	}
	// A foreign key that refers to a unique index is broken here only because the
	// indexes are not made again.
	maps.DeleteFunc(works, func(what, message string) bool { return strings.Contains(message, "foreign key mismatch") })
	for _, what := range newlyBroken(worked, works) {
		list = append(list, fmt.Sprintf("%s (%s)", what, works[what]))
	}
	return list, nil
}

// firesOn names the triggers that fire on an update of a column that is dropped:
// they would stay, and never fire again.
func firesOn(t *schema.Table, dropped []*schema.Column) []string {
	var list []string
	for _, tr := range t.Triggers {
		tokens, _ := sqltext.Scan(tr.SQL, sqltext.Engine)
		for i := 0; i+1 < len(tokens); i++ {
			if tokens[i].Is("begin") {
				break
			}
			if !tokens[i].Is("update") || !tokens[i+1].Is("of") {
				continue
			}
			for j := i + 2; j < len(tokens) && !tokens[j].Is("on"); j++ {
				if slices.ContainsFunc(dropped, func(c *schema.Column) bool { return schema.SameName(c.Name, tokens[j].Value) }) {
					list = append(list, fmt.Sprintf("trigger %s of table %s (fires on updates of %s)", tr.Name, t.Name,
						tokens[j].Value))
				}
			}
		}
	}
	return list
}
