// Package sqltext turns the text of a migration into a syntax tree and back.
//
// It knows the grammar of the migration language and nothing else: no engine,
// no table, no file system. It must never guess: what it cannot parse is an
// [Error] with a position, what was expected and, where there is one, the
// nearest word. It goes on after an error, so that one run reports them all.
//
// Start reading at [Parse]; the tree is in ast.go (statements) and expr.go
// (expressions); [Print] is the inverse of Parse: parsing what it prints gives
// the same tree.
package sqltext
