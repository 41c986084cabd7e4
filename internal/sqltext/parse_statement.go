package sqltext

import "slices"

// engines that a native statement can name, in the order of their names.
var engines []string

// RegisterEngine lets native statements name an engine.
func RegisterEngine(name string) {
	engines = append(engines, name)
	slices.Sort(engines)
}

// parseStatement = create … | drop … | alter … | comment … | backfill … | insert … | delete … | assert … | native … .
func (p *parser) parseStatement() Statement {
	at := stmt{p.tok.Pos}
	switch {
	case p.accept("create", "table"):
		return p.createTable(at)
	case p.accept("create", "view"):
		s := &CreateView{stmt: at, View: p.qualified("the view's name")}
		p.expect("as")
		s.Query = p.query()
		return s
	case p.ahead("create", "unique") || p.ahead("create", "index"):
		return p.createIndex(at)
	case p.accept("drop", "table"):
		return &DropTable{stmt: at, Table: p.qualified("the table's name"), Discard: p.accept("discard")}
	case p.accept("drop", "view"):
		return &DropView{stmt: at, View: p.qualified("the view's name")}
	case p.accept("drop", "index"):
		s := &DropIndex{stmt: at, Index: p.qualified("the index's name")}
		p.expect("on")
		s.Table = p.qualified("the table's name")
		return s
	case p.accept("alter", "table"):
		return p.alterTable(at)
	case p.accept("alter", "index"):
		s := &RenameIndex{stmt: at, Index: p.qualified("the index's name")}
		p.expect("on")
		s.Table = p.qualified("the table's name")
		p.expect("rename", "to")
		s.To = p.identifier("the new name")
		return s
	case p.accept("comment", "on"):
		return p.commentOn(at)
	case p.accept("backfill"):
		return p.backfill(at)
	case p.accept("insert", "into"):
		return p.insert(at)
	case p.accept("delete", "from"):
		return p.delete(at)
	case p.accept("assert"):
		s := &Assert{stmt: at, Expr: p.expr()}
		if p.accept("else") {
			s.Message = p.text("the message")
		}
		return s
	case p.accept("native"):
		return p.native(at)
	case p.tok.Is("update"):
		p.failf("write backfill T set C = expr where …: it runs in batches and keeps the old values",
			"an update is written as a backfill here")
	case p.ahead("create") || p.ahead("drop") || p.ahead("alter"):
		p.advance()
		p.wanted("table", "index", "view")
	}
	p.foreign(foreignStatements)
	p.wanted("create", "drop", "alter", "comment", "backfill", "insert", "delete", "assert", "native")
	return nil
}

// createTable = name "(" ( column | constraint ) { "," … } ")" .
func (p *parser) createTable(at stmt) Statement {
	s := &CreateTable{stmt: at, Table: p.qualified("the table's name")}
	p.expect("(")
	for {
		if p.constraintAhead() {
			s.Constraints = append(s.Constraints, p.constraint())
		} else {
			s.Columns = append(s.Columns, p.column())
		}
		if !p.accept(",") {
			break
		}
	}
	if !p.tok.Is(")") {
		p.failf(p.nearWord(), `"," or ")" is expected here, not %s`, p.tok.shown())
	}
	p.expect(")")
	if len(s.Columns) == 0 {
		p.failAt(at.At, "", "table %s has no columns", s.Table)
	}
	return s
}

func (p *parser) constraintAhead() bool {
	return p.tok.Is("constraint") || p.ahead("primary", "key") || p.tok.Is("unique") || p.tok.Is("check") ||
		p.ahead("foreign", "key")
}

// column = name type { option } [ "first" | "after" name [ "rebuild" ] ] .
func (p *parser) column() *ColumnDef {
	c := &ColumnDef{Pos: p.tok.Pos}
	c.Name = p.identifier("a column's name")
	c.Type = p.parseType()
	for p.option(c) {
	}
	p.foreign(foreignOptions)
	if p.ahead("first") || p.ahead("after") {
		place := p.place()
		c.Position = &place
	}
	return c
}

// option reads one option of a column and reports whether there was one.
func (p *parser) option(c *ColumnDef) bool {
	at := p.tok.Pos
	once := func(already bool, what string) {
		if already {
			p.failAt(at, "", "column %s says %s twice", c.Name, what)
		}
	}
	switch {
	case p.accept("not", "null"):
		once(c.NotNull, "not null")
		c.NotNull = true
	case p.tok.Is("not"):
		p.advance()
		p.wanted("null")
	case p.accept("null"):
		if c.NotNull || p.ahead("not", "null") {
			p.failAt(at, "", "column %s cannot be both null and not null", c.Name)
		}
	case p.accept("default"):
		once(c.Default != nil, "default")
		c.Default = p.primaryOrSigned()
	case p.accept("primary", "key"):
		once(c.PrimaryKey, "primary key")
		c.PrimaryKey = true
	case p.accept("unique"):
		once(c.Unique, "unique")
		c.Unique = true
	case p.accept("check"):
		c.Checks = append(c.Checks, p.inParentheses())
	case p.ahead("generated"):
		p.generated(c)
	case p.accept("references"):
		once(c.References != nil, "references")
		c.References = p.reference()
	case p.accept("collate"):
		once(c.Collate != "", "collate")
		c.Collate = p.identifier("a collation's name")
	case p.accept("on", "update", "current_timestamp"):
		once(c.OnUpdateNow, "on update current_timestamp")
		c.OnUpdateNow = true
	case p.accept("comment"):
		once(c.Comment != "", "comment")
		c.Comment = p.text("the comment's text")
	default:
		return false
	}
	return true
}

