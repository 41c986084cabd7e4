package postgres

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// Columns that are made from each other are kept equal as mirrors are: a trigger that is the first of
// its row finds out which were written, and makes the old ones of the new; one that is the last makes
// the new ones of what all others have made of the old, unless they agree already. They agree where
// the new ones are what comes of the old, or the old what comes of the new: the side that was written
// stays as it is, though the way to the other may lose something.

const (
	linkCame    = "link_first_of_insert"
	linkChanged = "link_first_of_update"
	linkLast    = "link_last"
	linkLater   = "link_last_of_update"
)

// linkKinds are the triggers, in their order, and linkLasts those that are the last of their rows.
var (
	linkKinds = []string{linkCame, linkChanged, linkLast, linkLater}
	linkLasts = linkKinds[2:]
)

// CannotLink implements engine.Planner.
func (Engine) CannotLink(*schema.TableChange, schema.Link, *schema.Schema) string { return "" }

// Linked implements engine.Planner: rows that come get what they want before it is asked for. One column
// that comes alone has no default: a program that writes the default's own value writes it.
func (Engine) Linked(l schema.Link, c *schema.Column, at schema.LinkStage) schema.Column {
	out := *c
	if at == schema.LinkAdded {
		out.NotNull = false
	}
	if at != schema.LinkGoes && len(l.New) == 1 {
		out.Default = nil
	}
	return out
}

// Links implements engine.Planner.
func (Engine) Links(t *schema.Table, l schema.Link) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, t)
	for _, k := range linkKinds {
		triggers = append(triggers, p.linkTrigger(l, k))
	}
	return triggers, p.linkSQL(l, false)
}

func (p *planner) linkTrigger(l schema.Link, kind string) string {
	old, fresh := l.Columns()
	begin := firstTrigger
	if slices.Contains(linkLasts, kind) {
		begin = lastTrigger
	}
	return mirrorName(p.Table, begin, kind, append(old, fresh...)...)
}

func (p *planner) linkFunction(l schema.Link, kind string) string {
	old, fresh := l.Columns()
	return name(mirrorName(p.Table, "", kind, append(old, fresh...)...))
}

// linkParts gives the parts of statements about columns that are made from each other.
func (p *planner) linkParts(l schema.Link, row func(column string) string) planning.Linked {
	return p.LinkParts(l, row, func(c *schema.Column, x, value string) string {
		return differs(x, "cast(("+value+") as "+declaration(c)+")")
	}, func(x, value string) string { return x + " := " + value + ";" })
}

// linkSQL gives the statements that make the triggers. While the rows are filled the last acts at each
// write, for a row whose key changes may come to stand behind the filling; else where a column is another.
func (p *planner) linkSQL(l schema.Link, filling bool) (list []string) {
	old, fresh := l.Columns()
	x := p.linkParts(l, p.newValue)
	or := func(list []string) string { return "(" + strings.Join(list, " or ") + ")" }
	path := "= pg_catalog, pg_temp"
	for _, n := range append(slices.Clone(old), fresh...) {
		if c := p.Table.Column(n); c.Type.Native || c.Declared != "" {
			path = "from current"
		}
	}
	// written gives the condition that a row brings columns other than what it has where nobody writes.
	written := func(columns []string, none func(c *schema.Column) string) string {
		var list []string
		for _, n := range columns {
			list = append(list, differs("new."+quote(n), none(p.Table.Column(n))))
		}
		return or(list)
	}
	came := func(c *schema.Column) string {
		none := "null"
		if c.Default != nil {
			none = defaultSQL(p.Table, *c.Default)
		}
		return "cast(" + none + " as " + declaration(c) + ")"
	}
	was := func(c *schema.Column) string { return "old." + quote(c.Name) }
	carry := func(none func(*schema.Column) string) string {
		return "if " + written(old, none) + " then if " + or(x.OldDiffer) + " then if " + or(x.NewDiffer) +
			" then raise exception using errcode = '23514', schema = tg_table_schema, table = tg_table_name, message = " +
			literal(strings.Join(old, ", ")+" of ") + " || tg_table_name || " +
			literal(" and "+strings.Join(fresh, ", ")+" are made from each other, and were both written with other values") +
			"; end if; end if; else " + strings.Join(x.OldSet, " ") + " end if;"
	}
	add := func(kind, event, when, body string) {
		list = append(list, "create or replace function "+p.linkFunction(l, kind)+"() returns trigger language plpgsql set "+
			"search_path "+path+" as "+dollar("begin "+body+" return new; end"),
			"create or replace trigger "+quote(p.linkTrigger(l, kind))+" before "+event+" on "+p.table()+" for each row "+when+
				"execute function "+p.linkFunction(l, kind)+"()", always(p.Table, p.linkTrigger(l, kind)))
	}
	add(linkCame, "insert", "when ("+written(fresh, came)+") ", carry(came))
	add(linkChanged, "update", "when ("+written(fresh, was)+") ", carry(was))
	last := "if " + or(x.OldDiffer) + " then if " + or(x.NewDiffer) + " then " + strings.Join(x.NewSet, " ") +
		" end if; end if;"
	if filling {
		add(linkLast, "insert or update", "", last)
		return list
	}
	add(linkLast, "insert", "", last)
	add(linkLater, "update", "when ("+written(append(slices.Clone(old), fresh...), was)+") ", last)
	return list
}

