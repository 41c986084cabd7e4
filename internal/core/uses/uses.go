// Package uses finds out, as far as a database can tell, which programs still use what an open
// overlap is about to take away.
package uses

import (
	"context"
	"slices"
	"strings"
	"time"

	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// What is known of a use.
const (
	Used    = "used"
	NotSeen = "not seen"    // and it would have been
	Unknown = "cannot tell" // it would not have been seen, or not always
)

// Use is how a name is used that an overlap is about.
type Use struct {
	Version string
	Table   string
	Column  string // "" for the table itself
	// After is set for the name that programs of after use, and LeftOut where it is the inserts that
	// leave the column out which are meant.
	After, LeftOut bool
	Written, Read  string // one of the words above
	Seen           engine.Seen
	same           bool // programs of before and of after use the same name
	By             []By
	view           string // that stands for the table under its old name
}

// By is who uses it.
type By struct {
	Who   string    // "user office with billing", "view fleet"
	SQL   string    // the statement, on one line
	Times int64     // 0 where that was not counted
	Last  time.Time // zero where that is not known
}

// Open is an overlap, and since when it is open.
type Open struct {
	plan.Opened
	Since time.Time
}

// Report is what was found out.
type Report struct {
	Uses   []Use
	Unseen string // why there may be more than was seen; "" where there is not
}

// Before reports whether a program of before was seen.
func (r *Report) Before() bool {
	return slices.ContainsFunc(r.Uses, func(u Use) bool { return !u.After && (u.Written == Used || u.Read == Used) })
}

// Look finds it out. tables are those of the database; nothing is written.
func Look(ctx context.Context, db engine.Onlooker, tables *schema.Schema, open []Open) (*Report, error) {
	out := &Report{}
	asked, unseen, err := db.Asked(ctx)
	if err != nil {
		return nil, err
	}
	out.Unseen = unseen
	code, err := db.Code(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range open {
		for _, u := range named(o) {
			if t := tables.Table(u.Table); t != nil && !u.After && u.Column != "" {
				if u.Seen, err = db.Seen(ctx, t, u.Column); err != nil {
					return nil, err
				}
			}
			u.look(o.Since, asked, unseen == "", code)
			out.Uses = append(out.Uses, u)
			if (u.Written == Unknown || u.Read == Unknown) && out.Unseen == "" {
				out.Unseen = "statements that were counted may have run before the overlap opened, or use it without saying so"
			}
		}
	}
	return out, nil
}

// named lists the names that an overlap is about.
func named(o Open) (list []Use) {
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			list = append(list, Use{Version: o.Version, Table: st.Table.String()})
		case *sqltext.AlterTable:
			use := Use{Version: o.Version, Table: st.Table.String()}
			for _, a := range st.Actions {
				u := use
				switch a := a.(type) {
				case *sqltext.DropColumn:
					u.Column = a.Column
				case *sqltext.AddColumn:
					if plan.Linked(st) {
						u.Column, u.After = a.Column.Name, true
						break
					}
					u.Column, u.LeftOut = a.Column.Name, true
				case *sqltext.SetType:
					if plan.Linked(st) {
						continue // its new name is said by the rename
					}
					u.Column, u.same = a.Column, true
				case *sqltext.RenameTable:
					after := use
					after.Table, after.After, after.view = a.To, true, "view "+st.Table.Name
					list = append(list, u)
					u = after
				case *sqltext.RenameColumn:
					u.Column = a.Column
					after := use
					after.Column, after.After = a.To, true
					list = append(list, u)
					u = after
				}
				list = append(list, u)
			}
		}
	}
	return list
}

