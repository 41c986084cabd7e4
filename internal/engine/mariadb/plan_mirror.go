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

// A mirror is an invisible column under another name, equal to its own in every committed row. A
// first and a last trigger keep them equal, since triggers of the application's may stand between:
// the first finds out by which name a row was written, and carries that to the column; the last
// gives the mirror what all others have made of the column. A statement that writes both and not
// the same is an error. The server makes a default of the mirror where the column wants a value and
// has no default: a program that writes by the new name alone leaves it out.

const mirrorSuffix = "_mirror"

// mirrorTrigger names one of the triggers.
func mirrorTrigger(t *schema.Table, place, event string) string {
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + t.Name}, []string{place, event},
		strings.TrimPrefix(mirrorSuffix, "_"))
}

// mirrorTriggers names all of them.
func mirrorTriggers(t *schema.Table) (list []string) {
	for _, place := range []string{"first", "last"} {
		for _, event := range []string{"insert", "update"} {
			list = append(list, mirrorTrigger(t, place, event))
		}
	}
	return list
}

// Twin implements engine.Planner.
func (Engine) Twin(c *schema.Column, name string) schema.Column {
	m := schema.Twin(c, name)
	m.Options = map[string]string{"invisible": "yes"}
	return m
}

// Mirrors implements engine.Planner.
func (Engine) Mirrors(t *schema.Table, pairs []schema.Mirror) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, t)
	return mirrorTriggers(t), append(p.syncSQL(pairs), p.MendMirrors(p.MirrorsOf(pairs, differs)))
}

// CannotMirror implements engine.Planner.
func (Engine) CannotMirror(t *schema.Table, column string) string {
	for _, k := range t.ForeignKeys {
		acts := func(rule string) bool { return rule != "" && rule != "restrict" && rule != "no action" }
		if schema.HasName(k.Columns, column) && (acts(k.OnUpdate) || acts(k.OnDelete)) {
			return "its value changes with that of table " + k.Table + " (foreign key " + k.Name + "), which no trigger sees"
		}
	}
	for _, c := range t.Columns {
		switch {
		case c.Generated != nil && !c.Generated.Stored:
			return "column " + c.Name + " is computed and not stored, and beside such a column the server takes none away in " +
				"an instant"
		case c.Generated != nil && c.Generated.Expr.Mentions(column):
			return "column " + c.Name + " is computed from it"
		case c.Limit != "" && schema.SameName(c.Name, column):
			return "constraint " + c.Limit + " is about it"
		}
	}
	for _, k := range t.Checks {
		if k.Expr.Mentions(column) {
			return "constraint " + k.Name + " is about it"
		}
	}
	return ""
}

// differs gives the condition that two values are not the same, neither as what they mean nor as
// they are written.
func differs(a, b string) string {
	return "not (" + a + " <=> " + b + " and binary " + a + " <=> binary " + b + ")"
}

// mirror gives columns mirrors, or takes them away.
func (p *planner) mirror(m *schema.MirrorChange) {
	p.After = m.After
	if m.Off {
		p.unmirror(m)
		return
	}
	x := p.MirrorsOf(m.Pairs, differs)
	var actions, wanted []string
	for _, pair := range m.Pairs {
		actions = append(actions, "add column if not exists "+columnSQL(m.After, m.After.Column(pair.Name)))
		if wants(p.Table.Column(pair.Column)) {
			wanted = append(wanted, "alter column "+quote(pair.Column)+" set default ("+quote(pair.Name)+")")
		}
	}
	s := p.alterTable(engine.Catalog, 0, "add "+x.Names+" beside "+x.Columns, actions...)
	s.Why = "programs of before and of after each use their own name"
	if len(wanted) > 0 {
		p.alterTable(engine.Catalog, 0, "let programs write "+x.Names+" alone", wanted...)
	}
	p.underLock("keep "+x.Names+" equal to "+x.Columns, "", p.syncSQL(m.Pairs)...)
	p.FillMirrors(x)
	s = p.define(engine.Scan, scanRate, "prove that each row has the same in "+x.Names, "",
		p.MirrorsAgree(x))
	s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, nil
	for _, index := range m.After.Indexes {
		if m.Before.Index(index.Name) == nil {
			p.buildIndex(index)
		}
	}
}

// wants reports whether a row needs a value for a column that is left out.
func wants(c *schema.Column) bool { return c.NotNull && c.Default == nil }

// underLock adds a step of statements that run while the table is locked.
func (p *planner) underLock(what, done string, script ...string) {
	locks := append([]string{p.table() + " write"}, lockedNumbers(p.Table)...)
	s := p.define(engine.Sync, 0, what, done,
		strings.Join(append([]string{"lock tables " + strings.Join(locks, ", ")}, script...), engine.Between))
	s.Lock = lockTable
}