// unlink takes away what keeps columns equal of which some go.
func (p *planner) unlink() {
	l := p.Change.Unlinked
	if l == nil {
		return
	}
	var sql []string
	for _, k := range linkKinds {
		sql = append(sql, "drop trigger if exists "+quote(p.linkTrigger(*l, k))+" on "+p.table(),
			"drop function if exists "+p.linkFunction(*l, k)+"()")
	}
	old, fresh := l.Columns()
	s := p.Add(engine.Sync, 0, "keep "+strings.Join(fresh, ", ")+" equal to "+strings.Join(old, ", ")+" no more",
		append([]string{"lock table " + p.table() + " in access exclusive mode"}, sql...)...)
	s.Lock, s.Strong = lockExclusive, []string{p.Table.Name}
}

// link lets columns be made from each other from now on.
func (p *planner) link(c *schema.LinkChange) {
	p.After = c.After
	l := c.Link
	old, fresh := l.Columns()
	of, what := strings.Join(old, ", "), strings.Join(fresh, ", ")
	p.tellsParts(old...)
	for _, n := range fresh {
		p.CastProof(n, l.New[n], "")
		p.FitProof(c.After.Column(n), p.Render(l.New[n], planning.Proven), "", l.New[n])
	}
	s := p.Add(engine.Sync, 0, "keep "+what+" equal to "+of, p.linkSQL(l, true)...)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	s.Why = "programs of before write " + of + ", those of after " + what
	x := p.linkParts(l, quote)
	differ := "((" + strings.Join(x.OldDiffer, " or ") + ") and (" + strings.Join(x.NewDiffer, " or ") + "))"
	var sets []string
	for _, n := range old {
		sets = append(sets, quote(n)+" = "+quote(n))
	}
	p.Update("fill "+what, "update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range+" and "+differ).
		Why = "the triggers compute it: to write it would look as if a program had"
	s = p.Add(engine.Scan, scanRate, "prove that each row has the same in "+of+" and "+what, "select 'a row has not the "+
		"same in the columns that are made from each other' from "+p.table()+" where "+differ+" limit 1")
	s.Lock, s.WritersWait, s.Alone = "none", engine.WaitNo, true
	s = p.Add(engine.Sync, 0, "look at rows alone in which one of them changes", p.linkSQL(l, false)...)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	p.PutLinkedBack(c, func(row func(string) string) []string { return p.linkParts(l, row).OldDiffer })
	for _, n := range fresh {
		if now := p.Table.Column(n); c.After.Column(n).NotNull && !now.NotNull {
			p.requireLinked(n)
		}
	}
}

// requireLinked makes a column not null whose rows are filled.
func (p *planner) requireLinked(n string) {
	check := schema.ConstraintName(&schema.Table{Name: engine.Prefix + tableOf(p.Table).Name}, []string{n}, "not_null")
	p.addCheck("prove that "+n+" is nowhere null", check, "constraint "+quote(check)+" check ("+quote(n)+
		" is not null)", true)
	s := p.alterTable(engine.Catalog, 0, "make "+n+" not null", "alter column "+quote(n)+" set not null",
		"drop constraint "+quote(check))
	s.Strong = []string{p.Table.Name}
}
