package postgres

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// keepDropped keeps the values of columns that are dropped, in the transaction that
// drops them.
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
	reads := p.Reads()
	if p.KeepsBeside(keepRate) {
		places := keptSQL("k", p.Table, keys) + ", " + keptSQL("o", p.Table, columns)
		names := planning.KeptSQL("o", len(columns))
		if len(reads) > 0 {
			places += ", " + keptSQL("r", p.Table, reads)
			names += ", " + planning.KeptSQL("r", len(reads))
		}
		p.keepBeside(&engine.Keeping{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: columns, Reads: reads,
			What: engine.KeptColumn}, places, names, slices.Concat(keys, columns, reads), "")
		return
	}
	var list []string
	for i, k := range keys {
		value := p.KeyValue(k)
		if c := p.Table.Column(k); c.Type.IsInteger() {
			value = "cast(" + value + " as " + declaration(planning.WidestKey(c)) + ")"
		}
		list = append(list, fmt.Sprintf("%s as k%d", value, i+1))
	}
	for i, c := range columns {
		list = append(list, fmt.Sprintf("%s as o%d", quote(c), i+1))
	}
	for i, c := range reads {
		list = append(list, fmt.Sprintf("%s as r%d", quote(c), i+1))
	}
	s := p.Add(engine.Scan, keepRate, "keep the values of "+strings.Join(columns, ", "),
		"lock table "+p.table()+" in share row exclusive mode",
		"create table "+name(kept)+" as select "+strings.Join(list, ", ")+" from "+p.table(),
		"alter table "+name(kept)+" add primary key ("+planning.KeptSQL("k", len(keys))+")")
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	s.Keeps = []*engine.Keeping{{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: columns, Reads: reads,
		What: engine.KeptColumn}}
	p.follow(s)
}

// keepBeside keeps values beside applications: of rows that they write from now on triggers keep them,
// and of all others batches do, so that nothing is left to do while columns are dropped. places defines
// the columns of the place, names names those behind the key, and columns are those of the table that go
// there; only is a condition of the rows that need it, "" for all.
func (p *planner) keepBeside(k *engine.Keeping, places, names string, columns []string, only string) {
	what := strings.Join(k.Columns, ", ")
	s := p.Add(engine.Catalog, 0, "make a place for the values of "+what, "create table "+name(k.Kept)+" ("+places+
		", primary key ("+planning.KeptSQL("k", len(k.Keys))+"))")
	s.Keeps = []*engine.Keeping{k}
	p.follow(s)
	r := rowKeys(p.Table, k.Keys, nil)
	values := make([]string, len(columns))
	for i, c := range columns {
		values[i] = "new." + quote(c)
	}
	// A transaction that reads as of its start does not see what a batch has kept since: it fails as for any
	// row that another has written.
	var again []string
	for n := range strings.SplitSeq(names, ", ") {
		again = append(again, n+" = excluded."+n)
	}
	put := "insert into " + name(k.Kept) + " values (" + strings.Join(values, ", ") + ") on conflict (" +
		planning.KeptSQL("k", len(k.Keys)) + ") do update set " + strings.Join(again, ", ") + "; "
	sql := []string{function(k.Kept+goneSuffix, r.Gone("old", k.Kept)),
		function(k.Kept+movedSuffix, r.Gone("old", k.Kept)+r.Gone("new", k.Kept)+put),
		function(k.Kept+newSuffix, r.Gone("new", k.Kept)+put)}
	s.Undo = forget(k.Kept)
	for _, x := range [][2]string{{goneSuffix, "delete"}, {movedSuffix, "update"}, {newSuffix, "insert"}} {
		sql = append(sql, "create or replace trigger "+quote(k.Kept+x[0])+" after "+x[1]+" on "+p.table()+
			" for each row execute function "+name(k.Kept+x[0])+"()", always(p.Table, k.Kept+x[0]))
	}
	s = p.Add(engine.Sync, 0, "keep the values of "+what+" of rows that are written", sql...)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	if only != "" {
		only = " and " + only
	}
	s = p.Update("keep the values of "+what, "insert into "+name(k.Kept)+" select "+quoteAll(columns)+" from "+p.table()+
		" where "+engine.Range+only+" for share on conflict do nothing")
	p.Faster(s, p.Rates.Keeps).Try = ""
	p.keeping = append(p.keeping, "drop trigger if exists "+quote(k.Kept+newSuffix)+" on "+p.table(),
		"drop function if exists "+name(k.Kept+newSuffix)+"()")
}

// endKeeping lets go of what has kept values beside applications.
func (p *planner) endKeeping() {
	if len(p.keeping) == 0 {
		return
	}
	s := p.Add(engine.Sync, 0, "all values are kept", append([]string{"lock table " + p.table() +
		" in access exclusive mode"}, p.keeping...)...)
	s.Lock, s.Strong = lockExclusive, []string{p.Table.Name}
	p.keeping = nil
}

