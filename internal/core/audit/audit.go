// Package audit compares the tables of a database with what the migrations that ran
// say they are, attribute by attribute, and the ledger with the files. It changes
// nothing.
package audit

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Finding is a difference and what would mend it.
type Finding struct {
	schema.Difference
	// Mend is the engine's own statements, for the table as a whole; or what to do, in
	// words. "" where only a person can say.
	Mend string `json:"mend"`
}

// Input is what an audit looks at.
type Input struct {
	Engine engine.Engine
	DB     engine.Database
	Ledger *ledger.Ledger
	Files  []*migration.Migration
	Known  []*ledger.Migration
}

// Run gives every difference; none when all is as it should be.
func Run(ctx context.Context, in Input) ([]Finding, error) {
	expected, err := in.Ledger.Tables(ctx)
	if err != nil {
		return nil, err
	}
	found, err := in.DB.Schema(ctx)
	if err != nil {
		return nil, err
	}
	list := []Finding{}
	mends := map[string]string{}
	between := in.betweenShapes()
	differences := schema.Compare(expected, found, in.Engine.Text)
	for _, d := range differences {
		if k := between[strings.ToLower(d.Table)]; k != nil {
			list = append(list, Finding{d, "migration " + k.Version + " is in its middle: lastboard " + k.Direction +
				" goes on with it"})
			continue
		}
		if d.Object == "trigger" {
			list = append(list, Finding{d, in.mendTrigger(expected.Table(d.Table), d)})
			continue
		}
		key := d.Object + d.Table
		if d.Object != "view" {
			key = d.Table
		}
		mend, known := mends[key]
		if !known {
			mend = in.mend(expected, found, d)
			if strings.Contains(mend, "drop ") && slices.ContainsFunc(differences, func(o schema.Difference) bool {
				return o.Table == d.Table && loses(o)
			}) {
				mend = "-- This drops values that are kept nowhere: what is needed of them has to be brought elsewhere first.\n" +
					mend
			}
			mends[key] = mend
		}
		list = append(list, Finding{d, mend})
	}
	list = append(list, in.files()...)
	own, err := in.ledgerItself(ctx)
	if err != nil {
		return nil, err
	}
	list = append(list, own...)
	left, err := in.leftovers(ctx)
	return append(list, left...), err
}

// loses reports whether to mend a difference drops what rows hold.
func loses(d schema.Difference) bool {
	return d.Attribute == "exists" && d.Expected == "no" && (d.Object == "column" || d.Object == "table")
}

// betweenShapes gives the tables of migrations that have stopped in their middle: they are not
// what they were, nor what they will be, and it is for those to go on.
func (in *Input) betweenShapes() map[string]*ledger.Migration {
	tables := map[string]*ledger.Migration{}
	for _, k := range in.Known {
		if k.State != ledger.Running && k.State != ledger.Stopped {
			continue
		}
		records, err := plan.DecodeRecords(k.Changes)
		if err != nil {
			continue // which is a finding of its own
		}
		for _, t := range (&plan.Plan{Records: records}).Touched() {
			tables[strings.ToLower(t)] = k
		}
	}
	return tables
}

// mend gives the statements that make the table or view of a difference again what
// it should be.
func (in *Input) mend(expected, found *schema.Schema, d schema.Difference) string {
	c := &schema.Change{}
	if d.Object == "view" {
		c.View = &schema.ViewChange{Before: found.View(d.Name), After: expected.View(d.Name)}
	} else {
		c.Table = between(found.Table(d.Table), expected.Table(d.Table))
	}
	n := 0
	steps, err := in.Engine.Steps(c, engine.Facts{Schema: found,
		KeptTable: func() string { n++; return fmt.Sprintf("%skept_%d", engine.Prefix, n) }})
	if err != nil {
		return ""
	}
	var sql []string
	for _, s := range steps {
		if s.Proof == nil {
			sql = append(sql, s.SQL...)
		}
	}
	sql = slices.DeleteFunc(sql, func(s string) bool {
		return strings.HasPrefix(s, "explain ") || strings.HasPrefix(s, "select ")
	}) // checks of the run's own
	return in.shown(sql)
}

