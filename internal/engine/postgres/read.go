package postgres

import (
	"context"
	"fmt"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// The schema is read with one query for each kind of object, however many there are.
// {where} selects the schemas.

const selectTables = `
	select c.oid, n.nspname, c.relname, c.relkind::text, c.relispartition, c.reloftype <> 0,
		exists (select 1 from pg_inherits i where i.inhrelid = c.oid or i.inhparent = c.oid), c.relpersistence::text,
		array_to_string(c.reloptions, ', '), c.relrowsecurity, c.relforcerowsecurity, c.relreplident::text, obj_description(c.oid, 'pg_class'),
		(select spcname from pg_tablespace s where s.oid = c.reltablespace)
	from pg_class c join pg_namespace n on n.oid = c.relnamespace
	where c.relkind in ('r', 'p', 'f') and {where} and not exists (select 1 from pg_depend d where d.classid = 'pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
	order by c.oid`

// collationName names a collation: plainly where that is found and is a plain name.
const collationName = `case when pg_collation_is_visible(co.oid) and co.collname !~ '[."]' then co.collname::text else quote_ident(cn.nspname) || '.' || quote_ident(co.collname) end`

const selectColumns = `
	select a.attrelid, a.attnum, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, pg_get_expr(ad.adbin, ad.adrelid), a.attgenerated::text, a.attidentity::text,
		case when a.attcollation <> t.typcollation then (select ` + collationName + `
			from pg_collation co join pg_namespace cn on cn.oid = co.collnamespace where co.oid = a.attcollation) end,
		col_description(a.attrelid, a.attnum), pg_get_serial_sequence(quote_ident(n.nspname) || '.' || quote_ident(c.relname), a.attname),
		(select 'operator(' || quote_ident(eqn.nspname) || '.=)' from pg_operator eq join pg_namespace eqn on eqn.oid = eq.oprnamespace
			where eq.oprname = '=' and eq.oprleft = a.atttypid and eq.oprright = a.atttypid and eqn.nspname <> 'pg_catalog' limit 1)
	from pg_attribute a join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace join pg_type t on t.oid = a.atttypid
		left join pg_attrdef ad on ad.adrelid = a.attrelid and ad.adnum = a.attnum
	where c.relkind in ('r', 'p', 'f', 'v', 'm') and a.attnum > 0 and not a.attisdropped and {where}
	order by a.attrelid, a.attnum`

const selectConstraints = `
	select k.conrelid, k.conname, k.contype::text, k.conkey::text, k.confrelid, k.confkey::text, k.confdeltype::text, k.confupdtype::text, k.confmatchtype::text,
		k.condeferrable, k.condeferred, k.convalidated, pg_get_expr(k.conbin, k.conrelid), pg_get_constraintdef(k.oid), k.connoinherit, x.indnkeyatts, x.indnatts,
		k.confrelid::regclass::text
	from pg_constraint k join pg_class c on c.oid = k.conrelid join pg_namespace n on n.oid = c.relnamespace left join pg_index x on x.indexrelid = k.conindid
	where k.contype in ('p', 'u', 'c', 'f', 'x') and k.conparentid = 0 and {where}
	order by k.conrelid, k.conname`

const selectIndexes = `
	select x.indrelid, ic.relname, x.indisunique, x.indisvalid, am.amname, x.indnkeyatts, x.indnatts, pg_get_expr(x.indpred, x.indrelid),
		array_to_string(ic.reloptions, ', '), pg_get_indexdef(x.indexrelid, 0, true), x.indkey::text, x.indoption::text,
		array(select pg_get_indexdef(x.indexrelid, g, true) from generate_series(1, x.indnkeyatts) g)::text[] is not null,
		(select bool_and(o.opcdefault) from unnest(x.indclass) oc(id) join pg_opclass o on o.oid = oc.id),
		(select string_agg(coalesce(case when co.oid <> coalesce((select a.attcollation from pg_attribute a where a.attrelid = x.indrelid and a.attnum = ik.num), co.oid)
			then ` + collationName + ` end, ''), e'\x1f' order by l.i) from unnest(x.indcollation) with ordinality l(id, i) join unnest(x.indkey::int2[]) with ordinality ik(num, i) on ik.i = l.i left join pg_collation co on co.oid = l.id left join pg_namespace cn on cn.oid = co.collnamespace),
		(select string_agg(pg_get_indexdef(x.indexrelid, g, true), e'\x1f' order by g) from generate_series(1, x.indnkeyatts) g), {nulls}
	from pg_index x join pg_class ic on ic.oid = x.indexrelid join pg_class c on c.oid = x.indrelid join pg_namespace n on n.oid = c.relnamespace join pg_am am on am.oid = ic.relam
	where c.relkind in ('r', 'p') and {where} and not exists (select 1 from pg_constraint k where k.conindid = x.indexrelid and k.contype in ('p', 'u', 'x'))
	order by x.indrelid, ic.relname`

const selectTriggers = `
	select t.tgrelid, t.tgname, pg_get_triggerdef(t.oid, true)
	from pg_trigger t join pg_class c on c.oid = t.tgrelid join pg_namespace n on n.oid = c.relnamespace
	where not t.tgisinternal and coalesce(to_jsonb(t) ->> 'tgparentid', '0') = '0' and c.relkind in ('r', 'p', 'f') and {where}
	order by t.tgrelid, t.tgname`

const selectViews = `
	select c.oid, n.nspname, c.relname, c.relkind::text, pg_get_viewdef(c.oid, true), array_to_string(c.reloptions, ', '), c.relispopulated
	from pg_class c join pg_namespace n on n.oid = c.relnamespace
	where c.relkind in ('v', 'm') and {where} and not exists (select 1 from pg_depend d where d.classid = 'pg_class'::regclass and d.objid = c.oid and d.deptype = 'e')
	order by c.oid`

const selectPolicies = `
	select p.polrelid, p.polname from pg_policy p join pg_class c on c.oid = p.polrelid join pg_namespace n on n.oid = c.relnamespace where {where} order by 1, 2`

// users selects the schemas of the applications.
const users = `n.nspname !~ '^pg_' and n.nspname not in ('information_schema', 'lastboard') and n.nspname !~ '^lastboard_' and c.relname !~ '^lastboard_'`

// memory gives the same object for a table that has not changed, so that changes can be
// told by identity.
type memory struct{ last *schema.Schema }

type reading = func(context.Context, string, ...any) (*engine.Rows, error)

func (m *memory) read(ctx context.Context, query reading, home string) (*schema.Schema, error) {
	s, err := (&reader{query: query, where: users, spell: func(ns, n string) string { return spell(home, ns, n) }}).read(
		ctx)
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

	schema  *schema.Schema
	tables  map[int64]*schema.Table
	columns map[int64]map[string]*schema.Column // by the number, as text
	views   map[int64]*schema.View
}

func (r *reader) read(ctx context.Context) (*schema.Schema, error) {
	r.schema, r.tables, r.columns, r.views = &schema.Schema{}, map[int64]*schema.Table{},
		map[int64]map[string]*schema.Column{}, map[int64]*schema.View{}
	for _, part := range []struct {
		sql string
		row func([]any)
	}{
		{selectTables, r.table}, {selectViews, r.view}, {selectColumns, r.column}, {selectConstraints, r.constraint},
		{selectIndexes, r.index},
		{selectTriggers, r.trigger}, {selectPolicies, r.policy},
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
			part.row(v)
		}
	}
	for _, t := range r.schema.Tables {
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
	case text(v[3]) == "p":
		t.Opaque = "it is partitioned"
	case yes(v[4]):
		t.Opaque = "it is a partition of another table"
	case text(v[3]) == "f":
		t.Opaque = elsewhere
	case yes(v[5]):
		t.Opaque = "it is a table of a type"
	case yes(v[6]):
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
	if t == nil {
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
	if t == nil {
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
	if ownTrigger.MatchString(tr.Name) {
		t.Own = append(t.Own, tr)
	} else {
		t.Triggers = append(t.Triggers, tr)
	}
}

// ownTrigger knows Lastboard's triggers by their names.
var ownTrigger = regexp.MustCompile(`^(` + lastTrigger + `|` + firstTrigger + `|` + watchTrigger + `|` +
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
