package view

import (
	"fmt"
	"strings"
	"time"

	"lastboard/internal/core/uses"
)

// UseJSON is how a name is used that an open overlap is about, for scripts.
type UseJSON struct {
	Version string   `json:"version"`
	Table   string   `json:"table"`
	Column  string   `json:"column"` // "" for the table itself
	Shape   string   `json:"shape"`  // "before" or "after"
	LeftOut bool     `json:"left_out"`
	Written string   `json:"written"` // "used", "not seen" or "cannot tell"
	Read    string   `json:"read"`
	Writes  *int64   `json:"writes"` // null where nothing counts
	Last    *string  `json:"last_written"`
	By      []UserOf `json:"by"`
}

// UserOf is who uses it, for scripts.
type UserOf struct {
	Who   string  `json:"who"`
	SQL   string  `json:"sql"`
	Times int64   `json:"times"` // 0 where that was not counted
	Last  *string `json:"last"`
}

// UsesJSON gives a report for scripts.
func UsesJSON(r *uses.Report) map[string]any {
	list := []UseJSON{}
	for _, u := range r.Uses {
		out := UseJSON{Version: u.Version, Table: u.Table, Column: u.Column, Shape: "before", LeftOut: u.LeftOut,
			Written: u.Written, Read: u.Read, By: []UserOf{}}
		if u.After {
			out.Shape = "after"
		}
		if u.Seen.Counted {
			out.Writes, out.Last = &u.Seen.Times, moment(u.Seen.Last)
		}
		for _, b := range u.By {
			out.By = append(out.By, UserOf{b.Who, b.SQL, b.Times, moment(b.Last)})
		}
		list = append(list, out)
	}
	return map[string]any{"uses": list, "used": r.Before(), "unseen": r.Unseen}
}

// moment writes a time for scripts; nil where it is not known.
func moment(t time.Time) *string {
	if t.IsZero() {
		return nil
	}
	s := t.UTC().Format(time.RFC3339)
	return &s
}

// mostUsers is how many users of a name are shown.
const mostUsers = 5

// Uses writes who still uses what overlaps are about to take away.
func (p *Printer) Uses(r *uses.Report) {
	var rows [][]string
	unknown := false
	for _, u := range r.Uses {
		written := u.Written
		if u.Seen.Times > 0 {
			written = Plural(int(u.Seen.Times), "time", "times")
			if !u.Seen.Last.IsZero() {
				written += ", last " + clock(u.Seen.Last)
			}
		}
		unknown = unknown || u.Written == uses.Unknown || u.Read == uses.Unknown
		rows = append(rows, []string{u.Version, useWords(u), written, u.Read})
	}
	p.Table([]string{"version", "what", "written", "read"}, rows)
	for _, u := range r.Uses {
		if len(u.By) == 0 {
			continue
		}
		p.Line("")
		p.Line("%s:", useWords(u))
		for i, b := range u.By {
			if i == mostUsers {
				p.Line("  and %d more", len(u.By)-i)
				break
			}
			p.Hanging("  by ", userWords(b))
		}
	}
	if unknown && r.Unseen != "" {
		p.Line("")
		p.Hanging("cannot tell: ", r.Unseen)
	}
	p.Line("")
	switch {
	case r.Before():
		p.Line("%s programs of before are still there: settle once they are gone", warn.Render("used:"))
	case unknown:
		p.Line("no program of before was seen, as far as can be told")
	default:
		p.Line("%s no program of before was seen", good.Render("free:"))
	}
}

// useWords names what is used: "column port of vessel".
func useWords(u uses.Use) string {
	switch {
	case u.Column == "" && u.After:
		return "table " + u.Table + ", the new name"
	case u.Column == "":
		return "table " + u.Table
	case u.LeftOut:
		return "inserts into " + u.Table + " without " + u.Column
	case u.After:
		return "column " + u.Column + " of " + u.Table + ", the new name"
	}
	return "column " + u.Column + " of " + u.Table
}

func userWords(b uses.By) string {
	words := []string{b.Who}
	if b.Times > 0 {
		words = append(words, Plural(int(b.Times), "time", "times"))
	}
	if !b.Last.IsZero() {
		words = append(words, "last "+clock(b.Last))
	}
	text := strings.Join(words, ", ")
	if b.SQL != "" {
		text += fmt.Sprintf(": %s", short(b.SQL))
	}
	return text
}

// clock writes a time to the second.
func clock(t time.Time) string { return t.UTC().Format(time.DateTime) + " UTC" }

// longestShown is how much of a statement is shown, in runes.
const longestShown = 160

func short(sql string) string {
	if runes := []rune(sql); len(runes) > longestShown {
		return string(runes[:longestShown]) + " …"
	}
	return sql
}

// Trial says that programs of before are refused what they write to a table.
func (p *Printer) Trial(table string, until time.Time) {
	p.Line("%s what programs of before write to %s is refused until %s (lastboard settle --trial off ends it)",
		warn.Render("trial:"), table, clock(until))
}
