package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// A column gets another type beside programs that write it: an invisible column behind it is computed
// from it by triggers which are the last of their rows, and filled; then the two exchange their names
// while the table is locked, and the triggers compute the old one from then on. One that is not null
// has a placeholder where nothing can be computed: the server would write the table anew to let it
// take null.

// Aside implements engine.Planner.
func (Engine) Aside(c *schema.Column) schema.Column {
	out := schema.Column{Type: c.Type, Declared: c.Declared, Collate: c.Collate, NotNull: c.NotNull,
		Options: map[string]string{"invisible": "yes"}}
	if c.NotNull {
		out.Default = &schema.Expr{Native: placeholder(c)}
	}
	return out
}

// CannotSwap implements engine.Planner.
func (Engine) CannotSwap(c *schema.TableChange, s *schema.Schema) string {
	t := c.Before
	p := newPlanner(engine.Facts{}, t)
	if p.computes(false) {
		return "a column is computed and not stored, and beside such a column the server takes none away in an instant"
	}
	if tables, keys := schema.Referring(c, s); len(keys) > 0 {
		return "table " + tables[0].Name + " refers to it (foreign key " + keys[0].Name +
			"), and the server wants the same " +
			"type on both ends"
	}
	columns := c.Converted()
	for _, n := range columns {
		if old := t.Column(n); old.Identity != nil || len(old.Options) > 0 {
			return "it numbers itself, or has what only this engine has"
		}
	}
	in := func(names []string) bool {
		return slices.ContainsFunc(columns, func(n string) bool { return schema.HasName(names, n) })
	}
	if t.PrimaryKey != nil && in(t.PrimaryKey.Columns) {
		return "it is part of the primary key, in whose order the server keeps the table"
	}
	for _, k := range t.Uniques {
		if in(k.Columns) && len(k.Options) > 0 {
			return "constraint " + k.Name + " is more than one of columns"
		}
	}
	for _, k := range t.Checks {
		if slices.ContainsFunc(columns, k.Expr.Mentions) {
			return "constraint " + k.Name + " is about it"
		}
	}
	for _, n := range columns {
		if old, col := t.Column(n), c.After.Column(n); old.NotNull && placeholder(old) == "" ||
			col.NotNull && placeholder(col) == "" {
			return "its type has no value that could stand where nobody sees it"
		}
		for _, k := range t.ForeignKeys {
			sources := p.Sources(c.Fill[n].Expr)
			if schema.HasName(k.Columns, n) || slices.ContainsFunc(sources, func(s *schema.Column) bool {
				return schema.HasName(k.Columns, s.Name)
			}) {
				return "foreign key " + k.Name + " is about it, or about what it is computed from"
			}
		}
		if p.numbers(c.Fill[n].Expr) {
			return "it is computed from the number of the row, which no trigger knows"
		}
	}
	return ""
}

// Swaps implements engine.Planner.
func (Engine) Swaps(c *schema.SwapChange) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, c.After)
	return p.exchangeTriggers(c.Columns()), p.exchangeSQL(c.As.Invert(), false, true)
}

// exchange plans a stage.
func (p *planner) exchange(c *schema.SwapChange) {
	switch c.Stage {
	case schema.SwapBeside:
		p.exchangeBeside(c)
	case schema.SwapTurn:
		p.exchangeNames(c)
	case schema.SwapEnd:
		p.exchangeEnds(c)
	}
}

// at gives a planner of the change as it would be made at once.
func (p *planner) at(as *schema.TableChange) *planner {
	q := newPlanner(p.Facts, as.Before)
	q.Change, q.After = as, as.After
	return q
}

// exchangeTriggers names the triggers.
func (p *planner) exchangeTriggers(columns []string) (list []string) {
	for _, event := range []string{"insert", "update"} {
		list = append(list, schema.ConstraintName(&schema.Table{Name: engine.Prefix + p.Table.Name},
			append(append([]string{"type"}, columns...), event), strings.TrimPrefix(mirrorSuffix, "_")))
	}
	return list
}

