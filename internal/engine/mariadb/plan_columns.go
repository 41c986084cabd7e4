package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// dropColumns takes columns away, generated ones first, and lets swapped ones take their
// places.
func (p *planner) dropColumns() {
	var generated, actions, names []string
	for _, c := range p.Dropped() {
		if c.Generated != nil {
			generated = append(generated, "drop column if exists "+quote(c.Name))
		} else {
			actions, names = append(actions, "drop column if exists "+quote(c.Name)), append(names, c.Name)
		}
	}
	for _, c := range p.After.Columns {
		switch {
		case !p.isRemade(c):
		case p.From(c).Generated != nil:
			generated = append(generated, "drop column if exists "+quote(c.Name))
		default: // its values are kept first
			actions, names = append(actions, "drop column if exists "+quote(c.Name)), append(names, c.Name)
		}
	}
	if len(generated) > 0 {
		p.alterTable(engine.Catalog, 0, "drop what is computed", generated...)
	}
	var links []string // that keep equal what goes and what stays
	if l := p.Change.Unlinked; l != nil {
		links = linkTriggers(p.Table, *l)
	}
	for _, n := range names {
		for _, tr := range p.Table.Own {
			if planning.Names(tr, n) && !slices.Contains(links, tr.Name) {
				p.define(engine.Sync, 0, "let go of "+tr.Name, "", "drop trigger if exists "+quote(tr.Name))
			}
		}
	}
	what, done := "drop column "+strings.Join(names, ", "), ""
	for _, c := range p.swapped {
		actions = append(actions, "drop column "+quote(c.Name),
			"change column "+quote(beside(c))+" "+columnSQL(p.inPlace(), c))
		names = append(names, c.Name)
		what = "put the new " + strings.Join(names, ", ") + " in place"
		done = "select 1 from dual where not exists (select 1 from information_schema.columns where table_schema = " +
			"database() and table_name = " + literal(p.Table.Name) +
			" and column_name = " + literal(beside(c)) + ")"
	}
	for _, c := range p.After.Columns {
		if old := p.From(c); len(links) > 0 && old != nil && computes(p.Table, old) { // from what goes
			actions, p.defined = append(actions, "modify column "+columnSQL(p.inPlace(), c)), append(p.defined, c)
		}
	}
	if k := p.Table.PrimaryKey; k != nil && (p.Goes(k.Columns) || len(p.swapped) > 0 && p.goesFor(usesNames(k.Columns))) {
		actions = append(actions, p.primary()...)
	}
	switch {
	case len(actions) == 0:
		p.flushWindow(nil, what, "")
	case len(links) > 0, len(p.keptBeside) > 0, p.Facts.Live && (len(p.window) > 0 || p.swapFollowed ||
		len(p.fillers) > 0 &&
			len(p.Dropped()) > 0):
		script := []string{p.alterSQL(actions...)}
		var off []string
		if len(p.Dropped()) > 0 { // which they may read
			for _, event := range p.fillers {
				off = append(off, "drop trigger if exists "+quote(p.fillTrigger(event)))
			}
			p.fillers = nil
		}
		for _, k := range p.keptBeside { // from now on what is kept follows its rows
			off = append(off, followSQL(p.Table, k.Kept, k.Keys)...)
		}
		for _, n := range links {
			off = append(off, "drop trigger if exists "+quote(n))
		}
		if p.swapFollowed {
			for _, n := range p.swapTriggers() {
				off = append(off, "drop trigger if exists "+quote(n))
			}
		}
		p.flushWindow(append(script, off...), what, p.goneQuery(names, done))
		if len(off) > 0 { // a run that died between the two left them, and writers are refused until then
			p.define(engine.Sync, 0, "let go of the triggers", "", off...)
		}
	default:
		p.flushWindow(nil, what, "")
		s := p.alterTable(engine.Rewrite, rewriteRate, what, actions...)
		s.Outside.Done = done
	}
	p.addAgain()
}

// addAgain adds columns that have the name of one that is dropped.
func (p *planner) addAgain() {
	var list []*schema.Column
	for _, c := range p.After.Columns {
		if p.From(c) != nil || p.Table.Column(c.Name) == nil || c.Generated != nil {
			continue
		}
		list = append(list, c)
		if _, ok := p.filling(c); ok {
			p.Fail(&engine.Refused{Message: "column " + c.Name +
				" is dropped and added with values for its rows in one statement",
				Cure: "do it in two statements, or set the type or the expression of the column"})
		}
	}
	p.addTogether(list)
}

