package planning

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/sqltext"
)

// Native says which statements of an engine's own may be tried where they are thrown away:
// those that only define something, whose names all lie there. All others could reach
// outside: a select may call what moves a sequence, writes a file or asks another server.
type Native struct {
	// Creates, Alters and Drops are the kinds of object whose definitions run nothing.
	Creates, Alters, Drops []string
	// Never are words with which a definition reaches outside or runs something.
	Never []string
	// There reports whether a name is that of a table or view in the place of the trial.
	There func(name string) bool
	// Harmless are statements that may be tried although they define nothing.
	Harmless []string
	// Place reports whether a qualifier stands for a place of the trial; nil means none does.
	Place func(qualifier string) bool
}

// bodies are kinds of object whose text is not run when it is defined, whatever it names.
var bodies = []string{"function", "procedure", "trigger", "view"}

// Untried says why a statement may not be tried; "" when it may.
func (n Native) Untried(sql string) string {
	if slices.Contains(n.Harmless, sql) {
		return ""
	}
	all, comments := sqltext.Scan(sql, sqltext.Engine)
	for _, c := range comments {
		if !strings.HasPrefix(c.Text, "-- ") || strings.Contains(c.Text, "/*") {
			return "it holds a comment that an engine may read as more than that"
		}
	}
	tokens := slices.DeleteFunc(all, func(t sqltext.Token) bool { return t.Kind == sqltext.EOF })
	if len(tokens) == 0 {
		return ""
	}
	verb := strings.ToLower(tokens[0].Value)
	kinds := map[string][]string{"create": n.Creates, "alter": n.Alters, "drop": n.Drops, "comment": n.Alters}[verb]
	at := kindAt(tokens, kinds)
	if at < 0 {
		return "it is no definition of something that could be tried on an empty copy"
	}
	kind := strings.ToLower(tokens[at].Value)
	for i, t := range tokens {
		word := strings.ToLower(t.Value)
		switch {
		case t.Kind == sqltext.Word && slices.Contains(n.Never, word):
			return "it says " + word + ", which could reach beyond an empty copy"
		case i > 0 && tokens[i-1].Is("language") && word != "sql" && word != "plpgsql":
			return "it is in the language " + word
		case t.Kind == sqltext.Illegal || strings.Contains(t.Text, `\\`) && !strings.HasPrefix(t.Text, "$"):
			return "it holds a character that an engine may read in another way"
		}
	}
	until := len(tokens)
	if slices.Contains(bodies, kind) {
		until = n.head(tokens, at, kind)
	} else if why := queries(tokens); why != "" {
		return why
	}
	for i := 1; i+1 < until; i++ {
		if tokens[i].Is(".") && named(tokens[i-1]) && named(tokens[i+1]) && (n.Place == nil || !n.Place(tokens[i-1].Value)) &&
			!n.There(tokens[i-1].Value) {
			return "it names something in another place: " + tokens[i-1].Value + "." + tokens[i+1].Value
		}
	}
	return n.target(tokens, at, verb, kind)
}

// kindAt gives where the kind of object stands that is defined; -1 where what is defined is
// of no such kind.
func kindAt(tokens []sqltext.Token, kinds []string) int {
	modifiers := []string{"or", "replace", "unique", "constraint", "definer", "=", "@", "current_user", "sql", "security",
		"invoker", "algorithm", "merge", "undefined", "on"}
	for i := 1; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.Kind == sqltext.Word && slices.Contains(kinds, strings.ToLower(t.Value)):
			return i
		case slices.ContainsFunc(modifiers, t.Is), tokens[i-1].Is("="), tokens[i-1].Is("@"):
		default:
			return -1
		}
	}
	return -1
}

// queries refuses a definition that runs a query.
func queries(tokens []sqltext.Token) string {
	for _, t := range tokens {
		if t.Is("select") || t.Is("execute") || t.Is("call") || t.Is("default") && tokens[0].Is("alter") || t.Is("using") &&
			tokens[0].Is("alter") {
			return "it runs an expression or a query"
		}
	}
	return ""
}

// head gives where the part of a definition ends that the engine looks at when it is made.
func (n Native) head(tokens []sqltext.Token, at int, kind string) int {
	for i := at + 1; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case kind == "trigger" && (t.Is("begin") || t.Is("when") || t.Is("each")), kind == "view" && t.Is("as"),
			(kind == "function" || kind == "procedure") && t.Is("("):
			return i
		}
	}
	return len(tokens)
}

// target refuses a statement whose own table is none of the trial's.
func (n Native) target(tokens []sqltext.Token, at int, verb, kind string) string {
	name := ""
	last := func(from int) string { // the last part of the name that begins there
		for from+2 < len(tokens) && tokens[from+1].Is(".") {
			from += 2
		}
		if from < len(tokens) {
			return tokens[from].Value
		}
		return ""
	}
	next := at + 1
	for next < len(tokens) && (tokens[next].Is("if") || tokens[next].Is("exists") || tokens[next].Is("not") ||
		tokens[next].Is("only")) {
		next++
	}
	on := slices.IndexFunc(tokens[at:], func(t sqltext.Token) bool { return t.Is("on") })
	switch {
	case kind == "table" && verb != "create", kind == "view" && verb != "create":
		name = last(next)
	case kind == "column" && next+2 < len(tokens): // comment on column t.c
		name = tokens[next].Value
		if next+4 < len(tokens) && tokens[next+3].Is(".") {
			name = tokens[next+2].Value
		}
	case on >= 0 && (kind == "trigger" || kind == "index" || kind == "policy" || kind == "rule"):
		name = last(at + on + 1)
		if strings.EqualFold(name, "only") {
			name = last(at + on + 2)
		}
		if kind == "rule" { // on insert to t
			to := slices.IndexFunc(tokens[at:], func(t sqltext.Token) bool { return t.Is("to") })
			if to < 0 {
				return "its table could not be found in it"
			}
			name = last(at + to + 1)
		}
	case verb == "create":
		return n.others(tokens, at, kind)
	default:
		return "it changes something of which the trial has no copy"
	}
	if !n.There(name) {
		return "the trial has no copy of " + name
	}
	return ""
}

// others refuses a new table that is made like another, or under one, which is none of the trial's.
func (n Native) others(tokens []sqltext.Token, at int, kind string) string {
	if kind != "table" {
		return ""
	}
	for i := at + 1; i+1 < len(tokens); i++ {
		next := i + 1
		switch {
		case tokens[i].Is("inherits") && tokens[next].Is("("):
			next++
		case tokens[i].Is("references"), tokens[i].Is("like"), tokens[i].Is("of"):
		default:
			continue
		}
		for next+2 < len(tokens) && tokens[next+1].Is(".") {
			next += 2
		}
		if next < len(tokens) && named(tokens[next]) && !n.There(tokens[next].Value) {
			return "the trial has no copy of " + tokens[next].Value
		}
	}
	return ""
}

func named(t sqltext.Token) bool { return t.Kind == sqltext.Word || t.Kind == sqltext.Quoted }

// UntriedStep notes in a step of native statements why it may not be tried; false when it
// may.
func (n Native) UntriedStep(s *engine.Step) bool {
	if !s.Native {
		return false
	}
	for _, sql := range s.SQL {
		if why := n.Untried(sql); why != "" {
			s.Untried = why
			return true
		}
	}
	return false
}
