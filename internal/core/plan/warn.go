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

// warn adds what only the database can tell of a statement: rows that stay null,
// and triggers that a backfill fires.
func (p *Planner) warn(ctx context.Context, out *Plan, m *migration.Migration, st sqltext.Statement,
	c *schema.Change) error {
	note := func(level fault.Level, rule, cure, format string, args ...any) {
		f := at(m, st.Start(), fault.New(0, rule, cure, format, args...))
		f.Level = level
		out.Warnings = append(out.Warnings, f)
	}
	if t := c.Table; t != nil && t.Before != nil && t.After != nil {
		rows := p.rows[t.Before.Name]
		for _, col := range t.Added() {
			_, filled := t.Fill[col.Name]
			if rows > 0 && !filled && col.Default == nil && col.Generated == nil && !col.NotNull {
				note(fault.Note, "rows-stay-null", "write using (expression) to give them a value", "%d rows of %s will have no %s",
					rows, t.Before.Name, col.Name)
			}
		}
		for _, col := range t.Added() {
			if schema.HasName(t.Supplied, col.Name) {
				p.warnSupplied(note, t, col.Name)
			} else if p.in.Live && col.NotNull && col.Default == nil && col.Generated == nil && col.Identity == nil {
				note(fault.Warning, "inserts-need-value", "give it a default, or let the applications know the column first",
					"once this has run, an insert into %s that leaves %s out is refused", t.After.Name, col.Name)
			}
		}
		if list := stricter(t); p.in.Live && len(list) > 0 && out.Before.Table(t.Before.Name) != nil {
			note(fault.Note, "writes-will-fail", "deploy programs that keep to it first",
				"once this has run, writes of %s are refused that bring %s, whichever program sends them", t.After.Name,
				strings.Join(list, "; "))
		}
		if list := p.retyped(t); len(list) > 0 {
			note(fault.Note, "prepared-statements-fail", "let pools of connections begin anew once it has run, or prepare no "+
				"statements", "sessions that have prepared a statement which returns %s of %s are told once that its result has "+
				"another type", strings.Join(list, ", "), t.After.Name)
		}
		if len(t.Fill) > 0 {
			p.warnTriggers(note, t.Before, "update", nil)
		}
	}
	if err := p.warnAlong(ctx, note, c.Table); err != nil {
		return err
	}
	if err := p.warnLent(ctx, note, c); err != nil {
		return err
	}
	if c.Native != nil {
		for _, s := range out.Steps {
			if s.Untried != "" && s.Change == len(out.Records)-1 {
				note(fault.Note, "native-not-tried", "what builds on it goes into a migration of its own, after this one",
					"this statement was not tried beforehand, since %s: what it leads to is known once it has run", s.Untried)
			}
		}
	}
	if c.Rows != nil {
		var columns []string
		for _, s := range c.Rows.Set {
			columns = append(columns, s.Column)
		}
		p.warnTriggers(note, c.Rows.Table, "update", columns)
	}
	if err := p.slowLookups(ctx, out, m, st, c); err != nil {
		return err
	}
	if c.Delete != nil {
		p.warnTriggers(note, c.Delete.Table, "delete", nil)
	}
	if c.Insert != nil {
		p.warnTriggers(note, c.Insert.Table, "insert", nil)
	}
	return nil
}

// stricter names what writes may bring before a change and not after it: there is no shape in which a
// rule holds and does not.
func stricter(t *schema.TableChange) (list []string) {
	refused := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	for _, c := range t.After.Columns {
		old := t.Before.Column(t.From[c.Name])
		if old == nil {
			continue
		}
		if c.NotNull && !old.NotNull && c.Identity == nil {
			refused("null in %s", c.Name)
		}
		for _, v := range old.Type.Values {
			if c.Type.Name == "enum" && !slices.Contains(c.Type.Values, v) {
				refused("'%s' in %s", v, c.Name)
			}
		}
	}
	for _, k := range fresh(t.Before.Checks, t.After.Checks, func(k *schema.Check) string { return k.Name }) {
		refused("what breaks check %s", k.Name)
	}
	key := func(k *schema.Key) string { return k.Name }
	for _, k := range fresh(t.Before.Uniques, t.After.Uniques, key) {
		refused("the same %s twice", strings.Join(k.Columns, ", "))
	}
	for _, x := range t.After.Indexes {
		if old := t.Before.Index(x.Name); x.Unique && (old == nil || !old.Unique) {
			refused("the same key of %s twice", x.Name)
		}
	}
	reference := func(k *schema.ForeignKey) string { return k.Name }
	for _, k := range fresh(t.Before.ForeignKeys, t.After.ForeignKeys, reference) {
		refused("%s that is not in %s", strings.Join(k.Columns, ", "), k.Table)
	}
	return list
}

