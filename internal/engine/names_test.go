package engine

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// sqlBegins is how pieces of SQL begin that names are put into.
var sqlBegins = regexp.MustCompile("(?i)^[\"`]?[ ,(]*(select|insert|update|delete|alter|create|drop|comment|lock|" +
	"truncate|grant|revoke|analyze|call|case|when|and|or|where|from|join|exists|not|set|as|on|references|add|rename) ")

// nameFields and nameLists are the fields that hold a name, or several, as others have written them.
var (
	nameFields = []string{"Name", "Table", "Column", "Kept", "Schema", "Index", "Trigger", "Wrote", "Collation",
		"Sequence"}
	nameLists = []string{"Columns", "Keys", "Tables", "Reads", "RefColumns"}
)

// TestNamesReachSQLQuoted is that no engine puts a name into SQL as it is: what is joined to a piece of SQL or
// formatted into it is no field that holds a name, and no variable that was given one.
func TestNamesReachSQLQuoted(t *testing.T) {
	looked := 0
	for _, dir := range []string{"postgres", "mariadb", "sqlite", "planning", "../core/ledger"} {
		files, err := filepath.Glob(dir + "/*.go")
		if err != nil || len(files) == 0 {
			t.Fatal(dir, err)
		}
		for _, f := range files {
			if strings.HasSuffix(f, "_test.go") {
				continue
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, f, nil, 0)
			if err != nil {
				t.Fatal(err)
			}
			for _, d := range file.Decls {
				for _, bare := range bareNames(d, &looked) {
					t.Errorf("%s: a name reaches SQL as it is", set.Position(bare.Pos()))
				}
			}
		}
	}
	if looked < 500 {
		t.Errorf("only %d pieces of SQL were looked at: the test has lost its aim", looked)
	}
}

// TestBareNamesAreFound is that the test above finds such names where there are some.
func TestBareNamesAreFound(t *testing.T) {
	for text, want := range map[string]int{
		`"drop table " + t.Name`:        1,
		`"drop table " + quote(t.Name)`: 0,
		`p.Add(engine.Catalog, 0, "drop table "+t.Name, "drop table "+t.Name)`: 1,
		`fmt.Sprintf("drop index %s", x.Name)`:                                 1,
		`fmt.Sprintf("drop index %s", quote(x.Name))`:                          0,
		`func() { n := x.Name; run("drop index " + n) }`:                       1,
		`func() { for _, c := range k.Columns { run("select " + c) } }`:        1,
		`Refused{Message: "drop " + t.Name}`:                                   0,
		`"drop table " + quote(a) + " and " + t.Table + " cascade"`:            1,
	} {
		e, err := parser.ParseExpr(text)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		if got := len(bareNames(e, &n)); got != want {
			t.Errorf("%s: %d names were found, not %d", text, got, want)
		}
	}
}

// bareNames lists what holds a name and is joined to SQL or formatted into it. looked counts such pieces.
func bareNames(root ast.Node, looked *int) (list []ast.Expr) {
	if f, ok := root.(*ast.FuncDecl); ok && f.Name.Name == "Inserting" {
		return nil // it says what a step does
	}
	given := map[string]bool{}   // variables that were given a name
	words := map[ast.Expr]bool{} // what a person reads
	ast.Inspect(root, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.AssignStmt:
			for i, l := range n.Lhs {
				switch l := l.(type) {
				case *ast.Ident:
					if len(n.Rhs) == len(n.Lhs) && isName(n.Rhs[i]) {
						given[l.Name] = true
					}
					words[n.Rhs[min(i, len(n.Rhs)-1)]] = l.Name == "what" || l.Name == "why"
				case *ast.SelectorExpr:
					words[n.Rhs[min(i, len(n.Rhs)-1)]] = slices.Contains([]string{"What", "Why", "Message"}, l.Sel.Name)
				}
			}
		case *ast.RangeStmt:
			s, ok := n.X.(*ast.SelectorExpr)
			if v, is := n.Value.(*ast.Ident); ok && is && slices.Contains(nameLists, s.Sel.Name) {
				given[v.Name] = true
			}
		case *ast.KeyValueExpr:
			if k, ok := n.Key.(*ast.Ident); ok && slices.Contains([]string{"What", "Why", "Message", "Cure"}, k.Name) {
				words[n.Value] = true
			}
		case *ast.CallExpr:
			for i, a := range n.Args {
				words[a] = words[a] || isSaid(n, i)
			}
		}
		return true
	})
	bare := func(e ast.Expr) bool {
		v, ok := e.(*ast.Ident)
		return isName(e) || ok && given[v.Name]
	}
	joined := map[ast.Node]bool{}
	ast.Inspect(root, func(n ast.Node) bool {
		if e, ok := n.(ast.Expr); ok && words[e] {
			return false
		}
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if n.Op != token.ADD || joined[n] {
				return true
			}
			parts := pieces(n, joined)
			if first, ok := parts[0].(*ast.BasicLit); !ok || !sqlBegins.MatchString(first.Value) {
				return true
			}
			*looked++
			for _, p := range parts {
				if bare(p) {
					list = append(list, p)
				}
			}
		case *ast.CallExpr:
			f, ok := n.Fun.(*ast.SelectorExpr)
			if !ok || f.Sel.Name != "Sprintf" {
				return true
			}
			if format, ok := n.Args[0].(*ast.BasicLit); !ok || !sqlBegins.MatchString(format.Value) {
				return true
			}
			*looked++
			for _, a := range n.Args[1:] {
				if bare(a) {
					list = append(list, a)
				}
			}
		}
		return true
	})
	return list
}

// isName reports whether an expression is a field that holds a name.
func isName(e ast.Expr) bool {
	s, ok := e.(*ast.SelectorExpr)
	return ok && slices.Contains(nameFields, s.Sel.Name)
}

// said are the arguments of calls that a person reads, or that are quoted as a text.
var said = map[string]int{"Add": 2, "alterTable": 2, "define": 2, "outside": 3, "addCheck": 0, "Update": 0, "abort": 0,
	"literal": 0}

func isSaid(c *ast.CallExpr, argument int) bool {
	name := ""
	switch f := c.Fun.(type) {
	case *ast.Ident:
		name = f.Name
	case *ast.SelectorExpr:
		name = f.Sel.Name
	}
	at, ok := said[name]
	return ok && at == argument
}

// pieces gives what is joined, in order.
func pieces(e ast.Expr, joined map[ast.Node]bool) []ast.Expr {
	switch x := e.(type) {
	case *ast.BinaryExpr:
		if x.Op == token.ADD {
			joined[x] = true
			return append(pieces(x.X, joined), pieces(x.Y, joined)...)
		}
	case *ast.ParenExpr:
		return pieces(x.X, joined)
	}
	return []ast.Expr{e}
}
