package postgres

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// A column gets another type beside programs that write it: a column out of sight is computed from it
// by a trigger which is the last of its row, and filled; then the two exchange their names in one
// transaction, with all that is of the column, and the trigger computes the old one from then on.

const swapKind = "swap"

// A program of before that adds a row without a list of columns writes what is out of sight, which
// stands where its column stood: a trigger that is the first of its row carries that over.
const swapFirst = "swap_first"

// swapEvents are the events of the triggers which are the last.
var swapEvents = []string{"insert", "update"}

func swapTrigger(t *schema.Table, columns []string, event string) string {
	return mirrorName(t, lastTrigger, swapKind+"_"+event, columns...)
}

func swapFunction(t *schema.Table, columns []string) string {
	return name(mirrorName(t, "", swapKind, columns...))
}

// Aside implements engine.Planner: nothing is asked of it.
func (Engine) Aside(c *schema.Column) schema.Column {
	return schema.Column{Type: c.Type, Declared: c.Declared, Collate: c.Collate}
}

// CannotSwap implements engine.Planner.
func (Engine) CannotSwap(c *schema.TableChange, s *schema.Schema) string {
	columns := c.Converted()
	for _, v := range s.Views {
		reads := &schema.Expr{Native: v.SQL + " " + v.Query}
		if reads.Mentions(tableOf(c.Before).Name) && slices.ContainsFunc(columns, reads.Mentions) {
			return "view " + v.Name + " reads it, and knows it by its place: drop the view before, and make it again after it"
		}
	}
	for _, n := range columns {
		whole := c.Before.Column(n).Type.IsInteger() && c.After.Column(n).Type.IsInteger()
		if schema.HasName(c.Before.Key(), n) && !whole && slices.ContainsFunc(c.Before.Own,
			func(tr *schema.Trigger) bool { return keptBy(tr) != "" }) {
			return "what is kept of an earlier migration is found by it: let go of that first (lastboard kept --discard)"
		}
		for o := range c.Before.Column(n).Options {
			if o != "sequence" {
				return "it has what only this engine has: " + o
			}
		}
		if now := c.After.Column(n); c.Before.Column(n).Identity != nil && now.Identity == nil || now.OnUpdateNow {
			return "it numbers itself no more"
		}
	}
	tables, keys := schema.Referring(c, s)
	for i, k := range keys {
		if tables[i].Name == c.Before.Name && slices.ContainsFunc(columns, func(n string) bool {
			return schema.HasName(k.Columns, n)
		}) {
			return "foreign key " + k.Name + " leads from it to itself"
		}
	}
	uses := func(k *schema.Key) bool {
		return k != nil && slices.ContainsFunc(columns, func(n string) bool { return schema.HasName(k.Columns, n) })
	}
	for _, k := range append(slices.Clone(c.Before.Uniques), c.Before.PrimaryKey) {
		if uses(k) && len(k.Options) > 0 {
			return "constraint " + k.Name + " is more than one of columns"
		}
	}
	return ""
}

// Swaps implements engine.Planner.
func (Engine) Swaps(c *schema.SwapChange) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, c.After)
	return p.swapTriggers(c.Columns()), append(p.swapSQL(c.As.Invert(), false, c.As), p.carrySQL(c.As)...)
}

// swapTriggers names the triggers once the names are exchanged.
func (p *planner) swapTriggers(columns []string) (list []string) {
	for _, e := range swapEvents {
		list = append(list, swapTrigger(p.Table, columns, e))
	}
	return append(list, mirrorName(p.Table, firstTrigger, swapFirst, columns...))
}

// swap plans a stage.
func (p *planner) swap(c *schema.SwapChange) {
	switch c.Stage {
	case schema.SwapBeside:
		p.swapInParts(c)
		p.swapBeside(c)
	case schema.SwapTurn:
		p.turn(c)
	case schema.SwapEnd:
		p.endSwap(c)
	}
}

