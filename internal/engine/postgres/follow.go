package postgres

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/pattern"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// What is kept follows its rows: triggers take it away when a row goes, and when another one
// comes with its key, and give it the new key when a row gets one. They fire whatever a
// session says of triggers; one that somebody switches off and on again for a table fires as
// others do then, by which it is known. They act with the rights of Lastboard's user, since the
// applications have none on what is kept. While a table is walked the same triggers note
// what the walk has to know.

const (
	goneSuffix  = "_gone"
	movedSuffix = "_moved"
	cameSuffix  = "_came"
	newSuffix   = "_new"
)

// Follow implements planning.Dialect.
func (dialect) Follow(p *planning.Planner, s *engine.Step, _ bool) {
	k := s.Keeps[0]
	if p.Table.Column(k.Keys[0]) == nil {
		return
	}
	k.Followed = true
	s.SQL = append(s.SQL, followSQL(p.Table, k.Kept, k.Keys)...)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
}

// function gives the statement that makes the function of a trigger, or gives it another
// body.
func function(n, body string) string {
	return "create or replace function " + name(n) +
		"() returns trigger language plpgsql security definer set search_path = pg_catalog, pg_temp as " +
		dollar("begin "+body+"return null; end")
}

// rowKeys are columns of a table; called gives other names that they have.
func rowKeys(t *schema.Table, keys []string, called map[string]string) planning.RowKeys {
	r := planning.RowKeys{Dialect: dialect{}, Equals: map[string]string{}}
	for _, k := range keys {
		name := k
		if to, ok := called[k]; ok {
			name = to
		}
		if c := t.Column(k); c != nil {
			r.Equals[name] = c.Equal
		}
		r.Names = append(r.Names, name)
	}
	return r
}

// followers gives the statements that make the triggers which call the functions when a row
// goes, and when it gets another key: also by another trigger, where the statement names no column
// of it.
func followers(r planning.RowKeys, t *schema.Table, kept string) []string {
	changed := r.Changed(func(a, b string) string { return a + " is distinct from " + b })
	make := func(suffix, event, condition string) string {
		return "create or replace trigger " + quote(kept+suffix) + " after " + event + " on " + name(t.Name) +
			" for each row when (" + condition + ") execute function " + name(kept+suffix) + "()"
	}
	return []string{
		make(goneSuffix, "delete", othersWrite), always(t, kept+goneSuffix),
		make(movedSuffix, "update", changed), always(t, kept+movedSuffix),
	}
}

// othersWrite is the condition that it is not Lastboard which writes.
const othersWrite = "coalesce(current_setting('lastboard.writes', true), '') <> 'on'"

// always lets a trigger fire in every session.
func always(t *schema.Table, trigger string) string {
	return "alter table " + name(t.Name) + " enable always trigger " + quote(trigger)
}

// comer gives the statements that make the trigger which acts when rows come.
func comer(t *schema.Table, kept string) []string {
	return []string{
		"create or replace trigger " + quote(kept+cameSuffix) + " after insert on " + name(t.Name) +
			" referencing new table as lastboard_rows for each statement when (" + othersWrite + ") execute function " +
			name(kept+cameSuffix) + "()",
		always(t, kept+cameSuffix),
	}
}

// following gives the statements that make those functions.
func following(r planning.RowKeys, t *schema.Table, kept string) []string {
	if partitioned(t) {
		return acrossFunctions(r, kept, r.Gone("old", kept), r.Moved(kept), r.Gone("new", kept))
	}
	return []string{function(kept+goneSuffix, r.Gone("old", kept)), function(kept+movedSuffix, r.Moved(kept)),
		function(kept+cameSuffix, r.Came(kept, "lastboard_rows"))}
}

// keptBy gives the table of kept values that a trigger lets follow its rows; "" for another
// trigger.
func keptBy(tr *schema.Trigger) string {
	if m := followerName().FindStringSubmatch(strings.TrimPrefix(tr.Name, lastTrigger)); m != nil {
		return m[1]
	}
	return ""
}

