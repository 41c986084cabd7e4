package view

import (
	"lastboard/internal/engine"
)

// StandingJSON is how one thing stands, for scripts.
type StandingJSON struct {
	What  string `json:"what"`
	State string `json:"state"` // "good", "look" or "wrong"
	Found string `json:"found"`
	Cure  string `json:"cure"`
}

var levelWords = map[engine.Level]string{engine.Good: "good", engine.Look: "look", engine.Wrong: "wrong"}

// StandingsJSON gives how everything stands, for scripts.
func StandingsJSON(list []engine.Standing) []StandingJSON {
	out := []StandingJSON{}
	for _, s := range list {
		out = append(out, StandingJSON{s.What, levelWords[s.Level], s.Found, s.Cure})
	}
	return out
}

// Ready writes how everything stands on which a run depends, and what it comes to.
func (p *Printer) Ready(list []engine.Standing) {
	width, look, wrong := 0, 0, 0
	for _, s := range list {
		width = max(width, len(s.What))
		switch s.Level {
		case engine.Look:
			look++
		case engine.Wrong:
			wrong++
		}
	}
	for i, s := range list {
		style, word := good, levelWords[s.Level]
		switch s.Level {
		case engine.Look:
			style = warn
		case engine.Wrong:
			style = bad
		}
		what := s.What
		if i > 0 && list[i-1].What == what {
			what = ""
		}
		p.Hanging("  "+pad(what, width)+"  "+style.Render(pad(word, 5))+"  ", s.Found)
		if s.Cure != "" {
			p.Hanging(pad("", width+11), "cure: "+s.Cure)
		}
	}
	p.Line("")
	switch {
	case wrong > 0:
		p.Line("%s %s in the way", bad.Render("not ready:"), Plural(wrong, "thing stands", "things stand"))
	case look > 0:
		p.Line("%s, with %s to look at", good.Render("ready"), Plural(look, "thing", "things"))
	default:
		p.Line("%s", good.Render("ready"))
	}
}