// at gives a planner of the change as it would be made at once.
func (p *planner) at(as *schema.TableChange) *planner {
	q := newPlanner(p.Facts, as.Before)
	q.Change, q.After = as, as.After
	return q
}

// swapValue gives what a column out of sight has of a row: as its type.
func (p *planner) swapValue(as *schema.TableChange, column string) string {
	return "cast((" + p.at(as).Render(as.Fill[column].Expr, planning.Computed) + ") as " +
		declaration(as.After.Column(column)) + ")"
}

// selectUsers names, behind a list of columns and the name of a table, what knows one of them by its
// number, and would go on reading the one that is out of sight: views, functions, policies,
// statistics, computed columns, triggers.
const selectUsers = `select pg_describe_object(d.classid, d.objid, d.objsubid) || ' uses ' || a.attname || ', which gets another type: drop it before, and make it again after it'
	from pg_attribute a join pg_depend d on d.refclassid = 'pg_class'::regclass and d.refobjid = a.attrelid and d.refobjsubid = a.attnum
	where a.attname in (COLUMNS) and a.attrelid in (select to_regclass(TABLE) union all select relid from pg_partition_tree(to_regclass(TABLE))) and d.classid <> 'pg_class'::regclass
	and not exists (select 1 from pg_constraint k where d.classid = 'pg_constraint'::regclass and k.oid = d.objid and a.attrelid in (k.conrelid, k.confrelid))
	and not exists (select 1 from pg_attrdef f where d.classid = 'pg_attrdef'::regclass and f.oid = d.objid and f.adnum = a.attnum)
	and not exists (select 1 from pg_trigger g join pg_proc f on f.oid = g.tgfoid join pg_namespace n on n.oid = f.pronamespace where d.classid = 'pg_trigger'::regclass and g.oid = d.objid and n.nspname = 'lastboard')
	limit 1`

// free gives the select that names such a thing.
func (p *planner) free(columns []string) string {
	return strings.NewReplacer("COLUMNS", strings.Join(quoted(columns), ", "), "TABLE", literal(p.table())).
		Replace(selectUsers)
}