// generated = "generated" ( "always" "as" "(" expr ")" [ "virtual" | "stored" ] | identity ) .
func (p *parser) generated(c *ColumnDef) {
	at := p.tok.Pos
	if c.Generated != nil || c.Identity != nil {
		p.failAt(at, "", "column %s says generated twice", c.Name)
	}
	if p.accept("generated", "always", "as", "(") {
		c.Generated = &Generated{Expr: p.expr()}
		p.expect(")")
		if p.accept("virtual") {
			c.Generated.Kind = "virtual"
		} else if p.accept("stored") {
			c.Generated.Kind = "stored"
		}
		return
	}
	c.Identity = p.identity()
}

// identity = "generated" ( "always" | "by" "default" ) "as" "identity" [ "(" "start" "with" number ")" ] .
func (p *parser) identity() *Identity {
	id := &Identity{}
	p.expect("generated")
	if p.accept("always") {
		id.Always = true
	} else if !p.accept("by", "default") {
		p.wanted("always", "by default")
	}
	p.expect("as", "identity")
	if p.accept("(") {
		p.expect("start", "with")
		n := p.integer("a whole number")
		id.Start = &n
		p.expect(")")
	}
	return id
}

// reference = table [ names ] [ "on" "delete" act ] [ "on" "update" act ] .
func (p *parser) reference() *Reference {
	r := &Reference{Table: p.qualified("the table that is referred to")}
	if p.tok.Is("(") {
		r.Columns = p.names("a column's name")
	}
	for {
		switch {
		case r.OnDelete == "" && p.accept("on", "delete"):
			r.OnDelete = p.act()
		case r.OnUpdate == "" && p.ahead("on", "update") && !p.ahead("on", "update", "current_timestamp"):
			p.expect("on", "update")
			r.OnUpdate = p.act()
		default:
			return r
		}
	}
}

func (p *parser) act() string {
	for _, words := range [][]string{{"cascade"}, {"restrict"}, {"set", "null"}, {"set", "default"}, {"no", "action"}} {
		if p.accept(words...) {
			if len(words) == 2 {
				return words[0] + " " + words[1]
			}
			return words[0]
		}
	}
	p.wanted("cascade", "restrict", "set null", "set default", "no action")
	return ""
}

// constraint = [ "constraint" name ] ( "primary" "key" names | "unique" names | "check" "(" expr
// ")" | "foreign" "key" names "references" reference ) .
func (p *parser) constraint() *Constraint {
	c := &Constraint{Pos: p.tok.Pos}
	if p.accept("constraint") {
		c.Name = p.identifier("the constraint's name")
	}
	switch {
	case p.accept("primary", "key"):
		c.Kind, c.Columns = PrimaryKey, p.names("a column's name")
	case p.accept("unique"):
		c.Kind, c.Columns = Unique, p.names("a column's name")
	case p.accept("check"):
		c.Kind, c.Expr = Check, p.inParentheses()
	case p.accept("foreign", "key"):
		c.Kind, c.Columns = ForeignKey, p.names("a column's name")
		p.expect("references")
		at := p.tok.Pos
		c.Ref = p.reference()
		if len(c.Ref.Columns) > 0 && len(c.Ref.Columns) != len(c.Columns) {
			p.failAt(at, "", "the key has %d columns and refers to %d", len(c.Columns), len(c.Ref.Columns))
		}
	default:
		p.wanted("primary key", "unique", "check", "foreign key")
	}
	return c
}

// createIndex = "create" [ "unique" ] "index" name "on" table "(" part { "," part } ")" [ "where" expr ] .
func (p *parser) createIndex(at stmt) Statement {
	s := &CreateIndex{stmt: at}
	p.expect("create")
	s.Unique = p.accept("unique")
	p.expect("index")
	s.Index = p.qualified("the index's name")
	p.expect("on")
	s.Table = p.qualified("the table's name")
	p.expect("(")
	for {
		var part IndexPart
		if p.tok.Is("(") {
			part.Expr = p.inParentheses()
		} else {
			part.Column = p.identifier("a column's name")
		}
		if p.accept("desc") {
			part.Desc = true
		} else {
			p.accept("asc")
		}
		s.Parts = append(s.Parts, part)
		if !p.accept(",") {
			break
		}
	}
	p.expect(")")
	if p.accept("where") {
		s.Where = p.expr()
	}
	return s
}