// syncSQL gives the statements that make the triggers.
func (p *planner) syncSQL(pairs []schema.Mirror) (list []string) {
	var came, changed, last []string
	for _, x := range pairs {
		a, b := "new."+quote(x.Column), "new."+quote(x.Name)
		none := p.unwritten(p.Table.Column(x.Column))
		carry := func(written, other string) string {
			return "if " + written + " then if " + other + " and " + differs(a, b) +
				" then signal sqlstate '45000' set message_text = " +
				literal(cut(x.Column+" and "+x.Name+" of "+p.Table.Name+
					" are one column under two names, and were both written with other values")) +
				"; end if; set " + a + " = " + b + "; end if;"
		}
		came = append(came, carry(differs(b, none), differs(a, none)))
		changed = append(changed, carry(differs(b, "old."+quote(x.Name)), differs(a, "old."+quote(x.Column))))
		last = append(last, "set "+b+" = "+a+";")
	}
	trigger := func(place, event string, body []string) {
		n := mirrorTrigger(p.Table, place, event)
		before := ""
		if first := firstTrigger(p.Table.Triggers, event); place == "first" && first != "" {
			before = "precedes " + quote(first) + " "
		}
		list = append(list, "create or replace trigger "+quote(n)+" before "+event+" on "+p.table()+" for each row "+before+
			"begin "+strings.Join(body, " ")+" end")
	}
	trigger("first", "insert", came)
	trigger("first", "update", changed)
	trigger("last", "insert", last)
	trigger("last", "update", last)
	return list
}

// cut gives as much of a text as the server takes for a message.
func cut(text string) string {
	if letters := []rune(text); len(letters) > 128 {
		return string(letters[:125]) + "..."
	}
	return text
}

// unwritten gives what a column has where nobody writes it; a default that reads others is its mirror.
func (p *planner) unwritten(c *schema.Column) string {
	if c.Default == nil || computes(p.Table, c) {
		return "null"
	}
	return p.written(c.Default)
}

// written gives what a default writes.
func (p *planner) written(d *schema.Expr) string {
	if d.Tree != nil {
		return p.Render(d.Tree, planning.Computed)
	}
	return "(" + d.Native + ")"
}

// firstTrigger names that of triggers which acts first before an event, in whose order they were read;
// "" for none.
func firstTrigger(list []*schema.Trigger, event string) string {
	for _, tr := range list {
		tokens, _ := sqltext.Scan(tr.SQL, sqltext.Engine)
		at := slices.IndexFunc(tokens, func(t sqltext.Token) bool { return t.Is("trigger") })
		if at >= 0 && at+3 < len(tokens) && tokens[at+2].Is("before") && tokens[at+3].Is(event) { // behind its name
			return tr.Name
		}
	}
	return ""
}

// unmirror takes the triggers and the mirrors away, and perhaps gives the columns their names in
// the same moment.
func (p *planner) unmirror(m *schema.MirrorChange) {
	x := p.MirrorsOf(m.Pairs, differs)
	triggers := mirrorTriggers(p.Table)
	if m.Proven {
		p.ProveMirrors(x)
		names := make([]string, len(triggers))
		for i, n := range triggers {
			names[i] = literal(n)
		}
		s := p.define(engine.Scan, 0, "look that all is there that keeps "+x.Names+" equal", "",
			"select "+literal("the triggers that keep "+x.Names+" equal are not all there")+" from dual where "+
				"(select count(*) from information_schema.triggers where event_object_schema = database() and trigger_name in ("+
				strings.Join(names, ", ")+")) <> "+fmt.Sprint(len(triggers)))
		s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, nil
	}
	var indexes, names []string
	for _, index := range p.Table.Indexes {
		if slices.ContainsFunc(m.Pairs, func(x schema.Mirror) bool { return index.Uses(x.Name) }) {
			indexes, names = append(indexes, "drop key if exists "+quote(index.Name)), append(names, index.Name)
		}
	}
	if len(indexes) > 0 { // with it the server would not take the column away in an instant
		p.alterTable(engine.Catalog, 0, "drop index "+strings.Join(names, ", "), indexes...)
	}
	var before, actions, renames, gone, old []string
	p.Renames = map[string]string{}
	for _, pair := range m.Pairs {
		if d := p.Table.Column(pair.Column).Default; d != nil && d.Mentions(pair.Name) {
			before = append(before, "alter column "+quote(pair.Column)+" drop default")
		}
		actions, gone = append(actions, "drop column "+quote(pair.Name)), append(gone, pair.Name)
		if m.Renames {
			renames = append(renames, "rename column "+quote(pair.Column)+" to "+quote(pair.Name))
			p.Renames[pair.Column], old = pair.Name, append(old, pair.Column)
		}
	}
	followers := p.followersAnew(slices.DeleteFunc(slices.Clone(p.Table.Own), func(tr *schema.Trigger) bool {
		return slices.Contains(triggers, tr.Name)
	}))
	var script []string
	if len(before) > 0 {
		script = append(script, p.alterSQL(before...))
	}
	script = append(append(script, p.alterSQL(append(actions, renames...)...)), followers...)
	var off []string
	for _, n := range triggers {
		off = append(off, "drop trigger if exists "+quote(n))
	}
	script = append(script, off...)
	what, done := "take "+x.Names+" away, and what kept it equal", p.goneQuery(gone, "")
	if m.Renames {
		what, done = "give "+x.Columns+" the name "+x.Names, p.goneQuery(old, "")
	}
	p.underLock(what, done, script...)
	// A server that died between two of them left triggers that name what is not there any more.
	p.define(engine.Sync, 0, "let go of the triggers", "", off...)
	p.followAnew(followers)
}
