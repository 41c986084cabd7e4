package planning

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Inserted gives the rows of an insert, as SQL.
func (p *Planner) Inserted(c *schema.InsertChange) string {
	if c.Query != nil {
		return c.Query.Text
	}
	rows := make([]string, len(c.Rows))
	for i, row := range c.Rows {
		values := make([]string, len(row))
		for j, e := range row {
			column := c.Table.Column(c.Columns[j])
			if plain := p.plainCell(e, column.Type); i > 0 && plain != "" {
				values[j] = plain
				continue
			}
			values[j] = p.As(p.write(e, Scope{Now: p.Now(), Mode: Computed}), column)
		}
		rows[i] = "(" + strings.Join(values, ", ") + ")"
	}
	return "values " + strings.Join(rows, ", ")
}

// plainCell gives a number, a text or null of a list of rows without its type, where those of the
// first row give all others theirs; "" where it has to be written whole.
func (p *Planner) plainCell(e sqltext.Expr, t sqltext.Type) string {
	l, ok := e.(*sqltext.Literal)
	if !ok || !p.FirstRowTypes || l.Kind == sqltext.BlobLiteral {
		return ""
	}
	number := t.IsInteger() || t.Name == "numeric" || t.Name == "real" || t.Name == "double precision"
	if l.Kind == sqltext.NumberLiteral && !number {
		return ""
	}
	return l.String()
}

// NewKeys asserts that no row has a key that is inserted, and that none is inserted
// twice.
func (p *Planner) NewKeys(c *schema.InsertChange, source string) {
	t := c.Table
	keys := []*schema.Key{}
	if t.PrimaryKey != nil {
		keys = append(keys, t.PrimaryKey)
	}
	names := make([]string, len(c.Columns))
	for i := range names {
		names[i] = fmt.Sprintf("v%d", i+1)
	}
	// Not with the prefix of Lastboard's own tables: it is none.
	with := "with lastboardnew (" + strings.Join(names, ", ") + ") as " + p.Apart + "(" + source + ") "
	value := func(column string) string {
		if i := slices.Index(c.Columns, column); i >= 0 {
			return "lastboardnew." + names[i]
		}
		return ""
	}
	p.NewReferences(c, with, value)
	for _, k := range append(keys, t.Uniques...) {
		var values, match []string
		for _, column := range k.Columns {
			if v := value(column); v != "" {
				values = append(values, v)
				match = append(match, p.Name(t.Name)+"."+p.Column(column)+" = "+v)
			}
		}
		if len(values) < len(k.Columns) {
			continue // a default or a number makes it
		}
		list := strings.Join(values, ", ")
		taken := "lastboardnew where exists (select 1 from " + p.Name(t.Name) + " where " + strings.Join(match, " and ") + ")"
		p.AddProof("prove that no row of "+t.Name+" has the "+strings.Join(k.Columns, ", ")+" of a new one", engine.Proof{
			SQL: with + "select " + list + " from " + taken + " limit 5", Count: with + "select count(*) from " + taken,
			Keys: len(values), Rule: "key-exists",
			Message: fmt.Sprintf("%%d of the rows to insert have the %s of a row that %s has", strings.Join(k.Columns, ", "),
				t.Name),
			Cure: "insert reference rows that are not there yet; change others with a backfill",
		})
		if len(c.Rows) == 1 {
			continue
		}
		present := strings.Join(values, " is not null and ") + " is not null"
		twice := "(select " + list + " from lastboardnew where " + present + " group by " + list +
			" having count(*) > 1) as lastboard_groups"
		p.AddProof("prove that no two new rows have the same "+strings.Join(k.Columns, ", "), engine.Proof{
			SQL: with + "select * from " + twice + " limit 5", Count: with + "select count(*) from " + twice, Keys: len(values),
			Rule: "key-exists",
			Message: fmt.Sprintf("%%d of the %s to insert into %s are there more than once", strings.Join(k.Columns, ", "),
				t.Name),
			Cure: "insert each once",
		})
	}
}