// goneQuery gives a row when columns are gone.
func (p *planner) goneQuery(names []string, done string) string {
	if done != "" {
		return done
	}
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = literal(n)
	}
	return "select 1 from dual where not exists (select 1 from information_schema.columns where table_schema = " +
		"database() and table_name = " + literal(p.Table.Name) +
		" and column_name in (" + strings.Join(list, ", ") + "))"
}

// flushWindow runs what waits for the table to be locked: on a live database while it is,
// with what follows; else one statement after the other. Applications see the triggers
// once the places that they write to are no longer locked: a delete that opened one
// meanwhile could be told that it is not there.
func (p *planner) flushWindow(script []string, what, done string) {
	if script == nil {
		if len(p.windowFollow) > 0 {
			p.define(engine.Sync, 0, "let what is kept follow its rows", "", followFirst(&p.Planner, p.windowFollow...)...)
		}
		for i, sql := range p.window {
			p.Add(engine.Scan, keepRate, "keep values in "+p.windowKeeps[i], sql)
		}
	} else {
		var keep []string
		for i, k := range p.windowKeeps {
			keep = append(keep, "delete from "+quote(k), p.window[i]) // of a run that died here
			what = "keep the values and " + strings.TrimPrefix(what, "keep the values and ")
		}
		for _, k := range p.windowFollow {
			keep = append(keep, followSQL(p.Table, k.Kept, k.Keys)...)
		}
		p.locked(what, done, p.windowKeeps, append(keep, script...)...)
	}
	p.window, p.windowKeeps, p.windowFollow = nil, nil, nil
}

// locked adds a step of statements that run while the table is locked, and places of kept
// values with it.
func (p *planner) locked(what, done string, kept []string, script ...string) {
	locks := append([]string{p.table() + " write"}, lockedNumbers(p.Table, p.After)...)
	for _, k := range kept {
		locks = append(locks, quote(k)+" write")
	}
	s := p.define(engine.Rewrite, keepRate, what, done,
		strings.Join(append([]string{"lock tables " + strings.Join(locks, ", ")}, script...), engine.Between))
	s.Why = "while the table is locked, so that nothing is lost that is written meanwhile"
}

// lockedNumbers gives the locks of the sequences from which columns take their defaults: the
// server counts them among what an alter or a trigger of the table uses.
func lockedNumbers(tables ...*schema.Table) (locks []string) {
	var columns []*schema.Column
	for _, t := range tables {
		columns = append(columns, t.Columns...)
	}
	for _, c := range columns {
		if c.Default == nil {
			continue
		}
		tokens, _ := sqltext.Scan(c.Default.Native, sqltext.Engine)
		for i, t := range tokens {
			if !t.Is("nextval") || !tokens[i+1].Is("(") {
				continue
			}
			name := ""
			for _, part := range tokens[i+2:] {
				if part.Kind != sqltext.Word && part.Kind != sqltext.Quoted && !part.Is(".") {
					break
				}
				if part.Is(".") {
					name += "."
				} else {
					name += quote(part.Value)
				}
			}
			if lock := name + " write"; name != "" && !slices.Contains(locks, lock) {
				locks = append(locks, lock)
			}
		}
	}
	return locks
}

// modify gives columns their new definitions, each as a whole, and all in one statement:
// if the server has to copy the table, then once.
func (p *planner) modify() {
	var actions, whats, mend []string
	before, after, late := p.without(), p.inPlace(), p.late()
	for i, c := range p.After.Columns {
		old := p.From(c)
		if p.isRemade(c) || p.isSwapped(c) || slices.Contains(p.hidden, c) ||
			slices.Contains(p.defined, c) || slices.Contains(late, c) || old == nil &&
			(c.Generated != nil || !p.unfinished(c)) {
			continue
		}
		place, moved := "", old != nil && p.moves(c)
		if moved {
			place = " first"
			if i > 0 {
				place = " after " + quote(p.After.Columns[i-1].Name)
			}
		}
		if old != nil && !moved && columnSQL(before, old) == columnSQL(after, c) {
			continue
		}
		what := "define " + c.Name + " anew"
		switch {
		case old != nil && !sameForm(old, c):
			what = "make " + c.Name + " " + c.Type.String()
		case c.NotNull && (old == nil || !old.NotNull):
			what = "make " + c.Name + " not null"
			mend = append(mend, p.mendNulls(c)...)
		case moved:
			what = "move " + c.Name
		case c.Generated != nil && p.Recomputed(c):
			what = "compute " + c.Name + " anew"
		}
		actions, whats = append(actions, "modify column "+columnSQL(after, c)+place), append(whats, what)
	}
	done := ""
	if !planning.SameKey(p.Table.PrimaryKey, p.After.PrimaryKey) && !p.keyDone {
		actions, whats = append(p.primary(), actions...), append(whats, "write the rows in the order of their key")
		done = p.keyQuery()
	}
	if len(actions) > 0 {
		s := p.alterTable(engine.Rewrite, rewriteRate, strings.Join(whats, ", "), actions...)
		s.Preview, s.Outside.Done, s.Mend = p.PreviewAdded(), done, mend
	}
}

