package mariadb

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Columns that come to be beside others: swapped ones are computed beside those whose
// places they take, hidden ones are filled before anybody sees them.

// swap finds the columns whose values the server cannot convert as the language says:
// they are computed beside the old ones.
func (p *planner) swap() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		f, filled := p.FillOf(c)
		if old != nil && old.Generated != nil && c.Generated == nil && (!old.Generated.Stored || !filled) {
			if !old.Generated.Stored {
				p.swapped = append(p.swapped, c) // the server makes nothing of its own of such a column
			}
			continue
		}
		if p.turnsBeside(old, c) {
			p.swapped = append(p.swapped, c)
			continue
		}
		if old == nil || !filled || f.OnlyNull || c.Generated != nil {
			continue
		}
		if sameForm(old, c) && (f.Cast && f.Kept == nil) || p.LimitChanges(old, c) {
			continue
		}
		if f.Cast && f.Kept == nil && converts(old, c) {
			continue // the server does as the language says
		}
		if sameForm(old, c) {
			continue // other values in the same column
		}
		p.swapped = append(p.swapped, c)
	}
}

// lingers reports whether the server would keep writers waiting for too long to make a
// column not null: at the end of writing the table anew, when it takes the old one away, or
// all the while where a computed column is stored.
func (p *planner) lingers() bool {
	return p.followed() && p.Cursor(p.Table) != nil &&
		(float64(p.Facts.Bytes[p.Table.Name])/awayRate > p.Facts.Short || p.computes(true))
}

// computes reports whether the table has a computed column that is stored, or one that is not.
func (p *planner) computes(stored bool) bool {
	return slices.ContainsFunc(p.Table.Columns, func(c *schema.Column) bool {
		return c.Generated != nil && c.Generated.Stored == stored
	})
}

// turnsBeside reports whether a column comes to take null, or none, by another beside it
// that takes its place: the server itself would write the table anew. What is tied to other
// things stays where it is.
func (p *planner) turnsBeside(old, c *schema.Column) bool {
	if old == nil || old.NotNull == c.NotNull || old.Generated != nil || c.Generated != nil || c.Identity != nil ||
		!sameForm(old, c) || p.LimitChanges(old, c) || !p.lingers() {
		return false
	}
	if p.computes(false) {
		return false // no column takes another's place there without a copy of the table
	}
	f, filled := p.FillOf(c)
	return (!filled || f.OnlyNull) && (!c.NotNull || placeholder(c) != "") && !tied(p.Table, old.Name) &&
		!tied(p.After, c.Name) && !p.referredTo(old.Name)
}

// tied reports whether anything of a table but the column itself speaks of it.
func tied(t *schema.Table, column string) bool {
	in := func(k *schema.Key) bool { return schema.HasName(k.Columns, column) }
	return t.PrimaryKey != nil && in(t.PrimaryKey) || slices.ContainsFunc(t.Uniques, in) ||
		slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool { return x.Uses(column) }) ||
		slices.ContainsFunc(t.Checks, func(k *schema.Check) bool { return k.Expr.Mentions(column) }) ||
		slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool { return schema.HasName(k.Columns, column) }) ||
		slices.ContainsFunc(t.Columns, func(c *schema.Column) bool {
			return c.Generated != nil && c.Generated.Expr.Mentions(column)
		})
}

func (p *planner) referredTo(column string) bool {
	return slices.ContainsFunc(p.Facts.Schema.Tables, func(t *schema.Table) bool {
		return slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
			return schema.SameName(k.Table, p.Table.Name) && schema.HasName(k.References, column)
		})
	})
}

// placeholder gives a value that stands in a not null column which nobody sees, until its
// rows are computed; "" for a type that has none.
func placeholder(c *schema.Column) string {
	switch t := c.Type; {
	case t.Native || t.Name == "json" || t.Name == "enum":
		return ""
	case isText(c), t.Name == "blob", t.Name == "varbinary", t.Name == "binary":
		return "''"
	case t.Name == "numeric" && len(t.Args) == 2 && t.Args[1] > 0: // as the server shows it
		return "0." + strings.Repeat("0", t.Args[1])
	case t.IsInteger(), t.Name == "numeric", t.Name == "boolean", t.Name == "real", t.Name == "double precision":
		return "0"
	case t.Name == "date":
		return "'1970-01-02'"
	case strings.HasPrefix(t.Name, "timestamp"):
		return "'1970-01-02 00:00:00'"
	case t.Name == "time":
		return "'00:00:00'"
	case t.Name == "uuid":
		return "'00000000-0000-0000-0000-000000000000'"
	}
	return ""
}

