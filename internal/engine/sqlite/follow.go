package sqlite

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// Kept values follow their rows: a row that is deleted loses what is kept of it, so
// that another row that gets its key later does not inherit it; neither does one that
// replaces it, which deletes without a trigger. Triggers do it: they
// delete from a kept table that can be searched, and note the key beside one that
// cannot.

const (
	goneSuffix      = "_gone"
	followSuffix    = "_follow"
	followKeySuffix = "_follow_key"
	cameSuffix      = "_came"
)

// followSQL gives the statements that let what is kept follow the rows of a table;
// keys are its columns by which they are found.
func followSQL(t *schema.Table, kept string, keys []string, searchable bool) []string {
	r := rowKeys(keys)
	if searchable {
		return append(followers(r, t, kept, r.Gone("old", kept), r.Moved(kept)), comer(t, kept, r.Gone("new", kept)))
	}
	gone := func(row string) string {
		return "insert or ignore into " + quote(kept+goneSuffix) + " values (" + r.Of(row) + "); "
	}
	return slices.Concat([]string{notePlace(r, kept+goneSuffix)}, followers(r, t, kept, gone("old"), gone("old")),
		[]string{comer(t, kept, gone("new"))})
}

// comer gives the trigger that acts when a row comes.
func comer(t *schema.Table, kept, came string) string {
	return "create trigger " + quote(kept+cameSuffix) + " after insert on " + quote(t.Name) + " begin " + came + "end"
}

func rowKeys(keys []string) planning.RowKeys {
	return planning.RowKeys{Dialect: dialect{}, Names: keys}
}

// notePlace gives the statement that makes a table of keys.
func notePlace(r planning.RowKeys, table string) string {
	return "create table " + quote(table) + " (" + r.List() + ", primary key (" + r.List() + ")) without rowid"
}

// followers gives the triggers that act when a row goes, and when it gets another key.
func followers(r planning.RowKeys, t *schema.Table, kept, gone, moved string) []string {
	changed := r.Changed(func(a, b string) string { return a + " is not " + b })
	return []string{
		"create trigger " + quote(kept+followSuffix) + " after delete on " + quote(t.Name) + " begin " + gone + "end",
		"create trigger " + quote(kept+followKeySuffix) + " after update of " + quoteAll(r.Names) + " on " + quote(t.Name) +
			" when " + changed + " begin " + moved + "end",
	}
}

// Note implements planning.Dialect.
func (dialect) Note(p *planning.Planner, s *engine.Step, n planning.Noting) {
	t, r := p.Table, rowKeys(n.Keys)
	gone, moved := r.Gone("old", n.Kept, n.Moved()),
		r.Moved(n.Kept, n.Moved())+"insert or replace into "+quote(n.Moved())+" values ("+r.Of("new")+"); "
	list := append(unnote(n), notePlace(r, n.Moved()))
	if n.Came {
		gone, moved = gone+r.Gone("old", n.New()), moved+r.Moved(n.New())
		list = append(list, notePlace(r, n.New()), "create trigger "+quote(n.New())+" after insert on "+quote(t.Name)+
			" begin "+r.Gone("new", n.Kept)+
			"insert or replace into "+quote(n.New())+" values ("+r.Of("new")+"); end")
	}
	if !n.Came {
		list = append(list, comer(t, n.Kept, r.Gone("new", n.Kept)))
	}
	s.SQL = slices.Concat(s.SQL, list, followers(r, t, n.Kept, gone, moved))
}

// unnote takes the notes away, with the triggers that write them.
func unnote(n planning.Noting) []string {
	return []string{
		"drop trigger if exists " + quote(n.Kept+followSuffix), "drop trigger if exists " + quote(n.Kept+followKeySuffix),
		"drop trigger if exists " + quote(n.New()), "drop trigger if exists " + quote(n.Kept+cameSuffix),
		"drop table if exists " + quote(n.Moved()), "drop table if exists " + quote(n.New()),
	}
}

