package planning

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// AlterProofs asserts, on the rows as they are before anything is changed, that
// they can become what they are meant to be.
func (p *Planner) AlterProofs() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		f, filled := p.FillOf(c)
		value, _ := p.Value(c, Proven)
		switch {
		case old == nil && c.Generated == nil && c.NotNull && !filled && c.Default == nil && c.Identity == nil:
			p.Proof("prove that "+p.Table.Name+" is empty", "", "true", "", engine.Proof{
				Rule: "rows-need-value", Column: c.Name, Message: fmt.Sprintf(
					"table %s has %%d rows, and column %s is not null and says nothing for them", p.Table.Name, c.Name),
				Cure: "give it a default, or using (expression), or add it nullable now and set not null later",
			})
		case filled && f.OnlyNull:
			p.CastProof(c.Name, f.Expr, p.Column(c.Name)+" is null")
			p.FitProof(c, p.Render(f.Expr, Proven), p.Column(c.Name)+" is null", f.Expr)
		case filled && p.cannotFail(old, c, f):
		case filled:
			only := ""
			if f.Kept != nil {
				only = "not exists (select 1" + p.KeptFor(c, f.Kept) + ")"
			}
			if f.Expr != nil {
				p.CastProof(c.Name, f.Expr, only)
			}
			if f.Cast {
				p.ExactProof(old, c, value, only)
			}
			if f.Expr == nil {
				only = ""
			}
			p.FitProof(c, value, only, f.Expr) // what is kept fits, since it was there
		case p.Recomputed(c) && c.NotNull && c.Generated.Expr.Tree != nil:
			p.FitProof(c, p.Substituted(c.Generated.Expr.Tree), "", nil)
		case old != nil && c.NotNull && !old.NotNull:
			p.Proof("prove that "+c.Name+" has no null", "", p.Column(c.Name)+" is null", "", engine.Proof{
				Rule: "rows-would-break", Column: c.Name, Message: fmt.Sprintf("%s is null in %%d rows of %s", c.Name,
					p.Table.Name),
				Cure: "say what they get: set not null using (expression), or fill them with a backfill first",
			})
		}
	}
	_, uniques := p.Uniques()
	_, indexes := p.Indexes()
	_, checks := p.Checks()
	_, keys := p.ForeignKeys()
	changed := p.ChangedColumns()
	affected := affected(func(uses func(string) bool) bool { return slices.ContainsFunc(changed, uses) })
	a := affected.of(p.After)
	if k := p.After.PrimaryKey; k != nil && (!SameKey(p.Table.PrimaryKey, k) || affected.columns(k.Columns)) {
		p.Duplicates("the primary key", k.Columns, nil, "")
	}
	p.ProveUnique(merged(renamed(uniques, p.Table.Uniques, SameKey), a.Uniques), merged(indexes, a.Indexes))
	p.ProveChecks(merged(renamed(checks, p.Table.Checks,
		func(a, b *schema.Check) bool { return p.SameExpr(&a.Expr, &b.Expr) }), a.Checks))
	p.ProveReferences(merged(keys, a.ForeignKeys))
}

// cannotFail reports whether every value of a column is one of its new type just as it is.
func (p *Planner) cannotFail(old, c *schema.Column, f schema.Fill) bool {
	return old != nil && f.Cast && f.Kept == nil && (old.NotNull || !c.NotNull) && schema.Widens(old.Type, c.Type) &&
		p.Enforces(p.Table, old)
}

// renamed leaves out of what is added what was there under another name: it holds
// already.
func renamed[T any](added, before []T, same func(a, b T) bool) []T {
	return slices.DeleteFunc(added, func(a T) bool {
		return slices.ContainsFunc(before,
			func(b T) bool { return same(a, b) })
	})
}

func merged[T comparable](a, b []T) []T {
	for _, x := range b {
		if !slices.Contains(a, x) {
			a = append(a, x)
		}
	}
	return a
}

// affected tells whether any of the columns that change is used by something.
type affected func(uses func(column string) bool) bool

func (a affected) columns(names []string) bool {
	return a(func(column string) bool { return schema.HasName(names, column) })
}

// of gives the constraints and unique indexes of a table that are affected.
func (a affected) of(t *schema.Table) *schema.Table {
	out := &schema.Table{}
	for _, k := range t.Uniques {
		if a.columns(k.Columns) {
			out.Uniques = append(out.Uniques, k)
		}
	}
	for _, x := range t.Indexes {
		if x.Unique && a(x.Uses) {
			out.Indexes = append(out.Indexes, x)
		}
	}
	for _, k := range t.Checks {
		if a(k.Expr.Mentions) {
			out.Checks = append(out.Checks, k)
		}
	}
	for _, k := range t.ForeignKeys {
		if a.columns(k.Columns) {
			out.ForeignKeys = append(out.ForeignKeys, k)
		}
	}
	return out
}

