package sqltext

// File is a parsed migration file.
type File struct {
	Name       string // as the caller named it
	Source     string // the text, as read
	Title      string // first line of the leading comment
	Reason     string // the rest of the leading comment
	Statements []Statement
	Comments   []Comment
}

// Name is the name of a table, view or index, perhaps within a schema.
type Name struct {
	Schema string // "" when not qualified
	Name   string
	Pos    Pos
}

func (n Name) String() string {
	if n.Schema == "" {
		return n.Name
	}
	return n.Schema + "." + n.Name
}

// Statement is one statement of a migration.
type Statement interface {
	// Start is where the statement begins.
	Start() Pos
	// Verb is what a person calls the statement: "alter table".
	Verb() string
}

type stmt struct{ At Pos }

func (s stmt) Start() Pos { return s.At }

type (
	// CreateTable is create table T (…).
	CreateTable struct {
		stmt
		Table       Name
		Columns     []*ColumnDef
		Constraints []*Constraint
	}
	// DropTable is drop table T [discard].
	DropTable struct {
		stmt
		Table   Name
		Discard bool
	}
	// AlterTable is alter table T action, …; the actions are a set.
	AlterTable struct {
		stmt
		Table   Name
		Actions []Action
	}
	// CreateIndex is create [unique] index I on T (…) [where …].
	CreateIndex struct {
		stmt
		Unique bool
		Index  Name
		Table  Name
		Parts  []IndexPart
		Where  Expr
	}
	// DropIndex is drop index I on T.
	DropIndex struct {
		stmt
		Index, Table Name
	}
	// RenameIndex is alter index I on T rename to I2.
	RenameIndex struct {
		stmt
		Index, Table Name
		To           string
	}
	// CreateView is create view V as query.
	CreateView struct {
		stmt
		View  Name
		Query Query
	}
	// DropView is drop view V.
	DropView struct {
		stmt
		View Name
	}
	// CommentOn is comment on table T | column T.C is 'text' | null.
	CommentOn struct {
		stmt
		Table  Name
		Column string  // "" for the table itself
		Text   *string // nil takes the comment away
	}
	// Backfill is backfill T set … [from …] [where …] [discard].
	Backfill struct {
		stmt
		Table   Name
		Set     []Assignment
		From    *Source
		Where   Expr
		Discard bool
	}
	// Insert is insert into T (…) values … | query.
	Insert struct {
		stmt
		Table   Name
		Columns []string
		Rows    [][]Expr
		Query   *Query // instead of Rows
	}
	// Delete is delete from T where … [discard].
	Delete struct {
		stmt
		Table   Name
		Where   Expr
		Discard bool
	}
	// Assert is assert expr [else 'message'].
	Assert struct {
		stmt
		Expr    Expr
		Message string
	}
	// Native is native ENGINE, … $$ sql $$ … .
	Native struct {
		stmt
		Engines   []string
		SQL       string
		Touching  []Name
		DoneWhen  Expr
		Back      string
		NoWayBack bool
	}
)

// Verb implements Statement.
func (*CreateTable) Verb() string { return "create table" }

// Verb implements Statement.
func (*DropTable) Verb() string { return "drop table" }

// Verb implements Statement.
func (*AlterTable) Verb() string { return "alter table" }

// Verb implements Statement.
func (*CreateIndex) Verb() string { return "create index" }

// Verb implements Statement.
func (*DropIndex) Verb() string { return "drop index" }

// Verb implements Statement.
func (*RenameIndex) Verb() string { return "alter index" }

// Verb implements Statement.
func (*CreateView) Verb() string { return "create view" }

// Verb implements Statement.
func (*DropView) Verb() string { return "drop view" }

// Verb implements Statement.
func (*CommentOn) Verb() string { return "comment on" }

// Verb implements Statement.
func (*Backfill) Verb() string { return "backfill" }

// Verb implements Statement.
func (*Insert) Verb() string { return "insert" }

// Verb implements Statement.
func (*Delete) Verb() string { return "delete" }

// Verb implements Statement.
func (*Assert) Verb() string { return "assert" }

// Verb implements Statement.
func (*Native) Verb() string { return "native" }

// Assignment is C = expr in a backfill.
type Assignment struct {
	Column string
	Value  Expr
	Pos    Pos
}

// Source is what a backfill reads beside its table: another table, or a CSV file.
type Source struct {
	Table Name
	CSV   string // the file's name, instead of Table
	Alias string
	On    []JoinPair
}

// JoinPair is C = F.C3: a column of the filled table and one of the source.
type JoinPair struct{ Column, Table, Other string }

// IndexPart is one key of an index: a column or an expression.
type IndexPart struct {
	Column string
	Expr   Expr // instead of Column
	Desc   bool
}

// Type is a column's type. Name is canonical ("integer", "double precision");
// a Native type is passed through as Name holds it.
type Type struct {
	Name     string
	Args     []int    // length, or precision and scale
	Values   []string // of an enum
	Unsigned bool
	Native   bool
	Pos      Pos
}

// ColumnDef is a column as a migration defines it.
type ColumnDef struct {
	Name        string
	Pos         Pos
	Type        Type
	NotNull     bool
	Default     Expr
	PrimaryKey  bool
	Unique      bool
	Checks      []Expr
	Generated   *Generated
	Identity    *Identity
	References  *Reference
	Collate     string
	OnUpdateNow bool
	Comment     string
	Position    *Place
}