// late lists the columns that are by default what comes of others, which have their names only once they
// are filled.
func (p *planner) late() (list []*schema.Column) {
	for _, c := range p.After.Columns {
		if c.Default != nil && !p.shown && slices.ContainsFunc(p.hidden,
			func(h *schema.Column) bool { return c.Default.Mentions(h.Name) }) {
			list = append(list, c)
		}
	}
	return list
}

// mendNulls gives the statements that fill rows which came without a value after all others had
// theirs: those of a small table are filled without triggers.
func (p *planner) mendNulls(c *schema.Column) []string {
	value, ok := p.filling(c)
	if f, filled := p.FillOf(c); p.From(c) != nil && filled && f.OnlyNull && f.Expr != nil {
		value, ok = p.Render(f.Expr, planning.Computed), true
	}
	if !ok || !p.Facts.Live {
		return nil
	}
	return p.Quietly(p.Table, []string{"update " + p.table() + " set " + quote(c.Name) + " = " + value + " where " +
		quote(c.Name) + " is null"})
}

// primary gives the actions that make the primary key another, once.
func (p *planner) primary() (actions []string) {
	if p.keyDone {
		return nil
	}
	p.keyDone = true
	if p.Table.PrimaryKey != nil {
		actions = append(actions, "drop primary key")
		actions = append(actions, p.serve(nil)...)
	}
	if k := p.After.PrimaryKey; k != nil {
		actions = append(actions, "add primary key ("+quoteAll(k.Columns)+")")
	}
	return actions
}

// keyQuery gives a row when the primary key is what it becomes.
func (p *planner) keyQuery() string {
	const key = " from information_schema.statistics where table_schema = database() and index_name = 'PRIMARY' and " +
		"table_name = "
	if p.After.PrimaryKey == nil {
		return "select 1 from dual where not exists (select 1" + key + literal(p.Table.Name) + ")"
	}
	return "select 1 from (select group_concat(column_name order by seq_in_index separator ', ') as names" + key +
		literal(p.Table.Name) + ") k where names = " + literal(strings.Join(p.After.PrimaryKey.Columns, ", "))
}

// unfinished reports whether an added column stands there with less than its definition.
func (p *planner) unfinished(c *schema.Column) bool {
	_, filled := p.filling(c)
	return filled && (c.NotNull || c.Default != nil) || c.OnUpdateNow && p.writes()
}

// writes reports whether the change itself writes rows, whose times it leaves alone.
func (p *planner) writes() bool {
	return slices.ContainsFunc(p.After.Columns, func(c *schema.Column) bool {
		_, filled := p.FillOf(c)
		return filled || p.From(c) == nil && !instantDefault(c)
	})
}

// moves reports whether a column that was there is asked to stand elsewhere.
func (p *planner) moves(c *schema.Column) bool {
	name := c.Name
	if to, ok := p.Renames[name]; ok {
		name = to
	}
	_, placed := p.Change.Placed[name]
	return placed
}

// addGenerated adds computed columns, once what they are computed from is as it will be.
// Those that are not stored take no time.
func (p *planner) addGenerated() {
	for _, stored := range []bool{false, true} {
		var actions, names []string
		for _, c := range p.After.Columns {
			if c.Generated != nil && c.Generated.Stored == stored && (p.From(c) == nil || p.isRemade(c)) {
				actions, names = append(actions, "add column if not exists "+columnSQL(p.After, c)+p.placeOf(c, true)),
					append(names, c.Name)
			}
		}
		if len(actions) > 0 {
			p.alterTable(engine.Rewrite, rewriteRate, "compute "+strings.Join(names, ", "),
				actions...).Preview = p.PreviewAdded()
		}
	}
}
