package sqlite

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// alterProofs asserts, on the rows as they are before anything is changed, that
// they can become what they are meant to be.
func (p *planner) alterProofs() {
	for _, c := range p.after.Columns {
		old := p.from(c)
		f, filled := p.fill(c)
		value, _ := p.value(c, true)
		switch {
		case old == nil && c.Generated == nil && c.NotNull && !filled && c.Default == nil:
			p.proof("prove that "+p.table.Name+" is empty", "", "true", "", engine.Proof{
				Rule: "rows-need-value", Column: c.Name, Message: fmt.Sprintf("table %s has %%d rows, and column %s is not null and says nothing for them", p.table.Name, c.Name),
				Cure: "give it a default, or using (expression), or add it nullable now and set not null later",
			})
		case filled && f.OnlyNull:
			p.castProof(c.Name, f.Expr, quote(c.Name)+" is null")
			p.fitProof(c, p.renderMarked(f.Expr), quote(c.Name)+" is null", f.Expr)
		case filled:
			if f.Expr != nil {
				p.castProof(c.Name, f.Expr, "")
			}
			known := f.Expr
			if f.Kept != nil {
				known = nil
			}
			p.fitProof(c, value, "", known)
		case old != nil && c.NotNull && !old.NotNull:
			p.proof("prove that "+c.Name+" has no null", "", quote(c.Name)+" is null", "", engine.Proof{
				Rule: "rows-would-break", Column: c.Name, Message: fmt.Sprintf("%s is null in %%d rows of %s", c.Name, p.table.Name),
				Cure: "say what they get: set not null using (expression), or fill them with a backfill first",
			})
		}
	}
	_, uniques := p.uniques()
	_, indexes := p.indexes()
	_, checks := p.checks()
	_, keys := p.foreignKeys()
	p.proveUnique(uniques, indexes)
	p.proveChecks(checks)
	p.proveReferences(keys)
}

// columnValue gives what a column of after will hold, as SQL over before.
func (p *planner) columnValue(name string) string {
	c := p.after.Column(name)
	if value, ok := p.set[c.Name]; ok {
		return value
	}
	if old := p.from(c); old != nil {
		if f, ok := p.fill(c); ok && f.OnlyNull {
			return "coalesce(" + quote(old.Name) + ", " + p.renderMarked(f.Expr) + ")"
		}
		return quote(old.Name)
	}
	if c.Generated != nil {
		if c.Generated.Expr.Tree == nil {
			return "null"
		}
		return p.substituted(c.Generated.Expr.Tree)
	}
	value, _ := p.value(c, true)
	return value
}

// substituted renders an expression over after as one over before.
func (p *planner) substituted(e sqltext.Expr) string {
	r := renderer{table: p.after, now: p.now(), column: p.columnValue}
	return r.expr(e, bindOr)
}

func (p *planner) proveUnique(uniques []*schema.Key, indexes []*schema.Index) {
	for _, k := range uniques {
		p.duplicates("constraint "+k.Name, k.Columns, nil, "")
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
				values = append(values, p.substituted(part.Expr.Tree))
			} else {
				columns = append(columns, part.Column)
				values = append(values, p.columnValue(part.Column))
			}
		}
		only := ""
		if x.Where != nil {
			if x.Where.Tree == nil {
				return
			}
			only = p.substituted(x.Where.Tree)
		}
		p.duplicates("index "+x.Name, columns, values, only)
	}
}

