package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
)

// What is kept follows its rows: triggers take it away when a row goes, and give it the new
// key when a row gets one. One on insert would see to rows that went unseen, but an insert that
// meets its coming or going is told now and then that what is kept is not there. They know Lastboard's own sessions. While a table is walked the
// same triggers note what the walk has to know.

const (
	goneSuffix  = "_gone"
	movedSuffix = "_moved"
)

// Follow implements planning.Dialect.
func (dialect) Follow(p *planning.Planner, s *engine.Step, _ bool) {
	k := s.Keeps[0]
	if p.Table.Column(k.Keys[0]) != nil {
		k.Followed = true
		s.SQL = append(s.SQL, followSQL(p.Table, k.Kept, k.Keys)...)
	}
}

func rowKeys(keys []string) planning.RowKeys {
	return planning.RowKeys{Dialect: dialect{}, Names: keys}
}

// followers gives the statements that make the triggers which act when a row goes, and when
// it gets another key.
func followers(r planning.RowKeys, t *schema.Table, kept, gone, moved string) []string {
	changed := r.Changed(func(a, b string) string { return "not (" + a + " <=> " + b + ")" })
	return []string{
		"create or replace trigger " + quote(kept+goneSuffix) + " after delete on " + quote(t.Name) + " for each row if @lastboard_writes is null then " + gone + "end if",
		"create or replace trigger " + quote(kept+movedSuffix) + " after update on " + quote(t.Name) + " for each row if " + changed + " then " + moved + "end if",
	}
}

func followSQL(t *schema.Table, kept string, keys []string) []string {
	r := rowKeys(keys)
	return followers(r, t, kept, r.Gone("old", kept), r.Moved(kept))
}

// Note implements planning.Dialect. What is noted of rows that come stands in a table of its
// own, so that no insert waits for what is kept.
func (dialect) Note(p *planning.Planner, s *engine.Step, n planning.Noting) {
	t, r := p.Table, rowKeys(n.Keys)
	place := func(table string) string {
		return "create table if not exists " + quote(table) + " (" + keptSQL("k", t, n.Keys) + ", " + keptKey(t, n.Keys) + ")"
	}
	gone, moved := r.Gone("old", n.Kept, n.Moved()), r.Moved(n.Kept, n.Moved())+"insert ignore into "+quote(n.Moved())+" values ("+r.Of("new")+"); "
	list := []string{place(n.Moved())}
	if n.Came {
		gone, moved = gone+r.Gone("old", n.New()), moved+r.Moved(n.New())
		list = append(list, place(n.New()), "create or replace trigger "+quote(n.New())+" after insert on "+quote(t.Name)+" for each row insert ignore into "+quote(n.New())+" values ("+r.Of("new")+")")
	}
	s.SQL = slices.Concat(s.SQL, list, followers(r, t, n.Kept, gone, moved))
	s.Strong = []string{t.Name}
}

// Noted implements planning.Dialect.
func (dialect) Noted(t *schema.Table, n planning.Noting) []string {
	return append(followSQL(t, n.Kept, n.Keys), "drop trigger if exists "+quote(n.New()), "drop table if exists "+quote(n.Moved()), "drop table if exists "+quote(n.New()))
}

// keysMoveUnseen refuses a backfill beside applications that reads what it writes, where keys
// change with those of another table: no trigger sees that, so that a row would be done twice.
func (p *planner) keysMoveUnseen(c *schema.RowChange) {
	if !p.Beside() {
		return
	}
	reads := func(e sqltext.Expr) bool {
		return slices.ContainsFunc(sqltext.Refs(e), func(r *sqltext.Ref) bool {
			return slices.ContainsFunc(c.Set, func(s sqltext.Assignment) bool { return schema.SameName(s.Column, r.Column) })
		})
	}
	if !slices.ContainsFunc(c.Set, func(s sqltext.Assignment) bool { return reads(s.Value) }) && (c.Where == nil || !reads(c.Where)) {
		return
	}
	for _, k := range p.Table.ForeignKeys {
		moves := k.OnUpdate == "cascade" || k.OnUpdate == "set null" || k.OnUpdate == "set default"
		if moves && slices.ContainsFunc(k.Columns, func(n string) bool { return schema.HasName(p.Table.Key(), n) }) {
			p.Fail(&engine.Refused{
				Message: "the key of table " + p.Table.Name + " changes with that of " + k.Table + " (foreign key " + k.Name + "), which no trigger sees, and the backfill reads what it writes: a row whose key changes meanwhile could be done twice",
				Cure:    "do it while the database is not live, or write to a column that it does not read",
			})
		}
	}
}

// Last implements planning.Dialect: most of it beside the applications, the rest while the
// table is locked, unless it reads what could not be locked with it.
func (d dialect) Last(p *planning.Planner, what string, n planning.Noting, left []string, _ string) {
	for range 2 {
		p.Add(engine.Backfill, 0, what, left...).WritersWait = engine.WaitBriefly
	}
	off := d.Noted(p.Table, n)
	triggers, tables := off[:3], off[3:]
	locks := []string{quote(p.Table.Name) + " write", quote(n.Kept) + " write", quote(n.Kept) + " as k write", quote(n.Moved()) + " write"}
	locks = append(locks, lockedNumbers(p.Table)...)
	if n.Came {
		locks = append(locks, quote(n.New())+" write", quote(n.New())+" as n write")
	}
	script := []string{"lock tables " + strings.Join(locks, ", ")}
	if p.Source == nil && !p.ReadsOthers {
		script = append(script, left...)
	}
	s := p.Add(engine.Sync, 0, "end the notes of "+p.Table.Name, strings.Join(append(script, triggers...), engine.Between))
	s.Outside, s.Strong, s.Lock = &engine.Outside{}, []string{p.Table.Name}, lockTable
	s = p.Add(engine.Sync, 0, "let go of the notes", tables...)
	s.Outside, s.Strong, s.Lock, s.WritersWait = &engine.Outside{}, nil, "none", engine.WaitNo
}

// Locked implements planning.Dialect.
func (dialect) Locked(*schema.Table, bool) string { return " for update" }

// DropTrigger implements engine.Planner.
func (Engine) DropTrigger(_, trigger string) string {
	return "drop trigger " + quote(trigger)
}

// Preamble implements engine.Planner.
func (Engine) Preamble() string { return "set session sql_mode = " + literal(mode) }

// Followers implements engine.Planner.
func (Engine) Followers(kept string) []string {
	return []string{kept + goneSuffix, kept + movedSuffix}
}

// forget gives the statements that take away what is kept, and what follows it.
func forget(kept string) []string {
	n := planning.Noting{Kept: kept}
	return []string{
		"drop trigger if exists " + quote(kept+goneSuffix), "drop trigger if exists " + quote(kept+movedSuffix), "drop trigger if exists " + quote(n.New()),
		"drop table if exists " + quote(n.Moved()), "drop table if exists " + quote(n.New()), "drop table if exists " + quote(kept),
	}
}
