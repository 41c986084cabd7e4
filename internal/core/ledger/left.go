package ledger

import (
	"context"
	"encoding/json"
	"os"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Left lists what Lastboard has made for itself and is of no use any more: nothing that is
// kept needs it, and no migration that has stopped in its middle. unfinished lists what
// such a one needs, if there is one: it goes with its end.
func (l *Ledger) Left(ctx context.Context) (left, unfinished []engine.OwnObject, err error) {
	own, err := l.db.Own(ctx)
	if err != nil {
		return nil, nil, err
	}
	kept, _, err := l.Kept(ctx)
	if err != nil {
		return nil, nil, err
	}
	known, err := l.Migrations(ctx)
	if err != nil {
		return nil, nil, err
	}
	stopped := slices.ContainsFunc(known, func(m *Migration) bool { return m.State == Running || m.State == Stopped })
	for _, o := range own {
		needed := Owns(o.Name) || slices.ContainsFunc(kept, func(k Kept) bool {
			return o.Name == k.Keeping.Kept || strings.HasPrefix(o.Name, k.Keeping.Kept+"_")
		})
		open := slices.ContainsFunc(known, func(m *Migration) bool { return m.State == Open })
		switch {
		case needed, o.Mirrors && open:
		case !o.Refuses.IsZero():
			left = append(left, o) // of a trial: whoever lives and makes it has the claim
		case stopped && !o.Copy:
			unfinished = append(unfinished, o)
		default:
			left = append(left, o)
		}
	}
	return left, unfinished, nil
}

// Doubtful names the triggers that let kept values follow their rows and are not as they were
// made, by the table of kept values: rows may have gone since without what was kept of them,
// and others may have come with their keys.
func (l *Ledger) Doubtful(ctx context.Context, e engine.Planner) (map[string][]string, error) {
	own, err := l.db.Own(ctx)
	if err != nil {
		return nil, err
	}
	kept, _, err := l.Kept(ctx)
	if err != nil {
		return nil, err
	}
	known, err := l.Migrations(ctx)
	if err != nil {
		return nil, err
	}
	models, err := l.Models(ctx)
	if err != nil {
		return nil, err
	}
	doubtful := map[string][]string{}
	for _, k := range kept {
		stopped := slices.ContainsFunc(known, func(m *Migration) bool {
			return m.Version == k.Version && (m.State == Running || m.State == Stopped)
		})
		if !k.Keeping.Followed || stopped {
			continue
		}
		var off []string
		there := false
		followers := e.Followers(k.Keeping.Kept)
		for _, o := range own { // one that a trigger of its name has to call
			if o.Kind == "function" && strings.HasPrefix(o.Name, k.Keeping.Kept+"_") && !slices.Contains(followers, o.Name) {
				followers = append(followers, o.Name)
			}
		}
		for _, name := range followers {
			i := slices.IndexFunc(own, func(o engine.OwnObject) bool { return o.Kind == "trigger" && o.Name == name })
			there = there || i >= 0
			if i < 0 || own[i].Off {
				off = append(off, name)
			}
		}
		if len(off) > 0 && (there || models[Model{"table", strings.ToLower(nowCalled(k, known))}] != "") {
			doubtful[k.Keeping.Kept] = off // else they went with their table
		}
	}
	return doubtful, nil
}

// nowCalled gives the name that the table has since, of which something is kept; "" where it
// was dropped.
func nowCalled(k Kept, known []*Migration) string {
	name := k.Keeping.Table
	for _, m := range known {
		again := k.Direction == Retreat && m.AdvancedAt >= k.At // it has made tables anew since
		if m.Version < k.Version && !again || m.State == Running || m.State == Stopped {
			continue
		}
		var changes []struct {
			Table *struct{ Before, After *struct{ Name string } }
		}
		if json.Unmarshal(m.Changes, &changes) != nil {
			return "" // of which audit speaks
		}
		for i, c := range changes {
			switch {
			case c.Table != nil && c.Table.Before == nil && c.Table.After != nil && schema.SameName(c.Table.After.Name, name):
				return "" // a table of that name that was there before has gone
			case c.Table == nil || c.Table.Before == nil || !schema.SameName(c.Table.Before.Name, name) ||
				m.Version == k.Version && i < k.Keeping.Statement:
			case c.Table.After == nil:
				return ""
			default:
				name = c.Table.After.Name
			}
		}
	}
	return name
}

// Passing reports whether something that is left holds nothing that anybody could miss, so
// that the next run may take it away: not a table of kept values, nor one whose name says
// nothing, as of a copy that somebody has made of the ledger.
func Passing(o engine.OwnObject) bool {
	return o.Kind != "table" || strings.HasPrefix(o.Name, engine.Prefix+"csv_")
}

// KeptValues reports whether something is a table of kept values.
func KeptValues(o engine.OwnObject) bool {
	return o.Kind == "table" && strings.HasPrefix(o.Name, engine.Prefix+"kept_")
}

// Dead gives the runner whose record is there still though it has died; nil if there is
// none.
func (l *Ledger) Dead(ctx context.Context) (*Runner, error) {
	r, err := runner(ctx, l.db.Query)
	if err != nil || r == nil || l.lives(r) {
		return nil, err
	}
	return r, nil
}

// lives reports whether a runner that is recorded is at work. Its claim tells, where it can
// be seen; else how long it has been silent.
func (l *Ledger) lives(r *Runner) bool {
	host, err := os.Hostname()
	if err == nil && r.Host == host || l.db.Info().Host != "" {
		return l.db.Claimed()
	}
	return !r.silent()
}
