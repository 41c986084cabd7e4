package sqlite

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// working is the name of the copy while a table is rebuilt.
const working = engine.Prefix + "rebuild"

// orphans remembers, while a table is rebuilt, how many rows broke a foreign key
// before.
const orphans = engine.Prefix + "orphans"

// rebuild copies the table in one transaction, by the whole procedure of
// https://sqlite.org/lang_altertable.html, 7: the old table is never renamed away
// (that would take views, triggers and foreign keys with it) and never dropped
// while foreign keys act (that would delete its children).
func (p *planner) rebuild(why string) {
	t := p.Table
	name := quote(t.Name)
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.OnlyNull {
			if remember := p.RememberNulls(c, p.Render(f.Expr, planning.Computed),
				" where "+quote(c.Name)+" is null"); remember != "" {
				p.Add(engine.Backfill, keepRate, "remember which rows had no "+c.Name, remember)
			}
		}
	}
	var sql []string
	family := p.family()
	if len(family) > 0 {
		sql = append(sql, "create temp table "+orphans+" as "+countOrphans(family))
	}
	sql = append(sql, createTable(p.loose(), working), p.copyRows(),
		fmt.Sprintf("select 'the copy has ' || (select count(*) from %s) || ' rows and the table ' || (select count(*) "+
			"from %s) where (select count(*) from %s) <> (select count(*) from %s)",
			working, name, working, name))
	if sequenced(p.After) && sequenced(t) {
		sql = append(sql,
			"insert into sqlite_sequence (name, seq) select '"+working+
				"', 0 where not exists (select 1 from sqlite_sequence where name = '"+working+"')",
			"update sqlite_sequence set seq = max(seq, coalesce((select seq from sqlite_sequence where name = "+literal(t.Name)+
				"), 0)) where name = '"+working+"'")
	}
	// With the old way of renaming, views and triggers that name the table stay as they are.
	sql = append(sql, "pragma legacy_alter_table = on", "drop table "+name, "alter table "+working+" rename to "+name,
		"pragma legacy_alter_table = off")
	for _, k := range p.After.Uniques {
		if k.AsIndex {
			sql = append(sql, createUnique(p.After, k), noteUnique(p.After, k))
		}
	}
	gone, _ := p.Uniques()
	for _, k := range gone {
		if k.AsIndex {
			sql = append(sql, dropNote(t.Name, k.Name, "unique"))
		}
	}
	for _, x := range p.After.Indexes {
		sql = append(sql, createIndex(p.After, x))
	}
	for _, tr := range t.Triggers {
		sql = append(sql, tr.SQL)
	}
	for _, c := range p.After.Columns {
		if c.OnUpdateNow {
			sql = append(sql, onUpdateSQL(p.After, c))
		}
	}
	sql = append(sql, ownAgain(t, p.Facts, p.Dropped())...)
	for _, c := range p.Dropped() {
		sql = append(sql, dropNote(t.Name, c.Name, "comment"))
	}
	if len(family) > 0 {
		sql = append(sql, "select 'a row of ' || c.child || ' would refer to no row of ' || c.parent from ("+
			countOrphans(family)+") c left join temp."+orphans+
			" b on b.child = c.child and b.parent = c.parent where c.n > coalesce(b.n, 0)", "drop table temp."+orphans)
	}
	s := p.Add(engine.Rebuild, rebuildRate, "copy "+t.Name+", since "+why, sql...)
	s.ForeignKeysOff = true
	s.Seconds = math.Round(float64(p.Rows)*p.copyCost()*1000) / 1000
	for _, name := range family {
		s.Seconds += 2 * float64(p.Facts.Rows[name]) / checkRate // before and after
	}
	if s.Seconds > p.Facts.Short {
		s.WritersWait = engine.WaitThroughout
	}
	s.Preview = p.PreviewAdded()
	var putsBack []string
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.Kept != nil && !slices.Contains(putsBack, f.Kept.Table) {
			putsBack = append(putsBack, f.Kept.Table)
		}
	}
	p.LetGo(putsBack)
}

// loose gives the table as it is made: columns of which a trigger refuses null may be null themselves.
func (p *planner) loose() *schema.Table {
	after := *p.After
	after.Columns = slices.Clone(after.Columns)
	for i, c := range after.Columns {
		if old := p.From(c); old != nil && nullRefused(p.Table, old) {
			loose := *c
			loose.NotNull = false
			after.Columns[i] = &loose
		}
	}
	return &after
}

// copyCost estimates in seconds what the copy of one row costs: each index and each
// check on it adds to that.
func (p *planner) copyCost() float64 {
	indexes, checks := len(p.After.Indexes)+len(p.After.Uniques), len(p.After.Checks)
	if p.After.PrimaryKey != nil && alias(p.After) == "" {
		indexes++
	}
	for _, c := range p.After.Columns {
		if c.Limit != "" || c.Generated != nil && c.Generated.Stored {
			checks++
		}
	}
	return 1/rebuildRate + float64(indexes)/indexRate + float64(checks)/checkedRate
}

// copyRows moves every row, with its number where no column holds it.
func (p *planner) copyRows() string {
	var targets, sources []string
	if n := rowName(p.Table); n != "" && rowName(p.After) == n && alias(p.After) == "" {
		targets, sources = append(targets, n), append(sources, n)
	}
	for _, c := range p.After.Stored() {
		targets = append(targets, quote(c.Name))
		sources = append(sources, p.copyValue(c))
	}
	order := ""
	if keys := cursor(p.Table); keys != nil {
		order = " order by " + strings.Join(keys, ", ")
	}
	return "insert into " + working + " (" + strings.Join(targets, ", ") + ") select " + strings.Join(sources, ", ") +
		" from " + quote(p.Table.Name) + order
}

func (p *planner) copyValue(c *schema.Column) string {
	old := p.From(c)
	f, filled := p.FillOf(c)
	switch {
	case old == nil && c.Identity != nil && alias(p.After) == c.Name && !filled && rowName(p.Table) != "":
		return rowName(p.Table) // rows keep the numbers that they have
	case filled && f.OnlyNull:
		return "coalesce(" + quote(old.Name) + ", " + p.Render(f.Expr, planning.Computed) + ")"
	case old == nil || filled:
		value, _ := p.Value(c, planning.Computed)
		return value
	}
	return quote(old.Name)
}

// family lists the tables whose foreign keys a rebuild could break: the table
// itself, and those that refer to it.
func (p *planner) family() []string {
	var list []string
	for _, t := range p.Facts.Schema.Tables {
		refers := slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
			return schema.SameName(k.Table, p.Table.Name)
		})
		if refers || schema.SameName(t.Name, p.Table.Name) && (len(t.ForeignKeys) > 0 || len(p.After.ForeignKeys) > 0) {
			list = append(list, t.Name)
		}
	}
	return list
}

func countOrphans(tables []string) string {
	parts := make([]string, len(tables))
	for i, t := range tables {
		parts[i] = `select "table" as child, parent, count(*) as n from pragma_foreign_key_check(` + literal(t) +
			`) group by 1, 2`
	}
	return strings.Join(parts, " union all ")
}
