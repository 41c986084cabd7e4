package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// alter changes a table in place, by one statement after the other: each commits by
// itself. The definition of a column is always written as a whole.
func (p *planner) alter() {
	c := p.Change
	p.After, p.Renames = c.BeforeRenames()
	p.swap()
	p.hide()
	p.remake()
	p.AlterProofs()
	p.ProofsFirst()
	p.dropParts()
	p.addColumns()
	p.fill()
	p.computeSwapped()
	p.keepDropped()
	p.keepConverted()
	if len(p.Dropped()) > 0 {
		p.show() // its trigger reads what goes
	}
	p.dropColumns()
	late := p.late()
	p.modify()
	p.show()
	p.setDefaults(late)
	p.addGenerated()
	p.endFill()
	p.addParts()
	p.LetGo(p.emptied())
	p.Standing = p.After
	p.PutNullsBack()
	p.rename()
	if p.Table.Comment != p.After.Comment {
		s := p.define(engine.Catalog, 0, "write the comment", "",
			"alter table "+quote(c.After.Name)+" comment = "+literal(p.After.Comment)+", "+algorithm)
		s.Table, s.Strong = c.After.Name, []string{c.After.Name}
	}
	p.restart(c.After)
	if c.Rebuild {
		s := p.define(engine.Rewrite, rewriteRate, "write "+c.After.Name+" anew", "",
			"alter table "+quote(c.After.Name)+" force, "+algorithm)
		s.Table, s.Strong = c.After.Name, []string{c.After.Name}
	}
}

// remake finds the generated columns that have to be dropped and added again: the server
// lets nothing go on which one stands, and makes no column of another kind of one.
func (p *planner) remake() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		if old == nil || c.Generated == nil {
			continue
		}
		uses := slices.ContainsFunc(p.swapped, func(s *schema.Column) bool {
			return old.Generated != nil && old.Generated.Expr.Mentions(s.Name)
		})
		for _, base := range p.After.Columns {
			if was := p.From(base); was != nil && !sameForm(was, base) && old.Generated != nil &&
				old.Generated.Expr.Mentions(was.Name) {
				uses = true
			}
		}
		switch other := !sameForm(old, c) || old.Generated == nil || old.Generated.Stored != c.Generated.Stored; {
		case !other && !uses && p.Recomputed(c) && p.reformed(old, c):
			// One statement gives it another expression: readers never miss it.
		case other || uses || p.Recomputed(c):
			p.remade = append(p.remade, c.Name)
		}
	}
}

// reformed reports whether a generated column can be given another expression in place: all
// that the old one reads stays until then, and all that the new one reads is there.
func (p *planner) reformed(old, c *schema.Column) bool {
	reads := func(e *schema.Generated) func(*schema.Column) bool {
		return func(o *schema.Column) bool { return e.Expr.Mentions(o.Name) }
	}
	return !slices.ContainsFunc(p.Dropped(), reads(old.Generated)) &&
		!slices.ContainsFunc(p.After.Columns, func(o *schema.Column) bool {
			return o.Generated != nil && (p.From(o) == nil || p.isRemade(o)) && reads(c.Generated)(o)
		})
}

func (p *planner) isRemade(c *schema.Column) bool { return schema.HasName(p.remade, c.Name) }

// goesFor reports whether a part stands on a column that is swapped or made again: it
// goes before and comes again after it.
func (p *planner) goesFor(uses func(column string) bool) bool {
	return slices.ContainsFunc(p.remade, uses) || slices.ContainsFunc(p.swapped,
		func(c *schema.Column) bool { return uses(c.Name) })
}

func usesNames(names []string) func(string) bool {
	return func(c string) bool { return schema.HasName(names, c) }
}

// again lists the parts that stay, but go with a column that is swapped or made again.
func again[T comparable](p *planner, before, after, added []T, uses func(T) func(string) bool,
	name func(T) string) (gone, come []T) {
	for _, x := range after {
		if slices.Contains(added, x) || !p.goesFor(uses(x)) {
			continue
		}
		come = append(come, x)
		for _, b := range before {
			if schema.SameName(name(b), name(x)) {
				gone = append(gone, b)
			}
		}
	}
	return gone, come
}