// sameForm reports whether two columns hold the same values in the same way.
func sameForm(old, c *schema.Column) bool {
	return declaration(old) == declaration(c) && old.Collate == c.Collate
}

// converts reports whether the server's own conversion of a type gives what a cast of
// the language gives, for values that stay the same by it.
func converts(old, c *schema.Column) bool {
	number := func(t sqltext.Type) bool {
		return t.IsInteger() || t.Name == "numeric" || t.Name == "boolean" || t.Name == "real" || t.Name == "double precision"
	}
	a, b := old.Type, c.Type
	if a.Native || b.Native {
		return a.Native && b.Native
	}
	switch {
	case number(a) && number(b):
		return true
	case a.IsText() && b.IsText():
		return true
	case a.IsInteger() && b.IsText():
		return true
	case a.Name == "date" && strings.HasPrefix(b.Name, "timestamp"), a.Name == "timestamp" && b.Name == "date":
		return true
	case strings.HasPrefix(a.Name, "timestamp") && strings.HasPrefix(b.Name, "timestamp"):
		return true
	case a.Name == b.Name:
		return true
	case a.Name == "varbinary" && b.Name == "blob", a.Name == "blob" && b.Name == "varbinary":
		return true
	}
	return false
}

func (p *planner) isSwapped(c *schema.Column) bool { return slices.Contains(p.swapped, c) }

// beside gives the name of the column in which a swapped one is computed.
func beside(c *schema.Column) string {
	return schema.ConstraintName(&schema.Table{Name: strings.TrimSuffix(engine.Prefix, "_")}, []string{c.Name}, "next")
}

// called gives the name under which a column stands; ends is set once all have theirs.
func (p *planner) called(c *schema.Column, ends bool) string {
	if !ends && !p.shown && slices.Contains(p.hidden, c) {
		return beside(c)
	}
	return c.Name
}

// hide finds the added columns that are filled where nobody sees them, not null from the
// beginning: the server would write the table anew to make one not null afterwards.
func (p *planner) hide() {
	for _, c := range p.After.Columns {
		if p.From(c) == nil && p.Table.Column(c.Name) == nil && c.NotNull && c.Identity == nil && placeholder(c) != "" &&
			p.lingers() && p.comes(c) != nil && !p.numbers(p.comes(c)) {
			p.hidden = append(p.hidden, c)
		}
	}
}

// show gives hidden columns their names and definitions, while the table is locked: what
// fills them would be in the way of what is written before it is gone.
func (p *planner) show() {
	if len(p.hidden) == 0 || p.shown {
		return
	}
	p.shown = true
	var actions, names, hidden []string
	again := map[string]string{}
	for _, c := range p.hidden {
		if e := p.comes(c); !p.differs(e) {
			again[beside(c)] = p.Render(e, planning.Computed)
		}
		actions = append(actions, "change column "+quote(beside(c))+" "+columnSQL(p.inPlace(), c))
		names, hidden = append(names, c.Name), append(hidden, beside(c))
	}
	p.againWhere(again)
	var off []string
	for _, event := range p.fillers {
		off = append(off, "drop trigger if exists "+quote(p.fillTrigger(event)))
	}
	p.fillers = nil
	p.locked("show "+strings.Join(names, ", "), p.goneQuery(hidden, ""), nil,
		slices.Concat([]string{p.alterSQL(actions...)}, off)...)
	// a run that died between the two left it
	p.define(engine.Sync, 0, "rows bring their own values from now on", "", off...)
}

