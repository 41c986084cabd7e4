package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Record is what one statement changed, as the ledger keeps it: enough to derive
// the way back without the file, whatever has become of it.
type Record struct {
	What   string            `json:"what"`
	Table  *TableRecord      `json:"table,omitempty"`
	View   *ViewRecord       `json:"view,omitempty"`
	Rows   *RowsRecord       `json:"rows,omitempty"`
	Insert *TableName        `json:"insert,omitempty"`
	Delete *TableName        `json:"delete,omitempty"`
	Native *NativeRecord     `json:"native,omitempty"`
	Mirror *MirrorRecord     `json:"mirror,omitempty"`
	Swap   *SwapRecord       `json:"swap,omitempty"`
	Link   *LinkRecord       `json:"link,omitempty"`
	Watch  *WatchRecord      `json:"watch,omitempty"`
	Keeps  []*engine.Keeping `json:"keeps,omitempty"`
	// Stage is ledger.Open, or ledger.Settle for what was done as the overlap was settled, and
	// Statement says of which statement of the migration, from 0. A record without a stage is of
	// the statement in whose place it stands.
	Stage     string `json:"stage,omitempty"`
	Statement int    `json:"statement,omitempty"`
	// Linked means that the columns which the table gets are made from others of it, and those from
	// them, while the overlap is open.
	Linked bool `json:"linked,omitempty"`
}

// TableRecord is a table before and after.
type TableRecord struct {
	Before  *schema.Table     `json:"before"`
	After   *schema.Table     `json:"after"`
	From    map[string]string `json:"from"`
	Restore map[string]string `json:"restore,omitempty"` // expressions as text
	// Converted holds the columns of After whose values were written anew, and
	// whether by a plain cast.
	Converted map[string]bool `json:"converted,omitempty"`
	// Supplied holds the columns of After that are supplied until the overlap is settled, and the
	// expressions for them as text.
	Supplied map[string]string `json:"supplied,omitempty"`
	// StandIn is the name under which a view stands for the table.
	StandIn string `json:"stand_in,omitempty"`
}

// ViewRecord is a view before and after.
type ViewRecord struct {
	Before *schema.View `json:"before"`
	After  *schema.View `json:"after"`
}

// RowsRecord is a backfill of columns.
type RowsRecord struct {
	Table   string   `json:"table"`
	Columns []string `json:"columns"`
}

// MirrorRecord is columns that got mirrors.
type MirrorRecord struct {
	Table string          `json:"table"`
	Pairs []schema.Mirror `json:"pairs"`
}

// SwapRecord is a stage in which columns get other types beside programs: As is the table before and
// after all of them, without what is out of sight.
type SwapRecord struct {
	Stage schema.SwapStage `json:"stage"`
	As    *TableRecord     `json:"as"`
	// Using holds what rows get in the columns, as text.
	Using map[string]string `json:"using,omitempty"`
}

// LinkRecord is columns that are kept equal to those that they are made from, with what each gets, as
// text.
type LinkRecord struct {
	Table string            `json:"table"`
	Old   map[string]string `json:"old"`
	New   map[string]string `json:"new"`
}

// WatchRecord is columns whose writes are counted.
type WatchRecord struct {
	Table   string           `json:"table"`
	Columns []schema.Watched `json:"columns"`
}

// TableName is the table that rows were inserted into or deleted from.
type TableName struct {
	Table string `json:"table"`
}

// NativeRecord is how a native statement is taken back.
type NativeRecord struct {
	Back      string   `json:"back"`
	NoWayBack bool     `json:"no_way_back"`
	Touching  []string `json:"touching"`
}