// Generated is a computed column's expression and where its value lives.
type Generated struct {
	Expr Expr
	Kind string // "", virtual or stored
}

// Identity is a column that numbers itself.
type Identity struct {
	Always bool
	Start  *int64
}

// Reference is what a foreign key refers to.
type Reference struct {
	Table    Name
	Columns  []string // empty means the primary key
	OnDelete string   // "", cascade, restrict, set null, set default, no action
	OnUpdate string
}

// Place is where a column stands: first, or after another.
type Place struct {
	After   string // "" means first
	Rebuild bool
}

// ConstraintKind is the class of a table constraint.
type ConstraintKind int

// The classes of constraint.
const (
	PrimaryKey ConstraintKind = iota
	Unique
	Check
	ForeignKey
)

// Constraint is a table constraint.
type Constraint struct {
	Name    string // "" when the language names it
	Kind    ConstraintKind
	Columns []string
	Expr    Expr       // of a check
	Ref     *Reference // of a foreign key
	Pos     Pos
}

// Action is one change of an alter table.
type Action interface {
	// Start is where the action begins.
	Start() Pos
	// Verb is what a person calls the action: "drop column".
	Verb() string
}

type (
	// AddColumn is add column C … [using (expr)].
	AddColumn struct {
		stmt
		Column *ColumnDef
		Using  Expr
	}
	// DropColumn is drop column C [restore using (expr)] [discard].
	DropColumn struct {
		stmt
		Column  string
		Restore Expr
		Discard bool
	}
	// RenameColumn is rename column C to C2.
	RenameColumn struct {
		stmt
		Column, To string
	}
	// RenameTable is rename to T2.
	RenameTable struct {
		stmt
		To string
	}
	// SetType is alter column C set data type TYPE ….
	SetType struct {
		stmt
		Column  string
		Type    Type
		Using   Expr
		Restore Expr
		Discard bool
	}
	// SetDefault is alter column C set default expr; a nil Value drops it.
	SetDefault struct {
		stmt
		Column string
		Value  Expr
	}
	// SetNotNull is alter column C set not null [using (expr)].
	SetNotNull struct {
		stmt
		Column string
		Using  Expr
	}
	// DropNotNull is alter column C drop not null.
	DropNotNull struct {
		stmt
		Column string
	}
	// SetExpression is alter column C set expression as (expr); nil drops it.
	SetExpression struct {
		stmt
		Column string
		Value  Expr
	}
	// SetOnUpdate is alter column C set on update current_timestamp, or drop on update.
	SetOnUpdate struct {
		stmt
		Column string
		On     bool
	}
	// SetIdentity is alter column C add generated … as identity; nil drops it.
	SetIdentity struct {
		stmt
		Column   string
		Identity *Identity
	}
	// Restart is alter column C restart with N.
	Restart struct {
		stmt
		Column string
		With   int64
	}
	// SetPosition is alter column C set position first | after C2 [rebuild].
	SetPosition struct {
		stmt
		Column   string
		Position Place
	}
	// AddConstraint is add constraint ….
	AddConstraint struct {
		stmt
		Constraint *Constraint
	}
	// DropConstraint is drop constraint N.
	DropConstraint struct {
		stmt
		Name string
	}
	// DropPrimaryKey is drop primary key.
	DropPrimaryKey struct{ stmt }
	// RenameConstraint is rename constraint N to N2.
	RenameConstraint struct {
		stmt
		Name, To string
	}
	// Rebuild is rebuild: the whole table copied.
	Rebuild struct{ stmt }
)

// Verb implements Action.
func (*AddColumn) Verb() string { return "add column" }

// Verb implements Action.
func (*DropColumn) Verb() string { return "drop column" }

// Verb implements Action.
func (*RenameColumn) Verb() string { return "rename column" }

// Verb implements Action.
func (*RenameTable) Verb() string { return "rename table" }

// Verb implements Action.
func (*SetType) Verb() string { return "set data type" }

// Verb implements Action.
func (a *SetDefault) Verb() string {
	if a.Value == nil {
		return "drop default"
	}
	return "set default"
}

// Verb implements Action.
func (*SetNotNull) Verb() string { return "set not null" }

// Verb implements Action.
func (*DropNotNull) Verb() string { return "drop not null" }

// Verb implements Action.
func (a *SetExpression) Verb() string {
	if a.Value == nil {
		return "drop expression"
	}
	return "set expression"
}

// Verb implements Action.
func (a *SetOnUpdate) Verb() string {
	if a.On {
		return "set on update"
	}
	return "drop on update"
}

// Verb implements Action.
func (a *SetIdentity) Verb() string {
	if a.Identity == nil {
		return "drop identity"
	}
	return "add generated as identity"
}

// Verb implements Action.
func (*Restart) Verb() string { return "restart with" }

// Verb implements Action.
func (*SetPosition) Verb() string { return "set position" }

// Verb implements Action.
func (*AddConstraint) Verb() string { return "add constraint" }

// Verb implements Action.
func (*DropConstraint) Verb() string { return "drop constraint" }

// Verb implements Action.
func (*DropPrimaryKey) Verb() string { return "drop primary key" }

// Verb implements Action.
func (*RenameConstraint) Verb() string { return "rename constraint" }

// Verb implements Action.
func (*Rebuild) Verb() string { return "rebuild" }