// computeSwapped computes columns of another kind beside the old ones, and other values
// in those that stay.
func (p *planner) computeSwapped() {
	var sets, names, stale []string
	again := map[string]string{}
	for _, c := range p.After.Columns {
		old := p.From(c)
		f, filled := p.FillOf(c)
		if old == nil || !p.isSwapped(c) {
			continue
		}
		value := quote(old.Name)
		switch {
		case filled && f.OnlyNull:
			value = "coalesce(" + value + ", " + p.Render(f.Expr, planning.Computed) + ")"
		case filled && f.Expr != nil:
			value, _ = p.Value(c, planning.Computed)
		case filled && f.Kept != nil:
			from := p.KeptFor(c, f.Kept)
			value = "case when exists (select 1" + from + ") then (select k." + quote(f.Kept.Column) + from + ") else " + value +
				" end"
		}
		def := *c
		def.Name, def.NotNull, def.Default, def.Limit, def.Identity, def.OnUpdateNow = beside(c), false, nil, "", nil, false
		def.Options = map[string]string{"invisible": "yes"}
		if c.NotNull && p.followed() && placeholder(c) != "" { // so that it is not null at once when it takes its place
			def.NotNull, def.Default = true, &schema.Expr{Native: placeholder(c)}
		}
		s := p.alterTable(engine.Rewrite, rewriteRate, "make a column for the new "+c.Name,
			"add column if not exists "+columnSQL(nil, &def)+" after "+quote(c.Name))
		s.Undo = []string{"alter table " + p.table() + " drop column if exists " + quote(def.Name) + ", " + algorithm}
		sets, names = append(sets, quote(def.Name)+" = "+value), append(names, c.Name)
		if !p.differs(f.Expr) {
			again[def.Name] = value
		}
		if def.NotNull && !p.differs(f.Expr) {
			stale = append(stale, "not (binary "+quote(def.Name)+" <=> binary "+value+")")
		}
	}
	if len(sets) == 0 {
		return
	}
	p.followSwapped()
	p.Update("compute the new "+strings.Join(names, ", "),
		"update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range).Preview = p.PreviewAdded()
	p.againWhere(again)
	if len(stale) > 0 {
		p.Proof("prove that every row has its new "+strings.Join(names, ", "), "", strings.Join(stale, " or "), "",
			engine.Proof{
				Rule: "not-as-planned", Message: "%d rows have not got what was computed for them",
				Cure: "this is a gap in Lastboard: please report it with the migration", Late: true,
			})
	}
}

// againWhere computes columns that nobody sees once more, in rows that changed past the
// triggers, as by a cascade of a foreign key.
func (p *planner) againWhere(values map[string]string) {
	if !p.followed() || len(values) == 0 {
		return
	}
	var sets, differ []string
	for _, column := range slices.Sorted(maps.Keys(values)) {
		sets = append(sets, quote(column)+" = "+values[column])
		differ = append(differ, "not (binary "+quote(column)+" <=> binary ("+values[column]+"))")
	}
	s := p.Add(engine.Backfill, scanRate, "compute again what changed past the triggers",
		p.Quietly(p.Table, []string{"update " + p.table() + " set " + strings.Join(sets, ", ") + " where " +
			strings.Join(differ, " or ")})...)
	s.WritersWait, s.Pause = engine.WaitBriefly, min(s.Seconds, briefPause) // it lets go of rows that are right
}

// differs reports whether an expression gives something else each time.
func (p *planner) differs(e sqltext.Expr) bool {
	found := false
	if e != nil {
		sqltext.Walk(e, func(x sqltext.Expr) bool {
			switch x := x.(type) {
			case *sqltext.Now:
				found = true
			case *sqltext.Call:
				found = found || strings.Contains(x.Name, "uuid") || strings.Contains(x.Name, "random")
			}
			return !found
		})
	}
	return found
}

// swapTriggers are the triggers that compute swapped columns while applications write.
func (p *planner) swapTriggers() []string {
	var list []string
	for _, event := range []string{"insert", "update"} {
		list = append(list, schema.ConstraintName(&schema.Table{Name: engine.Prefix + p.Table.Name}, []string{"next", event},
			"fill"))
	}
	return list
}

// followSwapped computes swapped columns of rows that come or change meanwhile.
func (p *planner) followSwapped() {
	if !p.followed() {
		return
	}
	var insert, update []string
	for _, c := range p.swapped {
		old := p.From(c)
		f, filled := p.FillOf(c)
		var e sqltext.Expr = &sqltext.Ref{Column: old.Name}
		switch {
		case filled && f.OnlyNull:
			e = &sqltext.Call{Name: "coalesce", Args: []sqltext.Expr{e, f.Expr}}
		case filled && f.Expr != nil:
			e = f.Expr
		}
		if sqltext.HasSubquery(e) || p.numbers(e) {
			p.Fail(&engine.Refused{
				Message: "the new values of " + c.Name + " cannot be followed while applications write: they read other rows, " +
					"or the number of the row itself",
				Cure: "do it while the database is not live, or compute them from the row's other columns",
			})
		}
		value, err := p.Expr(e, planning.Scope{Table: p.Table, Value: p.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		set := "set new." + quote(beside(c)) + " = " // nobody else writes it
		insert, update = append(insert, set+value+";"), append(update, set+p.keptOr(c, value)+";")
	}
	p.swapFollowed = true
	triggers := p.swapTriggers()
	for i, body := range [][]string{insert, update} {
		if len(body) == 0 {
			continue
		}
		event := []string{"insert", "update"}[i]
		p.whenWritten(triggers[i], event, "compute it for rows that are written meanwhile", body)
	}
}