// newRecord notes a change with the tables as the engine shows them.
func newRecord(c *schema.Change, before, after *schema.Schema) *Record {
	r := &Record{What: c.What}
	switch {
	case c.Table != nil:
		t := recorded(c.Table)
		t.StandIn = c.Table.StandIn
		if c.Table.Before != nil {
			t.Before = before.Table(c.Table.Before.Name)
		}
		if c.Table.After != nil {
			t.After = after.Table(c.Table.After.Name)
		}
		for _, column := range c.Table.Supplied {
			if t.Supplied == nil {
				t.Supplied = map[string]string{}
			}
			t.Supplied[column] = sqltext.PrintExpr(c.Table.Fill[column].Expr)
		}
		r.Table = t
	case c.Mirror != nil && c.Mirror.Renames:
		x := c.Mirror.Renaming()
		r.Table = &TableRecord{Before: x.Before, After: after.Table(x.After.Name), From: x.From,
			Restore: map[string]string{}, Converted: map[string]bool{}}
	case c.Mirror != nil && !c.Mirror.Off:
		r.Mirror = &MirrorRecord{c.Mirror.Before.Name, c.Mirror.Pairs}
	case c.Swap != nil:
		r.Swap = &SwapRecord{Stage: c.Swap.Stage, As: recorded(c.Swap.As), Using: map[string]string{}}
		for _, column := range c.Swap.Columns() {
			r.Swap.Using[column] = sqltext.PrintExpr(c.Swap.As.Fill[column].Expr)
		}
		r.Swap.As.Before, r.Swap.As.After = c.Swap.As.Before, c.Swap.As.After
		shown := func(s *schema.Schema) *schema.Table {
			return schema.Shown(s.Table(c.Swap.Before.Name), c.Swap.Columns())
		}
		if c.Swap.Stage == schema.SwapBeside || c.Swap.Stage == schema.SwapTurn {
			r.Swap.As.Before = shown(before)
		}
		if c.Swap.Stage != schema.SwapBeside {
			r.Swap.As.After = shown(after)
		}
	case c.Link != nil:
		r.Link = &LinkRecord{c.Link.Before.Name, texts(c.Link.Old), texts(c.Link.New)}
	case c.Watch != nil && !c.Watch.Off:
		r.Watch = &WatchRecord{c.Watch.Table.Name, c.Watch.Columns}
	case c.View != nil:
		v := &ViewRecord{}
		if c.View.Before != nil {
			v.Before = before.View(c.View.Before.Name)
		}
		if c.View.After != nil {
			v.After = after.View(c.View.After.Name)
		}
		r.View = v
	case c.Rows != nil:
		r.Rows = &RowsRecord{Table: c.Rows.Table.Name}
		for _, s := range c.Rows.Set {
			r.Rows.Columns = append(r.Rows.Columns, s.Column)
		}
	case c.Insert != nil:
		r.Insert = &TableName{c.Insert.Table.Name}
	case c.Delete != nil:
		r.Delete = &TableName{c.Delete.Table.Name}
	case c.Native != nil && c.Native.SQL != "":
		n := &NativeRecord{Back: c.Native.Statement.Back, NoWayBack: c.Native.Statement.NoWayBack}
		for _, t := range c.Native.Statement.Touching {
			n.Touching = append(n.Touching, after.Called(t))
		}
		r.Native = n
	}
	return r
}

func texts(list map[string]sqltext.Expr) map[string]string {
	out := map[string]string{}
	for n, e := range list {
		out[n] = sqltext.PrintExpr(e)
	}
	return out
}

// Of gives the link of a record.
func (r *LinkRecord) Of() (l schema.Link, err error) {
	l = schema.Link{Old: map[string]sqltext.Expr{}, New: map[string]sqltext.Expr{}}
	for from, to := range map[*map[string]string]map[string]sqltext.Expr{&r.Old: l.Old, &r.New: l.New} {
		for n, text := range *from {
			e, failed := sqltext.ParseExpr(text)
			to[n], err = e, errors.Join(err, failed)
		}
	}
	return l, err
}

// recorded notes of a change of a table what does not stand in the tables.
func recorded(c *schema.TableChange) *TableRecord {
	t := &TableRecord{From: c.From, Restore: map[string]string{}}
	for column, e := range c.Restore {
		t.Restore[column] = sqltext.PrintExpr(e)
	}
	if c.Before != nil && c.After != nil {
		t.Converted = map[string]bool{}
		for _, column := range c.Converted() {
			t.Converted[column] = c.Fill[column].Cast
		}
	}
	return t
}

// EncodeRecords gives the records as the ledger keeps them.
func EncodeRecords(list []*Record) (json.RawMessage, error) { return json.Marshal(list) }

// DecodeRecords reads what [EncodeRecords] wrote.
func DecodeRecords(data json.RawMessage) ([]*Record, error) {
	var list []*Record
	if err := ledger.Decode(data, &list); err != nil {
		return nil, fmt.Errorf("the ledger's record of the migration: %w", err)
	}
	return list, nil
}

