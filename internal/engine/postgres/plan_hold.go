package postgres

import (
	"slices"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// converted lists the columns that were there and whose every value is written anew.
func (p *planner) converted() []*schema.Column {
	var list []*schema.Column
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && !f.OnlyNull && p.From(c) != nil {
			list = append(list, c)
		}
	}
	return list
}

// notNulls makes columns not null that now can be.
func (p *planner) notNulls(columns []*schema.Column) {
	for _, c := range columns {
		if p.isRemade(c) || !p.becomesNotNull(c) {
			continue
		}
		if p.small {
			p.alterTable(engine.Scan, scanRate, "make "+c.Name+" not null", "alter column "+quote(c.Name)+" set not null")
			continue
		}
		p.proveNotNull(c)
	}
	if len(p.Dropped()) == 0 {
		p.endFill()
	}
}

// endFill takes the trigger of a fill away: with what it reads, where that is dropped, in
// one transaction.
func (p *planner) endFill() {
	if p.filler {
		p.filler = false
		s := p.Add(engine.Sync, 0, "rows bring their own values from now on", p.fillEnd()...)
		s.Strong = []string{p.Table.Name}
	}
}

// identities lets columns number themselves, or in another way, and sets defaults.
func (p *planner) identities() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		if old != nil && old.Identity == nil && c.Identity != nil {
			words := "by default"
			if c.Identity.Always {
				words = "always"
			}
			if old.Default != nil {
				p.setDefault(c) // a column has one or the other
			}
			s := p.alterTable(engine.Scan, 0, "let "+c.Name+" number itself",
				"alter column "+quote(c.Name)+" add generated "+words+" as identity")
			s.SQL = append(s.SQL, advanceSequence(p.Table, c))
		}
		if old != nil && old.Identity != nil && c.Identity != nil && old.Identity.Always != c.Identity.Always {
			words := "by default"
			if c.Identity.Always {
				words = "always"
			}
			p.alterTable(engine.Catalog, 0, "number "+c.Name+" "+words, "alter column "+quote(c.Name)+" set generated "+words)
		}
		if old != nil && c.Generated == nil && old.Type.Equal(c.Type) && !p.SameExpr(old.Default, c.Default) &&
			(c.Identity == nil || old.Identity != nil) {
			p.setDefault(c)
		}
	}
}

func (p *planner) setDefault(c *schema.Column) {
	if c.Default == nil {
		p.alterTable(engine.Catalog, 0, "drop the default of "+c.Name, "alter column "+quote(c.Name)+" drop default")
		return
	}
	p.alterTable(engine.Catalog, 0, "set the default of "+c.Name,
		"alter column "+quote(c.Name)+" set default "+defaultSQL(p.After, *c.Default))
}

// becomesNotNull reports whether a column still has to be made not null once its rows
// are filled.
func (p *planner) becomesNotNull(c *schema.Column) bool {
	if old := p.From(c); old != nil {
		return c.NotNull && !old.NotNull
	}
	_, filled := p.filling(c)
	return c.NotNull && filled
}

// proveNotNull makes a column of a large table not null by way of a check that is
// proven without keeping writers waiting.
func (p *planner) proveNotNull(c *schema.Column) {
	check := schema.ConstraintName(&schema.Table{Name: engine.Prefix + tableOf(p.Table).Name}, []string{c.Name},
		"not_null")
	column := "alter table " + p.table() + " alter column " + quote(c.Name)
	statements := []engine.Statement{{SQL: "alter table " + p.table() + " add constraint " + quote(check) + " check (" +
		quote(c.Name) + " is not null) not valid"}}
	if f, ok := p.FillOf(c); ok && f.Expr != nil && p.Facts.Live {
		late := "update " + p.table() + " set " + quote(c.Name) + " = " + p.Render(f.Expr, planning.Computed) + " where " +
			quote(c.Name) + " is null"
		statements = append(statements, engine.Statement{SQL: late, Patient: true}) // rows that came before the trigger
	}
	statements = append(statements,
		engine.Statement{SQL: "alter table " + p.table() + " validate constraint " + quote(check), Patient: true},
		engine.Statement{SQL: column + " set not null"},
		engine.Statement{SQL: p.dropConstraint(check)})
	s := p.outside(engine.Scan, scanRate, lockExclusive, "make "+c.Name+" not null",
		"select 1 from pg_attribute a where a.attrelid = to_regclass("+literal(p.table())+") and a.attname = "+
			literal(c.Name)+
			" and a.attnotnull and not exists (select 1 from pg_constraint k where k.conrelid = a.attrelid and k.conname = "+
			literal(check)+")",
		[]engine.Statement{{SQL: p.dropConstraint(check)}}, statements...)
	s.Why = "set not null alone would read every row while writers wait; a check that has been validated saves that"
}