// Noted implements planning.Dialect.
func (dialect) Noted(t *schema.Table, n planning.Noting) []string {
	return append(unnote(n), followSQL(t, n.Kept, n.Keys, true)...)
}

// Last implements planning.Dialect: each transaction is alone with the file.
func (d dialect) Last(p *planning.Planner, what string, n planning.Noting, left func(planning.Noting) []string) {
	p.Add(engine.Sync, 0, what, append(left(n), d.Noted(p.Table, n)...)...)
}

// Locked implements planning.Dialect.
func (dialect) Locked(*schema.Table, bool) string { return "" }

// waiting are statements that have to wait until the table is copied.
type waiting struct{ sql []string }

// Follow implements planning.Dialect: at once, or when the table has been copied.
func (d dialect) Follow(p *planning.Planner, s *engine.Step, searchable bool) {
	k := s.Keeps[0]
	if !p.Off {
		k.Followed = true
		s.SQL = append(s.SQL, followSQL(p.Table, k.Kept, k.Keys, searchable)...)
		return
	}
	keys := slices.Clone(k.Keys)
	for i, name := range keys {
		if to, ok := p.Renames[name]; ok {
			keys[i] = to
		}
		if p.Change.After.Column(keys[i]) == nil {
			return // the key itself goes
		}
	}
	k.Followed = true
	d.waiting.sql = append(d.waiting.sql, followSQL(p.Change.After, k.Kept, keys, searchable)...)
}

// followAfter adds the step for what had to wait for the copy.
func (p *planner) followAfter() {
	if len(p.followers.sql) > 0 {
		p.Add(engine.Sync, 0, "let what is kept follow its rows", p.followers.sql...)
	}
}

// ownAgain gives the triggers that a copied table needs again, as far as what they
// are for is still there.
func ownAgain(t *schema.Table, f engine.Facts, dropped []*schema.Column) []string {
	var list []string
	for _, tr := range t.Own {
		kept := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(tr.Name, followKeySuffix), followSuffix), cameSuffix)
		stays := slices.Contains(f.Kept, kept) || strings.HasSuffix(tr.Name, mirrorSuffix) ||
			strings.HasSuffix(tr.Name, supplySuffix)
		if stays && !slices.ContainsFunc(dropped,
			func(c *schema.Column) bool { return planning.Names(tr, c.Name) }) {
			list = append(list, tr.SQL)
		}
	}
	return list
}

// Alone implements planning.Dialect: one transaction writes at a time.
func (dialect) Alone(*schema.Table, *engine.Step) {}

// DropTrigger implements engine.Planner.
func (Engine) DropTrigger(_, trigger string) string {
	return "drop trigger " + quote(trigger)
}

// TriggerSQL implements engine.Planner.
func (Engine) TriggerSQL(tr *schema.Trigger) string { return tr.SQL }

// Preamble implements engine.Planner.
func (Engine) Preamble() string { return "" }

// Followers implements engine.Planner.
func (Engine) Followers(kept string) []string {
	return []string{kept + followSuffix, kept + followKeySuffix, kept + cameSuffix}
}

// forget gives the statements that take away what is kept, and what follows it.
func forget(kept string) []string {
	return append(unnote(planning.Noting{Kept: kept}), "drop table if exists "+quote(kept+goneSuffix),
		"drop table if exists "+quote(kept))
}

// Forget implements engine.Planner.
func (Engine) Forget(k *engine.Keeping) []string { return forget(k.Kept) }

// unfollowed gives statements that delete rows of ours: what is kept of them stays,
// for they come back.
func unfollowed(t *schema.Table, statements []string) []string {
	var off, on []string
	for _, tr := range t.Own {
		off = append(off, "drop trigger "+quote(tr.Name))
		on = append(on, tr.SQL)
	}
	return append(append(off, statements...), on...)
}
