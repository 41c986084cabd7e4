package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// What is kept of columns whose values go.

// keepDropped keeps the values of columns that are dropped.
func (p *planner) keepDropped() {
	columns := p.Losing()
	if len(columns) == 0 {
		return
	}
	keys := p.Table.Key()
	if keys == nil || slices.ContainsFunc(keys, func(k string) bool { return slices.Contains(columns, k) }) {
		if !p.Change.Back { // what was added since cannot be told apart by row
			p.NoKey(strings.Join(columns, ", "))
		}
		return
	}
	kept := p.Facts.KeptTable()
	list := make([]string, 0, len(keys)+len(columns))
	for _, k := range keys {
		list = append(list, p.keyValue(k))
	}
	for _, c := range columns {
		list = append(list, quote(c))
	}
	reads, places := p.Reads(), keptSQL("k", p.After, keys)+", "+keptSQL("o", p.Table, columns)
	for i, c := range reads {
		list, places = append(list, quote(c)), places+", "+typed(fmt.Sprint("r", i+1), p.Table.Column(c))
	}
	k := &engine.Keeping{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: columns, Reads: reads,
		What: engine.KeptColumn}
	if places += ", " + keptKey(p.After, keys); p.KeepsBeside(keepRate) {
		names := planning.KeptSQL("o", len(columns))
		if len(reads) > 0 {
			names += ", " + planning.KeptSQL("r", len(reads))
		}
		p.keepBeside(k, places, slices.Concat(columns, reads), strings.Split(names, ", "), "")
		return
	}
	p.keep(kept, k, places,
		"insert into "+quote(kept)+" select "+strings.Join(list, ", ")+" from "+p.table())
}

// keepBeside keeps values beside applications: of rows that they write from now on triggers keep them,
// and of all others batches do, so that nothing is left to do while the table is locked. No trigger looks
// in vain for what may not be there. places defines the columns of the place, and columns are those of the
// table that go there, behind the key, under names; only is a condition of the rows that need it, "" for
// all.
func (p *planner) keepBeside(k *engine.Keeping, places string, columns, names []string, only string) {
	what := strings.Join(k.Columns, ", ")
	s := p.define(engine.Catalog, 0, "make a place for the old values of "+what, "", "create table "+quote(k.Kept)+" ("+
		places+")")
	s.Keeps, s.Undo = []*engine.Keeping{k}, forget(k.Kept)
	s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, nil
	k.Followed = true
	r := rowKeys(k.Keys)
	values, sets := []string{r.Of("new")}, make([]string, len(columns))
	for i, c := range columns {
		values, sets[i] = append(values, "new."+quote(c)), names[i]+" = new."+quote(c)
	}
	if only != "" {
		only = " and " + only
	}
	put := "insert into " + quote(k.Kept) + " values (" + strings.Join(values, ", ") + ") on duplicate key update " +
		strings.Join(sets, ", ")
	trigger := func(suffix, event, body string) string {
		return "create or replace trigger " + quote(k.Kept+suffix) + " after " + event + " on " + p.table() +
			" for each row " + body
	}
	changed := r.Changed(func(a, b string) string { return "not (" + a + " <=> " + b + ")" })
	p.define(engine.Sync, 0, "keep the values of "+what+" of rows that are written", "", unseen(p.Table,
		trigger(goneSuffix, "delete", "begin "+there(r, "old", k.Kept)+"end"),
		trigger(movedSuffix, "update", "begin if "+changed+" then "+there(r, "old", k.Kept)+"end if; "+put+"; end"),
		trigger(cameSuffix, "insert", put))).Lock = lockTable
	s = p.Update("keep the values of "+what, "insert into "+quote(k.Kept)+" select "+
		p.Columns(append(slices.Clone(k.Keys), columns...))+" from "+p.table()+" where "+engine.Range+only+" for update "+
		"on duplicate key update k1 = k1")
	p.Faster(s, p.Rates.Keeps).Try = ""
	p.keptBeside = append(p.keptBeside, k)
}