// dropParts takes off what goes, and what would stand in the way.
func (p *planner) dropParts() {
	p.parts = p.FindParts()
	s := &p.parts
	// The server renames a unique key as an index, and no other constraint.
	for _, k := range s.RenamedChecks {
		s.GoneChecks, s.Checks = append(s.GoneChecks, k[0]), append(s.Checks, k[1])
	}
	for _, k := range s.RenamedReferences {
		s.GoneReferences, s.References = append(s.GoneReferences, k[0]), append(s.References, k[1])
	}
	keys, keysAgain := again(p, p.Table.Uniques, p.After.Uniques, s.Keys,
		func(k *schema.Key) func(string) bool { return usesNames(k.Columns) }, func(k *schema.Key) string { return k.Name })
	s.GoneKeys, s.Keys = append(s.GoneKeys, keys...), append(s.Keys, keysAgain...)
	indexes, indexesAgain := again(p, p.Table.Indexes, p.After.Indexes, s.Indexes,
		func(x *schema.Index) func(string) bool { return x.Uses }, func(x *schema.Index) string { return x.Name })
	s.GoneIndexes, s.Indexes = append(s.GoneIndexes, indexes...), append(s.Indexes, indexesAgain...)
	checks, checksAgain := again(p, p.Table.Checks, p.After.Checks, s.Checks,
		func(k *schema.Check) func(string) bool { return k.Expr.Mentions }, func(k *schema.Check) string { return k.Name })
	s.GoneChecks, s.Checks = append(s.GoneChecks, checks...), append(s.Checks, checksAgain...)
	references, referencesAgain := again(p, p.Table.ForeignKeys, p.After.ForeignKeys, s.References,
		func(k *schema.ForeignKey) func(string) bool { return usesNames(k.Columns) },
		func(k *schema.ForeignKey) string { return k.Name })
	s.GoneReferences, s.References = append(s.GoneReferences, references...), append(s.References, referencesAgain...)

	var actions, names []string
	strong := []string{p.Table.Name}
	for _, k := range s.GoneReferences {
		actions, names = append(actions, dropForeignKey(k)...), append(names, k.Name)
		if !schema.HasName(strong, k.Table) {
			strong = append(strong, k.Table)
		}
	}
	for _, k := range s.GoneChecks {
		if k.Column == "" {
			actions, names = append(actions, "drop constraint if exists "+quote(k.Name)), append(names, k.Name)
		}
	}
	carriers, carried := p.dropCarried()
	actions, names = append(actions, carriers...), append(names, carried...)
	if len(names) > 0 {
		p.alterTable(engine.Catalog, 0, "drop constraint "+strings.Join(names, ", "), actions...).Strong = strong
	}
	actions, names = nil, nil
	for _, k := range s.GoneKeys {
		actions, names = append(actions, "drop key if exists "+quote(k.Name)), append(names, k.Name)
	}
	for _, x := range s.GoneIndexes {
		actions, names = append(actions, "drop key if exists "+quote(x.Name)), append(names, x.Name)
	}
	if len(actions) > 0 {
		actions = append(actions, p.serve(names)...)
		p.alterTable(engine.Catalog, 0, "drop index "+strings.Join(names, ", "), actions...)
	}
	for _, k := range s.RenamedKeys {
		p.alterTable(engine.Catalog, 0, "rename constraint "+k[0].Name+" to "+k[1].Name,
			"rename key if exists "+quote(k[0].Name)+" to "+quote(k[1].Name))
	}
	for _, x := range s.RenamedIndexes {
		p.alterTable(engine.Catalog, 0, "rename index "+x[0].Name+" to "+x[1].Name,
			"rename key if exists "+quote(x[0].Name)+" to "+quote(x[1].Name))
	}
}

// serve gives an index of its own to each foreign key that stays and would lose the one
// that serves it.
func (p *planner) serve(gone []string) []string {
	rest := *p.Table
	if p.keyDone {
		rest.PrimaryKey = p.After.PrimaryKey
	}
	rest.Uniques = slices.DeleteFunc(slices.Clone(rest.Uniques),
		func(k *schema.Key) bool { return schema.HasName(gone, k.Name) })
	rest.Indexes = slices.DeleteFunc(slices.Clone(rest.Indexes),
		func(x *schema.Index) bool { return schema.HasName(gone, x.Name) })
	var actions []string
	for _, k := range p.Table.ForeignKeys {
		if !slices.Contains(p.parts.GoneReferences, k) && served(p.Table, k.Columns, "") && !served(&rest, k.Columns, "") {
			actions = append(actions, "add key if not exists "+quote(k.Name)+" ("+quoteAll(k.Columns)+")")
		}
	}
	return actions
}

// addParts adds constraints and indexes.
func (p *planner) addParts() {
	s := p.parts
	if !p.keyed {
		for _, k := range s.Keys {
			p.buildKey(k)
		}
	}
	for _, x := range s.Indexes {
		p.buildIndex(x)
	}
	for _, k := range s.Checks {
		p.check(k)
	}
	for _, k := range s.References {
		p.foreignKey(k)
	}
}

