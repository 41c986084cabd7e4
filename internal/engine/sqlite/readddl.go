package sqlite

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// This file reads the text of create statements as SQLite stores it
// (https://sqlite.org/lang_createtable.html): pragmas do not tell checks,
// generated expressions, collations, names of constraints and autoincrement.

// notUnderstood is why a definition cannot be read.
type notUnderstood string

func (n notUnderstood) Error() string { return string(n) }

type reader struct {
	src    string
	tokens []sqltext.Token
	at     int
	table  *schema.Table
}

func newReader(src string) *reader {
	tokens, _ := sqltext.Scan(src, sqltext.Engine)
	return &reader{src: src, tokens: tokens}
}

func (r *reader) tok() sqltext.Token { return r.tokens[r.at] }

func (r *reader) fail(format string, args ...any) {
	panic(notUnderstood(fmt.Sprintf(format, args...)))
}

func (r *reader) is(words ...string) bool {
	for i, w := range words {
		if r.at+i >= len(r.tokens) || !r.tokens[r.at+i].Is(w) {
			return false
		}
	}
	return true
}

func (r *reader) accept(words ...string) bool {
	if !r.is(words...) {
		return false
	}
	r.at += len(words)
	return true
}

func (r *reader) expect(words ...string) {
	if !r.accept(words...) {
		r.fail("%q is expected, not %q", strings.Join(words, " "), r.tok().Text)
	}
}

// name reads a name in any of SQLite's quotes; a string can be one, too.
func (r *reader) name() string {
	t := r.tok()
	if t.Kind != sqltext.Word && t.Kind != sqltext.Quoted && t.Kind != sqltext.String {
		r.fail("a name is expected, not %q", t.Text)
	}
	r.at++
	if t.Kind == sqltext.Word {
		return t.Text
	}
	return t.Value
}

// inside gives the text between the parenthesis that is next and the one that
// closes it, and passes over both.
func (r *reader) inside() string {
	r.expect("(")
	start := r.tokens[r.at-1].End()
	for depth := 1; ; r.at++ {
		switch t := r.tok(); {
		case t.Kind == sqltext.EOF:
			r.fail("a parenthesis is not closed")
		case t.Is("("):
			depth++
		case t.Is(")"):
			if depth--; depth == 0 {
				text := strings.TrimSpace(r.src[start:t.Pos.Offset])
				r.at++
				return text
			}
		}
	}
}

// expr makes an expression of a text: with its tree where the language has an
// equal for it.
func expr(t *schema.Table, text string) schema.Expr {
	e := schema.Expr{Native: text}
	if tree, err := portable(t, text); err == nil {
		e.Tree = tree
	}
	return e
}

// caught turns what fail threw into an error.
func caught(err *error) {
	switch r := recover().(type) {
	case nil:
	case notUnderstood:
		*err = r
	default:
		panic(r)
	}
}

// readTable reads a create table statement.
func readTable(sql string) (t *schema.Table, err error) {
	defer caught(&err)
	r := newReader(sql)
	r.expect("create")
	if !r.accept("temp") {
		r.accept("temporary")
	}
	if r.is("virtual") {
		r.fail("it is a virtual table")
	}
	r.expect("table")
	r.accept("if", "not", "exists")
	t = &schema.Table{}
	r.table = t
	t.Name = r.name()
	if r.accept(".") {
		t.Name = r.name()
	}
	if !r.is("(") {
		r.fail("it has no list of columns")
	}
	r.expect("(")
	for {
		if r.tableConstraint() {
			r.accept(",")
		} else {
			r.column()
			if !r.accept(",") && !r.constraintNext() {
				break
			}
		}
		if r.is(")") {
			break
		}
	}
	r.expect(")")
	r.limits()
	for r.tok().Kind != sqltext.EOF {
		switch {
		case r.accept("without", "rowid"):
			r.option("without rowid")
		case r.accept("strict"):
			r.option("strict")
		case !r.accept(",") && !r.accept(";"):
			r.fail("%q is not understood", r.tok().Text)
		}
	}
	r.finish()
	return t, nil
}

func (r *reader) option(name string) {
	if r.table.Options == nil {
		r.table.Options = map[string]string{}
	}
	r.table.Options[name] = "yes"
}

func (r *reader) constraintNext() bool {
	return r.is("constraint") || r.is("primary", "key") || r.is("unique") || r.is("check") || r.is("foreign", "key")
}

// columnWords begin what follows a column's type.
var columnWords = []string{"constraint", "primary", "not", "null", "unique", "check", "default", "collate",
	"references", "generated", "as"}

func (r *reader) column() {
	c := &schema.Column{Name: r.name()}
	if r.table.Column(c.Name) != nil {
		r.fail("column %s is there twice", c.Name)
	}
	r.table.Columns = append(r.table.Columns, c)
	r.columnType(c)
	name := ""
	for {
		switch {
		case r.accept("constraint"):
			name = r.name()
			continue
		case r.is(","), r.is(")"), r.tok().Kind == sqltext.EOF:
			return
		case !r.columnConstraint(c, name):
			r.fail("%q in column %s is not understood", r.tok().Text, c.Name)
		}
		name = ""
	}
}