// addParts adds constraints and indexes.
func (p *planner) addParts() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		if c.Limit != "" && (old == nil || p.isRemade(c) || old.Limit == "" || !old.Type.Equal(c.Type)) {
			p.addCheck("let "+c.Name+" hold "+c.Type.String()+" alone", c.Limit, limitSQL(c), true)
		}
	}
	if k := p.After.PrimaryKey; k != nil && (!p.samePrimary() || p.usesRemade(k.Columns...)) {
		p.addKey("primary key", k)
	}
	keys := p.parts.Keys
	for _, k := range append(slices.Clone(keys), again(p, p.staying(keys),
		func(k *schema.Key, c string) bool { return schema.HasName(k.Columns, c) })...) {
		p.addKey("unique", k)
	}
	checks := p.parts.Checks
	for _, k := range checks {
		p.addCheck("add constraint "+k.Name, k.Name, checkSQL(p.After, k), k.Options["no inherit"] == "")
	}
	for _, k := range p.After.Checks {
		if slices.Contains(checks, k) {
			continue
		}
		if again := slices.ContainsFunc(p.remade, k.Expr.Mentions); again || len(p.reworded([]*schema.Check{k})) > 0 {
			fresh := *k
			if k.Expr.Tree != nil && !p.Change.Back {
				fresh.Expr.Native = "" // as it is written, for the type that the column has now
			}
			p.addCheck("add constraint "+k.Name, k.Name, checkSQL(p.After, &fresh), true)
		}
	}
	for _, k := range p.parts.References {
		p.foreignKey(p.Table, k)
	}
	indexes := p.parts.Indexes
	for _, x := range indexes {
		p.addIndex(x)
	}
	for _, x := range p.After.Indexes {
		if !slices.Contains(indexes, x) && slices.ContainsFunc(p.remade, x.Uses) {
			p.addIndex(x)
		}
	}
}

// reworded lists the checks that the server would word anew, with casts, when a column
// gets another type: they are taken off before and come again after it.
func (p *planner) reworded(list []*schema.Check) []*schema.Check {
	var out []*schema.Check
	for _, k := range list {
		if !slices.Contains(p.parts.GoneChecks, k) && !slices.Contains(p.parts.Checks, k) &&
			slices.ContainsFunc(p.changing, k.Expr.Mentions) {
			out = append(out, k)
		}
	}
	return out
}

// staying lists the unique keys that were there before.
func (p *planner) staying(added []*schema.Key) []*schema.Key {
	return slices.DeleteFunc(slices.Clone(p.After.Uniques), func(k *schema.Key) bool { return slices.Contains(added, k) })
}

func (p *planner) addCheck(what, constraint, definition string, deferrable bool) {
	if p.small || !deferrable {
		p.alterTable(engine.Scan, scanRate, what, "add "+definition)
		return
	}
	s := p.outside(engine.Scan, scanRate, lockExclusive, what, p.hasConstraint(constraint),
		[]engine.Statement{{SQL: p.dropConstraint(constraint)}},
		engine.Statement{SQL: "alter table " + p.table() + " add " + definition + " not valid"},
		engine.Statement{SQL: "alter table " + p.table() + " validate constraint " + quote(constraint), Patient: true})
	s.Why = "it holds for new rows at once, and is then proven for the others without keeping writers waiting"
}

