package sqltext

// Expr is an expression tree. The concrete types are below; a new one has to be
// added to parse_expr.go, printer_expr.go, walk.go and each engine's renderer.
type Expr interface{ expr() }

// LiteralKind is the class of a literal.
type LiteralKind int

// The classes of literal.
const (
	NullLiteral LiteralKind = iota
	BoolLiteral
	NumberLiteral
	StringLiteral
	BlobLiteral
)

type (
	// Literal is a constant. Text is "true"/"false" for a boolean, the number as
	// written, a string's value, or a blob's hexadecimal digits.
	Literal struct {
		Kind LiteralKind
		Text string
	}
	// Typed is a literal with its type before it: date '2031-05-01'.
	Typed struct {
		Type string // date, time or timestamp
		Text string
	}
	// Ref names a column, perhaps of a named table.
	Ref struct {
		Table  string // "" when not qualified
		Column string
		Pos    Pos
	}
	// Unary is - x, + x or not x.
	Unary struct {
		Op string
		X  Expr
	}
	// Binary is an operator between two operands: arithmetic, ||, comparison,
	// and, or, "is distinct from", "is not distinct from".
	Binary struct {
		Op   string
		L, R Expr
	}
	// IsNull is x is [not] null.
	IsNull struct {
		X   Expr
		Not bool
	}
	// In is x [not] in (list) or x [not] in (query).
	In struct {
		X     Expr
		List  []Expr
		Query *Query // instead of List
		Not   bool
	}
	// Between is x [not] between low and high.
	Between struct {
		X, Low, High Expr
		Not          bool
	}
	// Like is x [not] like pattern [escape c].
	Like struct {
		X, Pattern, Escape Expr // Escape may be nil
		Not                bool
	}
	// When is one branch of a case.
	When struct{ If, Then Expr }
	// Case is case [operand] when … then … [else …] end.
	Case struct {
		Operand Expr // may be nil
		Whens   []When
		Else    Expr // may be nil
	}
	// Cast is cast(x as type).
	Cast struct {
		X    Expr
		Type Type
	}
	// Substring is substring(x from a [for b]).
	Substring struct{ X, From, For Expr }
	// Position is position(needle in x).
	Position struct{ Needle, X Expr }
	// Trim is trim([leading|trailing|both] [chars from] x).
	Trim struct {
		Side  string // "", leading, trailing or both
		Chars Expr   // may be nil
		X     Expr
	}
	// Extract is extract(field from x).
	Extract struct {
		Field string
		X     Expr
	}
	// Now is current_date, current_time or current_timestamp.
	Now struct{ Name string }
	// Interval is interval '1' day.
	Interval struct {
		Amount string
		Unit   string
	}
	// Call is a function by name; Star is f(*).
	Call struct {
		Name     string
		Args     []Expr
		Distinct bool
		Star     bool
		Pos      Pos
	}
	// Subquery is (query) as a value, or exists (query).
	Subquery struct {
		Exists bool
		Query  Query
	}
	// Collate is x collate name.
	Collate struct {
		X    Expr
		Name string
	}
)

// Query is the text of a query, passed to an engine as it is written but for
// comments and white space.
type Query struct{ Text string }

func (*Literal) expr()   {}
func (*Typed) expr()     {}
func (*Ref) expr()       {}
func (*Unary) expr()     {}
func (*Binary) expr()    {}
func (*IsNull) expr()    {}
func (*In) expr()        {}
func (*Between) expr()   {}
func (*Like) expr()      {}
func (*Case) expr()      {}
func (*Cast) expr()      {}
func (*Substring) expr() {}
func (*Position) expr()  {}
func (*Trim) expr()      {}
func (*Extract) expr()   {}
func (*Now) expr()       {}
func (*Interval) expr()  {}
func (*Call) expr()      {}
func (*Subquery) expr()  {}
func (*Collate) expr()   {}
