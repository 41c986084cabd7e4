package postgres

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Place implements engine.Planner: a schema that is the owner's alone.
func (Engine) Place() []string {
	return []string{"create schema if not exists " + quote(own), "revoke all on schema " + quote(own) + " from public"}
}

// CreateSQL implements engine.Planner.
func (Engine) CreateSQL(t *schema.Table) []string {
	var list []string
	for _, c := range t.Columns {
		if seq := c.Options["sequence"]; seq != "" {
			list = append(list, "create sequence "+name(seq)+" as "+sequenceType(c))
		}
	}
	list = append(list, createTable(t))
	for _, c := range t.Columns {
		if seq := c.Options["sequence"]; seq != "" {
			list = append(list, "alter sequence "+name(seq)+" owned by "+name(t.Name)+"."+quote(c.Name))
		}
	}
	for _, k := range t.Uniques {
		if sameAsAnother(t, k) {
			list = append(list, "alter table "+name(t.Name)+" add "+keySQL(k, "unique"))
		}
	}
	for _, k := range t.ForeignKeys {
		list = append(list, addForeignKey(t, k))
	}
	return append(append(list, createParts(t)...), createRest(t)...)
}

// createRest gives the statements for what of a table is the server's own.
func createRest(t *schema.Table) (list []string) {
	alter := "alter table " + name(t.Name) + " "
	for _, key := range slices.Sorted(maps.Keys(t.Options)) {
		if k, ok := strings.CutPrefix(key, "constraint "); ok {
			list = append(list, alter+"add constraint "+quote(k)+" "+t.Options[key])
		}
	}
	if security := t.Options["row security"]; security != "" {
		list = append(list, alter+"enable row level security")
		if security == "forced" {
			list = append(list, alter+"force row level security")
		}
	}
	switch identity := t.Options["replica identity"]; {
	case identity == "nothing", identity == "full", strings.HasPrefix(identity, "using index "):
		list = append(list, alter+"replica identity "+identity)
	}
	return list
}

// listed reports whether a list of names, as the server quotes them, has one.
func listed(list, n string) bool {
	tokens, _ := sqltext.Scan(list, sqltext.Migration)
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && t.Value == n
	})
}

// sameAsAnother reports whether another key has the columns of a unique one: the server leaves
// the second out when both come with the table.
func sameAsAnother(t *schema.Table, k *schema.Key) bool {
	if t.PrimaryKey != nil && slices.Equal(t.PrimaryKey.Columns, k.Columns) {
		return true
	}
	i := slices.IndexFunc(t.Uniques, func(o *schema.Key) bool { return slices.Equal(o.Columns, k.Columns) })
	return t.Uniques[i] != k
}

// createParts gives the statements for what stands beside a table: indexes, triggers,
// comments.
func createParts(t *schema.Table) []string {
	var list []string
	for _, x := range t.Indexes {
		list = append(list, createIndex(t, x))
	}
	for _, tr := range t.Triggers {
		list = append(list, tr.SQL)
	}
	for _, c := range t.Columns {
		if c.OnUpdateNow {
			list = append(list, onUpdateSQL(t, c)...)
		}
	}
	return append(list, comments(t)...)
}

func sequenceType(c *schema.Column) string {
	if d := declaration(c); d == "smallint" || d == "integer" {
		return d
	}
	return "bigint"
}