// look says of a name how it is used. all means that each statement since the overlap opened would be
// among those that were asked.
func (u *Use) look(since time.Time, asked []engine.Asked, all bool, code []engine.Code) {
	u.Written, u.Read = Unknown, Unknown
	if u.same {
		return
	}
	if all { // those that were counted before it opened tell nothing
		u.Written, u.Read = NotSeen, NotSeen
	}
	if u.Seen.Counted {
		u.Written = NotSeen
	}
	if u.Seen.Times > 0 {
		u.Written = Used
	}
	for _, a := range asked {
		tokens := words(a.SQL)
		named := u.in(tokens)
		if ours(tokens) || !named && !u.implied(tokens) || !a.Last.IsZero() && a.Last.Before(since) {
			continue
		}
		if !named || a.Last.IsZero() && a.Since.Before(since) { // it may be used, or not since
			u.unless(Used, tokens)
			continue
		}
		u.By = append(u.By, By{a.By, line(a.SQL), a.Times, a.Last})
		u.set(Used, tokens)
	}
	for _, c := range code {
		if tokens := words(c.SQL); !u.LeftOut && c.What != u.view && u.in(tokens) {
			u.By = append(u.By, By{Who: c.What})
			u.Read = Used
		}
	}
}

// set says what is known of reads or writes, as a statement is one or the other.
func (u *Use) set(word string, tokens []sqltext.Token) {
	if writes(tokens) {
		u.Written = word
	} else {
		u.Read = word
	}
}

// unless says that it cannot be told, unless the word is known already.
func (u *Use) unless(known string, tokens []sqltext.Token) {
	switch {
	case !writes(tokens) && u.Read != known:
		u.Read = Unknown
	case writes(tokens) && u.Written != known && !u.Seen.Counted:
		u.Written = Unknown
	}
}

// in reports whether a statement uses the name.
func (u *Use) in(tokens []sqltext.Token) bool {
	table := u.Table[strings.LastIndex(u.Table, ".")+1:]
	switch {
	case !speaks(tokens, table):
		return false
	case u.LeftOut:
		return leavesOut(tokens, table, u.Column)
	}
	return u.Column == "" || speaks(tokens, u.Column)
}

// implied reports whether a statement may use the name without saying it: it reads all columns, or
// inserts rows without a list of them.
func (u *Use) implied(tokens []sqltext.Token) bool {
	table := u.Table[strings.LastIndex(u.Table, ".")+1:]
	if u.Column == "" || !speaks(tokens, table) {
		return false
	}
	for i := 1; i < len(tokens); i++ {
		t, before := tokens[i], tokens[i-1]
		all := t.Is("*") && (before.Is("select") || before.Is("distinct") || before.Is(",") || before.Is(".") ||
			before.Is("returning"))
		if all && !u.LeftOut || (t.Is("values") || t.Is("select")) && schema.SameName(before.Value, table) {
			return true
		}
	}
	return false
}

func words(sql string) []sqltext.Token {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	return tokens
}

func speaks(tokens []sqltext.Token, name string) bool {
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && schema.SameName(t.Value, name)
	})
}

// ours reports whether a statement is Lastboard's own.
func ours(tokens []sqltext.Token) bool {
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && strings.HasPrefix(t.Value, engine.Prefix)
	})
}

// writes reports whether a statement writes rows.
func writes(tokens []sqltext.Token) bool {
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return t.Is("insert") || t.Is("update") || t.Is("replace") || t.Is("merge") || t.Is("delete")
	})
}

// leavesOut reports whether a statement inserts rows into a table with a list of columns that lacks
// one.
func leavesOut(tokens []sqltext.Token, table, column string) bool {
	for i, t := range tokens {
		if !t.Is("into") || i+1 >= len(tokens) {
			continue
		}
		j := i + 1
		for j+2 < len(tokens) && tokens[j+1].Is(".") {
			j += 2
		}
		if !schema.SameName(tokens[j].Value, table) || j+1 >= len(tokens) || !tokens[j+1].Is("(") {
			continue
		}
		for j += 2; j < len(tokens) && !tokens[j].Is(")"); j++ {
			if schema.SameName(tokens[j].Value, column) {
				return false
			}
		}
		return true
	}
	return false
}

// line gives a statement on one line.
func line(sql string) string { return strings.Join(strings.Fields(sql), " ") }
