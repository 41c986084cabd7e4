package sqlite

import (
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// watcher notes the keys of rows while they are inserted, on this connection alone.
const watcher = engine.Prefix + "inserted"

// insert adds rows and notes their keys, so that the way back takes exactly these.
func (p *planner) insert(c *schema.InsertChange) []*engine.Step {
	t := c.Table
	if c.Back {
		p.PutRowsBack(c.PutBack)
		return p.Steps
	}
	source := p.Inserted(c)
	p.NewKeys(c, source)
	what, rate := planning.Inserting(c), 0.0
	if c.Query != nil {
		rate = rewriteRate
	}
	keys := t.Key()
	kept := p.Facts.KeptTable()
	columns := make([]string, len(keys))
	values := make([]string, len(keys))
	for i, k := range keys {
		columns[i] = fmt.Sprintf("k%d %s", i+1, declaration(t.Column(k), t.Options["strict"] != ""))
		values[i] = "new." + quote(k)
	}
	sql := []string{
		"create table " + quote(kept) + " (" + strings.Join(columns, ", ") + ", primary key (" +
			planning.KeptSQL("k", len(keys)) + ")) without rowid",
		"create temp trigger " + watcher + " after insert on main." + quote(t.Name) + " begin insert into " + quote(kept) +
			" values (" + strings.Join(values, ", ") + "); end",
	}
	if c.PutBack != nil {
		sql = append(sql, p.Unfollowed(t, []string{p.RestoreRows(t, c.PutBack)})...)
	} else {
		sql = append(sql, "insert into "+quote(t.Name)+" ("+quoteAll(c.Columns)+") "+source)
	}
	s := p.Add(engine.Backfill, rate, what, append(sql, "drop trigger temp."+watcher)...)
	s.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, Keys: keys, What: engine.KeptKeys}}
	p.Follow(&p.Planner, s, true)
	if c.PutBack != nil {
		p.LetGo([]string{c.PutBack.Table})
	}
	return p.Steps
}
