package schema

import (
	"slices"

	"lastboard/internal/sqltext"
)

func (a *applier) createIndex(st *sqltext.CreateIndex) error {
	a.change.What = "create index " + st.Index.Name
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	if err := a.free(st.Index); err != nil {
		return err
	}
	x := &Index{Name: st.Index.Name, Unique: st.Unique}
	for _, p := range st.Parts {
		part := IndexPart{Desc: p.Desc}
		if p.Expr != nil {
			part.Expr = &Expr{Tree: p.Expr}
		} else {
			names, err := a.columns(t, []string{p.Column}, st.At)
			if err != nil {
				return err
			}
			part.Column = names[0]
		}
		x.Parts = append(x.Parts, part)
	}
	if st.Where != nil {
		x.Where = &Expr{Tree: st.Where}
	}
	after := t.copy()
	after.Indexes = append(after.Indexes, x)
	a.replace(t, after)
	return a.validate(after, st.At)
}

func (a *applier) dropIndex(st *sqltext.DropIndex) error {
	a.change.What = "drop index " + st.Index.Name
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	x, err := index(t, st.Index)
	if err != nil {
		return err
	}
	after := t.copy()
	after.Indexes = slices.DeleteFunc(after.Indexes, func(o *Index) bool { return o == x })
	a.replace(t, after)
	return nil
}

func (a *applier) renameIndex(st *sqltext.RenameIndex) error {
	a.change.What = "rename index " + st.Index.Name
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	x, err := index(t, st.Index)
	if err != nil {
		return err
	}
	if err := a.free(sqltext.Name{Name: st.To, Pos: st.At}); err != nil {
		return err
	}
	after, renamed := t.copy(), *x
	renamed.Name = st.To
	after.Indexes[slices.Index(after.Indexes, x)] = &renamed
	a.replace(t, after)
	return nil
}

// index finds the index that a statement names.
func index(t *Table, name sqltext.Name) (*Index, error) {
	if x := t.Index(name.Name); x != nil {
		return x, nil
	}
	var names []string
	for _, x := range t.Indexes {
		names = append(names, x.Name)
	}
	cure := didYouMean(name.Name, names)
	if t.constraint(name.Name) != "" {
		cure = "it is a constraint: write alter table " + t.Name + " and drop constraint " + name.Name +
			" or rename constraint"
	}
	return nil, problem(name.Pos, "name-unknown", cure, "table %s has no index %s", t.Name, name)
}

// replace records a change of one table in which every column stays.
func (a *applier) replace(before, after *Table) {
	from := map[string]string{}
	for _, c := range after.Columns {
		from[c.Name] = c.Name
	}
	a.after.put(before.Name, after)
	a.change.Table = &TableChange{Before: before, After: after, From: from}
}

func (a *applier) createView(st *sqltext.CreateView) error {
	a.change.What = "create view " + st.View.Name
	if err := a.free(st.View); err != nil {
		return err
	}
	full, err := a.name(st.View)
	if err != nil {
		return err
	}
	v := &View{Name: full, Query: st.Query.Text}
	a.after.putView(v.Name, v)
	a.change.View = &ViewChange{After: v}
	return nil
}

func (a *applier) dropView(st *sqltext.DropView) error {
	a.change.What = "drop view " + st.View.Name
	full, err := a.name(st.View)
	if err != nil {
		return err
	}
	v := a.after.View(full)
	if v == nil {
		var names []string
		for _, v := range a.after.Views {
			names = append(names, v.Name)
		}
		return problem(st.View.Pos, "name-unknown", didYouMean(st.View.Name, names), "there is no view %s", st.View)
	}
	a.after.putView(v.Name, nil)
	a.change.View = &ViewChange{Before: v}
	return nil
}

func (a *applier) commentOn(st *sqltext.CommentOn) error {
	t, err := a.table(st.Table)
	if err != nil {
		return err
	}
	text := ""
	if st.Text != nil {
		text = *st.Text
	}
	after := t.copy()
	if st.Column == "" {
		a.change.What = "comment on table " + t.Name
		after.Comment = text
	} else {
		names, err := a.columns(t, []string{st.Column}, st.Table.Pos)
		if err != nil {
			return err
		}
		a.change.What = "comment on column " + t.Name + "." + names[0]
		after.Column(names[0]).Comment = text
	}
	a.replace(t, after)
	return nil
}

func (a *applier) native(st *sqltext.Native) {
	engine := a.env.Engine
	n := &NativeChange{Statement: st}
	a.change.What = "native " + engine
	if slices.Contains(st.Engines, engine) {
		n.SQL = st.SQL
	}
	a.change.Native = n
	for _, name := range st.Touching {
		n := a.after.Called(name)
		a.after.put(n, &Table{Name: n, Opaque: unknown})
	}
}
