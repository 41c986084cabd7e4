package postgres

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/engine"
	"lastboard/internal/pattern"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// memory gives the same object for a table that has not changed, so that changes can be
// told by identity.
type memory struct{ last *schema.Schema }

type reading = func(context.Context, string, ...any) (*engine.Rows, error)

// again is as in a reader.
func (m *memory) read(ctx context.Context, query reading, home string, again func() error) (*schema.Schema, error) {
	r := &reader{query: query, where: users, again: again, spell: func(ns, n string) string { return spell(home, ns, n) }}
	s, err := r.read(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the tables: %w", err)
	}
	s.Home = home
	return m.keep(s), nil
}

func (m *memory) keep(s *schema.Schema) *schema.Schema {
	if m.last != nil {
		for i, t := range s.Tables {
			if old := m.last.Table(t.Name); old != nil && reflect.DeepEqual(old, t) {
				s.Tables[i] = old
			}
		}
		for i, v := range s.Views {
			if old := m.last.View(v.Name); old != nil && reflect.DeepEqual(old, v) {
				s.Views[i] = old
			}
		}
	}
	m.last = s
	return s
}

// spell names a table: without its schema where that is the one of unnamed ones.
func spell(home, ns, n string) string {
	if ns == home {
		return n
	}
	return ns + "." + n
}

// reader reads the tables and views of some schemas.
type reader struct {
	query reading
	where string
	spell func(ns, name string) string
	torn  bool         // something went while it was read
	again func() error // makes ready to read once more; nil where nothing has to be
	whole bool         // parts of partitioned tables have all that they have as tables of their own

	schema  *schema.Schema
	tables  map[int64]*schema.Table
	columns map[int64]map[string]*schema.Column // by the number, as text
	views   map[int64]*schema.View
}

// tornReads is how often tables are read again that went while they were read.
const tornReads = 20

// read reads them. What goes meanwhile has no definition any more, though a query has listed it.
func (r *reader) read(ctx context.Context) (*schema.Schema, error) {
	for range tornReads {
		r.torn = false
		s, err := r.once(ctx)
		if err == nil && !r.torn {
			return s, nil
		}
		if err != nil && !isGone(err) {
			return nil, err
		}
		if r.again != nil {
			if err := r.again(); err != nil {
				return nil, err
			}
		}
	}
	return nil, errors.New("others make tables and drop them all the time")
}

// isGone reports whether the server failed since it was asked for what has just gone.
func isGone(err error) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe) && (pe.Code == "42P01" || pe.Code == "XX000")
}

func (r *reader) once(ctx context.Context) (*schema.Schema, error) {
	r.schema, r.tables, r.columns, r.views = &schema.Schema{}, map[int64]*schema.Table{},
		map[int64]map[string]*schema.Column{}, map[int64]*schema.View{}
	for _, part := range []struct {
		sql     string
		row     func([]any)
		defined int // the place of a definition, which all have; 0 where there is none
	}{
		{selectTables, r.table, 0}, {selectViews, r.view, 4}, {selectColumns, r.column, 3}, {selectConstraints,
			r.constraint, 13},
		{selectIndexes, r.index, 9}, {selectTriggers, r.trigger, 2}, {selectPolicies, r.policy, 0},
	} {
		sql := strings.ReplaceAll(part.sql, "{where}", r.where)
		if strings.Contains(sql, "{nulls}") {
			sql = strings.ReplaceAll(sql, "{nulls}", "coalesce((to_jsonb(x) ->> 'indnullsnotdistinct')::boolean, false)")
		}
		rows, err := r.query(ctx, sql)
		if err != nil {
			return nil, err
		}
		for _, v := range rows.Values {
			if part.defined > 0 && v[part.defined] == nil {
				r.torn = true
				continue
			}
			part.row(v)
		}
	}
	for _, t := range r.schema.Tables {
		if t.PartOf != "" && !r.whole {
			t.Columns = nil // which are those of the table that it is a part of
		}
		takeLimits(t)
		takeOnUpdate(t)
		for _, o := range r.schema.Tables {
			if o != t && len(o.Name) == len(t.Name) && schema.SameName(o.Name, t.Name) {
				t.Opaque = "another table has the same name but for its case"
			}
		}
	}
	return r.schema, nil
}

// partitionedBy is the option of a table whose rows stand in parts: by what they are told apart.
const partitionedBy = "partition by"

// elsewhere is why a foreign table cannot be changed.
const elsewhere = "its rows are on another server"

