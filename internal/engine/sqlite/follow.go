package sqlite

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
)

// Kept values follow their rows: a row that is deleted loses what is kept of it, so
// that another row that gets its key later does not inherit it. Triggers do it: they
// delete from a kept table that can be searched, and note the key beside one that
// cannot.

const (
	goneSuffix      = "_gone"
	followSuffix    = "_follow"
	followKeySuffix = "_follow_key"
)

// followSQL gives the statements that let what is kept follow the rows of a table;
// keys are its columns by which they are found.
func followSQL(t *schema.Table, kept string, keys []string, searchable bool) []string {
	old := make([]string, len(keys))
	match := make([]string, len(keys))
	moved := make([]string, len(keys))
	for i, k := range keys {
		old[i] = "old." + quote(k)
		match[i] = fmt.Sprintf("k%d = old.%s", i+1, quote(k))
		moved[i] = "old." + quote(k) + " is not new." + quote(k)
	}
	var list []string
	act := "delete from " + quote(kept) + " where " + strings.Join(match, " and ")
	if !searchable {
		list = append(list, "create table "+quote(kept+goneSuffix)+" ("+planning.KeptSQL("k", len(keys))+", primary key ("+planning.KeptSQL("k", len(keys))+")) without rowid")
		act = "insert or ignore into " + quote(kept+goneSuffix) + " values (" + strings.Join(old, ", ") + ")"
	}
	return append(list,
		"create trigger "+quote(kept+followSuffix)+" after delete on "+quote(t.Name)+" begin "+act+"; end",
		"create trigger "+quote(kept+followKeySuffix)+" after update of "+quoteAll(keys)+" on "+quote(t.Name)+" when "+strings.Join(moved, " or ")+" begin "+act+"; end")
}

// followers are statements that have to wait until the table is copied.
type followers struct{ sql []string }

// Follow implements planning.Dialect: at once, or when the table has been copied.
func (d dialect) Follow(p *planning.Planner, s *engine.Step, searchable bool) {
	k := s.Keeps[0]
	if !p.Off {
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
		kept := strings.TrimSuffix(strings.TrimSuffix(tr.Name, followKeySuffix), followSuffix)
		e := &schema.Expr{Native: tr.SQL}
		if slices.Contains(f.Kept, kept) && !slices.ContainsFunc(dropped, func(c *schema.Column) bool { return e.Mentions(c.Name) }) {
			list = append(list, tr.SQL)
		}
	}
	return list
}

// forget gives the statements that take away what is kept, and what follows it.
func forget(kept string) []string {
	return []string{
		"drop trigger if exists " + quote(kept+followSuffix), "drop trigger if exists " + quote(kept+followKeySuffix),
		"drop table if exists " + quote(kept+goneSuffix), "drop table if exists " + quote(kept),
	}
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