var followerName = pattern.Of(`^(lastboard_kept_[0-9]+)_(gone|moved|new|came|turn)$`)

func followSQL(t *schema.Table, kept string, keys []string) []string {
	r := rowKeys(t, keys, nil)
	if partitioned(t) {
		return across(r, t, kept, r.Gone("old", kept), r.Moved(kept), r.Gone("new", kept))
	}
	return slices.Concat(following(r, t, kept), followers(r, t, kept), comer(t, kept))
}

// followRenamed gives the functions that let what is kept follow its rows the new name of a
// column of the key: the server does not look into them.
func (p *planner) followRenamed(column string) (sql []string) {
	kept := map[string][]string{}
	for _, tr := range p.Table.Own {
		if k := keptBy(tr); k != "" && strings.HasSuffix(tr.Name, movedSuffix) {
			kept[k] = updatesOf(tr.SQL)
		}
	}
	for _, s := range p.Steps {
		for _, k := range s.Keeps {
			if !p.Goes(k.Keys) && slices.Contains([]string{engine.KeptColumn, engine.KeptConverted, engine.KeptValues}, k.What) {
				kept[k.Kept] = k.Keys
			}
		}
	}
	for _, t := range p.emptied() {
		delete(kept, t)
	}
	for _, k := range p.Change.PutBack {
		delete(kept, k.Table)
	}
	for _, k := range slices.Sorted(maps.Keys(kept)) {
		if !slices.Contains(kept[k], column) {
			continue
		}
		sql = append(sql, following(rowKeys(p.Table, kept[k], p.Renames), p.Table, k)...)
	}
	return sql
}

// updatesOf lists the columns whose updates fire a trigger, from its definition: they stand behind
// "of", or in its condition behind the row of before.
func updatesOf(definition string) (list []string) {
	tokens, _ := sqltext.Scan(definition, sqltext.Migration)
	if !slices.ContainsFunc(tokens, func(t sqltext.Token) bool { return t.Is("of") }) {
		for i := range len(tokens) - 2 {
			if tokens[i].Is("old") && tokens[i+1].Is(".") && !slices.Contains(list, tokens[i+2].Value) {
				list = append(list, tokens[i+2].Value)
			}
		}
		return list
	}
	for i := slices.IndexFunc(tokens, func(t sqltext.Token) bool { return t.Is("of") }) + 1; i > 0 && i < len(tokens) &&
		!tokens[i].Is("on"); i++ {
		if tokens[i].Kind == sqltext.Word || tokens[i].Kind == sqltext.Quoted {
			list = append(list, tokens[i].Value)
		}
	}
	return list
}

// Note implements planning.Dialect.
func (dialect) Note(p *planning.Planner, s *engine.Step, n planning.Noting) {
	t, r := p.Table, rowKeys(p.Table, n.Keys, nil)
	place := func(table string) []string {
		return []string{"drop table if exists " + name(table),
			"create table " + name(table) + " (" + keptSQL("k", t, n.Keys) + ", primary key (" + r.List() + "))"}
	}
	gone, moved := r.Gone("old", n.Kept, n.Moved()),
		r.Moved(n.Kept, n.Moved())+"insert into "+name(n.Moved())+" values ("+r.Of("new")+") on conflict do nothing; "
	list := place(n.Moved())
	if n.Came {
		gone, moved = gone+r.Gone("old", n.New()), moved+r.Moved(n.New())
		list = append(list, place(n.New())...)
	}
	switch {
	case partitioned(t):
		came := r.Gone("new", n.Kept)
		if n.Came {
			came += "insert into " + name(n.New()) + " values (" + r.Of("new") + ") on conflict do nothing; "
		}
		s.SQL = slices.Concat(s.SQL, list, across(r, t, n.Kept, gone, moved, came))
		s.Lock, s.Strong = lockWriters, []string{t.Name}
		return
	case n.Came:
		list = append(list, function(n.New(), r.Gone("new", n.Kept)+"insert into "+name(n.New())+" values ("+r.Of("new")+
			") on conflict do nothing; "),
			"create or replace trigger "+quote(n.New())+" after insert on "+name(t.Name)+" for each row execute function "+
				name(n.New())+"()", always(t, n.New()))
	}
	list = append(list, function(n.Kept+goneSuffix, gone), function(n.Kept+movedSuffix, moved))
	s.SQL = slices.Concat(s.SQL, list, followers(r, t, n.Kept))
	s.Lock, s.Strong = lockWriters, []string{t.Name}
}