// Unfiled gives what the way back of a migration would run out of the ledger alone: the
// statements by which its native ones are taken back, where its file, m, does not have the
// same; m is nil where there is no file.
func Unfiled(known *ledger.Migration, m *migration.Migration) (list []string, err error) {
	records, err := DecodeRecords(known.Changes)
	if err != nil {
		return nil, err
	}
	var filed []string
	if m != nil {
		for _, st := range m.File.Statements {
			if n, ok := st.(*sqltext.Native); ok {
				filed = append(filed, n.Back)
			}
		}
	}
	for _, r := range records {
		if r.Native == nil || r.Native.Back == "" {
			continue
		}
		i := slices.Index(filed, r.Native.Back)
		if i < 0 {
			list = append(list, r.Native.Back)
			continue
		}
		filed = filed[i+1:] // in their order
	}
	return list, nil
}

// inverse gives the change that takes a record back; nil when there is nothing
// to do. current is the tables as they are now.
func (r *Record) inverse(current *schema.Schema, e engine.Engine) (*schema.Change, error) {
	c := &schema.Change{What: "take back: " + r.What}
	switch {
	case r.Table != nil:
		t, err := r.inverseTable(current)
		c.Table = t
		return c, err
	case r.Mirror != nil:
		c.Mirror = r.unmirrored(current)
		if c.Mirror == nil {
			return nil, nil
		}
		return c, nil
	case r.Swap != nil:
		var err error
		if c.Swap, err = r.unswapped(current, e, !e.About().MirrorsHide); c.Swap == nil {
			return nil, err
		}
		return c, err
	case r.Link != nil: // its triggers go with the columns
		return nil, nil
	case r.Watch != nil:
		t := current.Table(r.Watch.Table)
		if t == nil {
			return nil, nil
		}
		c.Watch = &schema.WatchChange{Table: t, Columns: r.Watch.Columns, Off: true}
		return c, nil
	case r.View != nil:
		c.View = &schema.ViewChange{Before: r.View.After, After: r.View.Before}
		return c, nil
	case r.Rows != nil:
		t := current.Table(r.Rows.Table)
		keep := r.keep(engine.KeptValues)
		if keep == nil || t == nil {
			return nil, nil // discarded: the values stay as they are
		}
		c.Rows = &schema.RowChange{Table: t, PutBack: &schema.Kept{Table: keep.Kept, Keys: keep.Keys}}
		for _, column := range r.Rows.Columns {
			c.Rows.Set = append(c.Rows.Set, sqltext.Assignment{Column: column})
		}
		return c, nil
	case r.Insert != nil:
		t, keep := current.Table(r.Insert.Table), r.keep(engine.KeptKeys)
		if t == nil || keep == nil {
			return nil, nil
		}
		c.Delete = &schema.DeleteChange{Table: t, Noted: &schema.Kept{Table: keep.Kept, Keys: keep.Keys}}
		return c, nil
	case r.Delete != nil:
		t, keep := current.Table(r.Delete.Table), r.keep(engine.KeptRows)
		if t == nil || keep == nil {
			return nil, nil // discarded: they do not come back
		}
		c.Insert = &schema.InsertChange{Table: t, PutBack: &schema.Kept{Table: keep.Kept, Keys: keep.Keys}, Back: true}
		return c, nil
	case r.Native != nil:
		n := &sqltext.Native{}
		for _, t := range r.Native.Touching {
			n.Touching = append(n.Touching, sqltext.Name{Name: t})
		}
		c.Native = &schema.NativeChange{SQL: r.Native.Back, Statement: n}
		return c, nil
	}
	return nil, nil
}

// unmirrored gives the change that takes mirrors away; nil where they have gone.
func (r *Record) unmirrored(current *schema.Schema) *schema.MirrorChange {
	t := current.Table(r.Mirror.Table)
	if t == nil || !slices.ContainsFunc(r.Mirror.Pairs, func(m schema.Mirror) bool {
		return t.Column(m.Name) != nil && t.Column(m.Column) != nil
	}) {
		return nil
	}
	return &schema.MirrorChange{Before: t, After: schema.Unmirrored(t, r.Mirror.Pairs), Pairs: r.Mirror.Pairs, Off: true}
}