func (r *reader) table(v []any) {
	t := &schema.Table{Name: r.spell(text(v[1]), text(v[2])), Comment: text(v[12])}
	options := map[string]string{}
	set := func(key, value string) {
		if value != "" {
			options[key] = value
		}
	}
	switch {
	case yes(v[4]):
		t.PartOf = r.spell(text(v[15]), text(v[16]))
		t.Opaque = schema.OpaquePart(t.PartOf)
	case text(v[3]) == "f":
		t.Opaque = elsewhere
	case yes(v[5]):
		t.Opaque = "it is a table of a type"
	case yes(v[6]) && text(v[3]) != "p":
		t.Opaque = "it inherits from another table, or another from it"
	case strings.Contains(text(v[2]), "."):
		t.Opaque = schema.Dotted
	}
	if text(v[7]) == "u" {
		set("unlogged", "yes")
	}
	set("with", text(v[8]))
	if yes(v[9]) {
		set("row security", "on")
	}
	if yes(v[10]) {
		set("row security", "forced")
	}
	if ident := text(v[11]); ident != "d" && text(v[3]) != "f" {
		set("replica identity", map[string]string{"n": "nothing", "f": "full", "i": "an index"}[ident])
	}
	set("tablespace", text(v[13]))
	if t.PartOf != "" && !r.whole {
		options = map[string]string{}
	}
	set(partitionedBy, text(v[14]))
	if len(options) > 0 {
		t.Options = options
	}
	oid := number(v[0])
	r.tables[oid], r.columns[oid] = t, map[string]*schema.Column{}
	r.schema.Tables = append(r.schema.Tables, t)
}

func (r *reader) view(v []any) {
	x := &schema.View{Name: r.spell(text(v[1]), text(v[2])), Query: strings.TrimSuffix(strings.TrimSpace(text(v[4])), ";")}
	words, options, end := "create view ", "", ""
	if text(v[3]) == "m" {
		words = "create materialized view "
		if !yes(v[6]) {
			end = " with no data"
		}
	}
	if o := text(v[5]); o != "" {
		options = " with (" + o + ")"
	}
	x.SQL = words + name(x.Name) + options + " as " + x.Query + end
	x.More = text(v[3]) == "m" || options != ""
	r.views[number(v[0])] = x
	r.schema.Views = append(r.schema.Views, x)
}

func (r *reader) column(v []any) {
	if x := r.views[number(v[0])]; x != nil {
		x.Columns = append(x.Columns, text(v[2]))
		return
	}
	t := r.tables[number(v[0])]
	if t == nil {
		return
	}
	c := &schema.Column{Name: text(v[2]), NotNull: yes(v[4]), Collate: text(v[8]), Comment: text(v[9])}
	c.Type, c.Declared = readType(text(v[3]))
	e := readExpr(v[5])
	switch {
	case e != nil && text(v[6]) != "":
		c.Generated = &schema.Generated{Expr: *e, Stored: text(v[6]) == "s"}
	case text(v[7]) != "":
		c.Identity = &sqltext.Identity{Always: text(v[7]) == "a"}
	default:
		c.Default = e
	}
	c.Equal = text(v[11])
	if seq := text(v[10]); seq != "" && c.Identity == nil {
		c.Options = map[string]string{"sequence": r.sequence(seq)}
	}
	t.Columns = append(t.Columns, c)
	r.columns[number(v[0])][fmt.Sprint(number(v[1]))] = c
}

// sequence names a sequence, whose name the server has quoted where it needs to be.
func (r *reader) sequence(quoted string) string {
	tokens, _ := sqltext.Scan(quoted, sqltext.Migration)
	var parts []string
	for _, t := range tokens {
		if t.Kind == sqltext.Word || t.Kind == sqltext.Quoted {
			parts = append(parts, t.Value)
		}
	}
	if len(parts) != 2 {
		return quoted
	}
	return r.spell(parts[0], parts[1])
}

// readExpr reads an expression as the server shows it.
func readExpr(v any) *schema.Expr {
	if v == nil {
		return nil
	}
	return &schema.Expr{Native: text(v), Tree: tree(text(v))}
}

// names gives the columns whose numbers an array such as {1,3} lists.
func (r *reader) names(oid int64, array any) []string {
	var list []string
	for n := range strings.SplitSeq(strings.Trim(text(array), "{}"), ",") {
		if c := r.columns[oid][n]; c != nil {
			list = append(list, c.Name)
		}
	}
	return list
}

var acts = map[string]string{"r": "restrict", "c": "cascade", "n": "set null", "d": "set default"}