// buildKey builds the index of a unique key.
func (p *planner) buildKey(k *schema.Key) {
	s := p.alterTable(engine.Build, indexRate, "build the index of constraint "+k.Name,
		p.addIndex(k.Columns, "add unique key if not exists "+strings.TrimPrefix(uniqueSQL(p.After, k), "unique key "))...)
	s.Mend = p.onlyOne(k.Name, k.Columns)
}

// onlyOne gives the look that lets a unique index be built once more that met two rows with one key: beside
// programs the server may meet what one of them has taken back since. None is needed where nobody writes.
func (p *planner) onlyOne(name string, columns []string) []string {
	if !p.Facts.Live {
		return nil
	}
	given := make([]string, len(columns))
	for i, c := range columns {
		given[i] = quote(c) + " is not null"
	}
	return []string{"select " + literal("another row has the same "+name) + " from " + p.table() + " where " +
		strings.Join(given, " and ") + " group by " + quoteAll(columns) + " having count(*) > 1 limit 1"}
}

// buildIndex builds one.
func (p *planner) buildIndex(x *schema.Index) {
	words, rest, _ := strings.Cut(indexSQL(p.After, x), "key ")
	var columns []string
	for _, part := range x.Parts {
		columns = append(columns, part.Column)
	}
	s := p.alterTable(engine.Build, indexRate, "build index "+x.Name,
		p.addIndex(columns, "add "+words+"key if not exists "+rest)...)
	if x.Unique {
		s.Mend = p.onlyOne(x.Name, columns)
	}
}

// addIndex gives the actions that add an index of columns. An index that the server has
// made by itself, and would take away for the new one, is made anew so that it stays.
func (p *planner) addIndex(columns []string, add string) []string {
	actions := []string{add}
	for _, k := range p.Table.ForeignKeys {
		if len(columns) < len(k.Columns) || !slices.EqualFunc(columns[:len(k.Columns)], k.Columns, schema.SameName) ||
			slices.Contains(p.parts.GoneReferences, k) {
			continue
		}
		for _, x := range ownIndexes(p.After, k) {
			if !slices.Contains(p.parts.Indexes, x) {
				actions = append(actions, "drop key if exists "+quote(x.Name), "add "+indexSQL(p.After, x))
			}
		}
	}
	return actions
}

// hasConstraint gives a row when a constraint is there.
func hasConstraint(table, name string) string {
	return "select 1 from information_schema.table_constraints where table_schema = database() and table_name = " +
		literal(table) + " and constraint_name = " + literal(name)
}

// foreignKey adds one. On a large table it holds for new rows at once, and is then proven
// for the others: the server itself would keep writers waiting while it looks.
func (p *planner) foreignKey(k *schema.ForeignKey) {
	t := p.After
	if t == nil {
		t = p.Change.After
	}
	index := ""
	if !served(t, k.Columns, "") {
		index = "add key if not exists " + quote(k.Name) + " (" + quoteAll(k.Columns) + "), "
	}
	for _, x := range ownIndexes(t, k) {
		// or it went for one with the name of the key
		index += "drop key if exists " + quote(x.Name) + ", add " + indexSQL(t, x) + ", "
	}
	add := "alter table " + quote(t.Name) + " " + index + "add " + foreignKeySQL(k) + ", " + algorithm
	if p.small && p.Facts.Rows[k.Table] <= int64(p.Facts.Short*scanRate) {
		s := p.define(engine.Rewrite, rewriteRate, "add constraint "+k.Name, hasConstraint(t.Name, k.Name), add)
		s.Table, s.Strong = t.Name, []string{t.Name, k.Table}
		return
	}
	var present, match []string
	for i, c := range k.Columns {
		present = append(present, quote(c)+" is not null")
		match = append(match, "p."+quote(k.References[i])+" = "+quote(t.Name)+"."+quote(c))
	}
	orphan := "select " + literal("a row refers to no row of "+k.Table) + " from " + quote(t.Name) + " where " +
		strings.Join(present, " and ") +
		" and not exists (select 1 from " + quote(k.Table) + " p where " + strings.Join(match, " and ") + ") limit 1"
	s := p.define(engine.Scan, scanRate, "add constraint "+k.Name, "", "set statement foreign_key_checks = 0 for "+add,
		orphan)
	s.Outside.Clean = []engine.Statement{{SQL: "alter table " + quote(t.Name) + " " +
		strings.Join(dropForeignKey(k), ", ") + ", " + algorithm}}
	s.Table, s.Strong = t.Name, []string{t.Name, k.Table}
	s.Why = "it holds for new rows at once, and is then proven for the others without keeping writers of either " +
		"table waiting"
}

