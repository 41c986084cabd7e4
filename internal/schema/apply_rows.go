package schema

import (
	"slices"

	"lastboard/internal/sqltext"
)

// Source is what a backfill reads beside its own table.
type Source struct {
	Table *Table // the table, or the columns of the file
	Alias string // by which expressions name it
	On    []sqltext.JoinPair
	File  string // the CSV file as the migration names it; "" for a table
}

// InsertChange adds rows.
type InsertChange struct {
	Table   *Table
	Columns []string
	Rows    [][]sqltext.Expr
	Query   *sqltext.Query // instead of Rows
	// PutBack is where whole rows are that come back instead; its Keys are those of
	// the table.
	PutBack *Kept
	Back    bool // the change takes a delete back
}

// DeleteChange takes rows away.
type DeleteChange struct {
	Table   *Table
	Where   sqltext.Expr
	Discard bool
	// Noted is where the keys of the rows are that go, instead of Where: the change
	// takes an insert back.
	Noted *Kept
}

func (a *applier) backfill(st *sqltext.Backfill) error {
	a.change.What = "backfill " + st.Table.Name
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	c := &RowChange{Table: t, Where: st.Where, Discard: st.Discard}
	if st.From != nil {
		if c.From, err = a.source(t, st); err != nil {
			return err
		}
	}
	for _, set := range st.Set {
		names, err := a.columns(t, []string{set.Column}, set.Pos)
		if err != nil {
			return err
		}
		col := t.Column(names[0])
		switch {
		case col.Generated != nil:
			return problem(set.Pos, "generated-set", "", "column %s is generated and cannot be set", col.Name)
		case HasName(t.Key(), col.Name):
			return problem(set.Pos, "key-set", "", "column %s is part of the key by which the rows are found, and a "+
				"backfill cannot set it", col.Name)
		case slices.ContainsFunc(c.Set, func(o sqltext.Assignment) bool { return o.Column == col.Name }):
			return problem(set.Pos, "action-twice", "", "the backfill sets column %s twice", col.Name)
		}
		set.Column = col.Name
		c.Set = append(c.Set, set)
		if err := resolveIn(t, c.From, set.Value); err != nil {
			return err
		}
	}
	if err := resolveIn(t, c.From, st.Where); err != nil {
		return err
	}
	a.change.Rows = c
	return nil
}

// source finds what a backfill reads, and the columns by which its rows belong
// together.
func (a *applier) source(t *Table, st *sqltext.Backfill) (*Source, error) {
	from := st.From
	s := &Source{Alias: from.Alias, On: slices.Clone(from.On), File: from.CSV}
	at := st.At
	if from.CSV != "" {
		if a.env.File == nil {
			return nil, problem(at, "file-unknown", "", "the file %s cannot be read here", from.CSV)
		}
		var err error
		if s.Table, err = a.env.File(from.CSV); err != nil {
			return nil, problem(at, "file-unreadable", "the path is as seen from the folder of the migration", "%v", err)
		}
		if s.Alias == "" {
			s.Alias = "csv"
		}
	} else {
		other, err := a.table(from.Table)
		if err != nil {
			return nil, err
		}
		s.Table = other
		if s.Alias == "" {
			s.Alias = other.Name
		}
	}
	if SameName(s.Alias, t.Name) {
		return nil, problem(at, "name-taken", "give what is read another name: from "+s.Table.Name+" as source",
			"what is read and the table that is filled are both called %s", t.Name)
	}
	for i, pair := range s.On {
		if !SameName(pair.Table, s.Alias) {
			return nil, problem(at, "name-unknown", "write "+s.Alias+"."+pair.Other, "what is read is called %s, not %s",
				s.Alias, pair.Table)
		}
		own, err := a.columns(t, []string{pair.Column}, at)
		if err != nil {
			return nil, err
		}
		read, err := a.columns(s.Table, []string{pair.Other}, at)
		if err != nil {
			return nil, err
		}
		s.On[i] = sqltext.JoinPair{Column: own[0], Table: s.Alias, Other: read[0]}
	}
	return s, nil
}

// resolveIn refuses names that neither the table nor what is read beside it has.
func resolveIn(t *Table, s *Source, e sqltext.Expr) error {
	if s == nil {
		return resolve(t, e)
	}
	for _, r := range sqltext.Refs(e) {
		if SameName(r.Table, s.Alias) {
			if s.Table.Column(r.Column) == nil {
				return problem(r.Pos, "name-unknown", didYouMean(r.Column, s.Table.ColumnNames()), "%s has no column %s", s.Alias,
					r.Column)
			}
			continue
		}
		if t.Column(r.Column) == nil && r.Table == "" && s.Table.Column(r.Column) != nil {
			return problem(r.Pos, "name-unknown", "write "+s.Alias+"."+r.Column, "table %s has no column %s", t.Name, r.Column)
		}
		if err := resolve(t, r); err != nil {
			return err
		}
	}
	return nil
}

func (a *applier) insert(st *sqltext.Insert) error {
	a.change.What = "insert into " + st.Table.Name
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	names, err := a.columns(t, st.Columns, st.Table.Pos)
	if err != nil {
		return err
	}
	for i, n := range names {
		if t.Column(n).Generated != nil {
			return problem(st.At, "generated-set", "leave it out", "column %s is generated and cannot be set", n)
		}
		if slices.Contains(names[:i], n) {
			return problem(st.At, "action-twice", "", "the insert names column %s twice", n)
		}
	}
	for _, c := range t.Columns {
		if c.NotNull && c.Default == nil && c.Generated == nil && c.Identity == nil && !HasName(names, c.Name) &&
			c.Options["implied not null"] == "" {
			return problem(st.At, "rows-need-value", "name it among the columns",
				"column %s is not null and has no default, and the insert says nothing for it", c.Name)
		}
	}
	if t.Key() == nil {
		return problem(st.At, "table-without-key", "add a primary key first",
			"table %s has no key, so that the way back could not find these rows", t.Name)
	}
	for _, row := range st.Rows {
		if len(row) != len(names) {
			return problem(st.At, "values-do-not-match", "", "the insert names %d columns and gives a row of %d values",
				len(names), len(row))
		}
		for _, e := range row {
			if refs := sqltext.Refs(e); len(refs) > 0 {
				return problem(refs[0].Pos, "name-unknown", "a string stands between single quotes, a name between double ones",
					"a value cannot read column %s", refs[0].Column)
			}
		}
	}
	a.change.Insert = &InsertChange{Table: t, Columns: names, Rows: st.Rows, Query: st.Query}
	return nil
}

func (a *applier) delete(st *sqltext.Delete) error {
	a.change.What = "delete from " + st.Table.Name
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	if t.Key() == nil && !st.Discard {
		return problem(st.At, "table-without-key", "add a primary key first, or write discard to give the rows up",
			"table %s has no key, so that its rows could not be kept for the way back", t.Name)
	}
	if err := resolve(t, st.Where); err != nil {
		return err
	}
	a.change.Delete = &DeleteChange{Table: t, Where: st.Where, Discard: st.Discard}
	return nil
}

// References lists the foreign keys of all tables that refer to the table, each with
// the table that has it.
func (s *Schema) References(name string) []Reference {
	var list []Reference
	for _, t := range s.Tables {
		for _, k := range t.ForeignKeys {
			if SameName(k.Table, name) {
				list = append(list, Reference{t, k})
			}
		}
	}
	return list
}

// Reference is a foreign key and the table that has it.
type Reference struct {
	Table *Table
	Key   *ForeignKey
}
