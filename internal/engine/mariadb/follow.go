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

// What is kept follows its rows: triggers take it away when a row goes, and when another one
// comes with its key, and give it the new key when a row gets one. They know Lastboard's own
// sessions. While a table is walked the same triggers note what the walk has to know.

const (
	goneSuffix  = "_gone"
	movedSuffix = "_moved"
	cameSuffix  = "_came"
)

// Follow implements planning.Dialect. On a live database the trigger for rows that come
// is made once all is kept (comers): what it locks lies between the keys of what is kept, so
// that an insert and what is being kept could wait for each other.
func (dialect) Follow(p *planning.Planner, s *engine.Step, _ bool) {
	k := s.Keeps[0]
	if p.Table.Column(k.Keys[0]) != nil {
		k.Followed = true
		s.SQL = append(s.SQL, followFirst(p, k)...)
	}
}

// followFirst gives the statements that make the triggers before anything is kept.
func followFirst(p *planning.Planner, kept ...*engine.Keeping) (list []string) {
	for _, k := range kept {
		if p.Facts.Live {
			r := rowKeys(k.Keys)
			list = append(list, followers(r, p.Table, k.Kept, r.Gone("old", k.Kept), r.Moved(k.Kept))...)
		} else {
			list = append(list, followSQL(p.Table, k.Kept, k.Keys)...)
		}
	}
	if p.Facts.Live && len(list) > 0 {
		return []string{unseen(p.Table, list...)}
	}
	return list
}

// unseen gives the script that makes triggers which write to other tables, so that no
// statement fails for their coming. A prepared statement knows the tables that triggers write
// to; the server finds that it has to look again by the time at which each trigger was made, which
// it writes down in hundredths of a second: one that was prepared in the same one looks for
// the others in vain. Hence nobody begins a statement meanwhile, and the table is made another
// version of itself: at the end for those, at the beginning for a table of which it is known by
// then whether the server can do that in an instant (notAnew).
func unseen(t *schema.Table, triggers ...string) string {
	locks := append([]string{quote(t.Name) + " write"}, lockedNumbers(t)...)
	return strings.Join(slices.Concat([]string{"lock tables " + strings.Join(locks, ", "), anew(t.Name, t.Comment)},
		triggers, []string{anew(t.Name, t.Comment)}), engine.Between)
}

// comers adds the triggers for rows that come to what is kept without one so far.
func (p *planner) comers() {
	made := p.madeFollowers()
	t := p.Table
	if p.Change != nil {
		t = p.Change.After
	}
	for _, s := range p.Steps {
		for _, k := range s.Keeps {
			came := quote(k.Kept + cameSuffix)
			if t == nil || !k.Followed || slices.ContainsFunc(made,
				func(sql string) bool { return strings.Contains(sql, came) }) {
				continue
			}
			keys := slices.Clone(k.Keys)
			for i, name := range keys {
				if to, ok := p.Renames[name]; ok {
					keys[i] = to
				}
			}
			made = append(made, came)
			s := p.define(engine.Sync, 0, "let what is kept go when other rows come with its keys", "",
				unseen(t, comer(rowKeys(keys), t, k.Kept)))
			s.Table, s.Strong, s.Lock, s.WritersWait = t.Name, []string{t.Name}, lockTable, engine.WaitBriefly
		}
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
		"create or replace trigger " + quote(kept+goneSuffix) + " after delete on " + quote(t.Name) +
			" for each row if @lastboard_writes is null then " + gone + "end if",
		"create or replace trigger " + quote(kept+movedSuffix) + " after update on " + quote(t.Name) + " for each row if " +
			changed + " then " + moved + "end if",
	}
}

// comer gives the statement that makes the trigger which acts when rows come.
func comer(r planning.RowKeys, t *schema.Table, kept string) string {
	return "create or replace trigger " + quote(kept+cameSuffix) + " after insert on " + quote(t.Name) +
		" for each row if @lastboard_writes is null then " + r.Gone("new", kept) + "end if"
}

func followSQL(t *schema.Table, kept string, keys []string) []string {
	r := rowKeys(keys)
	return append(followers(r, t, kept, r.Gone("old", kept), r.Moved(kept)), comer(r, t, kept))
}