func (r *reader) columnType(c *schema.Column) {
	start, end := r.tok().Pos.Offset, r.tok().Pos.Offset
words:
	for r.tok().Kind == sqltext.Word || r.tok().Kind == sqltext.Quoted || r.tok().Kind == sqltext.String {
		for _, w := range columnWords {
			if r.is(w) {
				break words
			}
		}
		end = r.tok().End()
		r.at++
	}
	if start != end && r.is("(") {
		r.inside()
		end = r.tokens[r.at-1].End()
	}
	text := r.src[start:end]
	if text == "" {
		c.Type = sqltext.Type{Name: "blob"}
		c.Options = map[string]string{"typeless": "yes"}
		return
	}
	c.Type = readType(text)
	if !strings.EqualFold(declaration(&schema.Column{Type: c.Type}, false), text) {
		c.Declared = text
	}
}

func (r *reader) columnConstraint(c *schema.Column, name string) bool {
	set := func(k, v string) {
		if c.Options == nil {
			c.Options = map[string]string{}
		}
		c.Options[k] = v
	}
	switch {
	case r.accept("primary", "key"):
		k := &schema.Key{Name: name, Columns: []string{c.Name}, Options: map[string]string{}}
		if r.accept("desc") {
			if strings.EqualFold(c.Declared, "integer") || c.Type.Equal(sqltext.Type{Name: "integer"}) && c.Declared == "" {
				r.fail("an integer primary key in descending order does not number rows, and would if it were written again")
			}
			k.Options["part 1"] = " desc"
		} else {
			r.accept("asc")
		}
		r.conflict(k.Options)
		if r.accept("autoincrement") {
			c.Identity = &sqltext.Identity{}
		}
		r.primary(k)
	case r.accept("not", "null"):
		c.NotNull = true
		if name != "" {
			set("not null name", name)
		}
		o := map[string]string{}
		r.conflict(o)
		if v := o["on conflict"]; v != "" {
			set("not null on conflict", v)
		}
	case r.accept("null"):
	case r.accept("unique"):
		k := &schema.Key{Name: name, Columns: []string{c.Name}, Options: map[string]string{}}
		r.conflict(k.Options)
		r.table.Uniques = append(r.table.Uniques, k)
	case r.is("check"):
		r.check(c, name)
	case r.accept("default"):
		e := r.defaultValue()
		c.Default = &e
	case r.accept("collate"):
		c.Collate = asWritten(r.tok())
		r.name()
	case r.is("references"):
		r.foreignKey(&schema.ForeignKey{Name: name, Columns: []string{c.Name}})
	case r.accept("generated", "always", "as"), r.accept("as"):
		g := &schema.Generated{Expr: schema.Expr{Native: r.inside()}}
		if r.accept("stored") {
			g.Stored = true
		} else {
			r.accept("virtual")
		}
		c.Generated = g
	case r.is("not", "deferrable"), r.is("deferrable"):
		r.deferrable(r.table.ForeignKeys)
	default:
		return false
	}
	return true
}

// defaultWords are the words that stand for a value behind default.
var defaultWords = []string{"null", "true", "false", "current_timestamp", "current_date", "current_time"}

// defaultValue reads a literal, a signed number, a word or (expr).
func (r *reader) defaultValue() schema.Expr {
	if r.is("(") {
		return schema.Expr{Native: r.inside()}
	}
	start := r.tok().Pos.Offset
	if r.is("-") || r.is("+") {
		r.at++
	}
	switch r.tok().Kind {
	case sqltext.Word, sqltext.Quoted, sqltext.String, sqltext.Number, sqltext.Blob:
		tok := r.tok()
		r.at++
		if start == tok.Pos.Offset && (tok.Kind == sqltext.Quoted || tok.Kind == sqltext.Word &&
			!slices.Contains(defaultWords, tok.Value)) {
			return schema.Expr{Native: literal(asWritten(tok))} // SQLite takes a name here for a string
		}
		return schema.Expr{Native: r.src[start:tok.End()]}
	}
	r.fail("a default is expected, not %q", r.tok().Text)
	return schema.Expr{}
}

// plainDefault reports whether a text may stand behind "default" without
// parentheses.
func plainDefault(text string) bool {
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	if len(tokens) == 3 && (tokens[0].Is("-") || tokens[0].Is("+")) {
		tokens = tokens[1:]
	}
	if len(tokens) != 2 {
		return false
	}
	switch tokens[0].Kind {
	case sqltext.String, sqltext.Number, sqltext.Blob, sqltext.Word:
		return true
	}
	return false
}

// names reads a list of columns; what stands behind one goes into options.
func (r *reader) names(options map[string]string) []string {
	r.expect("(")
	var list []string
	for {
		list = append(list, r.name())
		part := ""
		if r.accept("collate") {
			part += " collate " + quote(r.name())
		}
		if r.accept("desc") {
			part += " desc"
		} else {
			r.accept("asc")
		}
		if part != "" {
			if options == nil {
				r.fail("an order or collation is not wanted here")
			}
			options["part "+strconv.Itoa(len(list))] = part
		}
		if !r.accept(",") {
			break
		}
	}
	r.expect(")")
	return list
}