func (in *Input) mendTrigger(t *schema.Table, d schema.Difference) string {
	var sql []string
	if d.Found != "no" {
		sql = append(sql, in.Engine.DropTrigger(d.Table, d.Name))
	}
	if t != nil {
		for _, tr := range t.Triggers {
			if schema.SameName(tr.Name, d.Name) {
				sql = append(sql, tr.SQL)
			}
		}
	}
	return in.shown(sql)
}

// shown gives statements as a person can run them.
func (in *Input) shown(sql []string) string {
	if before := in.Engine.Preamble(); before != "" && len(sql) > 0 {
		sql = append([]string{before}, sql...)
	}
	text := strings.ReplaceAll(strings.Join(sql, ";\n"), ", "+engine.Algorithm, "") // a person lets the server choose
	return engine.Shown(text)
}

// triggers finds those of open overlaps that somebody has taken away or switched off.
func (in *Input) triggers(ctx context.Context, own []engine.OwnObject) (list []Finding, err error) {
	tables, err := in.Ledger.Tables(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range in.Known {
		records, err := plan.DecodeRecords(k.Changes)
		if err != nil || k.State != ledger.Open {
			continue // what cannot be read is a finding of its own
		}
		missing := func(t *schema.Table, triggers, sql []string) {
			for _, name := range triggers {
				if !slices.ContainsFunc(own, func(o engine.OwnObject) bool { return o.Name == name && !o.Off }) {
					list = append(list, Finding{schema.Difference{Table: t.Name, Object: "trigger", Name: name,
						Attribute: "untouched", Expected: "yes", Found: "no"}, in.shown(sql)})
				}
			}
		}
		for _, r := range records {
			switch {
			case r.Mirror != nil && tables.Table(r.Mirror.Table) != nil:
				t := tables.Table(r.Mirror.Table)
				triggers, sql := in.Engine.Mirrors(t, r.Mirror.Pairs)
				missing(t, triggers, sql)
			case r.Link != nil && tables.Table(r.Link.Table) != nil:
				if l, err := r.Link.Of(); err == nil {
					t := tables.Table(r.Link.Table)
					triggers, sql := in.Engine.Links(t, l)
					missing(t, triggers, sql)
				}
			case r.Swap != nil && r.Swap.Stage == schema.SwapTurn && tables.Table(r.Swap.As.After.Name) != nil:
				t := tables.Table(r.Swap.As.After.Name)
				if c, err := r.Swap.Turned(t); err == nil {
					triggers, sql := in.Engine.Swaps(c)
					missing(t, triggers, sql)
				}
			case r.Table != nil && r.Table.StandIn != "":
				gone, err := in.actor(ctx, r.Table.StandIn)
				if err != nil {
					return nil, err
				}
				list = append(list, gone...)
			case r.Table != nil && len(r.Table.Supplied) > 0 && tables.Table(r.Table.After.Name) != nil:
				t, columns := tables.Table(r.Table.After.Name), map[string]sqltext.Expr{}
				for column, text := range r.Table.Supplied {
					if e, err := sqltext.ParseExpr(text); err == nil && t.Column(column) != nil {
						columns[column] = e
					}
				}
				triggers, sql := in.Engine.Supplying(t, columns)
				missing(t, triggers, sql)
			}
		}
	}
	return list, nil
}

// actor finds that a view which stands for a renamed table acts as an account that is there no more.
func (in *Input) actor(ctx context.Context, view string) ([]Finding, error) {
	db, ok := in.DB.(engine.Actor)
	if !ok {
		return nil, nil
	}
	account, again, err := db.Actor(ctx, view)
	if err != nil || account == "" {
		return nil, err
	}
	return []Finding{{schema.Difference{Object: "view", Name: view, Attribute: "acts as", Expected: "an existing account",
		Found: account + ", which is gone: what programs of before do by this name fails"}, in.shown([]string{again})}}, nil
}

// between gives the change from one table to another by the names of their columns, and
// by their place and type where one has only another name; nothing is kept.
func between(from, to *schema.Table) *schema.TableChange {
	c := &schema.TableChange{Before: from, After: to, From: map[string]string{}, Discard: map[string]bool{"*": true},
		Back: true}
	if from == nil || to == nil {
		return c
	}
	for i, col := range from.Columns {
		now := to.Column(col.Name)
		if now == nil && i < len(to.Columns) && from.Column(to.Columns[i].Name) == nil && to.Columns[i].Type.Equal(col.Type) {
			now = to.Columns[i]
		}
		if now != nil {
			c.From[now.Name] = col.Name
		} else {
			c.Discard[col.Name] = true
		}
	}
	return c
}

// files compares the ledger with the project's files.
func (in *Input) files() []Finding {
	var list []Finding
	add := func(version, attribute, expected, found, mend string) {
		list = append(list, Finding{schema.Difference{Object: "migration", Name: version, Attribute: attribute,
			Expected: expected, Found: found}, mend})
	}
	for _, k := range in.Known {
		i := slices.IndexFunc(in.Files, func(m *migration.Migration) bool { return m.Version == k.Version })
		switch {
		case i < 0:
			add(k.Version, "file", k.Version+"-"+k.Name+".sql", "",
				"put the file back: lastboard ledger "+k.Version+" --source prints its text")
		case in.Files[i].Checksum() != k.Checksum:
			add(k.Version, "text", "as it ran", "edited since",
				"put the file back as it was, and write the change as a new migration")
		}
		if k.State == ledger.Running || k.State == ledger.Stopped {
			add(k.Version, "state", ledger.Settled, k.State, "lastboard "+k.Direction+" goes on with it")
		}
	}
	return list
}

// leftovers finds what is Lastboard's own and is of no use any more.
func (in *Input) leftovers(ctx context.Context) ([]Finding, error) {
	left, unfinished, err := in.Ledger.Left(ctx)
	if err != nil {
		return nil, err
	}
	var list []Finding
	add := func(table, object, name, mend string) {
		list = append(list, Finding{schema.Difference{Table: table, Object: object, Name: name, Attribute: "exists",
			Expected: "no", Found: "yes"}, mend})
	}
	alive, err := in.Ledger.Runner(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range left {
		if alive != nil && !o.Refuses.IsZero() {
			continue // a trial is going on
		}
		add(o.Table, "leftover "+o.Kind, o.Name, o.Drop)
	}
	for _, o := range unfinished {
		add(o.Table, "unfinished "+o.Kind, o.Name, "lastboard advance goes on with its migration, retreat takes it back")
	}
	if dead, err := in.Ledger.Dead(ctx); err != nil {
		return nil, err
	} else if dead != nil {
		add("", "leftover claim", dead.String(), "lastboard audit --clear, or the next run")
	}
	kept, _, err := in.Ledger.Kept(ctx)
	if err != nil {
		return nil, err
	}
	own, err := in.DB.Own(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range own {
		if o.Gone != "" {
			list = append(list, Finding{schema.Difference{Table: o.Table, Object: "trigger", Name: o.Name, Attribute: "acts as",
				Expected: "an existing account", Found: o.Gone + ", which is gone: writes to the table fail"},
				in.shown([]string{o.Again})})
		}
	}
	mirrors, err := in.triggers(ctx, own)
	if err != nil {
		return nil, err
	}
	list = append(list, mirrors...)
	for _, k := range kept {
		if !slices.ContainsFunc(own, func(o engine.OwnObject) bool { return o.Name == k.Keeping.Kept }) {
			list = append(list, Finding{
				schema.Difference{Table: k.Keeping.Table, Object: "kept data", Name: k.Keeping.Kept, Attribute: "exists",
					Expected: "yes", Found: "no"},
				"it cannot be brought back; lastboard kept " + k.Version + " --discard forgets it",
			})
		}
	}
	doubtful, err := in.Ledger.Doubtful(ctx, in.Engine)
	if err != nil {
		return nil, err
	}
	for _, k := range kept {
		for _, trigger := range doubtful[k.Keeping.Kept] {
			list = append(list, Finding{
				schema.Difference{Table: k.Keeping.Table, Object: "trigger", Name: trigger, Attribute: "untouched", Expected: "yes",
					Found: "no"},
				"what is kept may be of rows that went meanwhile: lastboard kept " + k.Version +
					" --discard lets go of it; if none went, retreat --trust-kept puts it back",
			})
		}
	}
	return list, nil
}