func (r *reader) constraint(v []any) {
	oid := number(v[0])
	t := r.tables[oid]
	if t == nil || t.PartOf != "" && !r.whole && yes(v[18]) {
		return
	}
	options := map[string]string{}
	if yes(v[9]) {
		options["deferrable"] = "deferrable"
		if yes(v[10]) {
			options["deferrable"] = "deferrable initially deferred"
		}
	}
	if !yes(v[11]) {
		options["not valid"] = "yes"
	}
	definition := text(v[13])
	conname := text(v[1])
	switch kind := text(v[2]); kind {
	case "p", "u":
		if number(v[16]) > number(v[15]) {
			_, include, _ := strings.Cut(definition, "INCLUDE (")
			options["include"], _, _ = strings.Cut(include, ")")
		}
		if strings.Contains(definition, "NULLS NOT DISTINCT") {
			options["nulls"] = "nulls not distinct"
		}
		k := &schema.Key{Name: conname, Columns: r.names(oid, v[3]), Options: some(options)}
		if kind == "p" {
			t.PrimaryKey = k
		} else {
			t.Uniques = append(t.Uniques, k)
		}
	case "c":
		if yes(v[14]) {
			options["no inherit"] = "yes"
		}
		if v[12] == nil {
			r.torn = true
			return
		}
		t.Checks = append(t.Checks, &schema.Check{Name: conname, Expr: *readExpr(v[12]), Options: some(options)})
	case "f":
		if text(v[8]) == "f" {
			options["match"] = "full"
		}
		if _, columns, ok := strings.Cut(definition, "SET NULL ("); ok {
			options["set null"], _, _ = strings.Cut(columns, ")")
		}
		k := &schema.ForeignKey{Name: conname, Columns: r.names(oid, v[3]),
			OnDelete: acts[text(v[6])], OnUpdate: acts[text(v[7])], Options: some(options)}
		if other := r.tables[number(v[4])]; other != nil {
			k.Table, k.References = other.Name, r.names(number(v[4]), v[5])
		} else {
			k.Table = text(v[17])
		}
		t.ForeignKeys = append(t.ForeignKeys, k)
	default:
		option(t, "constraint "+conname, definition)
	}
}

func some(o map[string]string) map[string]string {
	if len(o) == 0 {
		return nil
	}
	return o
}

func option(t *schema.Table, key, value string) {
	if t.Options == nil {
		t.Options = map[string]string{}
	}
	t.Options[key] = value
}

func (r *reader) index(v []any) {
	oid := number(v[0])
	t := r.tables[oid]
	if t == nil || t.PartOf != "" && !r.whole && yes(v[17]) {
		return
	}
	x := &schema.Index{Name: text(v[1]), Unique: yes(v[2]), Where: readExpr(v[7])}
	keys, flags, collations := strings.Fields(text(v[10])), strings.Fields(text(v[11])), strings.Split(text(v[14]), "\x1f")
	plain := text(v[4]) == "btree" && number(v[5]) == number(v[6]) && v[8] == nil && yes(v[13]) && !yes(v[16])
	for i, shown := range strings.Split(text(v[15]), "\x1f") {
		p := schema.IndexPart{}
		flag, _ := strconv.Atoi(flags[i])
		p.Desc = flag&1 != 0
		plain = plain && (flag == 0 || flag == 3)
		if c := r.columns[oid][keys[i]]; c != nil {
			p.Column = c.Name
		} else {
			p.Expr = readExpr(strings.TrimSpace(shown))
		}
		if i < len(collations) {
			p.Collate = collations[i]
		}
		x.Parts = append(x.Parts, p)
	}
	options := map[string]string{}
	if !plain {
		_, using, _ := strings.Cut(text(v[9]), " USING ")
		options["definition"] = "using " + using
	}
	if !yes(v[3]) {
		options["invalid"] = "its build did not come to an end"
	}
	x.Options = some(options)
	t.Indexes = append(t.Indexes, x)
}

func (r *reader) trigger(v []any) {
	t := r.tables[number(v[0])]
	if t == nil {
		return
	}
	tr := &schema.Trigger{Name: text(v[1]), SQL: text(v[2])}
	if ownTrigger().MatchString(tr.Name) {
		t.Own = append(t.Own, tr)
	} else {
		t.Triggers = append(t.Triggers, tr)
	}
}

// ownTrigger knows Lastboard's triggers by their names.
var ownTrigger = pattern.Of(`^(` + lastTrigger + `|` + firstTrigger + `|` + watchTrigger + `|` +
	refuseTrigger + `)?` + engine.Prefix)

func (r *reader) policy(v []any) {
	if t := r.tables[number(v[0])]; t != nil {
		option(t, "policy "+text(v[1]), "yes")
	}
}

// takeLimits turns the checks that enforce a type into what they stand for.
func takeLimits(t *schema.Table) {
	var rest []*schema.Check
	for _, k := range t.Checks {
		c := limited(t, k)
		if c == nil {
			rest = append(rest, k)
			continue
		}
		c.Type, _ = readLimit(c, k.Name, k.Expr.Tree)
		c.Limit, c.Declared = k.Name, ""
	}
	t.Checks = rest
}

// limited gives the column whose type a check enforces; nil if it is another.
func limited(t *schema.Table, k *schema.Check) *schema.Column {
	if k.Expr.Tree == nil || len(k.Options) > 0 {
		return nil
	}
	refs := sqltext.Refs(k.Expr.Tree)
	if len(refs) == 0 {
		return nil
	}
	if c := t.Column(refs[0].Column); c != nil {
		if _, ok := readLimit(c, k.Name, k.Expr.Tree); ok {
			return c
		}
	}
	return nil
}

// takeOnUpdate turns the triggers that keep times into what they stand for.
func takeOnUpdate(t *schema.Table) {
	var rest []*schema.Trigger
	for _, tr := range t.Own {
		kept := false
		for _, c := range t.Columns {
			if onUpdateName(t, c) == tr.Name {
				c.OnUpdateNow, kept = true, true
			}
		}
		if !kept {
			rest = append(rest, tr)
		}
	}
	t.Own = rest
}