// Recomputed reports whether a generated column of after gives other values than
// before, or is new.
func (p *Planner) Recomputed(c *schema.Column) bool {
	old := p.From(c)
	return c.Generated != nil && (old == nil || old.Generated == nil ||
		!p.SameExpr(&old.Generated.Expr, &c.Generated.Expr))
}

// ChangedColumns lists the columns that were there and whose values change.
func (p *Planner) ChangedColumns() []string {
	var list []string
	for _, c := range p.After.Columns {
		f, filled := p.FillOf(c)
		if p.From(c) != nil && (filled && !f.OnlyNull && !p.LimitChanges(p.From(c), c) || p.Recomputed(c)) {
			list = append(list, c.Name)
		}
	}
	for size := 0; size != len(list); {
		size = len(list)
		for _, c := range p.After.Columns {
			if c.Generated != nil && !slices.Contains(list, c.Name) && slices.ContainsFunc(list, c.Generated.Expr.Mentions) {
				list = append(list, c.Name)
			}
		}
	}
	return list
}

// fresh is what a proof calls the value that a row would get; no column has that name.
const fresh = "lastboard_value"

// ColumnValue gives what a column of after will hold, as SQL over before.
func (p *Planner) ColumnValue(name string) string {
	c := p.After.Column(name)
	if value, ok := p.Set[c.Name]; ok {
		return value
	}
	old := p.From(c)
	f, filled := p.FillOf(c)
	switch {
	case filled && f.OnlyNull:
		return "coalesce(" + p.Column(old.Name) + ", " + p.Render(f.Expr, Proven) + ")"
	case c.Generated != nil && c.Generated.Expr.Tree != nil:
		return p.Substituted(c.Generated.Expr.Tree)
	case old != nil && !filled:
		return p.Own(old.Name)
	case c.Generated != nil:
		return "null"
	}
	value, _ := p.Value(c, Proven)
	return value
}

// Substituted renders an expression over after as one over before.
func (p *Planner) Substituted(e sqltext.Expr) string {
	return p.write(e, Scope{Table: p.After, Now: p.Now(), Value: p.ColumnValue})
}

func (p *Planner) ProveUnique(uniques []*schema.Key, indexes []*schema.Index) {
	for _, k := range uniques {
		p.Duplicates("constraint "+k.Name, k.Columns, nil, "")
	}
	for _, x := range indexes {
		if !x.Unique {
			continue
		}
		var columns []string
		var values []string
		for _, part := range x.Parts {
			if part.Expr != nil && part.Expr.Tree == nil {
				return
			}
			if part.Expr != nil {
				columns = append(columns, part.Expr.String())
				values = append(values, p.Substituted(part.Expr.Tree))
			} else {
				columns = append(columns, part.Column)
				values = append(values, p.ColumnValue(part.Column))
			}
		}
		only := ""
		if x.Where != nil {
			if x.Where.Tree == nil {
				return
			}
			only = p.Substituted(x.Where.Tree)
		}
		p.Duplicates("index "+x.Name, columns, values, only)
	}
}

// Duplicates asserts that no two rows have the same values; rows with a null are
// like no other. It shows the worst five values.
func (p *Planner) Duplicates(what string, columns, values []string, only string) {
	if values == nil {
		for _, c := range columns {
			values = append(values, p.ColumnValue(c))
		}
	}
	var names, present []string
	var list []string
	for i, v := range values {
		names = append(names, fmt.Sprintf("v%d", i+1))
		list = append(list, fmt.Sprintf("%s as v%d", v, i+1))
		present = append(present, fmt.Sprintf("v%d is not null", i+1))
	}
	where := ""
	if only != "" {
		where = " where " + only
	}
	groups := "(select " + strings.Join(names, ", ") + ", count(*) as n from (select " + strings.Join(list, ", ") +
		" from " + p.Name(p.Table.Name) + where +
		p.Once() + ") as lastboard_rows where " + strings.Join(present, " and ") + " group by " + strings.Join(names, ", ") +
		" having count(*) > 1) as lastboard_groups"
	p.AddProof("prove that no two rows have the same "+strings.Join(columns, ", "), engine.Proof{
		SQL:   "select " + strings.Join(names, ", ") + ", n || ' times' from " + groups + " order by n desc, 1 limit 5",
		Count: "select coalesce(sum(n), 0) from " + groups, Keys: len(names),
		Rule: "rows-would-break",
		Message: fmt.Sprintf("%s allows each %s once, and %%d rows of %s share theirs with another", what,
			strings.Join(columns, ", "), p.Table.Name),
		Cure: "make them differ with a backfill first",
	})
}

