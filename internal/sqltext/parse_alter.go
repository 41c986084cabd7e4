package sqltext

// alterTable = table action { "," action } .
func (p *parser) alterTable(at stmt) Statement {
	s := &AlterTable{stmt: at, Table: p.qualified("the table's name")}
	for {
		s.Actions = append(s.Actions, p.action())
		if !p.accept(",") {
			return s
		}
	}
}

// action = add … | drop … | rename … | alter … | rebuild .
func (p *parser) action() Action {
	at := stmt{p.tok.Pos}
	switch {
	case p.accept("add"):
		if p.constraintAhead() {
			return &AddConstraint{at, p.constraint()}
		}
		p.columnWord()
		a := &AddColumn{stmt: at, Column: p.column()}
		if p.accept("using") {
			a.Using = p.inParentheses()
		}
		return a
	case p.accept("drop"):
		return p.drop(at)
	case p.accept("rename"):
		return p.rename(at)
	case p.accept("alter"):
		p.columnWord("set", "type", "drop", "add", "restart")
		return p.alterColumn(at, p.identifier("a column's name"))
	case p.accept("rebuild"):
		return &Rebuild{at}
	}
	p.foreign(foreignActions)
	p.wanted("add", "drop", "rename", "alter", "rebuild")
	return nil
}

func (p *parser) drop(at stmt) Action {
	switch {
	case p.accept("constraint"):
		return &DropConstraint{at, p.identifier("the constraint's name")}
	case p.accept("primary", "key"):
		return &DropPrimaryKey{at}
	}
	p.columnWord("restore", "discard")
	a := &DropColumn{stmt: at, Column: p.identifier("a column's name")}
	a.Restore = p.restore()
	a.Discard = p.accept("discard")
	return a
}

func (p *parser) rename(at stmt) Action {
	if p.accept("to") {
		return &RenameTable{at, p.identifier("the new name")}
	}
	if p.accept("constraint") {
		n := p.identifier("the constraint's name")
		p.expect("to")
		return &RenameConstraint{at, n, p.identifier("the new name")}
	}
	p.columnWord("to")
	n := p.identifier("a column's name")
	p.expect("to")
	return &RenameColumn{at, n, p.identifier("the new name")}
}

func (p *parser) restore() Expr {
	if p.accept("restore", "using") {
		return p.inParentheses()
	}
	return nil
}

// alterColumn = "set" … | "drop" … | "add" identity | "restart" "with" number .
func (p *parser) alterColumn(at stmt, column string) Action {
	switch {
	case p.accept("set", "data", "type"), p.accept("type"):
		a := &SetType{stmt: at, Column: column, Type: p.parseType()}
		if p.accept("using") {
			a.Using = p.inParentheses()
		}
		a.Restore = p.restore()
		a.Discard = p.accept("discard")
		return a
	case p.accept("set", "default"):
		return &SetDefault{at, column, p.primaryOrSigned()}
	case p.accept("set", "not", "null"):
		a := &SetNotNull{stmt: at, Column: column}
		if p.accept("using") {
			a.Using = p.inParentheses()
		}
		return a
	case p.accept("set", "expression", "as"):
		return &SetExpression{at, column, p.inParentheses()}
	case p.accept("set", "on", "update", "current_timestamp"):
		return &SetOnUpdate{at, column, true}
	case p.accept("set", "position"):
		return &SetPosition{at, column, p.place()}
	case p.accept("drop", "default"):
		return &SetDefault{at, column, nil}
	case p.accept("drop", "not", "null"):
		return &DropNotNull{at, column}
	case p.accept("drop", "expression"):
		return &SetExpression{at, column, nil}
	case p.accept("drop", "on", "update"):
		return &SetOnUpdate{at, column, false}
	case p.accept("drop", "identity"):
		return &SetIdentity{at, column, nil}
	case p.accept("add"):
		return &SetIdentity{at, column, p.identity()}
	case p.accept("restart", "with"):
		return &Restart{at, column, p.integer("a whole number")}
	case p.accept("set"):
		p.wanted("data type", "default", "not null", "expression", "on update", "position")
	case p.accept("drop"):
		p.wanted("default", "not null", "expression", "on update", "identity")
	}
	p.wanted("set", "drop", "add", "restart")
	return nil
}

// place = "first" | "after" name [ "rebuild" ] .
func (p *parser) place() Place {
	var place Place
	if !p.accept("first") {
		p.expect("after")
		place.After = p.identifier("a column's name")
	}
	place.Rebuild = p.accept("rebuild")
	return place
}