// exchangeSQL gives the statements that make the triggers which compute what is out of sight: of each
// row that is written while it is filled, for one whose key changes may come to stand behind the
// filling; else of those that come, or whose sources change. guarded lets it be a placeholder where it
// cannot be computed: programs may write what the type out of sight has no value for.
func (p *planner) exchangeSQL(as *schema.TableChange, filling, guarded bool) (sql []string) {
	q, columns := p.at(as), as.Converted()
	var comes, changes []string
	for _, n := range columns {
		e := as.Fill[n].Expr
		value, err := q.Expr(e, planning.Scope{Table: q.Table, Value: q.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		aside, none := "new."+quote(schema.Aside(n)), "null"
		if col := as.After.Column(n); col.NotNull {
			none = placeholder(col)
		}
		set := "set " + aside + " = " + value + ";"
		if guarded && !planning.Total(as, n) {
			set = "begin declare exit handler for sqlexception set " + aside + " = " + none + "; " + set + " end;"
		}
		changed := []string{differs("new."+quote(n), "old."+quote(n))}
		for _, s := range q.Sources(e) {
			if s.Name != n {
				changed = append(changed, differs("new."+quote(s.Name), "old."+quote(s.Name)))
			}
		}
		comes = append(comes, set)
		if !filling {
			set = "if " + strings.Join(changed, " or ") + " then " + set + " end if;"
		}
		changes = append(changes, set)
	}
	triggers := p.exchangeTriggers(columns)
	for i, body := range [][]string{comes, changes} {
		sql = append(sql, "create or replace trigger "+quote(triggers[i])+" before "+[]string{"insert", "update"}[i]+" on "+
			p.table()+" for each row begin "+strings.Join(body, " ")+" end")
	}
	return sql
}

func (p *planner) noExchange(columns []string) (sql []string) {
	for _, n := range p.exchangeTriggers(columns) {
		sql = append(sql, "drop trigger if exists "+quote(n))
	}
	return sql
}

// exchangeBeside makes the columns out of sight.
func (p *planner) exchangeBeside(c *schema.SwapChange) {
	p.After = c.After
	p.ProvenBy(&p.at(c.As).Planner)
	var columns, asides, actions, sets, differ []string
	for _, n := range c.Columns() {
		aside := schema.Aside(n)
		columns, asides = append(columns, n), append(asides, aside)
		actions = append(actions, "add column if not exists "+columnSQL(c.After, c.After.Column(aside))+" after "+quote(n))
		value := p.at(c.As).Render(c.As.Fill[n].Expr, planning.Computed)
		sets = append(sets, quote(aside)+" = "+value)
		differ = append(differ, "not ("+quote(aside)+" <=> "+value+")")
	}
	of, what := strings.Join(columns, ", "), strings.Join(asides, ", ")
	s := p.alterTable(engine.Catalog, 0, "add "+what+", of the other type", actions...)
	s.Why = "to give " + of + " another type at once would write every row while programs wait"
	p.underLock("compute "+what+" from "+of, "", p.exchangeSQL(c.As, true, false)...)
	p.Update("fill "+what, "update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range)
	s = p.define(engine.Scan, scanRate, "prove that "+what+" is what comes of "+of, "", "select 'a row has another value "+
		"out of sight than comes of it' from "+p.table()+" where "+strings.Join(differ, " or ")+" limit 1")
	s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, nil
	if planning.PutsBack(c.As) {
		p.underLock("compute "+what+" where "+of+" changes", "", p.exchangeSQL(c.As, false, false)...)
		p.PutAsideBack(c)
	}
}

// exchangeNames lets the columns exchange their names.
func (p *planner) exchangeNames(c *schema.SwapChange) {
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
	var gone, come []string
	takes := func(made, name string) {
		gone = append(gone, "drop key if exists "+quote(name))
		come = append(come, "rename key "+quote(made)+" to "+quote(name))
	}
	for i, k := range c.As.After.Uniques {
		if slices.ContainsFunc(columns, func(n string) bool { return schema.HasName(k.Columns, n) }) {
			made := *aside.Uniques[i]
			made.Name = schema.Aside(k.Name)
			p.buildKey(&made)
			takes(made.Name, k.Name)
		}
	}
	for i, x := range c.As.After.Indexes {
		if slices.ContainsFunc(columns, x.Uses) {
			made := *aside.Indexes[i]
			made.Name = schema.Aside(x.Name)
			p.buildIndex(&made)
			takes(made.Name, x.Name)
		}
	}
	var names, turned []string
	var exchanged []string
	for _, n := range columns {
		out, in := *c.After.Column(schema.Aside(n)), *c.After.Column(n)
		exchanged = append(exchanged, "change column "+quote(n)+" "+columnSQL(c.After, &out),
			"change column "+quote(schema.Aside(n))+" "+columnSQL(c.After, &in))
		names = append(names, n)
		first, second := n, schema.Aside(n)
		if c.Before.Place(n) < c.Before.Place(second) {
			first, second = second, first
		}
		turned = append(turned, p.placeQuery(first)+" < "+p.placeQuery(second))
	}
	triggers := p.noExchange(columns)
	if !c.As.Back {
		triggers = p.exchangeSQL(c.As.Invert(), false, true)
	}
	var script []string
	if len(gone) > 0 { // with it the server would not exchange the names in an instant
		script = append(script, p.alterSQL(gone...))
	}
	script = append(script, p.alterSQL(append(exchanged, come...)...))
	p.underLock("give "+strings.Join(names, ", ")+" the other type", "select 1 from dual where "+
		strings.Join(turned, " and "), append(script, triggers...)...)
	why := "the columns exchange their names; the old one is computed from the new one until the overlap is settled"
	if c.As.Back {
		why = "the columns exchange their names"
	}
	p.Steps[len(p.Steps)-1].Why = why
	// A server that died between the two left the triggers of before.
	what := "compute what is out of sight from " + strings.Join(names, ", ")
	if c.As.Back {
		what = "let go of the triggers"
	}
	p.define(engine.Sync, 0, what, "", triggers...)
}

// placeQuery gives the place of a column among the others.
func (p *planner) placeQuery(column string) string {
	return "(select ordinal_position from information_schema.columns where table_schema = database() and table_name = " +
		literal(p.Table.Name) + " and column_name = " + literal(column) + ")"
}

// exchangeEnds takes away what is out of sight, and keeps of it what the columns do not give back.
func (p *planner) exchangeEnds(c *schema.SwapChange) {
	p.Change, p.After = c.As, c.After
	columns := c.Columns()
	if c.Keep {
		for _, n := range columns {
			p.keepAside(c, n)
		}
	}
	var indexes, actions, asides []string
	for _, n := range columns {
		aside := schema.Aside(n)
		asides, actions = append(asides, aside), append(actions, "drop column if exists "+quote(aside))
		for _, x := range p.Table.Indexes {
			if x.Uses(aside) {
				indexes = append(indexes, "drop key if exists "+quote(x.Name))
			}
		}
	}
	script := p.noExchange(columns) // they would name what is not there any more
	if len(indexes) > 0 {
		script = append(script, p.alterSQL(indexes...))
	}
	var follow []string // from now on what is kept follows its rows
	for _, k := range p.keptBeside {
		follow = append(follow, followSQL(p.Table, k.Kept, k.Keys)...)
	}
	script = append(append(script, p.alterSQL(actions...)), follow...)
	p.flushWindow(script, "take "+strings.Join(asides, ", ")+" away", p.goneQuery(asides, ""))
	if len(follow) > 0 { // a run that died between the two left triggers that name what is gone
		p.define(engine.Sync, 0, "let what is kept follow its rows", "", follow...)
	}
}

// keepAside keeps the values of the old type that the new ones do not give back.
func (p *planner) keepAside(c *schema.SwapChange, n string) {
	if planning.Exact(c.As, n) {
		return // every value gives back what it came from
	}
	back := c.As.Invert()
	keys, aside := p.Table.Key(), quote(schema.Aside(n))
	where := aside + " is not null"
	if planning.Total(back, n) {
		where = "not (binary " + aside + " <=> binary " + p.at(back).Render(back.Fill[n].Expr, planning.Computed) + ")"
	}
	kept := p.Facts.KeptTable()
	was, now := *p.Table.Column(schema.Aside(n)), *p.Table.Column(n)
	was.NotNull, now.NotNull = false, false
	k := &engine.Keeping{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: []string{n}, What: engine.KeptConverted}
	places := keptSQL("k", p.Table, keys) + ", " + typed("o1", &was) + ", " + typed("w1", &now) + ", " +
		keptKey(p.Table, keys)
	if p.Facts.Live && !p.Short(keepRate) && p.Cursor(p.Table) != nil {
		p.keepBeside(k, places, []string{schema.Aside(n), n}, []string{"o1", "w1"}, "("+where+")")
		return
	}
	p.keep(kept, k, places, "insert into "+quote(kept)+" select "+p.Columns(keys)+", "+aside+", "+quote(n)+" from "+
		p.table()+" where "+where)
}