func (p *Planner) ProveChecks(checks []*schema.Check) {
	for _, k := range checks {
		if k.Expr.Tree == nil {
			continue
		}
		p.Proof("prove that every row passes check "+k.Name, "", "not ("+p.Substituted(k.Expr.Tree)+")", "", engine.Proof{
			Rule: "rows-would-break", Message: fmt.Sprintf("check (%s) fails for %%d rows of %s", k.Expr, p.Table.Name),
			Cure: "put them right with a backfill first",
		})
	}
}

func (p *Planner) ProveReferences(foreignKeys []*schema.ForeignKey) {
	for _, k := range foreignKeys {
		// The values are computed apart, where no column of the parent can be taken
		// for one of the table.
		var present, match, values, names []string
		for i, c := range k.Columns {
			name := fmt.Sprintf("lastboard_v%d", i+1)
			names = append(names, name)
			value := p.ColumnValue(c)
			if value == "null" {
				values = nil
				break // nothing refers to nothing
			}
			values = append(values, value+" as "+name)
			present = append(present, name+" is not null")
			if i < len(k.References) {
				match = append(match, "p."+p.Column(k.References[i])+" = "+name)
			}
		}
		if values == nil {
			continue
		}
		keys := p.Sample(p.Table)
		source := " from (select " + aliased(keys) + ", " + strings.Join(values, ", ") + " from " + p.Name(p.Table.Name) +
			p.Once() + ") as lastboard_rows where " +
			strings.Join(present, " and ") + " and not exists (select 1 from " + p.Name(k.Table) + " p where " +
			strings.Join(match, " and ") + ")"
		p.AddProof("prove that every row of "+p.Table.Name+" refers to a row of "+k.Table, engine.Proof{
			SQL:   "select " + KeptSQL("lastboard_key", len(keys)) + ", " + strings.Join(names, ", ") + source + " limit 5",
			Count: "select count(*)" + source, Keys: len(keys),
			Rule:  "rows-would-break",
			Reads: []string{k.Table},
			Message: fmt.Sprintf("no row of %s has the %s of %%d rows of %s", k.Table, strings.Join(k.Columns, ", "),
				p.Table.Name),
			Cure: "give them another with a backfill first, or take them away",
		})
	}
}

// RowProofs asserts before anything is changed that what a backfill computes can
// be held: by the columns, and by the constraints on them.
func (p *Planner) RowProofs(c *schema.RowChange, condition string) {
	t := c.Table
	p.Change = &schema.TableChange{Before: t, After: t, From: map[string]string{}}
	for _, name := range t.ColumnNames() {
		p.Change.From[name] = name
	}
	p.After, p.Set = t, map[string]string{}
	for _, set := range c.Set {
		value := p.Render(set.Value, Proven)
		p.CastProof(set.Column, set.Value, condition)
		p.FitProof(t.Column(set.Column), value, condition, set.Value)
		switch {
		case p.Source != nil:
			from := " from " + p.Name(p.Source.Table.Name) + " as " + p.Column(p.Source.Alias) + " where " + p.Joined()
			if condition != "" {
				from += " and " + condition
			}
			value = "case when exists (select 1" + from + ") then (select " + value + from + ") else " + p.Own(set.Column) +
				" end"
		case condition != "":
			value = "case when " + condition + " then " + value + " else " + p.Column(set.Column) + " end"
		}
		p.Set[set.Column] = value
	}
	a := affected(func(uses func(column string) bool) bool {
		return slices.ContainsFunc(c.Set, func(a sqltext.Assignment) bool { return uses(a.Column) })
	}).of(t)
	p.ProveUnique(a.Uniques, a.Indexes)
	p.ProveChecks(a.Checks)
	p.ProveReferences(a.ForeignKeys)
}