// fresh lists those of the parts of a table that have a name which none had before.
func fresh[T any](before, after []T, name func(T) string) (list []T) {
	for _, x := range after {
		if !slices.ContainsFunc(before, func(o T) bool { return schema.SameName(name(o), name(x)) }) {
			list = append(list, x)
		}
	}
	return list
}

// warnSuppliesNull says that nothing can be supplied where what the expression reads is null.
func (p *Planner) warnSuppliesNull(note func(fault.Level, string, string, string, ...any), t *schema.TableChange,
	column string) {
	if call, ok := t.Fill[column].Expr.(*sqltext.Call); ok && (call.Name == "coalesce" || call.Name == "concat") {
		return
	}
	var names []string
	for _, r := range sqltext.Refs(t.Fill[column].Expr) {
		if c := t.Before.Column(r.Column); c != nil && !c.NotNull && !schema.HasName(names, c.Name) {
			names = append(names, c.Name)
		}
	}
	if len(names) > 0 {
		note(fault.Note, "supplied-may-be-null", "let the expression give a value for null, with coalesce",
			"an insert that leaves out %s of %s may be refused where it gives null for %s", column, t.After.Name,
			strings.Join(names, ", "))
	}
}

// warnSupplied says when a column that is supplied may get something else than a trigger would make
// of its row.
func (p *Planner) warnSupplied(note func(fault.Level, string, string, string, ...any), t *schema.TableChange,
	column string) {
	triggers, _ := p.in.Engine.Supplying(t.After, map[string]sqltext.Expr{column: t.Fill[column].Expr})
	p.warnSuppliesNull(note, t, column)
	if len(triggers) > 0 {
		return // one that fires after all others
	}
	var names []string
	for _, tr := range t.Before.Triggers {
		if fires(tr.SQL, "insert", nil) {
			names = append(names, tr.Name)
		}
	}
	if len(names) > 0 {
		note(fault.Note, "supplied-before-triggers", "look at whether they write what its expression reads",
			"%s is supplied to inserts into %s that leave it out before %s act", column, t.After.Name, strings.Join(names, ", "))
	}
}

// warnMirrors says what programs may notice of columns that are kept under two names.
func (p *Planner) warnMirrors(out *Plan, m *migration.Migration, st sqltext.Statement, c *schema.MirrorChange) {
	note := func(level fault.Level, rule, cure, format string, args ...any) {
		f := at(m, st.Start(), fault.New(0, rule, cure, format, args...))
		f.Level = level
		out.Warnings = append(out.Warnings, f)
	}
	var columns, triggers []string
	for _, x := range c.Pairs {
		columns = append(columns, x.Column)
	}
	p.warnTriggers(note, c.Before, "update", columns)
	for _, tr := range c.Before.Triggers {
		triggers = append(triggers, tr.Name)
	}
	if len(triggers) > 0 {
		note(fault.Note, "trigger-names-column", "make them do without the old name before it is settled",
			"triggers of %s (%s) may name %s, which the server does not tell", c.Before.Name, strings.Join(triggers, ", "),
			strings.Join(columns, ", "))
	}
	for _, x := range c.After.Indexes {
		if x.Unique && c.Before.Index(x.Name) == nil {
			note(fault.Note, "upserts-may-clash", "let them try again",
				"while the overlap is open, two programs that insert the same new value of %s at the same moment with on "+
					"conflict may be told that it is there already",
				strings.Join(columns, ", "))
			break
		}
	}
}