// foreignKey adds one to the table t.
func (p *planner) foreignKey(t *schema.Table, k *schema.ForeignKey) {
	table := name(t.Name)
	// Who has written to the table that is referred to is about to write to this one, more often than the
	// other way round: it is locked first.
	first := ""
	if k.Table != t.Name {
		first = "lock table " + name(k.Table) + " in share row exclusive mode"
	}
	if p.small && p.Facts.Rows[k.Table] <= int64(p.Facts.Short*scanRate) {
		s := p.Add(engine.Scan, scanRate, "add constraint "+k.Name)
		if first != "" {
			s.SQL = append(s.SQL, first)
		}
		s.SQL = append(s.SQL, addForeignKey(t, k))
		s.Lock, s.Strong = lockWriters, []string{t.Name, k.Table}
		return
	}
	if partitioned(t) {
		p.referenceParts(k, first)
		return
	}
	s := p.outside(engine.Scan, scanRate, lockWriters, "add constraint "+k.Name, p.hasConstraint(k.Name),
		[]engine.Statement{{SQL: p.dropConstraint(k.Name)}},
		engine.Statement{SQL: addForeignKey(t, k) + " not valid", First: first},
		engine.Statement{SQL: "alter table " + table + " validate constraint " + quote(k.Name), Patient: true})
	s.Strong = []string{t.Name, k.Table}
	s.Why = "it holds for new rows at once, and is then proven for the others without keeping writers of either " +
		"table waiting"
}

func (p *planner) addKey(words string, k *schema.Key) {
	p.keyOfParts("constraint "+k.Name, k.Columns)
	if p.small || k.Options["deferrable"] != "" {
		p.alterTable(engine.Build, indexRate, "build the index of constraint "+k.Name, "add "+keySQL(k, words))
		return
	}
	nulls := ""
	if n := k.Options["nulls"]; n != "" {
		nulls = " " + n
	}
	if partitioned(p.Table) {
		p.keyParts(words, k, nulls)
		return
	}
	index := beside(p.Table.Name, k.Name)
	p.build("build the index of constraint "+k.Name, k.Name, p.hasConstraint(k.Name),
		engine.Statement{SQL: "create unique index concurrently " + quote(k.Name) + " on " + p.table() + " (" +
			quoteAll(k.Columns) + ")" + nulls, Direct: true},
		engine.Statement{SQL: "alter table " + p.table() + " add constraint " + quote(k.Name) + " " + words +
			" using index " + quote(k.Name)}).Outside.Clean =
		[]engine.Statement{{SQL: "drop index concurrently if exists " + index, Direct: true}}
}

func (p *planner) addIndex(x *schema.Index) {
	if x.Unique {
		var columns []string
		for _, part := range x.Parts {
			columns = append(columns, part.Column)
		}
		p.keyOfParts("index "+x.Name, columns)
	}
	if p.small {
		s := p.Add(engine.Build, indexRate, "build index "+x.Name, createIndex(p.After, x))
		s.Lock = "share"
		return
	}
	if partitioned(p.Table) {
		p.indexParts(x)
		return
	}
	p.build("build index "+x.Name, x.Name,
		"select 1 from pg_index where indexrelid = to_regclass("+literal(beside(p.Table.Name, x.Name))+") and indisvalid",
		engine.Statement{SQL: indexSQL(p.After, x, "index concurrently "), Direct: true})
}

// build adds a step that builds an index while applications go on.
func (p *planner) build(what, index, done string, statements ...engine.Statement) *engine.Step {
	s := p.outside(engine.Build, indexRate/2, lockShared, what, done,
		[]engine.Statement{{SQL: "drop index concurrently if exists " + beside(p.Table.Name, index), Direct: true}},
		statements...)
	s.Outside.Quiet = true
	s.WritersWait = engine.WaitNo
	if len(statements) > 1 {
		s.WritersWait, s.Lock = engine.WaitBriefly, lockExclusive
	}
	s.Why = "built concurrently: twice the work, and nobody waits"
	return s
}