// Proof adds a step that reads rows of the table; condition selects those that
// break the rule, over columns of the table and the value, which is called fresh.
func (p *Planner) Proof(what, value, condition, only string, proof engine.Proof) {
	keys := p.Keys()
	list := strings.Join(keys, ", ")
	where := ""
	if only != "" {
		where = " where " + only
	}
	source := "(select " + aliased(keys) + ", " + value + " as " + fresh + " from " + p.RowsOf() + where + p.Once() +
		") as lastboard_rows"
	proof.SQL = "select " + KeptSQL("lastboard_key", len(keys)) + ", " + fresh + " from " + source + " where " +
		condition + " limit 5"
	proof.Count = "select count(*) from " + source + " where " + condition
	if value == "" {
		proof.SQL = "select " + list + " from " + p.RowsOf() + " where " + condition + " limit 5"
		proof.Count = "select count(*) from " + p.RowsOf() + " where " + condition
	}
	proof.Keys = len(keys)
	p.AddProof(what, proof)
}

func (p *Planner) AddProof(what string, proof engine.Proof) {
	proof.Table = p.Table.Name
	if p.Source != nil && p.Source.File == "" {
		proof.Reads = append(proof.Reads, p.Source.Table.Name)
	}
	// Without their index, looking kept values up would take the square of the rows.
	proof.Late = proof.Late || slices.ContainsFunc(p.Indexed, func(kept string) bool {
		return strings.Contains(proof.SQL, p.Name(kept))
	})
	s := p.Add(engine.ProofOf, p.Rates.Scan, what, proof.SQL)
	s.Lock, s.WritersWait = "none", engine.WaitNo
	s.Proof = &proof
}

func aliased(keys []string) string {
	list := make([]string, len(keys))
	for i, k := range keys {
		list[i] = fmt.Sprintf("%s as lastboard_key%d", k, i+1)
	}
	return strings.Join(list, ", ")
}

// MayBeNull reports whether an expression over the table could give null. False is
// a promise: it saves a read of every row.
func (p *Planner) MayBeNull(e sqltext.Expr) bool {
	any := func(list ...sqltext.Expr) bool { return slices.ContainsFunc(list, p.MayBeNull) }
	switch e := e.(type) {
	case *sqltext.Literal:
		return e.Kind == sqltext.NullLiteral
	case *sqltext.Typed, *sqltext.Now:
		return false
	case *sqltext.Ref:
		c := p.Table.Column(e.Column)
		return c == nil || !c.NotNull
	case *sqltext.Binary:
		switch e.Op {
		case "||", "+", "-", "*", "=", "<>", "<", "<=", ">", ">=", "and", "or":
			return any(e.L, e.R)
		}
	case *sqltext.Substring:
		return any(e.X, e.From) || e.For != nil && p.MayBeNull(e.For)
	case *sqltext.Cast:
		return !e.Type.IsText() || p.MayBeNull(e.X)
	case *sqltext.Trim:
		return e.Chars != nil || p.MayBeNull(e.X)
	case *sqltext.Call:
		switch e.Name {
		case "upper", "lower", "char_length", "length":
			return any(e.Args...)
		case "concat":
			return false
		}
	}
	return true
}

// ProveNumber asserts, before any other step, that no row has a number from n on.
func (p *Planner) ProveNumber(column string, n int64) {
	table := p.Change.Before.Name
	number, rows := p.Column(column), p.Name(table)
	p.AddProof(fmt.Sprintf("prove that no row has a %s of %d or above", column, n), engine.Proof{
		SQL:   fmt.Sprintf("select max(%s) from %s having max(%s) >= %d", number, rows, number, n),
		Count: fmt.Sprintf("select count(*) from %s where %s >= %d", rows, number, n),
		Rule:  "number-in-use", Column: column, Message: fmt.Sprintf(
			"%%d rows of %s have a %s of %d or above: the numbers would meet them", table, column, n),
		Cure: "go on from a number above the greatest in use, which is shown",
	})
	// A proof reads the rows as they are before the change.
	last := len(p.Steps) - 1
	p.Steps = slices.Insert(p.Steps[:last], 0, p.Steps[last])
}

// Assertion gives the step of an assert, whose query gives a row when it does not hold.
func Assertion(a *sqltext.Assert, query string) *engine.Step {
	message := a.Message
	if message == "" {
		message = "this does not hold: " + sqltext.PrintExpr(a.Expr)
	}
	return &engine.Step{
		Kind: engine.ProofOf, What: "assert " + sqltext.PrintExpr(a.Expr), SQL: []string{query}, Lock: "none",
		WritersWait: engine.WaitNo,
		Proof: &engine.Proof{SQL: query, Count: query, Keys: 1, Message: message, Rule: "assertion-fails",
			Cure: "put the rows right, or the assertion"},
	}
}