// follow lets what a step keeps follow its rows once the columns are what they become,
// unless the key itself goes.
func (p *planner) follow(s *engine.Step) {
	if k := s.Keeps[0]; !p.Goes(k.Keys) {
		k.Followed = true
		p.followers = append(p.followers, followSQL(p.Table, k.Kept, k.Keys)...)
	}
}

// followKept adds the step for that.
func (p *planner) followKept() {
	if len(p.followers) > 0 {
		s := p.Add(engine.Sync, 0, "let what is kept follow its rows", p.followers...)
		s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
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
		if old == nil || !filled || f.OnlyNull || p.Change.Discard[old.Name] || p.LimitChanges(old, c) || c.Generated != nil {
			continue
		}
		if _, restored := p.Change.Restore[old.Name]; f.Cast && f.Kept == nil && !restored &&
			(catalogOnly(old, c) || schema.Widens(old.Type, c.Type)) {
			continue // every value stays what it is
		}
		keys := p.Table.Key()
		if keys == nil || p.Goes(keys) {
			if p.Change.Back {
				continue // what was added since cannot be told apart by row, so it cannot be kept
			}
			p.NoKey(c.Name)
			return
		}
		kept := p.Facts.KeptTable()
		value, _ := p.Value(c, planning.Computed)
		list := make([]string, len(keys))
		for i, k := range keys {
			list[i] = fmt.Sprintf("%s as k%d", p.KeyValue(k), i+1)
		}
		what, back, where := "keep the values of "+c.Name, "null", ""
		o, w := declaration(old), declaration(c)
		if _, restored := p.Change.Restore[old.Name]; f.Cast && !restored {
			what += " that change"
			back = p.Render(&sqltext.Cast{X: f.Expr, Type: old.Type}, planning.Proven)
			where = " where o is distinct from cast(b as " + o + ")"
		}
		columns := keptSQL("k", p.After, keys) + ", o1 " + o + ", w1 " + w
		s := p.Add(engine.Scan, keepRate, what,
			"lock table "+p.table()+" in share row exclusive mode",
			"create table "+name(kept)+" ("+columns+", primary key ("+planning.KeptSQL("k", len(keys))+"))",
			fmt.Sprintf("insert into %s select %s, o, w from (select %s, %s as o, %s as w, %s as b from %s offset 0) as "+
				"lastboard_rows%s",
				name(kept), planning.KeptSQL("k", len(keys)), strings.Join(list, ", "), quote(old.Name), value, back, p.table(),
				where))
		s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
		s.Keeps = []*engine.Keeping{{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: []string{old.Name},
			What: engine.KeptConverted}}
		p.follow(s)
	}
}

// convert gives columns their new types and values.
func (p *planner) convert() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		f, filled := p.FillOf(c)
		if old == nil || p.isRemade(c) || filled && f.OnlyNull {
			continue
		}
		same := declaration(old) == declaration(c) && old.Collate == c.Collate
		switch {
		case same && (!filled || f.Cast && f.Kept == nil):
			continue
		case same: // other values of the same type
			value, _ := p.Value(c, planning.Computed)
			p.Update("fill "+c.Name, "update "+p.table()+" set "+quote(c.Name)+" = "+value+" where "+engine.Range)
		case catalogOnly(old, c) && (!filled || f.Cast && f.Kept == nil):
			kind, rate := engine.Catalog, 0.0
			if isTime(old) && p.indexed(c.Name) {
				kind, rate = engine.Build, indexRate // the server builds its indexes anew
			}
			p.together(p.changeType(kind, rate, old, c, ""))
		default:
			p.rewrite(old, c, f)
		}
	}
}

// catalogOnly reports whether the server changes a type without reading a row.
func catalogOnly(old, c *schema.Column) bool {
	if old.Collate != c.Collate || old.Declared != "" && old.Declared != "character varying" {
		return false
	}
	a, b := old.Type, c.Type
	text := func(t schema.Column) bool {
		return t.Type.Name == "text" || t.Type.Name == "varchar" || t.Type.Name == "enum"
	}
	switch {
	case text(*old) && text(*c):
		return len(b.Args) == 0 || len(a.Args) == 1 && a.Args[0] <= b.Args[0]
	case isTime(old) && isTime(c):
		return true // the session's time zone is UTC
	case a.Name == "numeric" && b.Name == "numeric":
		return len(b.Args) == 0 || len(a.Args) > 0 && a.Args[0] <= b.Args[0] && append(a.Args, 0)[1] == append(b.Args, 0)[1]
	}
	return declaration(old) == declaration(c)
}

func isTime(c *schema.Column) bool {
	return c.Type.Name == "timestamp" || c.Type.Name == "timestamp with time zone"
}

