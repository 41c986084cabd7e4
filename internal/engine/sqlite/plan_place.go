package sqlite

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// inPlace changes the table by statements that SQLite carries out itself.
func (p *planner) inPlace() {
	name := quote(p.Table.Name)
	p.unsupply(name)
	p.dropParts(name)
	p.addColumns(name)
	p.fillColumns(name)
	p.endFill()
	p.notNulls(name)
	p.addParts(name)
	p.keepDropped() // together with what drops them
	p.keepConverted()
	for _, c := range p.Dropped() {
		if c.OnUpdateNow {
			p.Add(engine.Sync, 0, "keep no time in "+c.Name, "drop trigger "+quote(onUpdateName(p.Table, c)))
		}
		for _, tr := range p.Table.Own {
			if planning.Names(tr, c.Name) {
				p.Add(engine.Sync, 0, "let go of "+tr.Name, "drop trigger if exists "+quote(tr.Name))
			}
		}
		var sql []string
		if c.Limit != "" { // which may stand behind the columns, where it would name one that is gone
			sql = append(sql, "alter table "+name+" drop constraint "+quote(c.Limit))
		}
		p.Add(engine.Rewrite, rewriteRate, "drop column "+c.Name,
			append(sql, "alter table "+name+" drop column "+quote(c.Name), dropNote(p.Table.Name, c.Name, "comment"))...)
	}
}

func (p *planner) dropParts(name string) {
	goneIndexes, _ := p.Indexes()
	for _, x := range goneIndexes {
		p.Add(engine.Catalog, 0, "drop index "+x.Name, "drop index "+quote(x.Name))
	}
	goneKeys, _ := p.Uniques()
	for _, k := range goneKeys {
		p.Add(engine.Catalog, 0, "drop constraint "+k.Name, "drop index "+quote(k.Name),
			dropNote(p.Table.Name, k.Name, "unique"))
	}
	goneChecks, _ := p.Checks()
	for _, k := range goneChecks {
		p.Add(engine.Catalog, 0, "drop constraint "+k.Name, "alter table "+name+" drop constraint "+quote(k.Name))
	}
	for _, c := range p.After.Columns {
		if old := p.From(c); old != nil && p.LimitChanges(old, c) {
			p.Add(engine.Catalog, 0, "let "+c.Name+" hold other values",
				"alter table "+name+" drop constraint "+quote(old.Limit))
		}
	}
	goneRefs, _ := p.ForeignKeys()
	for _, k := range goneRefs {
		p.Add(engine.Catalog, 0, "drop constraint "+k.Name, "alter table "+name+" drop constraint "+quote(k.Name))
	}
	for _, c := range p.After.Columns {
		if old := p.From(c); old != nil && old.NotNull && !c.NotNull {
			p.Add(engine.Catalog, 0, "let "+c.Name+" be null",
				"alter table "+name+" alter column "+quote(c.Name)+" drop not null")
		}
	}
}

func (p *planner) addColumns(name string) {
	_, refs := p.ForeignKeys()
	for _, c := range p.After.Columns {
		if p.From(c) != nil {
			continue
		}
		def := *c
		if _, filled := p.FillOf(c); filled && c.Default == nil {
			def.NotNull = false
		}
		sql := columnSQL(p.After, &def, p.After.Options["strict"] != "")
		for _, k := range refs {
			if k.Columns[0] == c.Name {
				sql += " constraint " + quote(k.Name) + " " + references(k)
			}
		}
		// SQLite reads every row when it has something to check.
		kind, rate := engine.Catalog, 0.0
		if def.Limit != "" || def.NotNull || def.Generated != nil {
			kind, rate = engine.Scan, scanRate
		}
		p.Add(kind, rate, "add column "+c.Name, "alter table "+name+" add column "+sql)
	}
}

// fillColumns gives existing rows their values: first where every row gets one,
// then where only null is filled.
func (p *planner) fillColumns(name string) {
	var sets, names, putsBack []string
	for _, c := range p.After.Columns {
		f, ok := p.FillOf(c)
		if !ok || f.OnlyNull || p.From(c) != nil {
			continue
		}
		value, _ := p.Value(c, planning.Computed)
		if f.Kept == nil && f.Expr == nil {
			continue // its default is all there is to say
		}
		sets, names = append(sets, quote(c.Name)+" = "+value), append(names, c.Name)
		if f.Kept != nil && !slices.Contains(putsBack, f.Kept.Table) {
			putsBack = append(putsBack, f.Kept.Table)
		}
	}
	if len(sets) > 0 {
		p.fillNew()
		rest := p.NoteKept(p.Added(), func(c *schema.Column) string { return c.Name })
		s := p.Update("fill "+strings.Join(names, ", "),
			"update "+name+" set "+strings.Join(sets, ", ")+" where "+engine.Range)
		s.Preview = p.PreviewAdded()
		rest()
	}
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.OnlyNull {
			p.fillNulls(c, f)
		}
	}
	p.LetGo(putsBack)
}

