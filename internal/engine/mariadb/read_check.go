package mariadb

import (
	"context"
	"strings"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// columnLevel is a check that stands in a column's own definition.
type columnLevel struct {
	table  *schema.Table
	column string
	text   string
}

// placeChecks finds the columns in whose definitions checks stand. The server names such
// a check after its column, but by the name that this had when the check came: so it is
// the one column that the check uses, and where it uses several, the server is asked.
func (r *reader) placeChecks(ctx context.Context) error {
	shown := map[*schema.Table]string{}
	for i := range r.checks {
		k := &r.checks[i]
		var uses []string
		for _, c := range k.table.Columns {
			if (&schema.Expr{Native: k.text}).Mentions(c.Name) {
				uses = append(uses, c.Name)
			}
		}
		if len(uses) == 1 {
			k.column = uses[0]
			continue
		}
		if shown[k.table] == "" {
			rows, err := r.query(ctx, "show create table "+quote(r.database)+"."+quote(k.table.Name))
			if err != nil {
				return err
			}
			shown[k.table] = ansi(text(rows.Values[0][1]))
		}
		at := strings.Index(shown[k.table], " CHECK ("+k.text+")")
		if at < 0 {
			continue
		}
		last := -1
		for _, c := range k.table.Columns {
			if n := strings.LastIndex(shown[k.table][:at], "\n  "+quote(c.Name)+" "); n > last {
				k.column, last = c.Name, n
			}
		}
		shown[k.table] = shown[k.table][:at] + shown[k.table][at+1:] // another column may have the same
	}
	return nil
}

// takeCheck gives the check of a column what it stands for.
func takeCheck(k columnLevel) {
	c := k.table.Column(k.column)
	if c == nil {
		return
	}
	for _, part := range splitChecks(k.text) {
		switch words := schema.Words(part.text); {
		case part.name != "":
			k.table.Checks = append(k.table.Checks, &schema.Check{Name: part.name, Expr: schema.Expr{Native: part.text},
				Column: c.Name})
		case c.Declared == "" && words == schema.Words(limit(sqltext.Type{Name: "json"}, c.Name)) && c.Type.Name == "text":
			c.Type, c.Limit = sqltext.Type{Name: "json"}, c.Name
			if c.Collate == "utf8mb4_bin" {
				c.Collate = ""
			}
		case words != "" && words == schema.Words(limit(c.Type, c.Name)):
			c.Limit = c.Name
		default:
			k.table.Checks = append(k.table.Checks, &schema.Check{
				Name: schema.ConstraintName(k.table, []string{c.Name}, "check"), Expr: schema.Expr{Native: part.text},
				Implied: true, Column: c.Name,
			})
		}
	}
}

// carried is a check out of a column's definition, with the name that it carries.
type carried struct{ name, text string }

// splitChecks parts the check of a column's definition, in the server's words, into those
// that it was made of. What carries no name comes first, if there is any.
func splitChecks(text string) []carried {
	if !strings.Contains(text, literal(namePrefix)[:len(namePrefix)+1]) {
		return []carried{{text: text}}
	}
	var list []carried
	add := func(part string) {
		tokens, _ := sqltext.Scan(part, sqltext.Engine)
		if len(tokens) > 3 && tokens[0].Kind == sqltext.String && strings.HasPrefix(tokens[0].Value, namePrefix) &&
			tokens[1].Is("<>") && tokens[2].Value == "" {
			list = append(list, carried{name: strings.TrimPrefix(tokens[0].Value, namePrefix)})
			return
		}
		if len(list) == 0 {
			list = append(list, carried{})
		}
		last := &list[len(list)-1]
		if last.text != "" {
			part = last.text + " and " + part
		}
		last.text = part
	}
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	start, depth, ranges := 0, 0, 0
	for _, t := range tokens {
		switch {
		case t.Is("("), t.Is("case"):
			depth++
		case t.Is(")"), t.Is("end"):
			depth--
		case depth > 0:
		case t.Is("between"):
			ranges++
		case t.Is("and") && ranges > 0:
			ranges--
		case t.Is("and"):
			add(strings.TrimSpace(text[start:t.Pos.Offset]))
			start = t.End()
		}
	}
	add(strings.TrimSpace(text[start:]))
	for i := range list {
		list[i].text = unwrapped(list[i].text)
	}
	return list
}

// unwrapped takes off parentheses that stand around the whole of a text.
func unwrapped(text string) string {
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	if len(tokens) < 3 || !tokens[0].Is("(") {
		return text
	}
	depth := 0
	for i, t := range tokens {
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		}
		if depth == 0 {
			if i == len(tokens)-2 { // the end of the text is a token, too
				return strings.TrimSpace(text[tokens[0].End():t.Pos.Offset])
			}
			return text
		}
	}
	return text
}