// indexed reports whether an index or a key has a column.
func (p *planner) indexed(column string) bool {
	return slices.ContainsFunc(p.After.Indexes, func(x *schema.Index) bool { return x.Uses(column) }) ||
		slices.ContainsFunc(p.After.Uniques, func(k *schema.Key) bool { return schema.HasName(k.Columns, column) }) ||
		p.After.PrimaryKey != nil && schema.HasName(p.After.PrimaryKey.Columns, column)
}

// changeType lets the server give a column another type; using is how its values
// become that, "" for as the server does it.
func (p *planner) changeType(kind engine.Kind, rate float64, old, c *schema.Column, using string) *engine.Step {
	column := "alter column " + quote(c.Name) + " "
	var actions []string
	if old.Default != nil {
		actions = append(actions, column+"drop default")
	}
	action := column + "type " + declaration(c)
	if c.Collate != "" {
		action += " collate " + collation(c.Collate)
	}
	if using != "" {
		action += " using " + using
	}
	actions = append(actions, action)
	if c.Default != nil {
		actions = append(actions, column+"set default "+defaultSQL(p.After, *c.Default))
	}
	s := p.alterTable(kind, rate, "make "+c.Name+" "+c.Type.String(), actions...)
	for _, tr := range p.Table.Own { // which the server would not let go of the column
		if (&schema.Expr{Native: tr.SQL}).Mentions(c.Name) && slices.Contains(p.Facts.Kept, keptBy(tr)) {
			s.SQL = append(append([]string{"drop trigger " + quote(tr.Name) + " on " + p.table()}, s.SQL...), tr.SQL,
				always(p.Table, tr.Name))
		}
	}
	return s
}

// together joins a step that gives a column another type with the one before it, where that does the
// same and neither reads another column: the server writes the table once for both.
func (p *planner) together(s *engine.Step) {
	n := len(p.Steps) - 2
	if n < 0 || p.Steps[n] != p.retypes || len(p.retypes.SQL) != 1 || len(s.SQL) != 1 {
		p.retypes = s
		return
	}
	first := p.retypes
	first.SQL[0] += ", " + strings.TrimPrefix(s.SQL[0], "alter table "+p.table()+" ")
	first.What += ", " + s.What
	if s.Seconds > first.Seconds {
		first.Kind, first.Rows, first.Seconds, first.WritersWait = s.Kind, s.Rows, s.Seconds, s.WritersWait
	}
	first.Rewrites, first.Why = first.Rewrites || s.Rewrites, cmp.Or(first.Why, s.Why)
	first.Preview = cmp.Or(first.Preview, s.Preview)
	p.Steps = p.Steps[:n+1]
}

// rewrite converts a column's values while the server writes every row anew. What its
// using may not do, such as reading what was kept, a function does.
func (p *planner) rewrite(old, c *schema.Column, f schema.Fill) {
	value := "cast(" + quote(c.Name) + " as " + declaration(c) + ")"
	if f.Expr != nil || f.Kept != nil {
		value, _ = p.Value(c, planning.Computed)
	}
	if f.Kept == nil && (f.Expr == nil || !sqltext.HasSubquery(f.Expr)) {
		s := p.changeType(engine.Rewrite, rewriteRate, old, c, "("+value+")")
		s.Why = "the server writes every row anew for this type"
		s.Preview = p.PreviewAdded()
		if f.Cast {
			p.together(s)
		}
		return
	}
	var columns, types, names []string
	for _, col := range p.Table.Columns {
		if schema.HasName(p.remade, col.Name) {
			continue
		}
		if i := slices.IndexFunc(p.After.Columns, func(a *schema.Column) bool { return p.From(a) == col }); i >= 0 &&
			i < slices.Index(p.After.Columns, c) {
			col = p.After.Columns[i] // it has its new type already
		}
		columns = append(columns, fmt.Sprintf("$%d as %s", len(columns)+1, quote(col.Name)))
		types, names = append(types, declaration(col)), append(names, col.Name)
	}
	function := name(schema.ConstraintName(&schema.Table{Name: engine.Prefix + tableOf(p.Table).Name}, []string{c.Name},
		"convert"))
	row := "(select " + strings.Join(columns, ", ") + ") as " + quote(tableOf(p.Table).Name)
	s := p.changeType(engine.Rewrite, rewriteRate, old, c, function+"("+quoteAll(names)+")")
	s.SQL = append([]string{"create function " + function + "(" + strings.Join(types, ", ") + ") returns " +
		declaration(c) + " language sql stable as " + dollar("select cast(("+
		value+") as "+declaration(c)+") from "+row)}, s.SQL...)
	s.SQL = append(s.SQL, "drop function "+function+"("+strings.Join(types, ", ")+")")
	s.Why = "the server writes every row anew for this type"
}