// createTable gives the statement that makes a table without its foreign keys, which
// may refer to tables that come later.
func createTable(t *schema.Table) string {
	var lines []string
	for _, c := range t.Columns {
		if !listed(t.Options["inherited"], c.Name) {
			lines = append(lines, "  "+columnSQL(t, c))
		}
	}
	if k := t.PrimaryKey; k != nil {
		lines = append(lines, "  "+keySQL(k, "primary key"))
	}
	for _, k := range t.Uniques {
		if !sameAsAnother(t, k) {
			lines = append(lines, "  "+keySQL(k, "unique"))
		}
	}
	for _, k := range t.Checks {
		if !listed(t.Options["inherited checks"], k.Name) {
			lines = append(lines, "  "+checkSQL(t, k))
		}
	}
	words := "create table "
	switch {
	case t.Options["unlogged"] != "":
		words = "create unlogged table "
	case t.Options["server"] != "":
		words = "create foreign table "
	}
	sql := words + name(t.Name) + " (\n" + strings.Join(lines, ",\n") + "\n)"
	if parents := t.Options["inherits"]; parents != "" {
		sql += " inherits (" + parents + ")"
	}
	if by := t.Options[partitionedBy]; by != "" {
		sql += " partition by " + by
	}
	if server := t.Options["server"]; server != "" {
		sql += " server " + server
	}
	if w := t.Options["with"]; w != "" {
		sql += " with (" + w + ")"
	}
	return sql
}

func keySQL(k *schema.Key, words string) string {
	if d := k.Options["nulls"]; d != "" {
		words += " " + d
	}
	sql := "constraint " + quote(k.Name) + " " + words + " (" + quoteAll(k.Columns) + ")"
	if i := k.Options["include"]; i != "" {
		sql += " include (" + i + ")"
	}
	return sql + deferred(k.Options)
}

func deferred(o map[string]string) string {
	if d := o["deferrable"]; d != "" {
		return " " + d
	}
	return ""
}

func checkSQL(t *schema.Table, k *schema.Check) string {
	sql := "constraint " + quote(k.Name) + " check (" + stored(t, k.Expr) + ")"
	if k.Options["no inherit"] != "" {
		sql += " no inherit"
	}
	return sql
}

// columnSQL gives a column's definition with all that belongs to it alone.
func columnSQL(t *schema.Table, c *schema.Column) string {
	sql := quote(c.Name) + " " + declaration(c)
	if c.Collate != "" {
		sql += " collate " + collation(c.Collate)
	}
	if c.NotNull {
		sql += " not null"
	}
	switch {
	case c.Identity != nil && c.Identity.Always:
		sql += " generated always as identity"
	case c.Identity != nil:
		sql += " generated by default as identity"
	case c.Generated != nil:
		sql += " generated always as (" + stored(t, c.Generated.Expr) + ") stored"
	case c.Default != nil:
		sql += " default " + defaultSQL(t, *c.Default)
	}
	if c.Limit != "" {
		sql += " " + limitSQL(c)
	}
	return sql
}

// collation writes the name of one, which perhaps has its schema before it.
func collation(text string) string {
	isName := func(t sqltext.Token) bool { return t.Kind == sqltext.Word || t.Kind == sqltext.Quoted }
	if t, _ := sqltext.Scan(text, sqltext.Migration); len(t) == 4 && isName(t[0]) && t[1].Is(".") && isName(t[2]) {
		return quote(t[0].Value) + "." + quote(t[2].Value)
	}
	return quote(text)
}

func limitSQL(c *schema.Column) string {
	return "constraint " + quote(c.Limit) + " check (" + limit(c.Type, c.Name) + ")"
}

func defaultSQL(t *schema.Table, e schema.Expr) string {
	text := stored(t, e)
	if e.Tree != nil && !schema.Constant(e.Tree) && e.Native == "" {
		return "(" + text + ")"
	}
	return text
}

func addForeignKey(t *schema.Table, k *schema.ForeignKey) string {
	return "alter table " + name(t.Name) + " add " + foreignKeySQL(k)
}

func foreignKeySQL(k *schema.ForeignKey) string {
	return "constraint " + quote(k.Name) + " foreign key (" + quoteAll(k.Columns) + ") " + references(k)
}

func references(k *schema.ForeignKey) string {
	sql := "references " + name(k.Table)
	if len(k.References) > 0 {
		sql += " (" + quoteAll(k.References) + ")"
	}
	if m := k.Options["match"]; m != "" {
		sql += " match " + m
	}
	if k.OnDelete != "" {
		sql += " on delete " + k.OnDelete
	}
	if k.OnUpdate != "" {
		sql += " on update " + k.OnUpdate
	}
	return sql + deferred(k.Options)
}