// warnAlong names what goes with the columns that are dropped, and comes back with none.
func (p *Planner) warnAlong(ctx context.Context, note func(fault.Level, string, string, string, ...any),
	t *schema.TableChange) error {
	bearer, ok := p.in.DB.(engine.Bearer) // nobody reads the warnings of a plan that is made again
	if !ok || t == nil || t.Before == nil || t.After == nil {
		return nil
	}
	var columns []string
	for _, c := range t.Dropped() {
		columns = append(columns, c.Name)
	}
	if len(columns) == 0 {
		return nil
	}
	list, err := bearer.GoesAlong(ctx, t.Before.Name, columns)
	if len(list) > 0 {
		note(fault.Warning, "goes-along", "write down how to make it again: a retreat brings the column and its values, "+
			"and not this", "with %s goes %s", strings.Join(columns, ", "), strings.Join(list, ", "))
	}
	return err
}

// warnLent names code of others that a change of their tables would run with all the rights of
// Lastboard's account.
func (p *Planner) warnLent(ctx context.Context, note func(fault.Level, string, string, string, ...any),
	c *schema.Change) error {
	lender, ok := p.in.DB.(engine.Lender)
	if !ok {
		return nil
	}
	for _, table := range c.Subjects() {
		owner, code, err := lender.Lends(ctx, table)
		if err != nil {
			return err
		}
		if len(code) > 0 {
			note(fault.Warning, "runs-for-others", "run migrations as a login that is a member of "+owner+" and no superuser",
				"table %s belongs to %s, and a superuser changes it: code of others runs with all rights: %s", table, owner,
				strings.Join(code, ", "))
		}
	}
	return nil
}

// warnTriggers names the user's own triggers that writing rows would fire.
func (p *Planner) warnTriggers(note func(fault.Level, string, string, string, ...any), t *schema.Table, event string,
	columns []string) {
	var names []string
	for _, tr := range t.Triggers {
		if fires(tr.SQL, event, columns) {
			names = append(names, tr.Name)
		}
	}
	if len(names) > 0 {
		note(fault.Warning, "fires-triggers", "drop them with a native statement before it and make them again after "+
			"it, if they should not act",
			"writing rows of %s fires %s once for each", t.Name, strings.Join(names, ", "))
	}
}

// fires reads a trigger's head: before or after an event, for an update perhaps of
// some columns alone.
func fires(sql, event string, columns []string) bool {
	head, _, _ := strings.Cut(schema.Words(sql), " begin ")
	_, rest, found := strings.Cut(" "+head+" ", " "+event+" ")
	if !found {
		return false
	}
	of, _, _ := strings.Cut(rest, " on ")
	list, limited := strings.CutPrefix(strings.TrimSpace(of), "of ")
	if !limited {
		return true
	}
	for name := range strings.SplitSeq(list, ",") {
		if schema.HasName(columns, strings.TrimSpace(name)) {
			return true
		}
	}
	return false
}

// otherMeaning refuses on a live database that a column keeps its name and its values
// become something else.
func (p *Planner) otherMeaning(m *migration.Migration, st sqltext.Statement) *fault.Fault {
	alter, ok := st.(*sqltext.AlterTable)
	if !ok || !p.in.Live {
		return nil
	}
	for _, a := range alter.Actions {
		t, ok := a.(*sqltext.SetType)
		if !ok || t.Using == nil || schema.SameMeaning(t.Using, t.Column) {
			continue
		}
		renamed := slices.ContainsFunc(alter.Actions, func(o sqltext.Action) bool {
			r, ok := o.(*sqltext.RenameColumn)
			return ok && schema.SameName(r.Column, t.Column)
		})
		if !renamed {
			return at(m, t.At, fault.New(fault.Refused, "meaning-changes", "rename it in the same statement",
				"%s keeps its name on a live database, and its values would become something else", t.Column))
		}
	}
	return nil
}

// retyped lists the columns of a live table that get another type under their name, where the engine lets
// prepared statements fail for it.
func (p *Planner) retyped(t *schema.TableChange) (list []string) {
	if !p.in.Live || !p.in.Engine.About().Traits.Prepares {
		return nil
	}
	for _, c := range t.After.Columns {
		if old := t.Before.Column(t.From[c.Name]); old != nil && old.Name == c.Name && !old.Type.Equal(c.Type) {
			list = append(list, c.Name)
		}
	}
	return list
}