// rename gives columns and the table their new names.
func (p *planner) rename() {
	final := p.Change.After
	var actions, names []string
	for _, c := range final.Columns {
		from, ok := p.Change.From[c.Name]
		if !ok || from == c.Name {
			continue
		}
		actions, names = append(actions, "rename column "+quote(from)+" to "+quote(c.Name)), append(names, from+" to "+c.Name)
	}
	if len(actions) > 0 {
		first := strings.SplitN(names[0], " to ", 2)
		p.renameWith(actions, "rename column "+strings.Join(names, ", ")).Outside.Done =
			"select 1 from information_schema.columns c where c.table_schema = database() and c.table_name = " +
				literal(p.Table.Name) + " and binary c.column_name = " + literal(first[1]) +
				" and not exists (select 1 from information_schema.columns o where o.table_schema = database() and " +
				"o.table_name = c.table_name and binary o.column_name = " + literal(first[0]) + ")"
	}
	switch {
	case final.Name == p.Table.Name:
	case p.Change.StandIn != "":
		p.standIn(final)
	case p.Change.NoStandIn != "":
		p.noStandIn(final)
	default:
		p.define(engine.Catalog, 0, "rename table "+p.Table.Name+" to "+final.Name, hasTable(final.Name),
			"rename table "+p.table()+" to "+quote(final.Name))
	}
}

// madeFollowers lists the triggers that steps so far make for what they keep.
func (p *planner) madeFollowers() (list []string) {
	for _, s := range p.Steps {
		for _, script := range s.SQL {
			for _, sql := range strings.Split(script, engine.Between) {
				if strings.HasPrefix(sql, "create or replace trigger "+strings.TrimSuffix(quote(engine.Prefix+"kept_"), `"`)) {
					list = append(list, sql)
				}
			}
		}
	}
	return list
}

// renameWith renames columns. Triggers do not follow: those of Lastboard's own that name
// one are written anew while the table is locked.
func (p *planner) renameWith(actions []string, what string) *engine.Step {
	var own []*schema.Trigger
	for _, sql := range p.madeFollowers() {
		own = append(own, &schema.Trigger{SQL: sql})
	}
	gone := p.emptied()
	for _, k := range p.Change.PutBack {
		gone = append(gone, k.Table)
	}
	for _, tr := range p.Table.Own {
		if !slices.ContainsFunc(gone, func(kept string) bool { return strings.Contains(tr.SQL, quote(kept)) }) {
			own = append(own, tr)
		}
	}
	anew := p.followersAnew(own)
	if len(anew) == 0 {
		return p.alterTable(engine.Catalog, 0, what, actions...)
	}
	locks := append([]string{p.table() + " write"}, lockedNumbers(p.Table)...) // and what its triggers name
	script := append([]string{"lock tables " + strings.Join(locks, ", "), p.alterSQL(actions...)}, anew...)
	s := p.define(engine.Catalog, 0, what, "", strings.Join(script, engine.Between))
	s.Why = "with the triggers that let kept values follow their rows, while the table is locked"
	p.followAnew(anew)
	return s
}

// followAnew makes triggers that know columns by their new names, where a server that died after the
// columns had got them has not.
func (p *planner) followAnew(anew []string) {
	if len(anew) == 0 {
		return
	}
	var old []string
	for from := range p.Renames {
		for _, row := range []string{"old.", "new."} {
			old = append(old, "locate("+literal(row+quote(from))+", action_statement) > 0")
		}
	}
	slices.Sort(old)
	p.underLock("let kept values follow their rows by the new names",
		"select 1 from dual where not exists (select 1 from "+
			"information_schema.triggers where event_object_schema = database() and event_object_table = "+
			literal(p.Table.Name)+" and trigger_name like 'lastboard!_kept!_%' escape '!' and ("+strings.Join(old, " or ")+"))",
		anew...)
}

// followersAnew gives those of some triggers that name a renamed column, as they are to be then.
func (p *planner) followersAnew(own []*schema.Trigger) (anew []string) {
	for _, tr := range own {
		changed := tr.SQL
		for from, to := range p.Renames {
			for _, row := range []string{"old.", "new."} {
				changed = strings.ReplaceAll(changed, row+quote(from), row+"\x00"+quote(to))
			}
		}
		if changed != tr.SQL {
			anew = append(anew, strings.ReplaceAll(changed, "\x00", ""))
		}
	}
	return anew
}