func createIndex(t *schema.Table, x *schema.Index) string { return indexSQL(t, x, "index ") }

// indexSQL gives the statement that makes an index; words are "index " or "index
// concurrently ".
func indexSQL(t *schema.Table, x *schema.Index, words string) string {
	parts := make([]string, len(x.Parts))
	for i, p := range x.Parts {
		if p.Expr != nil {
			parts[i] = "(" + stored(t, *p.Expr) + ")"
		} else {
			parts[i] = quote(p.Column)
		}
		if p.Collate != "" {
			parts[i] += " collate " + collation(p.Collate)
		}
		if p.Desc {
			parts[i] += " desc"
		}
	}
	unique := ""
	if x.Unique {
		unique = "unique "
	}
	sql := "create " + unique + words + quote(x.Name) + " on " + name(t.Name)
	if d := x.Options["definition"]; d != "" {
		return sql + " " + d
	}
	sql += " (" + strings.Join(parts, ", ") + ")"
	if x.Where != nil {
		sql += " where " + stored(t, *x.Where)
	}
	return sql
}

// commentSQL writes a comment; "" takes it away.
func commentSQL(on, text string) string {
	if text == "" {
		return "comment on " + on + " is null"
	}
	return "comment on " + on + " is " + literal(text)
}

func comments(t *schema.Table) []string {
	var list []string
	if t.Comment != "" {
		kind := "table "
		if t.Options["server"] != "" {
			kind = "foreign table "
		}
		list = append(list, commentSQL(kind+name(t.Name), t.Comment))
	}
	for _, c := range t.Columns {
		if c.Comment != "" {
			list = append(list, commentSQL("column "+name(t.Name)+"."+quote(c.Name), c.Comment))
		}
	}
	return list
}

const onUpdateSuffix = "on_update"

// onUpdateName names the trigger that keeps the time of each update in a column.
func onUpdateName(t *schema.Table, c *schema.Column) string {
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + tableOf(t).Name}, []string{c.Name}, onUpdateSuffix)
}

// onUpdateSQL gives the statements that let a column take the time of every update
// that leaves it as it was. Lastboard's own updates leave that time as it is.
func onUpdateSQL(t *schema.Table, c *schema.Column) []string {
	trigger := onUpdateName(t, c)
	column := quote(c.Name)
	now := "current_timestamp"
	if c.Type.Name == "date" || c.Type.Name == "time" {
		now = "current_" + c.Type.Name
	}
	function := quote(own) + "." + quote(strings.TrimPrefix(trigger, engine.Prefix))
	return []string{
		"create or replace function " + function + "() returns trigger language plpgsql set search_path = pg_catalog, " +
			"pg_temp as " + dollar("begin "+
			"if new."+column+" is not distinct from old."+column+
			" and coalesce(current_setting('lastboard.writes', true), '') <> 'on' then new."+column+" := "+now+
			"; end if; return new; end"),
		"create trigger " + quote(trigger) + " before update on " + name(t.Name) + " for each row execute function " +
			function + "()",
	}
}

// dropOnUpdate gives the statements that take such a trigger away.
func dropOnUpdate(t *schema.Table, trigger string) []string {
	return []string{
		"drop trigger " + quote(trigger) + " on " + name(t.Name),
		"drop function " + quote(own) + "." + quote(strings.TrimPrefix(trigger, engine.Prefix)) + "()",
	}
}

// keptSQL gives the columns of a table of kept values with their types.
func keptSQL(letter string, t *schema.Table, columns []string) string {
	list := make([]string, len(columns))
	for i, n := range columns {
		c := t.Column(n)
		if letter == "k" || letter == "n" {
			c = planning.WidestKey(c)
		}
		list[i] = fmt.Sprintf("%s%d %s", letter, i+1, declaration(c))
	}
	return strings.Join(list, ", ")
}
