package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/pattern"
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
			list = append(list, followers(r, p.Table, k.Kept, there(r, "old", k.Kept), renamed(r, k.Kept))...)
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

// comers adds the triggers for rows that come to what is kept without one so far. From then on
// nobody puts anything there.
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
				unseen(t, followSQL(t, k.Kept, keys)...))
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
	return append(followers(r, t, kept, r.Gone("old", kept), renamed(r, kept)), comer(r, t, kept))
}

// Note implements planning.Dialect. What is noted of rows that come stands in a table of its
// own, so that no insert waits for what is kept.
func (dialect) Note(p *planning.Planner, s *engine.Step, n planning.Noting) {
	t, r := p.Table, rowKeys(n.Keys)
	place := func(table, more string) string {
		return "create table if not exists " + quote(table) + " (" + keptSQL("k", t, n.Keys) + more + ", " +
			keptKey(t, n.Keys) + ")"
	}
	list := []string{place(n.Moved(), ""), place(seen(n), "")}
	gone, moved := r.Gone("old", n.Kept)+there(r, "old", n.Moved()), renamed(r, n.Kept)
	var triggers []string
	if n.Came {
		list = append(list, place(n.New(), ", f bigint null"))
		triggers = append(triggers, "create or replace trigger "+quote(n.New())+" after insert on "+quote(t.Name)+
			" for each row insert into "+quote(n.New())+" values ("+r.Of("new")+", 1) on duplicate key update f = 1")
		gone, moved = there(r, "old", n.Kept, n.Moved(), n.New()), taken(r, n.Kept)+taken(r, n.New())
	}
	moved += there(r, "old", n.Moved()) + entry(r, "new", n.Moved())
	s.SQL = slices.Concat(s.SQL, list, []string{unseen(t, append(triggers, followers(r, t, n.Kept, gone, moved)...)...)})
	s.Strong = []string{t.Name}
}

// To look in vain for a row locks the gap in which it would stand, under the isolation that
// applications usually have: what others put there, a batch above all, would wait for the end of
// their transactions, and each of the two for the other. Hence what may not be there is put there
// first; where f is null nothing stands for it.

// entry gives the statement that lets a table have the key of a row.
func entry(r planning.RowKeys, row, table string) string {
	return "insert into " + quote(table) + " (" + r.List() + ") values (" + r.Of(row) +
		") on duplicate key update k1 = k1; "
}

// there gives the statements that take away what tables have of a row.
func there(r planning.RowKeys, row string, tables ...string) (sql string) {
	for _, t := range tables {
		sql += entry(r, row, t) + r.Gone(row, t)
	}
	return sql
}

// renamed gives the statements that give what a table has of a row its new key. What it has of
// another row that had this key before goes.
func renamed(r planning.RowKeys, table string) string {
	return there(r, "new", table) + r.Renewed(table) + "; "
}

// taken does so where a batch puts rows into the table meanwhile.
func taken(r planning.RowKeys, table string) string {
	return there(r, "new", table) + entry(r, "old", table) + r.Renewed(table) + " and f is not null; " +
		strings.TrimSuffix(r.Gone("old", table), "; ") + " and f is null; "
}

// Noted implements planning.Dialect.
func (dialect) Noted(t *schema.Table, n planning.Noting) []string {
	return append(followSQL(t, n.Kept, n.Keys), "drop trigger if exists "+quote(n.New()),
		"drop table if exists "+quote(n.Moved()), "drop table if exists "+quote(seen(n)),
		"drop table if exists "+quote(n.New()))
}

