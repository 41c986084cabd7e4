package sqlite

import (
	"fmt"
	"slices"
	"strconv"
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
		case old == nil && c.Generated == nil && c.NotNull && !filled && c.Default == nil && c.Identity == nil:
			p.proof("prove that "+p.table.Name+" is empty", "", "true", "", engine.Proof{
				Rule: "rows-need-value", Column: c.Name, Message: fmt.Sprintf("table %s has %%d rows, and column %s is not null and says nothing for them", p.table.Name, c.Name),
				Cure: "give it a default, or using (expression), or add it nullable now and set not null later",
			})
		case filled && f.OnlyNull:
			p.castProof(c.Name, f.Expr, quote(c.Name)+" is null")
			p.fitProof(c, p.renderMarked(f.Expr), quote(c.Name)+" is null", f.Expr)
		case filled:
			only := ""
			if f.Kept != nil {
				only = "not exists (select 1" + p.keptFor(c, f.Kept) + ")"
			}
			if f.Expr != nil {
				p.castProof(c.Name, f.Expr, only)
			}
			if f.Cast {
				p.exactProof(old, c, value, only)
			}
			known := f.Expr
			if f.Kept != nil {
				known = nil
			}
			p.fitProof(c, value, "", known)
		case p.recomputed(c) && c.NotNull && c.Generated.Expr.Tree != nil:
			p.fitProof(c, p.substituted(c.Generated.Expr.Tree), "", nil)
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
	changed := p.changedColumns()
	affected := affected(func(uses func(string) bool) bool { return slices.ContainsFunc(changed, uses) })
	a := affected.of(p.after)
	if k := p.after.PrimaryKey; k != nil && (!sameKey(p.table.PrimaryKey, k) || affected.columns(k.Columns)) {
		p.duplicates("the primary key", k.Columns, nil, "")
	}
	p.proveUnique(merged(renamed(uniques, p.table.Uniques, sameKey), a.Uniques), merged(indexes, a.Indexes))
	p.proveChecks(merged(renamed(checks, p.table.Checks, func(a, b *schema.Check) bool { return p.sameExpr(&a.Expr, &b.Expr) }), a.Checks))
	p.proveReferences(merged(keys, a.ForeignKeys))
}