func (r *Record) keep(what string) *engine.Keeping {
	i := slices.IndexFunc(r.Keeps, func(k *engine.Keeping) bool { return k.What == what })
	if i < 0 {
		return nil
	}
	return r.Keeps[i]
}

func (r *Record) inverseTable(current *schema.Schema) (*schema.TableChange, error) {
	forward, err := r.forward()
	if err != nil {
		return nil, err
	}
	back := forward.Invert()
	if back.Before != nil {
		// What is there now, so that the plan starts from the engine's own text.
		if now := current.Table(back.Before.Name); now != nil {
			back.Before = now
			back.After = r.standing(now, back.After, back.From)
		}
		back.NoStandIn = r.standsIn(current)
	}
	for _, k := range r.Keeps {
		switch k.What {
		case engine.KeptTable:
			back.Rows = &schema.Kept{Table: k.Kept}
		case engine.KeptColumn:
			putColumnsBack(back, forward, k, "")
		case engine.KeptConverted:
			putColumnsBack(back, forward, k, "w1")
		case engine.KeptValues:
			back.PutBack = map[string]*schema.Kept{}
			for i, column := range k.Columns {
				back.PutBack[oldName(forward, column)] = &schema.Kept{Table: k.Kept, Keys: newNames(forward, k.Keys),
					Column: fmt.Sprintf("o%d", i+1)}
			}
		}
	}
	return back, nil
}

// forward gives the change of a table as far as the record has it.
func (r *Record) forward() (*schema.TableChange, error) {
	c := &schema.TableChange{Before: r.Table.Before, After: r.Table.After, From: r.Table.From,
		Restore: map[string]sqltext.Expr{}, Fill: map[string]schema.Fill{}}
	for column, cast := range r.Table.Converted {
		c.Fill[column] = schema.Fill{Cast: cast}
	}
	for column, text := range r.Table.Restore {
		e, err := sqltext.ParseExpr(text)
		if err != nil {
			return nil, err
		}
		c.Restore[column] = e
	}
	return c, nil
}

// standsIn names the view that stands for the table under its old name; "" where none does.
func (r *Record) standsIn(current *schema.Schema) string {
	if r.Table.StandIn == "" || current.View(r.Table.StandIn) == nil {
		return ""
	}
	return r.Table.StandIn
}

// standing gives the table of before with its columns in the order in which they stand now,
// unless the change moved some: a server that moves no column puts one that comes back last,
// and that is no reason to copy the table when the change before it is taken back.
func (r *Record) standing(now, before *schema.Table, from map[string]string) *schema.Table {
	if before == nil || r.Table.After == nil {
		return before
	}
	last := -1
	for _, c := range r.Table.After.Columns {
		at := r.Table.Before.Place(r.Table.From[c.Name])
		if at >= 0 && at < last {
			return before
		}
		last = max(at, last)
	}
	var slots []int
	var columns []*schema.Column
	for i, c := range before.Columns {
		if now.Place(from[c.Name]) >= 0 {
			slots, columns = append(slots, i), append(columns, c)
		}
	}
	slices.SortFunc(columns, func(a, b *schema.Column) int { return now.Place(from[a.Name]) - now.Place(from[b.Name]) })
	t := *before
	t.Columns = slices.Clone(before.Columns)
	for i, slot := range slots {
		t.Columns[slot] = columns[i]
	}
	return &t
}

// putColumnsBack fills columns that come back from what was kept of them; wrote is
// the kept column that says which rows it is for.
func putColumnsBack(back, forward *schema.TableChange, k *engine.Keeping, wrote string) {
	for i, column := range k.Columns {
		fill := back.Fill[column]
		fill.Kept = &schema.Kept{Table: k.Kept, Keys: newNames(forward, k.Keys), Column: fmt.Sprintf("o%d", i+1),
			Wrote: wrote, Reads: k.Reads}
		back.Fill[column] = fill
	}
}

// newNames gives what columns of before are called after a change.
func newNames(c *schema.TableChange, names []string) []string {
	list := slices.Clone(names)
	for i, n := range list {
		for to, from := range c.From {
			if schema.SameName(from, n) {
				list[i] = to
			}
		}
	}
	return list
}

// oldName gives what a column of either side is called before a change.
func oldName(c *schema.TableChange, name string) string {
	if from, ok := c.From[name]; ok {
		return from
	}
	return name
}