// swapBeside makes the columns out of sight.
func (p *planner) swapBeside(c *schema.SwapChange) {
	p.After = c.After
	p.ProvenBy(&p.at(c.As).Planner)
	var columns, asides, actions, sets, differ []string
	for _, n := range c.Columns() {
		aside := schema.Aside(n)
		columns, asides = append(columns, n), append(asides, aside)
		actions = append(actions, "add column "+columnSQL(c.After, c.After.Column(aside)))
		value := p.swapValue(c.As, n)
		sets = append(sets, quote(aside)+" = "+value)
		differ = append(differ, differs(quote(aside), value))
	}
	of, what := strings.Join(columns, ", "), strings.Join(asides, ", ")
	s := p.alterTable(engine.Catalog, 0, "add "+what+", of the other type", actions...)
	s.SQL = append([]string{p.free(columns)}, s.SQL...)
	s.Why = "to give " + of + " another type at once would write every row while programs wait"
	s = p.Add(engine.Sync, 0, "compute "+what+" from "+of, p.swapSQL(c.As, true, nil)...)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	p.Update("fill "+what, "update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range+" and ("+
		strings.Join(differ, " or ")+")")
	s = p.Add(engine.Scan, scanRate, "prove that "+what+" is what comes of "+of, "select 'a row has another value out of "+
		"sight than comes of it' from "+p.table()+" where "+strings.Join(differ, " or ")+" limit 1")
	s.Lock, s.WritersWait, s.Alone = "none", engine.WaitNo, true
	if planning.PutsBack(c.As) {
		s := p.Add(engine.Sync, 0, "compute "+what+" where "+of+" changes", p.swapSQL(c.As, false, nil)...)
		s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
		p.PutAsideBack(c)
	}
}

// turn lets the columns exchange their names.
func (p *planner) turn(c *schema.SwapChange) {
	columns := c.Columns()
	p.After = c.Before
	if c.As.Back {
		p.ProvenBy(&p.at(c.As).Planner)
	}
	renames := map[string]string{}
	for _, n := range columns {
		renames[n] = schema.Aside(n)
	}
	// What the columns have is made for those out of sight, which have their names then.
	aside := c.As.After.Renamed(c.As.After.Name, renames)
	uses := func(names []string) bool {
		return slices.ContainsFunc(columns, func(n string) bool { return schema.HasName(names, n) })
	}
	var gone, come []string
	for i, k := range c.As.After.Uniques {
		if uses(k.Columns) {
			gone, come = p.turnKey(k, aside.Uniques[i], "unique", gone, come)
		}
	}
	if k := c.As.After.PrimaryKey; k != nil && uses(k.Columns) {
		gone, come = p.turnKey(k, aside.PrimaryKey, "primary key", gone, come)
	}
	for i, x := range c.As.After.Indexes {
		if slices.ContainsFunc(columns, x.Uses) {
			made := *aside.Indexes[i]
			made.Name = schema.Aside(x.Name)
			p.addIndex(&made)
			gone = append(gone, "drop index if exists "+beside(p.Table.Name, x.Name))
			come = append(come, "alter index "+beside(p.Table.Name, made.Name)+" rename to "+quote(x.Name))
		}
	}
	for i, k := range c.As.After.Checks {
		if slices.ContainsFunc(columns, k.Expr.Mentions) {
			made := *aside.Checks[i]
			made.Name = schema.Aside(k.Name)
			if made.Expr.Tree != nil && !c.As.Back {
				made.Expr.Native = "" // as it is written, for the type that the column has now
			}
			p.addCheck("add check "+k.Name+" of the other type", made.Name, checkSQL(p.After, &made),
				k.Options["no inherit"] == "")
			gone = append(gone, p.dropConstraint(k.Name))
			come = append(come, p.renameConstraint(made.Name, k.Name))
		}
	}
	for i, k := range c.As.After.ForeignKeys {
		if uses(k.Columns) {
			made := *aside.ForeignKeys[i]
			made.Name = schema.Aside(k.Name)
			p.foreignKey(p.Table, &made)
			gone = append(gone, p.dropConstraint(k.Name))
			come = append(come, p.renameConstraint(made.Name, k.Name))
		}
	}
	for _, tr := range p.Table.Own { // what lets kept values follow a key knows its column by its number
		if keptBy(tr) != "" && slices.ContainsFunc(columns, (&schema.Expr{Native: tr.SQL}).Mentions) {
			gone = append(gone, "drop trigger if exists "+quote(tr.Name)+" on "+p.table())
			come = append(come, tr.SQL, always(p.Table, tr.Name))
		}
	}
	strong, gone, come := p.turnChildren(c, renames, gone, come)
	p.exchange(c, strong, gone, come)
}

// turnChildren lets those foreign keys of other tables that refer to the columns refer to those out of
// sight as well, and adds what exchanges them: what goes goes before the keys that they need. It gives
// the tables.
func (p *planner) turnChildren(c *schema.SwapChange, renames map[string]string, gone, come []string) (strong,
	_, _ []string) {
	tables, keys := schema.Referring(c.As, p.Facts.Schema)
	strong = []string{p.Table.Name}
	var first []string
	for i, k := range keys {
		t, made := tables[i], *k
		made.Name, made.References = schema.Aside(k.Name), slices.Clone(schema.Referred(k, c.As.Before))
		for j, n := range made.References {
			if to := renames[n]; to != "" {
				made.References[j] = to
			}
		}
		p.foreignKey(t, &made)
		if !slices.Contains(strong, t.Name) {
			strong = append(strong, t.Name)
		}
		first = append(first, "alter table "+name(t.Name)+" drop constraint if exists "+quote(k.Name))
		come = append(come, "alter table "+name(t.Name)+" rename constraint "+quote(made.Name)+" to "+quote(k.Name))
	}
	return strong, append(first, gone...), come
}

// turnKey builds the index of a key on columns out of sight, and adds what exchanges the constraints.
func (p *planner) turnKey(k, aside *schema.Key, words string, gone, come []string) (_, _ []string) {
	x := &schema.Index{Name: schema.Aside(k.Name), Unique: true}
	for _, c := range aside.Columns {
		x.Parts = append(x.Parts, schema.IndexPart{Column: c})
	}
	p.addIndex(x)
	return append(gone, p.dropConstraint(k.Name)), append(come, "alter table "+p.table()+" add constraint "+quote(k.Name)+
		" "+words+" using index "+quote(x.Name))
}

func (p *planner) renameConstraint(from, to string) string {
	return "alter table " + p.table() + " rename constraint " + quote(from) + " to " + quote(to)
}

// exchange adds the step in which the names are exchanged.
func (p *planner) exchange(c *schema.SwapChange, strong, gone, come []string) {
	column := func(n, words string) string {
		return "alter table " + p.table() + " alter column " + quote(n) + " " + words
	}
	rename := func(from, to string) string {
		return "alter table " + p.table() + " rename column " + quote(from) + " to " + quote(to)
	}
	columns := c.Columns()
	locked := make([]string, len(strong))
	for i, t := range strong {
		locked[i] = name(t)
	}
	sql := []string{"lock table " + strings.Join(locked, ", ") + " in access exclusive mode", p.free(columns)}
	var after []string
	for _, n := range columns {
		aside, old, now := schema.Aside(n), c.As.Before.Column(n), c.As.After.Column(n)
		sql = append(sql, p.sameRights(schema.Mirror{Column: n, Name: aside}))
		if old.Default != nil {
			sql = append(sql, column(n, "drop default"))
		}
		after = append(after, rename(n, asideForNow), rename(aside, n), rename(asideForNow, aside))
		if now.NotNull {
			check := schema.Aside(n + "_not_null")
			p.addCheck("prove that "+aside+" is nowhere null", check, "constraint "+quote(check)+" check ("+quote(aside)+
				" is not null)", true)
			after = append(after, column(n, "set not null"), p.dropConstraint(check))
		}
		after = append(after, p.carryNumbers(n, old, now)...)
		if old.NotNull {
			after = append(after, column(aside, "drop not null"))
		}
		if now.Default != nil {
			after = append(after, column(n, "set default "+defaultSQL(c.As.After, *now.Default)))
		}
		if old.Comment != "" || now.Comment != "" {
			after = append(after, commentSQL("column "+p.table()+"."+quote(n), now.Comment),
				commentSQL("column "+p.table()+"."+quote(aside), ""))
		}
	}
	sql = append(slices.Concat(sql, gone, after, come), p.readAnew())
	if c.As.Back {
		sql = append(sql, p.noSwap(columns)...)
	} else {
		sql = slices.Concat(sql, p.swapSQL(c.As.Invert(), false, c.As), p.carrySQL(c.As))
	}
	s := p.Add(engine.Sync, 0, "give "+strings.Join(columns, ", ")+" the other type", sql...)
	s.Lock, s.Strong = lockExclusive, strong
	s.Why = "the columns exchange their names; the old one is computed from the new one until the overlap is settled"
	if c.As.Back {
		s.Why = "the columns exchange their names"
	}
}

// carryNumbers gives the statements that let a column number itself as the other one did, whose name it
// has taken: from the same number on, in the same steps.
func (p *planner) carryNumbers(n string, old, now *schema.Column) []string {
	aside, table := schema.Aside(n), p.table()
	// plain gives a name in the text of a format.
	plain := func(name string) string { return strings.ReplaceAll(name, "%", "%%") }
	from := "declare s text := pg_get_serial_sequence(" + literal(table) + ", " + literal(aside) + "); "
	switch {
	case now.Identity != nil && old.Identity != nil:
		words := "by default"
		if now.Identity.Always {
			words = "always"
		}
		return []string{"do " + dollar(from+"v bigint; c boolean; r record; begin execute format('select last_value, "+
			"is_called "+
			"from %s', s) into v, c; select seqincrement as step, seqcache as cache into r from pg_sequence where seqrelid = "+
			"s::regclass; execute "+literal("alter table "+table+" alter column "+quote(aside)+" drop identity")+"; "+
			"execute format("+literal("alter table "+plain(table)+" alter column "+plain(quote(n))+" add generated "+words+
			" as identity (increment by %s cache %s)")+", r.step, r.cache); perform "+
			"setval(pg_get_serial_sequence("+literal(table)+
			", "+literal(n)+"), v, c); end")}
	case old.Options["sequence"] != "": // the copies that steps are tried on own none
		return []string{"do " + dollar(from+"begin if s is not null then execute format('alter sequence %s as "+
			declaration(now)+"', s); execute format("+literal("alter sequence %s owned by "+plain(table)+"."+plain(quote(n)))+
			", s); end if; end")}
	}
	return nil
}

// asideForNow is what a column is called while two exchange their names.
const asideForNow = engine.Prefix + "exchanged"

// endSwap takes away what is out of sight, and keeps of it what the columns do not give back.
func (p *planner) endSwap(c *schema.SwapChange) {
	p.Change, p.After = c.As, c.After
	columns := c.Columns()
	if c.Keep {
		for _, n := range columns {
			p.keepAside(c, n)
		}
	}
	var actions, asides []string
	for _, n := range columns {
		asides = append(asides, schema.Aside(n))
		actions = append(actions, "drop column if exists "+quote(schema.Aside(n)))
	}
	p.endKeeping()
	sql := slices.Concat([]string{"lock table " + p.table() + " in access exclusive mode"}, p.noSwap(columns),
		[]string{"alter table " + p.table() + " " + strings.Join(actions, ", ")})
	s := p.Add(engine.Sync, 0, "take "+strings.Join(asides, ", ")+" away", sql...)
	s.Lock, s.Strong = lockExclusive, []string{p.Table.Name}
	p.followKept()
}

// keepAside keeps the values of the old type that the new ones do not give back.
func (p *planner) keepAside(c *schema.SwapChange, n string) {
	if planning.Exact(c.As, n) {
		return // every value gives back what it came from
	}
	back := c.As.Invert()
	keys := p.Table.Key()
	aside, where := quote(schema.Aside(n)), quote(schema.Aside(n))+" is not null"
	if planning.Total(back, n) {
		where = differs(aside, p.swapValue(back, n))
	}
	kept := p.Facts.KeptTable()
	k := &engine.Keeping{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: []string{n}, What: engine.KeptConverted}
	places := keptSQL("k", p.Table, keys) + ", o1 " + declaration(p.Table.Column(schema.Aside(n))) + ", w1 " +
		declaration(p.Table.Column(n))
	if p.Facts.Live && !p.Short(keepRate) && len(p.Cursor(p.Table)) > 0 {
		p.keepBeside(k, places, "o1, w1", append(slices.Clone(keys), schema.Aside(n), n), "("+where+")")
		return
	}
	s := p.Add(engine.Scan, keepRate, "keep the old values of "+n+" that it does not give back",
		"lock table "+p.table()+" in share row exclusive mode",
		"create table "+name(kept)+" ("+places+", primary key ("+planning.KeptSQL("k", len(keys))+"))",
		"insert into "+name(kept)+" select "+quoteAll(keys)+", "+aside+", "+quote(n)+" from "+p.table()+" where "+where)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	s.Keeps = []*engine.Keeping{k}
	p.follow(s)
}
