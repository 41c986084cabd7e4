package sqltext

import (
	"maps"
	"slices"
	"strconv"
	"strings"
)

// typeArgs tells how many numbers in parentheses each portable type takes.
var typeArgs = map[string]struct{ min, max int }{
	"tinyint": {}, "smallint": {}, "integer": {}, "bigint": {},
	"numeric": {0, 2}, "real": {}, "double precision": {}, "boolean": {},
	"char": {0, 1}, "varchar": {1, 1}, "text": {},
	"date": {}, "time": {}, "timestamp": {}, "timestamp with time zone": {},
	"binary": {0, 1}, "varbinary": {1, 1}, "blob": {}, "uuid": {}, "json": {}, "enum": {},
}

// typeSynonyms are spellings that are accepted and printed in the canonical form.
var typeSynonyms = map[string]string{
	"int": "integer", "int4": "integer", "int2": "smallint", "int8": "bigint",
	"decimal": "numeric", "dec": "numeric", "bool": "boolean",
	"float": "double precision", "float8": "double precision", "double": "double precision", "float4": "real",
	"character": "char", "character varying": "varchar", "char varying": "varchar",
	"datetime": "timestamp", "timestamptz": "timestamp with time zone",
	"timestamp without time zone": "timestamp", "time without time zone": "time",
	"bytea": "blob",
}

// longTypes are the type names of more than one word, longest first.
var longTypes = [][]string{
	{"timestamp", "without", "time", "zone"}, {"timestamp", "with", "time", "zone"}, {"time", "without", "time", "zone"},
	{"double", "precision"}, {"character", "varying"}, {"char", "varying"},
}

// TypeNames lists the portable types, sorted.
func TypeNames() []string {
	names := make([]string, 0, len(typeArgs))
	for n := range typeArgs {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// IsInteger reports whether the type is one of whole numbers.
func (t Type) IsInteger() bool {
	return !t.Native && (t.Name == "tinyint" || t.Name == "smallint" || t.Name == "integer" || t.Name == "bigint")
}

// IsText reports whether the type holds characters.
func (t Type) IsText() bool {
	return !t.Native && (t.Name == "char" || t.Name == "varchar" || t.Name == "text" || t.Name == "enum")
}

// Equal reports whether two types are the same; positions do not count.
func (t Type) Equal(u Type) bool {
	if t.Native && u.Native {
		return t.Whole() == u.Whole()
	}
	return t.Name == u.Name && t.Native == u.Native && t.Unsigned == u.Unsigned &&
		slices.Equal(t.Args, u.Args) && slices.Equal(t.Values, u.Values)
}

// Whole gives the type so that two spellings of a native one are the same: an engine may give
// its numbers as a part of the name.
func (t Type) Whole() string {
	if t.Native && len(t.Values) == 0 && len(t.Args) == 0 {
		if whole, ok := ParseType(t.Name); ok && whole.Native {
			return whole.String()
		}
	}
	return t.String()
}

// NearestType gives the type of the language of which a name is most likely a misspelling.
func NearestType(name string) (string, bool) {
	return Nearest(name, slices.Concat(TypeNames(), slices.Sorted(maps.Keys(typeSynonyms))))
}

// String gives the type in its canonical spelling.
func (t Type) String() string {
	var b strings.Builder
	if t.Native {
		b.WriteString(printNativeType(t.Name))
	} else {
		b.WriteString(t.Name)
	}
	switch {
	case len(t.Values) > 0:
		b.WriteByte('(')
		for i, v := range t.Values {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(quoteString(v))
		}
		b.WriteByte(')')
	case len(t.Args) > 0:
		b.WriteByte('(')
		for i, a := range t.Args {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteString(strconv.Itoa(a))
		}
		b.WriteByte(')')
	}
	if t.Unsigned {
		b.WriteString(" unsigned")
	}
	return b.String()
}

// ParseType reads a type on its own, such as one that an engine has stored.
func ParseType(text string) (Type, bool) {
	p := newParser("", text, Migration)
	var t Type
	ok := p.try(func() {
		t = p.parseType()
		p.expectEnd()
	})
	t.Pos = Pos{}
	return t, ok
}

// parseType = name [ "(" number { "," number } | string { "," string } ")" ] [ "unsigned" ] .
func (p *parser) parseType() Type {
	t := Type{Pos: p.tok.Pos}
	switch {
	case p.tok.Kind == Quoted && p.tok.Value != "":
		t.Name, t.Native = p.tok.Value, true
		p.advance()
	case p.tok.Kind == Word && !Reserved(p.tok.Value):
		t.Name = p.typeName()
		if full, ok := typeSynonyms[t.Name]; ok {
			t.Name = full
		}
		_, portable := typeArgs[t.Name]
		t.Native = !portable
	default:
		p.failf("", "a type is expected here, not %s", p.tok.shown())
	}
	at := p.tok.Pos
	if p.tok.Is("(") {
		p.advance()
		for !(t.Name == "enum" && p.tok.Is(")")) {
			if p.tok.Kind == String {
				t.Values = append(t.Values, p.tok.Value)
				p.advance()
			} else {
				t.Args = append(t.Args, int(p.integer("a number")))
			}
			if !p.accept(",") {
				break
			}
		}
		p.expect(")")
	}
	if p.accept("unsigned") {
		t.Unsigned = true
	}
	p.checkType(t, at)
	return t
}

// typeName reads one word, or the longest of the known names of several words.
func (p *parser) typeName() string {
	for _, words := range longTypes {
		if p.ahead(words...) {
			for range words {
				p.advance()
			}
			return strings.Join(words, " ")
		}
	}
	name := p.tok.Value
	p.advance()
	return name
}

func (p *parser) checkType(t Type, at Pos) {
	if t.Native {
		return
	}
	want := typeArgs[t.Name]
	switch {
	case t.Name == "enum" && (len(t.Values) == 0 || len(t.Args) > 0):
		p.failAt(at, "write enum('a', 'b')", "an enum lists its values as strings")
	case t.Name != "enum" && len(t.Values) > 0:
		p.failAt(at, "", "type %s does not take strings", t.Name)
	case len(t.Args) < want.min:
		p.failAt(at, "write "+t.Name+"(40), or text for any length", "type %s needs a length", t.Name)
	case len(t.Args) > want.max:
		p.failAt(at, "", "type %s takes at most %d numbers", t.Name, want.max)
	case t.Name == "numeric" && len(t.Args) == 2 && t.Args[1] > t.Args[0]:
		p.failAt(at, "the first number is all digits, the second those after the point",
			"type %s has more digits after the point than in all", t)
	case len(t.Args) > 0 && t.Args[0] == 0:
		p.failAt(at, "", "type %s cannot have length 0", t.Name)
	case t.Unsigned && !t.IsInteger():
		p.failAt(t.Pos, "", "only integer types can be unsigned")
	}
	for i, v := range t.Values {
		if slices.Contains(t.Values[:i], v) {
			p.failAt(at, "", "the enum names %s twice", quoteString(v))
		}
	}
}

// printNativeType quotes the name of a native type that would be read as a
// portable one.
func printNativeType(name string) string {
	_, portable := typeArgs[name]
	_, synonym := typeSynonyms[name]
	if portable || synonym {
		return `"` + name + `"`
	}
	return printName(name)
}
