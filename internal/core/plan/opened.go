package plan

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Opened is a migration whose overlap is open, with what is left to do when it is settled.
type Opened struct {
	Version string
	Later   []sqltext.Statement
}

// Open gives the migrations whose overlap is open, the oldest first.
func Open(known []*ledger.Migration, e engine.Engine) (list []Opened, err error) {
	for _, k := range known {
		if k.State != ledger.Open {
			continue
		}
		m, err := migration.Parse("", k.Version, k.Name, k.Source)
		if err != nil {
			return nil, fmt.Errorf("the text of migration %s, in the ledger: %w", k.Version, err)
		}
		o, err := OpenedBy(k, m, e)
		if err != nil {
			return nil, err
		}
		list = append(list, o)
	}
	return list, nil
}

// OpenedBy gives what a migration that has run has left to do when it is settled; m is its text.
func OpenedBy(k *ledger.Migration, m *migration.Migration, e engine.Engine) (Opened, error) {
	records, err := DecodeRecords(k.Changes)
	return Opened{k.Version, settles(Later(m, e), records)}, err
}

// Later lists what a migration leaves for the time when its overlap is settled.
func Later(m *migration.Migration, e engine.Engine) (list []sqltext.Statement) {
	for i := range m.File.Statements {
		if s := later(m, i, e.About().Traits); s != nil {
			list = append(list, s)
		}
	}
	return list
}

// Tables lists those that are changed when it is settled.
func (o Opened) Tables() (list []string) {
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			list = append(list, st.Table.String())
		case *sqltext.AlterTable:
			list = append(list, st.Table.String())
		}
	}
	return list
}

// Words say what happens when it is settled: "drop column port of vessel".
func (o Opened) Words() string {
	var parts []string
	if drops := o.Drops(); drops != "" {
		parts = append(parts, "drop "+drops)
	}
	if supplies := o.Supplies(); supplies != "" {
		parts = append(parts, "let programs write "+supplies+" themselves")
	}
	return strings.Join(parts, " and ")
}

// Drops names what goes when it is settled; "" for nothing.
func (o Opened) Drops() string { return o.columns(goes, "table ") }

// Supplies names the columns that are supplied until then; "" for none.
func (o Opened) Supplies() string {
	return o.columns(func(a sqltext.Action) string {
		if add, ok := a.(*sqltext.AddColumn); ok {
			return "column " + add.Column.Name
		}
		return ""
	}, "")
}

// columns lists what of returns of its actions, and, behind a word, its tables that go.
func (o Opened) columns(of func(sqltext.Action) string, table string) string {
	var list []string
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			if table != "" {
				list = append(list, table+st.Table.String())
			}
		case *sqltext.AlterTable:
			for _, a := range meant(st) {
				what := of(a)
				if to := tableRenamed(st); to != "" && what != "" {
					list = append(list, "the name "+st.Table.String()+" of table "+to)
				} else if what != "" {
					list = append(list, what+" of "+st.Table.String())
				}
			}
		}
	}
	return strings.Join(list, ", ")
}

// Of says what goes of a table when it is settled; nothing where it is about others.
func (o Opened) Of(table string) (list []string) {
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			if schema.SameName(st.Table.String(), table) {
				list = append(list, "the table goes when "+o.Version+" is settled")
			}
		case *sqltext.AlterTable:
			for _, a := range meant(st) {
				add, supplied := a.(*sqltext.AddColumn)
				switch to := tableRenamed(st); {
				case to != "" && schema.SameName(to, table):
					list = append(list, "its name "+st.Table.String()+", a view, goes when "+o.Version+" is settled")
				case !schema.SameName(st.Table.String(), table):
				case supplied:
					list = append(list, "column "+add.Column.Name+" is supplied where a program leaves it out until "+o.Version+
						" is settled")
				default:
					list = append(list, goes(a)+" goes when "+o.Version+" is settled")
				}
			}
		}
	}
	return list
}

// meant lists the actions of what is left that say what becomes of columns: of a statement whose
// columns are made from each other, those that take the old ones away.
func meant(st *sqltext.AlterTable) []sqltext.Action {
	if !Linked(st) {
		return st.Actions
	}
	return slices.DeleteFunc(slices.Clone(st.Actions), func(a sqltext.Action) bool {
		switch a.(type) {
		case *sqltext.AddColumn, *sqltext.SetType:
			return true
		}
		return false
	})
}