// NewReferences asserts that rows to insert refer to existing rows.
func (p *Planner) NewReferences(c *schema.InsertChange, with string, value func(column string) string) {
	for _, k := range c.Table.ForeignKeys {
		var values, present, match []string
		for i, column := range k.Columns {
			v := value(column)
			if v == "" || i >= len(k.References) {
				break
			}
			values, present = append(values, v), append(present, v+" is not null")
			match = append(match, "p."+p.Column(k.References[i])+" = "+v)
		}
		if len(values) < len(k.Columns) || k.Table == c.Table.Name {
			continue
		}
		orphans := "lastboardnew where " + strings.Join(present, " and ") + " and not exists (select 1 from " +
			p.Name(k.Table) + " p where " + strings.Join(match, " and ") + ")"
		p.AddProof("prove that every new row refers to a row of "+k.Table, engine.Proof{
			SQL:   with + "select " + strings.Join(values, ", ") + " from " + orphans + " limit 5",
			Count: with + "select count(*) from " + orphans, Keys: len(values),
			Rule: "rows-would-break", Reads: []string{k.Table},
			Message: fmt.Sprintf("no row of %s has the %s of %%d rows to insert (foreign key %s)", k.Table,
				strings.Join(k.Columns, ", "), k.Name),
			Cure: "insert the row that they refer to first",
		})
	}
}

// PlaceForKeys adds the step that makes the place for the keys of rows that come, which
// follows them: a row that an application makes under the key of one that has gone is its own.
func (p *Planner) PlaceForKeys(kept string, create ...string) *engine.Step {
	t := p.Table
	s := p.Add(engine.Catalog, 0, "make a place for the keys of new rows of "+t.Name, create...)
	s.Keeps = []*engine.Keeping{{Table: t.Name, Kept: kept, Keys: t.Key(), What: engine.KeptKeys}}
	p.Dialect.Follow(p, s, true)
	return s
}

// PutRowsBack brings deleted rows back. A row that has the key of one since then is
// another row.
func (p *Planner) PutRowsBack(k *schema.Kept) {
	t := p.Table
	match := make([]string, len(k.Keys))
	for i, key := range k.Keys {
		match[i] = p.Name(t.Name) + "." + p.Column(key) + " = k." + p.Column(key)
	}
	taken := p.Name(k.Table) + " k where exists (select 1 from " + p.Name(t.Name) + " where " +
		strings.Join(match, " and ") + ")"
	names := make([]string, len(k.Keys))
	for i, key := range k.Keys {
		names[i] = "k." + p.Column(key)
	}
	p.AddProof("prove that no deleted key of "+t.Name+" is in use again", engine.Proof{
		SQL: "select " + strings.Join(names, ", ") + " from " + taken + " limit 5", Count: "select count(*) from " + taken,
		Keys: len(names), Rule: "key-exists",
		Message: fmt.Sprintf("%%d rows of %s have the keys of rows that would come back", t.Name),
		Cure:    "give those rows other keys, or discard what is kept of this migration",
	})
	p.Add(engine.Backfill, p.Rates.Restore, "put the deleted rows of "+t.Name+" back",
		p.Unfollowed(t, []string{p.RestoreRows(p.Table, k)})...)
	p.LetGo([]string{k.Table})
}