// fillTrigger names the trigger that fills rows which are written while a fill goes on.
func (p *planner) fillTrigger(event string) string {
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + p.Table.Name}, []string{event}, "fill")
}

// fillNew lets rows that are written meanwhile get their values then: those that come, those
// whose sources change, and those that have none yet, whose key may have moved behind the
// fill. What an application itself writes into the column stays.
func (p *planner) fillNew() {
	if !p.Facts.Live || p.Short(updateRate) {
		return
	}
	var insert, update []string
	keys := cursor(p.Table)
	match := make([]string, len(keys))
	for i, k := range keys {
		match[i] = k + " = new." + k
	}
	for _, c := range p.After.Columns {
		f, ok := p.FillOf(c)
		if ok && !f.OnlyNull && p.From(c) == nil {
			p.Follows(c, f, true)
		}
		if !ok || f.OnlyNull || p.From(c) != nil || f.Expr == nil || sqltext.HasSubquery(f.Expr) ||
			schema.Unsteady(f.Expr) != "" {
			continue
		}
		value, column := p.Render(f.Expr, planning.Computed), quote(c.Name)
		comes := value
		if f.Kept != nil { // which another trigger gives the new key, before this one or after it
			value = "case " + keptBy("old", f.Kept) + keptBy("new", f.Kept) + "else " + value + " end"
		}
		set := func(value string) string {
			return "update " + quote(p.Table.Name) + " set " + column + " = " + value + " where " +
				strings.Join(match, " and ") +
				" and " + column + " is not (" + value + ")"
		}
		changed := []string{"new." + column + " is null"}
		for _, s := range p.Sources(f.Expr) {
			changed = append(changed, "new."+quote(s.Name)+" is not old."+quote(s.Name))
		}
		insert = append(insert, set(comes)+" and "+column+" is null;")
		update = append(update, set(value)+" and new."+column+" is old."+column+" and ("+strings.Join(changed, " or ")+");")
	}
	if len(insert) == 0 {
		return
	}
	on := " on " + quote(p.Table.Name) + " begin "
	s := p.Add(engine.Sync, 0, "fill rows that are written meanwhile",
		"create trigger "+quote(p.fillTrigger("insert"))+" after insert"+on+strings.Join(insert, " ")+" end",
		"create trigger "+quote(p.fillTrigger("update"))+" after update"+on+strings.Join(update, " ")+" end")
	s.Why = "an application that does not know the column yet leaves it out"
	s.Undo = p.fillEnd()
	p.filler = true
}

// keptBy gives the part of a case that finds what is kept of a row by its old or its new key.
func keptBy(row string, k *schema.Kept) string {
	match := make([]string, len(k.Keys))
	for i, key := range k.Keys {
		match[i] = fmt.Sprintf("k.k%d = %s.%s", i+1, row, quote(key))
	}
	from := " from " + quote(k.Table) + " k where " + strings.Join(match, " and ")
	return "when exists (select 1" + from + ") then (select k." + quote(k.Column) + from + ") "
}

func (p *planner) fillEnd() []string {
	return []string{"drop trigger if exists " + quote(p.fillTrigger("insert")),
		"drop trigger if exists " + quote(p.fillTrigger("update"))}
}

// endFill takes those triggers away.
func (p *planner) endFill() {
	if p.filler {
		p.Add(engine.Sync, 0, "rows bring their own values from now on", p.fillEnd()...)
	}
}

// fillNulls fills the rows that have null, and remembers which they were.
func (p *planner) fillNulls(c *schema.Column, f schema.Fill) {
	value := p.Render(f.Expr, planning.Computed)
	p.FillNulls(c, value)
}

// notNulls ends with the engine's own proof. Rows that came while a backfill ran
// are filled by a second pass where applications write; one that came after that
// is filled when the proof meets it.
func (p *planner) notNulls(name string) {
	var late []string
	mend := map[string]string{}
	for _, c := range p.After.Columns {
		if f, filled := p.FillOf(c); p.becomesNotNull(c) && filled && f.Kept == nil && f.Expr != nil {
			set := "update " + name + " set " + quote(c.Name) + " = " + p.Render(f.Expr, planning.Computed) + " where "
			late = append(late, set+engine.Range+" and "+quote(c.Name)+" is null")
			mend[c.Name] = set + quote(c.Name) + " is null"
		}
	}
	inBatches := func(s *engine.Step) bool { return s.Batch != nil }
	if len(late) == 0 || !slices.ContainsFunc(p.Steps, inBatches) {
		clear(mend) // nobody could write since
	} else if p.Facts.Live && inBatches(p.Steps[len(p.Steps)-1]) {
		s := p.Update("fill rows that came meanwhile", late...)
		s.Seconds = s.Seconds / (scanRate / updateRate)
	}
	for _, c := range p.After.Columns {
		if !p.becomesNotNull(c) {
			continue
		}
		if schema.HasName(p.Change.Supplied, c.Name) {
			p.supply(c)
			continue
		}
		s := p.Add(engine.Scan, scanRate, "make "+c.Name+" not null",
			"alter table "+name+" alter column "+quote(c.Name)+" set not null")
		if m := mend[c.Name]; m != "" {
			s.Mend = quietly(p.Table, []string{m})
		}
	}
}