// Noted implements planning.Dialect.
func (dialect) Noted(t *schema.Table, n planning.Noting) []string {
	comes := comer(t, n.Kept)
	if partitioned(t) {
		comes = nil // it is there
	}
	return slices.Concat(following(rowKeys(t, n.Keys, nil), t, n.Kept), comes,
		[]string{"drop function if exists " + name(n.New()) + "() cascade", "drop table if exists " + name(n.Moved()),
			"drop table if exists " + name(n.New())})
}

// Last implements planning.Dialect: most of it beside the applications, the rest while the
// table is locked. A server that does not know how few rows are noted may read the whole table for them.
func (d dialect) Last(p *planning.Planner, what string, n planning.Noting, left func(planning.Noting) []string) {
	statements := left(n)
	first := p.Add(engine.Backfill, 0, what, append([]string{"analyze " + name(n.Moved())}, statements...)...)
	first.WritersWait, first.Alone = engine.WaitBriefly, true
	s := p.Add(engine.Sync, 0, "end the notes of "+p.Table.Name,
		slices.Concat([]string{"lock table " + name(p.Table.Name) + " in access exclusive mode"}, statements,
			[]string{"delete from " + name(n.Moved())}, d.Noted(p.Table, n))...)
	s.Lock, s.Strong, s.Alone = lockExclusive, []string{p.Table.Name}, true // which it takes to drop a trigger
}

// Locked implements planning.Dialect.
func (dialect) Locked(t *schema.Table, goes bool) string {
	if goes {
		return " for update of " + quote(tableOf(t).Name)
	}
	return " for no key update of " + quote(tableOf(t).Name)
}

// Alone implements planning.Dialect: a statement that has waited for a row reads the row anew, and nothing
// else.
func (dialect) Alone(t *schema.Table, s *engine.Step) {
	s.SQL = append([]string{"lock table " + name(t.Name) + " in share row exclusive mode"}, s.SQL...)
	s.Lock, s.Strong = lockWriters, []string{t.Name}
}

// DropTrigger implements engine.Planner.
func (Engine) DropTrigger(table, trigger string) string {
	return "drop trigger " + quote(trigger) + " on " + name(table)
}

// TriggerSQL implements engine.Planner.
func (Engine) TriggerSQL(tr *schema.Trigger) string { return tr.SQL }

// Preamble implements engine.Planner.
func (Engine) Preamble() string { return "" }

// Followers implements engine.Planner.
func (Engine) Followers(kept string) []string {
	return []string{kept + goneSuffix, kept + movedSuffix, kept + cameSuffix}
}

// forget gives the statements that take away what is kept, and what follows it.
func forget(kept string) []string {
	if s, _, whole := strings.Cut(kept, "."); whole {
		return []string{"drop schema if exists " + quote(s) + " cascade"}
	}
	n := planning.Noting{Kept: kept}
	return []string{
		"drop function if exists " + name(kept+goneSuffix) + "() cascade",
		"drop function if exists " + name(kept+movedSuffix) + "() cascade",
		"drop function if exists " + name(n.New()) + "() cascade",
		"drop function if exists " + name(kept+cameSuffix) + "() cascade",
		"drop function if exists " + name(kept+turnSuffix) + "() cascade", "drop table if exists " + name(kept+turnSuffix),
		"drop table if exists " + name(n.Moved()), "drop table if exists " + name(n.New()),
		"drop table if exists " + name(kept),
	}
}