// Note implements planning.Dialect. What is noted of rows that come stands in a table of its
// own, so that no insert waits for what is kept.
func (dialect) Note(p *planning.Planner, s *engine.Step, n planning.Noting) {
	t, r := p.Table, rowKeys(n.Keys)
	place := func(table string) string {
		return "create table if not exists " + quote(table) + " (" + keptSQL("k", t, n.Keys) + ", " + keptKey(t, n.Keys) + ")"
	}
	gone, moved := r.Gone("old", n.Kept, n.Moved()),
		r.Moved(n.Kept, n.Moved())+"insert ignore into "+quote(n.Moved())+" values ("+r.Of("new")+"); "
	list := []string{place(n.Moved())}
	var triggers []string
	if n.Came {
		gone, moved = gone+r.Gone("old", n.New()), moved+r.Moved(n.New())
		list = append(list, place(n.New()))
		triggers = append(triggers, "create or replace trigger "+quote(n.New())+" after insert on "+quote(t.Name)+
			" for each row insert ignore into "+quote(n.New())+" values ("+r.Of("new")+")")
	}
	s.SQL = slices.Concat(s.SQL, list, []string{unseen(t, append(triggers, followers(r, t, n.Kept, gone, moved)...)...)})
	s.Strong = []string{t.Name}
}

// Noted implements planning.Dialect.
func (dialect) Noted(t *schema.Table, n planning.Noting) []string {
	return append(followSQL(t, n.Kept, n.Keys), "drop trigger if exists "+quote(n.New()),
		"drop table if exists "+quote(n.Moved()), "drop table if exists "+quote(n.New()))
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
	if !slices.ContainsFunc(c.Set, func(s sqltext.Assignment) bool { return reads(s.Value) }) &&
		(c.Where == nil || !reads(c.Where)) {
		return
	}
	for _, k := range p.Table.ForeignKeys {
		moves := k.OnUpdate == "cascade" || k.OnUpdate == "set null" || k.OnUpdate == "set default"
		if moves && slices.ContainsFunc(k.Columns, func(n string) bool { return schema.HasName(p.Table.Key(), n) }) {
			p.Fail(&engine.Refused{
				Message: "the key of table " + p.Table.Name + " changes with that of " + k.Table + " (foreign key " + k.Name +
					"), which no trigger sees, and the backfill reads what it writes: a row whose key changes meanwhile could be " +
					"done twice",
				Cure: "do it while the database is not live, or write to a column that it does not read",
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
	triggers, tables := off[:4], off[4:]
	locks := []string{quote(p.Table.Name) + " write", quote(n.Kept) + " write", quote(n.Kept) + " as k write",
		quote(n.Moved()) + " write"}
	locks = append(locks, lockedNumbers(p.Table)...)
	if n.Came {
		locks = append(locks, quote(n.New())+" write", quote(n.New())+" as n write")
	}
	script := []string{"lock tables " + strings.Join(locks, ", "), anew(p.Table.Name, p.Table.Comment)}
	if p.Source == nil && !p.ReadsOthers {
		script = append(script, left...)
	}
	if n.Came { // a row that went unseen had its key before, and what is kept is of that one
		script = append(script, "delete k from "+quote(n.Kept)+" as k, "+quote(n.New())+" as n where "+sameKeys(len(n.Keys)))
	}
	s := p.Add(engine.Sync, 0, "end the notes of "+p.Table.Name,
		strings.Join(append(slices.Concat(script, triggers), anew(p.Table.Name, p.Table.Comment)), engine.Between))
	s.Outside, s.Strong, s.Lock = &engine.Outside{}, []string{p.Table.Name}, lockTable
	s = p.Add(engine.Sync, 0, "let go of the notes", tables...)
	s.Outside, s.Strong, s.Lock, s.WritersWait = &engine.Outside{}, nil, "none", engine.WaitNo
}

// sameKeys gives the condition that k and n have the same k1….
func sameKeys(n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("k.k%d = n.k%d", i+1, i+1)
	}
	return strings.Join(list, " and ")
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
	return []string{kept + goneSuffix, kept + movedSuffix, kept + cameSuffix}
}

// forget gives the statements that take away what is kept, and what follows it.
func forget(kept string) []string {
	n := planning.Noting{Kept: kept}
	return []string{
		"drop trigger if exists " + quote(kept+goneSuffix), "drop trigger if exists " + quote(kept+movedSuffix),
		"drop trigger if exists " + quote(kept+cameSuffix), "drop trigger if exists " + quote(n.New()),
		"drop table if exists " + quote(n.Moved()), "drop table if exists " + quote(n.New()),
		"drop table if exists " + quote(kept),
	}
}