// Delete takes rows away in batches and keeps them.
func (p *Planner) Delete(c *schema.DeleteChange) []*engine.Step {
	t := p.Table
	condition := ""
	if c.Where != nil {
		condition = "(" + p.Render(c.Where, Computed) + ")"
	}
	if n := c.Noted; n != nil {
		condition = "exists (select 1 from " + p.Name(n.Table) + " k where " + p.KeptMatch(t, n.Keys) + ")"
	}
	where := " where " + engine.Range + " and " + condition
	guards := p.Unreferred(condition, where)
	moves := c.Noted != nil && p.Beside() && !refersToItself(t)
	n := Noting{}
	if moves {
		n = Noting{Kept: c.Noted.Table, Keys: c.Noted.Keys}
		p.Dialect.Note(p, p.Add(engine.Sync, 0, "note rows of "+t.Name+" whose key changes"), n)
	}
	var statements []string
	if keys := t.Key(); !c.Discard && keys != nil {
		kept := p.Facts.KeptTable()
		columns := p.WholeRow(t)
		p.Add(engine.Catalog, 0, "make a place for the rows that go",
			"create table "+p.Name(kept)+" as select "+columns+" from "+p.Name(t.Name)+" where false",
			"create unique index if not exists "+p.Column(kept+"_key")+" on "+p.Name(kept)+" ("+p.Columns(keys)+")").Keeps =
			[]*engine.Keeping{{Table: t.Name, Kept: kept, Keys: keys, What: engine.KeptRows}}
		statements = append(statements, "insert into "+p.Name(kept)+" select "+columns+" from "+p.Name(t.Name)+where+
			p.Locked(t, true))
		s := p.keptWhole(t, kept, keys)
		for i, g := range guards {
			guards[i] = strings.Replace(g, " limit 1", " and "+s+" limit 1", 1)
		}
		where = " where " + engine.Range + " and " + s
	}
	statements = p.Unfollowed(t, append(append(statements, guards...), "delete from "+p.Name(t.Name)+where))
	var s *engine.Step
	if refersToItself(t) {
		s = p.Add(engine.Backfill, p.Rates.Update, "delete rows of "+t.Name, Everywhere(statements)...)
	} else {
		s = p.Faster(p.Update("delete rows of "+t.Name, statements...), p.Rates.Goes)
	}
	s.Preview = "select * from " + p.Name(t.Name) + " where " + condition + " limit ?"
	if c.Noted != nil {
		s.Preview = ""
		p.Alone(s)
		if moves {
			p.last("delete rows whose key changed meanwhile", n, func(n Noting) []string {
				return []string{"delete from " + p.Name(t.Name) + " where " + p.Among(n) + " and exists (select 1" +
					p.keptRow(n) + ")"}
			})
		}
		p.LetGo([]string{c.Noted.Table})
	}
	return p.Steps
}

// keptWhole gives the condition that a row is kept as a whole.
func (p *Planner) keptWhole(t *schema.Table, kept string, keys []string) string {
	match := make([]string, len(keys))
	for i, k := range keys {
		match[i] = "k." + p.Column(k) + " = " + p.Name(t.Name) + "." + p.Column(k)
	}
	return "(select 1 from " + p.Name(kept) + " k where " + strings.Join(match, " and ") + ") = 1"
}

func refersToItself(t *schema.Table) bool {
	return slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool { return schema.SameName(k.Table, t.Name) })
}

// Unreferred asserts that no row elsewhere refers to one that goes: before anything
// is changed, and in each batch.
func (p *Planner) Unreferred(condition, where string) (guards []string) {
	t := p.Table
	for _, r := range p.Facts.Schema.References(t.Name) {
		var match []string
		for i, column := range r.Key.Columns {
			if i < len(r.Key.References) {
				match = append(match, "c."+p.Column(column)+" = "+p.Name(t.Name)+"."+p.Column(r.Key.References[i]))
			}
		}
		refers := "exists (select 1 from " + p.Name(r.Table.Name) + " c where " + strings.Join(match, " and ")
		if r.Table.Name == t.Name {
			keys := p.Sample(t)
			list := make([]string, len(keys))
			for i, k := range keys {
				list[i] = "c." + k
			}
			refers += " and (" + strings.Join(list, ", ") + ") not in (select " + strings.Join(keys, ", ") + " from " +
				p.Name(t.Name) + " where " + condition + ")"
		}
		refers += ")"
		keys := p.Sample(t)
		source := " from " + p.Name(t.Name) + " where " + condition + " and " + refers
		p.AddProof("prove that no row of "+r.Table.Name+" refers to a row that goes", engine.Proof{
			SQL: "select " + strings.Join(keys, ", ") + source + " limit 5", Count: "select count(*)" + source, Keys: len(keys),
			Rule:  "rows-would-break",
			Reads: []string{r.Table.Name},
			Message: fmt.Sprintf("rows of %s refer to %%d rows of %s that would be deleted (foreign key %s)", r.Table.Name,
				t.Name, r.Key.Name),
			Cure: "let them refer to other rows with a backfill first, or delete them before",
		})
		guards = append(guards, "select 'a row of "+strings.ReplaceAll(r.Table.Name, "'", "''")+
			" refers to a row that would be deleted' from "+p.Name(t.Name)+where+" and "+refers+" limit 1")
	}
	return guards
}

// Inserting says what an insert does.
func Inserting(c *schema.InsertChange) string {
	switch {
	case c.Query != nil:
		return "insert rows into " + c.Table.Name
	case len(c.Rows) == 1:
		return "insert a row into " + c.Table.Name
	}
	return fmt.Sprintf("insert %d rows into %s", len(c.Rows), c.Table.Name)
}