// seen names the table of those notes of moved rows that a step reads: were it to read them where
// they are written, it would hold them while it waits for rows, and whoever has a row waits for its note.
func seen(n planning.Noting) string { return n.Kept + "_seen" }

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
func (d dialect) Last(p *planning.Planner, what string, n planning.Noting, left func(planning.Noting) []string) {
	keys := planning.KeptSQL("k", len(n.Keys))
	beside := []string{"insert ignore into " + quote(seen(n)) + " select " + keys + " from " + quote(n.Moved())}
	for _, sql := range left(n) {
		beside = append(beside, strings.ReplaceAll(byNotes(sql), quote(n.Moved()), quote(seen(n))))
	}
	for range 2 {
		s := p.Add(engine.Backfill, 0, what, beside...)
		s.WritersWait, s.GivesWay = engine.WaitBriefly, true
	}
	off := d.Noted(p.Table, n)
	// The trigger of rows that go is the last: it names all, and is not fired by what is done here, so that
	// all can be done once more while it is there. Without it all has happened.
	triggers, tables := []string{off[2], off[3], off[1], off[0]}, off[4:]
	// What a trigger of the table names is locked with it, and only once that is. Locks that are asked
	// for by name come in the order of the names: whoever has written to the table and is about to write
	// to it again would wait for ours, and we for theirs.
	locks := append([]string{quote(p.Table.Name) + " write"}, lockedNumbers(p.Table)...)
	script := []string{"lock tables " + strings.Join(locks, ", "), anew(p.Table.Name, p.Table.Comment)}
	if p.Source == nil && !p.ReadsOthers {
		n.Bare = true
		for _, sql := range left(n) {
			if strings.HasPrefix(sql, "insert into "+quote(n.Kept)+" ") {
				sql += " on duplicate key update " + quote(n.Kept) + ".k1 = " + quote(n.Kept) + ".k1"
			}
			script = append(script, byNotes(sql))
		}
		script = append(script, "delete from "+quote(n.Moved())) // were all done once more, nothing is left to do
	}
	if n.Came { // a row that went unseen had its key before, and what is kept is of that one
		keys := planning.KeptSQL("k", len(n.Keys))
		script = append(script, byNotes("delete from "+quote(n.Kept)+" where ("+keys+") in (select "+keys+" from "+
			quote(n.New())+")"))
	}
	s := p.Add(engine.Sync, 0, "end the notes of "+p.Table.Name,
		strings.Join(append(slices.Concat(script, triggers), anew(p.Table.Name, p.Table.Comment)), engine.Between))
	s.Outside, s.Strong, s.Lock = &engine.Outside{}, []string{p.Table.Name}, lockTable
	s.Outside.Done = "select 1 from dual where not exists (select 1 from information_schema.triggers where " +
		"event_object_schema = database() and event_object_table = " + literal(p.Table.Name) + " and locate(" +
		literal(quote(n.Moved())) + ", action_statement) > 0)"
	s = p.Add(engine.Sync, 0, "let go of the notes", tables...)
	s.Outside, s.Strong, s.Lock, s.WritersWait = &engine.Outside{}, nil, "none", engine.WaitNo
}

// ofOneTable finds a statement that writes to one table alone.
var ofOneTable = pattern.Of(`^(update|delete from) ("(?:[^"]|"")+")( set | where )`)

// byNotes lets a statement that writes the rows which are noted in another table find them by it. Where a statement
// writes to one table and reads no other beside it, the server (before 11.1) looks a subquery up for each row of the
// table, and locks each for that.
func byNotes(sql string) string {
	m := ofOneTable().FindStringSubmatch(sql)
	if m == nil || !strings.Contains(sql, " in (select ") {
		return sql
	}
	const one = `, (select 1 as "lastboard_one") "lastboard_one"`
	if m[1] == "update" {
		return "update " + m[2] + one + strings.TrimPrefix(sql, "update "+m[2])
	}
	return "delete " + m[2] + " from " + m[2] + one + strings.TrimPrefix(sql, "delete from "+m[2])
}

// Locked implements planning.Dialect.
func (dialect) Locked(*schema.Table, bool) string { return " for update" }

// Alone implements planning.Dialect: beside applications rows whose key changes are noted, in small tables as well.
func (dialect) Alone(*schema.Table, *engine.Step) {}

// DropTrigger implements engine.Planner.
func (Engine) DropTrigger(_, trigger string) string {
	return "drop trigger " + quote(trigger)
}

// TriggerSQL implements engine.Planner: the server reads a trigger in the mode in which it was made.
func (Engine) TriggerSQL(tr *schema.Trigger) string {
	return modeHead + literal(tr.Mode) + ";\n" + tr.SQL
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
		"drop table if exists " + quote(n.Moved()), "drop table if exists " + quote(seen(n)),
		"drop table if exists " + quote(n.New()), "drop table if exists " + quote(kept),
	}
}