// duplicates asserts that no two rows have the same values; rows with a null are
// like no other. It shows the worst five values.
func (p *planner) duplicates(what string, columns, values []string, only string) {
	if values == nil {
		for _, c := range columns {
			values = append(values, p.columnValue(c))
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
	groups := "(select " + strings.Join(names, ", ") + ", count(*) as n from (select " + strings.Join(list, ", ") + " from " + quote(p.table.Name) + where +
		" limit -1) where " + strings.Join(present, " and ") + " group by " + strings.Join(names, ", ") + " having count(*) > 1)"
	p.addProof("prove that no two rows have the same "+strings.Join(columns, ", "), engine.Proof{
		SQL:   "select " + strings.Join(names, ", ") + ", n || ' times' from " + groups + " order by n desc, 1 limit 5",
		Count: "select coalesce(sum(n), 0) from " + groups, Keys: len(names),
		Rule:    "rows-would-break",
		Message: fmt.Sprintf("%s allows each %s once, and %%d rows of %s share theirs with another", what, strings.Join(columns, ", "), p.table.Name),
		Cure:    "make them differ with a backfill first",
	})
}

func (p *planner) proveChecks(checks []*schema.Check) {
	for _, k := range checks {
		if k.Expr.Tree == nil {
			continue
		}
		p.proof("prove that every row passes check "+k.Name, "", "not ("+p.substituted(k.Expr.Tree)+")", "", engine.Proof{
			Rule: "rows-would-break", Message: fmt.Sprintf("check (%s) fails for %%d rows of %s", k.Expr, p.table.Name),
			Cure: "put them right with a backfill first",
		})
	}
}

func (p *planner) proveReferences(foreignKeys []*schema.ForeignKey) {
	for _, k := range foreignKeys {
		// The values are computed apart, where no column of the parent can be taken
		// for one of the table.
		var present, match, values, names []string
		for i, c := range k.Columns {
			name := fmt.Sprintf("lastboard_v%d", i+1)
			names = append(names, name)
			values = append(values, p.columnValue(c)+" as "+name)
			present = append(present, name+" is not null")
			if i < len(k.References) {
				match = append(match, "p."+quote(k.References[i])+" = "+name)
			}
		}
		keys := sample(p.table)
		source := " from (select " + aliased(keys) + ", " + strings.Join(values, ", ") + " from " + quote(p.table.Name) + " limit -1) where " +
			strings.Join(present, " and ") + " and not exists (select 1 from " + quote(k.Table) + " p where " + strings.Join(match, " and ") + ")"
		p.addProof("prove that every row of "+p.table.Name+" refers to a row of "+k.Table, engine.Proof{
			SQL:   "select " + keptSQL("key", len(keys)) + ", " + strings.Join(names, ", ") + source + " limit 5",
			Count: "select count(*)" + source, Keys: len(keys),
			Rule:    "rows-would-break",
			Message: fmt.Sprintf("no row of %s has the %s of %%d rows of %s", k.Table, strings.Join(k.Columns, ", "), p.table.Name),
			Cure:    "give them another with a backfill first, or take them away",
		})
	}
}

// rowProofs asserts before anything is changed that what a backfill computes can
// be held: by the columns, and by the constraints on them.
func (p *planner) rowProofs(c *schema.RowChange, condition string) {
	t := c.Table
	p.change = &schema.TableChange{Before: t, After: t, From: map[string]string{}}
	for _, name := range t.ColumnNames() {
		p.change.From[name] = name
	}
	p.after, p.set = t, map[string]string{}
	for _, set := range c.Set {
		value := p.renderMarked(set.Value)
		p.castProof(set.Column, set.Value, condition)
		p.fitProof(t.Column(set.Column), value, condition, set.Value)
		if condition != "" {
			value = "case when " + condition + " then " + value + " else " + quote(set.Column) + " end"
		}
		p.set[set.Column] = value
	}
	concerned := func(uses func(column string) bool) bool {
		return slices.ContainsFunc(c.Set, func(a sqltext.Assignment) bool { return uses(a.Column) })
	}
	named := func(columns []string) func(string) bool {
		return func(column string) bool { return schema.HasName(columns, column) }
	}
	var uniques []*schema.Key
	for _, k := range t.Uniques {
		if concerned(named(k.Columns)) {
			uniques = append(uniques, k)
		}
	}
	var indexes []*schema.Index
	for _, x := range t.Indexes {
		if x.Unique && concerned(x.Uses) {
			indexes = append(indexes, x)
		}
	}
	p.proveUnique(uniques, indexes)
	var checks []*schema.Check
	for _, k := range t.Checks {
		if concerned(k.Expr.Mentions) {
			checks = append(checks, k)
		}
	}
	p.proveChecks(checks)
	var keys []*schema.ForeignKey
	for _, k := range t.ForeignKeys {
		if concerned(named(k.Columns)) {
			keys = append(keys, k)
		}
	}
	p.proveReferences(keys)
}

// renderMarked renders so that a cast that would fail is remembered and gives
// null.
func (p *planner) renderMarked(e sqltext.Expr) string {
	return strings.ReplaceAll(p.render(e, true), failFunction+"(", markFunction+"(")
}

// proof adds a step that reads rows of the table; condition selects those that
// break the rule, over columns of the table and v, the value.
func (p *planner) proof(what, value, condition, only string, proof engine.Proof) {
	keys := sample(p.table)
	list := strings.Join(keys, ", ")
	where := ""
	if only != "" {
		where = " where " + only
	}
	// The limit keeps SQLite from computing the value more than once a row.
	source := "(select " + aliased(keys) + ", " + value + " as v from " + quote(p.table.Name) + where + " limit -1)"
	proof.SQL = "select " + keptSQL("key", len(keys)) + ", v from " + source + " where " + condition + " limit 5"
	proof.Count = "select count(*) from " + source + " where " + condition
	if value == "" {
		proof.SQL = "select " + list + " from " + quote(p.table.Name) + " where " + condition + " limit 5"
		proof.Count = "select count(*) from " + quote(p.table.Name) + " where " + condition
	}
	proof.Keys = len(keys)
	p.addProof(what, proof)
}

func (p *planner) addProof(what string, proof engine.Proof) {
	proof.Table = p.table.Name
	s := p.add(engine.ProofOf, scanRate, what, proof.SQL)
	s.Lock, s.WritersWait = "none", engine.WaitNo
	s.Proof = &proof
}

func aliased(keys []string) string {
	list := make([]string, len(keys))
	for i, k := range keys {
		list[i] = fmt.Sprintf("%s as key%d", k, i+1)
	}
	return strings.Join(list, ", ")
}

// mayBeNull reports whether an expression over the table could give null. False is
// a promise: it saves a read of every row.
func (p *planner) mayBeNull(e sqltext.Expr) bool {
	any := func(list ...sqltext.Expr) bool { return slices.ContainsFunc(list, p.mayBeNull) }
	switch e := e.(type) {
	case *sqltext.Literal:
		return e.Kind == sqltext.NullLiteral
	case *sqltext.Typed, *sqltext.Now:
		return false
	case *sqltext.Ref:
		c := p.table.Column(e.Column)
		return c == nil || !c.NotNull
	case *sqltext.Binary:
		switch e.Op {
		case "||", "+", "-", "*", "=", "<>", "<", "<=", ">", ">=", "and", "or":
			return any(e.L, e.R)
		}
	case *sqltext.Substring:
		return any(e.X, e.From) || e.For != nil && p.mayBeNull(e.For)
	case *sqltext.Cast:
		return !e.Type.IsText() || p.mayBeNull(e.X)
	case *sqltext.Trim:
		return e.Chars != nil || p.mayBeNull(e.X)
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

// castProof asserts that no text is cast to a number that it is not.
func (p *planner) castProof(column string, e sqltext.Expr, only string) {
	marked := p.renderMarked(e)
	if !strings.Contains(marked, markFunction+"(") {
		return
	}
	p.proof("prove that every text for "+column+" can be converted", failedFunction+"("+marked+")", "v is not null", only, engine.Proof{
		Rule: "rows-would-break", Column: column, Message: "the text for column " + column + " is no number in %d rows of " + p.table.Name,
		Cure: "put those rows right with a backfill first, or say what they get with case",
	})
}

// fitProof asserts that a column can hold what is computed for it.
func (p *planner) fitProof(col *schema.Column, value, only string, e sqltext.Expr) {
	var breaks []string
	if col.NotNull && (e == nil || p.mayBeNull(e)) {
		breaks = append(breaks, "v is null")
	}
	if l := limit(col.Type, "v"); l != "" && col.Limit != "" {
		breaks = append(breaks, "not ("+l+")")
	}
	if len(breaks) == 0 {
		return
	}
	holds := col.Type.String()
	if col.NotNull {
		holds += " not null"
	}
	p.proof(fmt.Sprintf("prove that %s can hold every value", col.Name), value, strings.Join(breaks, " or "), only, engine.Proof{
		Rule: "rows-would-break", Column: col.Name, Message: fmt.Sprintf("column %s (%s) cannot hold what %%d rows of %s would get", col.Name, holds, p.table.Name),
		Cure: "change the expression, or put those rows right with a backfill first",
	})
}