// renamed leaves out of what is added what was there under another name: it holds
// already.
func renamed[T any](added, before []T, same func(a, b T) bool) []T {
	return slices.DeleteFunc(added, func(a T) bool { return slices.ContainsFunc(before, func(b T) bool { return same(a, b) }) })
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

// recomputed reports whether a generated column of after gives other values than
// before, or is new.
func (p *planner) recomputed(c *schema.Column) bool {
	old := p.from(c)
	return c.Generated != nil && (old == nil || old.Generated == nil || !p.sameExpr(&old.Generated.Expr, &c.Generated.Expr))
}

// changedColumns lists the columns that were there and whose values change.
func (p *planner) changedColumns() []string {
	var list []string
	for _, c := range p.after.Columns {
		f, filled := p.fill(c)
		if p.from(c) != nil && (filled && !f.OnlyNull && !p.limitChanges(p.from(c), c) || p.recomputed(c)) {
			list = append(list, c.Name)
		}
	}
	for size := 0; size != len(list); {
		size = len(list)
		for _, c := range p.after.Columns {
			if c.Generated != nil && !slices.Contains(list, c.Name) && slices.ContainsFunc(list, c.Generated.Expr.Mentions) {
				list = append(list, c.Name)
			}
		}
	}
	return list
}

// exactProof asserts that no value is cut, rounded or changed by becoming another
// type.
func (p *planner) exactProof(old, c *schema.Column, value, only string) {
	x := quote(old.Name)
	number := "(case when typeof(" + x + ") = 'text' then cast(trim(" + x + ") as numeric) else " + x + " end)"
	condition := ""
	switch t := c.Type; {
	case t.IsInteger(), t.Name == "numeric", t.Name == "real", t.Name == "double precision":
		condition = number + " <> v"
	case t.Name == "boolean":
		condition = "lower(" + x + ") not in ('0', '1', 'true', 'false')"
	case t.Name == "date":
		condition = "typeof(" + x + ") <> 'text' or datetime(" + x + ") is null or datetime(" + x + ") <> datetime(v)"
	case t.Name == "timestamp", t.Name == "timestamp with time zone":
		condition = "typeof(" + x + ") <> 'text' or datetime(" + x + ") is null or strftime('%f', " + x + ") <> strftime('%f', v)"
	case t.Name == "time":
		condition = "typeof(" + x + ") <> 'text' or time(" + x + ") is null or strftime('%f', " + x + ") <> strftime('%f', v)"
	default:
		return
	}
	if only != "" {
		only = " where " + only
	}
	keys := sample(p.table)
	source := "(select " + aliased(keys) + ", " + x + ", " + value + " as v from " + quote(p.table.Name) + only + " limit -1)"
	where := " where " + x + " is not null and (" + condition + ")"
	p.addProof("prove that every "+c.Name+" stays what it is", engine.Proof{
		SQL:   "select " + keptSQL("key", len(keys)) + ", " + x + " from " + source + where + " limit 5",
		Count: "select count(*) from " + source + where, Keys: len(keys),
		Rule: "rows-would-break", Column: c.Name, Message: fmt.Sprintf("%s would be cut, rounded or changed by becoming %s in %%d rows of %s", c.Name, c.Type, p.table.Name),
		Cure: "say what they become: using (round(…)) or the like; or put those rows right with a backfill first",
	})
}

// columnValue gives what a column of after will hold, as SQL over before.
func (p *planner) columnValue(name string) string {
	c := p.after.Column(name)
	if value, ok := p.set[c.Name]; ok {
		return value
	}
	old := p.from(c)
	f, filled := p.fill(c)
	switch {
	case filled && f.OnlyNull:
		return "coalesce(" + quote(old.Name) + ", " + p.renderMarked(f.Expr) + ")"
	case c.Generated != nil && c.Generated.Expr.Tree != nil:
		return p.substituted(c.Generated.Expr.Tree)
	case old != nil && !filled:
		return p.own(old.Name)
	case c.Generated != nil:
		return "null"
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
			Reads:   []string{k.Table},
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
		switch {
		case p.source != nil:
			from := " from " + quote(p.source.Table.Name) + " as " + quote(p.source.Alias) + " where " + p.joined()
			if condition != "" {
				from += " and " + condition
			}
			value = "case when exists (select 1" + from + ") then (select " + value + from + ") else " + p.own(set.Column) + " end"
		case condition != "":
			value = "case when " + condition + " then " + value + " else " + quote(set.Column) + " end"
		}
		p.set[set.Column] = value
	}
	a := affected(func(uses func(column string) bool) bool {
		return slices.ContainsFunc(c.Set, func(a sqltext.Assignment) bool { return uses(a.Column) })
	}).of(t)
	p.proveUnique(a.Uniques, a.Indexes)
	p.proveChecks(a.Checks)
	p.proveReferences(a.ForeignKeys)
}

// renderMarked renders so that a cast that would fail is remembered and gives
// null.
func (p *planner) renderMarked(e sqltext.Expr) string {
	return strings.ReplaceAll(p.render(e, true), failFunction+"(", markFunction+"(")
}

// proof adds a step that reads rows of the table; condition selects those that
// break the rule, over columns of the table and v, the value.
func (p *planner) proof(what, value, condition, only string, proof engine.Proof) {
	keys := p.keys()
	list := strings.Join(keys, ", ")
	where := ""
	if only != "" {
		where = " where " + only
	}
	// The limit keeps SQLite from computing the value more than once a row.
	source := "(select " + aliased(keys) + ", " + value + " as v from " + p.rowsOf() + where + " limit -1)"
	proof.SQL = "select " + keptSQL("key", len(keys)) + ", v from " + source + " where " + condition + " limit 5"
	proof.Count = "select count(*) from " + source + " where " + condition
	if value == "" {
		proof.SQL = "select " + list + " from " + p.rowsOf() + " where " + condition + " limit 5"
		proof.Count = "select count(*) from " + p.rowsOf() + " where " + condition
	}
	proof.Keys = len(keys)
	p.addProof(what, proof)
}

func (p *planner) addProof(what string, proof engine.Proof) {
	proof.Table = p.table.Name
	if p.source != nil && p.source.File == "" {
		proof.Reads = append(proof.Reads, p.source.Table.Name)
	}
	// Without their index, looking kept values up would take the square of the rows.
	proof.Late = slices.ContainsFunc(p.indexed, func(kept string) bool { return strings.Contains(proof.SQL, quote(kept)) })
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
	back := p.change != nil && p.change.Back // what was there may come back, whatever it was
	if f := fits(col.Type, "v"); f != "" && !surelyFits(col.Type, e) && (col.Limit != "" || e != nil && col.Declared == "" && !back) {
		breaks = append(breaks, "not ("+f+")")
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

// surelyFits reports whether a plain value is one of the type: then no row has to be
// read to know.
func surelyFits(t sqltext.Type, e sqltext.Expr) bool {
	l, ok := e.(*sqltext.Literal)
	if !ok {
		return false
	}
	switch {
	case t.IsInteger() && l.Kind == sqltext.NumberLiteral:
		n, err := strconv.ParseInt(l.Text, 10, 64)
		return err == nil && n >= 0 && n <= 127
	case t.Name == "numeric" && l.Kind == sqltext.NumberLiteral:
		return !strings.ContainsAny(l.Text, ".eE") && (len(t.Args) == 0 || len(t.Args) == 2 && len(l.Text) <= t.Args[0]-t.Args[1])
	case t.Name == "enum":
		return slices.Contains(t.Values, l.Text)
	case t.IsText() && l.Kind == sqltext.StringLiteral:
		return len(t.Args) == 0 || len(l.Text) <= t.Args[0]
	}
	return false
}