func (p *parser) commentOn(at stmt) Statement {
	s := &CommentOn{stmt: at}
	switch {
	case p.accept("table"):
		s.Table = p.qualified("the table's name")
	case p.accept("column"):
		s.Table = p.qualified("the table and the column, as table.column")
		if p.accept(".") {
			s.Column = p.identifier("a column's name")
		} else {
			if s.Table.Schema == "" {
				p.failAt(s.Table.Pos, "write table.column", "a column's comment names its table, too")
			}
			s.Table.Name, s.Table.Schema, s.Column = s.Table.Schema, "", s.Table.Name
		}
	default:
		p.wanted("table", "column")
	}
	p.expect("is")
	if p.accept("null") {
		return s
	}
	text := p.text("the comment's text, or null")
	s.Text = &text
	return s
}

// backfill = table "set" assignment { "," … } [ "from" source ] [ "where" expr ] [ "discard" ] .
func (p *parser) backfill(at stmt) Statement {
	s := &Backfill{stmt: at, Table: p.qualified("the table's name")}
	p.expect("set")
	for {
		a := Assignment{Pos: p.tok.Pos}
		a.Column = p.identifier("a column's name")
		for _, other := range s.Set {
			if other.Column == a.Column {
				p.failAt(a.Pos, "", "column %s is set twice", a.Column)
			}
		}
		p.expect("=")
		a.Value = p.expr()
		s.Set = append(s.Set, a)
		if !p.accept(",") {
			break
		}
	}
	if p.accept("from") {
		s.From = p.source()
	}
	if p.accept("where") {
		s.Where = p.expr()
	}
	s.Discard = p.accept("discard")
	return s
}

// source = ( table | "csv" string ) [ "as" name ] "on" "(" name "=" name "." name { "," … } ")" .
func (p *parser) source() *Source {
	f := &Source{}
	if p.tok.Is("csv") && p.tokens[p.next+1].Kind == String {
		p.advance()
		if p.tok.Value == "" {
			p.failf("", "a file's name cannot be empty")
		}
		f.CSV = p.text("the file's name")
	} else {
		f.Table = p.qualified("the table to read")
	}
	if p.accept("as") {
		f.Alias = p.identifier("the other name")
	}
	p.expect("on", "(")
	for {
		var pair JoinPair
		pair.Column = p.identifier("a column's name")
		p.expect("=")
		pair.Table = p.identifier("the name of what is read")
		p.expect(".")
		pair.Other = p.identifier("a column's name")
		f.On = append(f.On, pair)
		if !p.accept(",") {
			break
		}
	}
	p.expect(")")
	return f
}

func (p *parser) insert(at stmt) Statement {
	s := &Insert{stmt: at, Table: p.qualified("the table's name")}
	s.Columns = p.names("a column's name")
	if !p.accept("values") {
		q := p.query()
		s.Query = &q
		return s
	}
	for {
		row := p.tok.Pos
		p.expect("(")
		list := p.exprList()
		p.expect(")")
		if len(list) != len(s.Columns) {
			p.failAt(row, "", "the row has %d values for %d columns", len(list), len(s.Columns))
		}
		s.Rows = append(s.Rows, list)
		if !p.accept(",") {
			return s
		}
	}
}

func (p *parser) delete(at stmt) Statement {
	s := &Delete{stmt: at, Table: p.qualified("the table's name")}
	if !p.accept("where") {
		p.failf("write where true to delete every row", `"where" is expected here, not %s`, p.tok.shown())
	}
	s.Where = p.expr()
	s.Discard = p.accept("discard")
	return s
}

// native = engine { "," engine } string [ "touching" … ] [ "done" "when" "(" expr ")" ] ( "back"
// string | "no" "way" "back" ) .
func (p *parser) native(at stmt) Statement {
	s := &Native{stmt: at}
	for {
		word := p.tok
		if word.Kind != Word || !slices.Contains(engines, word.Value) {
			p.wanted(engines...)
		}
		s.Engines = append(s.Engines, word.Value)
		p.advance()
		if !p.accept(",") {
			break
		}
	}
	s.SQL = p.text("the engine's statement between $$ marks")
	if p.accept("touching") {
		for {
			s.Touching = append(s.Touching, p.qualified("a table's name"))
			if !p.accept(",") {
				break
			}
		}
	}
	if p.accept("done", "when") {
		s.DoneWhen = p.inParentheses()
	}
	switch {
	case p.accept("back"):
		s.Back = p.text("the statement that takes it back, between $$ marks")
	case p.accept("no", "way", "back"):
		s.NoWayBack = true
	default:
		p.failf("write back $$ … $$, or no way back", `"back" or "no way back" is expected here, not %s`, p.tok.shown())
	}
	return s
}