// goes names what an action takes away.
func goes(a sqltext.Action) string {
	switch a := a.(type) {
	case *sqltext.DropColumn:
		return "column " + a.Column
	case *sqltext.RenameColumn:
		return "column " + a.Column + " (" + a.To + " now)"
	case *sqltext.RenameTable:
		return "the old name of " + a.To
	case *sqltext.SetType:
		return "the old type of column " + a.Column
	}
	return ""
}

// speaks tells of names whether a statement has them, whatever it says of them.
func speaks(st sqltext.Statement) func(name string) bool {
	tokens, _ := sqltext.Scan(sqltext.PrintStatement(st), sqltext.Migration)
	return func(name string) bool {
		return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
			return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && schema.SameName(t.Value, name)
		})
	}
}

// inTheWay gives the first open migration whose columns or tables another one speaks of, and
// what that is; nil for none.
func inTheWay(m *migration.Migration, opened []Opened) (*Opened, string) {
	for _, st := range m.File.Statements {
		for _, o := range opened {
			if what := o.spokenOf(st); what != "" {
				return &o, what
			}
		}
	}
	return nil, ""
}

// spokenOf says which column or table of an overlap a statement speaks of; "" for none.
func (o Opened) spokenOf(st sqltext.Statement) string {
	speaks := speaks(st)
	for _, later := range o.Later {
		switch later := later.(type) {
		case *sqltext.DropTable:
			if speaks(later.Table.Name) {
				return "table " + later.Table.Name
			}
		case *sqltext.AlterTable:
			if to := tableRenamed(later); to != "" && (speaks(later.Table.Name) || standsOn(st, to)) {
				return "table " + later.Table.Name + ", which is " + to + " now"
			}
			for _, a := range later.Actions {
				if add, ok := a.(*sqltext.AddColumn); ok && reshapes(st, later, false, suppliedFrom(add)) {
					return "column " + add.Column.Name + " of " + later.Table.Name
				}
				for _, c := range columnsIn(a, Linked(later)) {
					if speaks(later.Table.Name) && speaks(c) {
						return "column " + c + " of " + later.Table.Name
					}
				}
				for _, c := range madeFrom(a, Linked(later)) {
					if reshapes(st, later, false, []string{c}) {
						return "column " + c + " of " + later.Table.Name
					}
				}
			}
		}
	}
	return ""
}

// standsOn reports whether a statement takes away what a view needs that stands for a table.
func standsOn(st sqltext.Statement, table string) bool {
	switch st := st.(type) {
	case *sqltext.DropTable:
		return schema.SameName(st.Table.Name, table)
	case *sqltext.AlterTable:
		return schema.SameName(st.Table.Name, table) && slices.ContainsFunc(st.Actions, func(a sqltext.Action) bool {
			switch a.(type) {
			case *sqltext.DropColumn, *sqltext.RenameColumn, *sqltext.SetType, *sqltext.RenameTable:
				return true
			}
			return false
		})
	}
	return false
}

// columnsIn lists the columns that an overlap is about; of a statement whose columns are made from each
// other those that go.
func columnsIn(a sqltext.Action, linked bool) []string {
	switch a := a.(type) {
	case *sqltext.DropColumn:
		return []string{a.Column}
	case *sqltext.RenameColumn:
		if linked {
			return []string{a.Column}
		}
		return []string{a.Column, a.To}
	case *sqltext.SetType:
		return []string{a.Column}
	}
	return nil
}

// madeFrom lists the columns that triggers of an overlap read to make others, and those that they make.
func madeFrom(a sqltext.Action, linked bool) (list []string) {
	var made []sqltext.Expr
	switch a := a.(type) {
	case *sqltext.DropColumn:
		made = []sqltext.Expr{a.Restore}
	case *sqltext.SetType:
		made = []sqltext.Expr{a.Using, a.Restore}
	case *sqltext.RenameColumn:
		if linked {
			list = append(list, a.To)
		}
	}
	for _, e := range made {
		if e != nil {
			for _, r := range sqltext.Refs(e) {
				list = append(list, r.Column)
			}
		}
	}
	return list
}