// keyValue gives what a column of the key is after the change.
func (p *planner) keyValue(name string) string {
	if c := p.After.Column(name); c != nil && p.isSwapped(c) {
		return quote(beside(c))
	}
	return p.KeyValue(name)
}

// keep makes a place for old values, and fills it when the table is locked.
func (p *planner) keep(kept string, k *engine.Keeping, columns, insert string) {
	s := p.define(engine.Catalog, 0, "make a place for the old values of "+strings.Join(k.Columns, ", "), "",
		"create table "+quote(kept)+" ("+columns+")")
	s.Keeps = []*engine.Keeping{k}
	s.Undo = forget(kept)
	s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, nil
	p.window, p.windowKeeps = append(p.window, insert), append(p.windowKeeps, kept)
	if !p.Goes(k.Keys) {
		k.Followed = true
		p.windowFollow = append(p.windowFollow, k)
	}
}

// emptied lists the tables of kept values that are no longer needed once rows have
// their values back.
func (p *planner) emptied() []string {
	var list []string
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.Kept != nil && !slices.Contains(list, f.Kept.Table) {
			list = append(list, f.Kept.Table)
		}
	}
	return list
}

// keepConverted keeps the values that a conversion writes over, with what it writes, so
// that they go back only where that still stands. A value that a plain cast back would
// give again is not kept.
func (p *planner) keepConverted() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		f, filled := p.FillOf(c)
		if old == nil || !filled || f.OnlyNull || c.Generated != nil || p.LimitChanges(old, c) {
			continue
		}
		value, _ := p.Value(c, planning.Computed)
		if !p.keepsOld(old, c, f, value) {
			return
		}
		if sameForm(old, c) && !p.isSwapped(c) && !(f.Cast && f.Kept == nil) { // other values in the same column
			p.flushWindow(nil, "", "")
			p.Update("fill "+c.Name, "update "+p.table()+" set "+quote(c.Name)+" = "+value+" where "+engine.Range)
		}
	}
}

// keepsOld does so for one column, and reports false where it cannot.
func (p *planner) keepsOld(old, c *schema.Column, f schema.Fill, value string) bool {
	_, restored := p.Change.Restore[old.Name]
	if p.Change.Discard[old.Name] || f.Cast && f.Kept == nil && !restored && schema.Widens(old.Type, c.Type) {
		return true // every value stays what it is
	}
	keys := p.Table.Key()
	if keys == nil || p.Goes(keys) {
		if !p.Change.Back { // what was added since cannot be told apart by row, so it cannot be kept
			p.NoKey(c.Name)
		}
		return p.Change.Back
	}
	kept := p.Facts.KeptTable()
	wrote := value
	if p.isSwapped(c) {
		wrote = quote(beside(c))
	}
	var list []string
	for i, k := range keys {
		list = append(list, fmt.Sprintf("%s as k%d", p.keyValue(k), i+1))
	}
	back, where := "null", ""
	if f.Cast && !restored {
		back = p.Render(&sqltext.Cast{X: f.Expr, Type: old.Type}, planning.Proven)
		where = " where not (binary o <=> binary b)"
	}
	columns := keptSQL("k", p.After, keys) + ", " + typed("o1", old) + ", " + typed("w1", c) + ", " +
		keptKey(p.After, keys)
	p.keep(kept, &engine.Keeping{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: []string{old.Name},
		What: engine.KeptConverted}, columns,
		fmt.Sprintf("insert into %s select %s, o, w from (select %s, %s as o, %s as w, %s as b from %s) as lastboard_rows%s",
			quote(kept), planning.KeptSQL("k", len(keys)), strings.Join(list, ", "), quote(old.Name), wrote, back, p.table(),
			where))
	return true
}

// typed gives a column of a table of kept values that is like another.
func typed(name string, c *schema.Column) string {
	text := name + " " + declaration(c)
	if isText(c) {
		text += collated(c)
	}
	return text + " null"
}