// becomesNotNull reports whether a column still has to be made not null once its
// rows are filled.
func (p *planner) becomesNotNull(c *schema.Column) bool {
	_, filled := p.FillOf(c)
	if old := p.From(c); old != nil {
		return c.NotNull && !old.NotNull
	}
	return c.NotNull && filled && c.Default == nil
}

func (p *planner) addParts(name string) {
	_, keys := p.Uniques()
	for _, k := range keys {
		p.Add(engine.Build, indexRate, "build the index of constraint "+k.Name, createUnique(p.Table, k),
			noteUnique(p.Table, k))
	}
	for _, c := range p.After.Columns {
		if old := p.From(c); old != nil && p.LimitChanges(old, c) {
			p.Add(engine.Scan, scanRate, "let "+c.Name+" hold "+c.Type.String(),
				"alter table "+name+" add constraint "+quote(c.Limit)+" check ("+limit(c.Type, c.Name)+")")
		}
	}
	_, checks := p.Checks()
	for _, k := range checks {
		p.Add(engine.Scan, scanRate, "add constraint "+k.Name,
			"alter table "+name+" add constraint "+quote(k.Name)+" check ("+stored(p.After, k.Expr)+")")
	}
	_, indexes := p.Indexes()
	for _, x := range indexes {
		p.Add(engine.Build, indexRate, "build index "+x.Name, createIndex(p.After, x))
	}
}

// rename gives columns and the table their new names; SQLite rewrites everything
// that uses them. The triggers that keep times are named after both, and are made
// anew.
func (p *planner) rename() {
	final := p.Change.After
	gone, added := onUpdateChanges(p.Standing, final)
	for _, name := range gone {
		p.Add(engine.Sync, 0, "drop trigger "+name, "drop trigger "+quote(name))
	}
	for _, from := range slices.Sorted(maps.Keys(p.Renames)) {
		to := p.Renames[from]
		p.Add(engine.Catalog, 0, "rename column "+from+" to "+to, p.renameSQL(from, to)...)
	}
	if final.Name != p.Table.Name {
		p.Add(engine.Catalog, 0, "rename table "+p.Table.Name+" to "+final.Name,
			"alter table "+quote(p.Table.Name)+" rename to "+quote(final.Name),
			"update lastboard_note set table_name = "+literal(final.Name)+" where table_name = "+literal(p.Table.Name))
	}
	for _, c := range added {
		p.Add(engine.Sync, 0, "keep the time of each update in "+c.Name, onUpdateSQL(final, c))
	}
}

// renameSQL gives the statements that give a column another name.
func (p *planner) renameSQL(from, to string) []string {
	return []string{"alter table " + quote(p.Table.Name) + " rename column " + quote(from) + " to " + quote(to),
		"update lastboard_note set object = " + literal(to) + " where table_name = " + literal(p.Table.Name) +
			" and object = " + literal(from) + " and kind = 'comment'"}
}

// surviving gives the table of before without the columns that are dropped.
func (p *planner) surviving() *schema.Table {
	t := *p.Table
	dropped := p.Dropped()
	t.Columns = slices.DeleteFunc(slices.Clone(t.Columns),
		func(c *schema.Column) bool { return slices.Contains(dropped, c) })
	return &t
}

// comments writes what changed of them.
func (p *planner) comments() {
	var sql []string
	name := p.Change.After.Name
	one := func(object, old, text string) {
		switch {
		case old == text:
		case text == "":
			sql = append(sql, dropNote(name, object, "comment"))
		default:
			sql = append(sql, note(name, object, "comment", text))
		}
	}
	one("", p.Table.Comment, p.After.Comment)
	for _, c := range p.Change.After.Columns {
		old := ""
		if from, ok := p.Change.From[c.Name]; ok {
			old = p.Table.Column(from).Comment
		}
		one(c.Name, old, c.Comment)
	}
	if len(sql) > 0 {
		p.Add(engine.Catalog, 0, "write the comment", sql...)
	}
}
