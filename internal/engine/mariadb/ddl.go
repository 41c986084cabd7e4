package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Place implements engine.Planner: Lastboard's own tables stand beside the others.
func (Engine) Place() []string { return nil }

// CreateSQL implements engine.Planner.
func (Engine) CreateSQL(t *schema.Table) []string {
	list := []string{createTable(t)}
	for _, tr := range t.Triggers {
		list = append(list, tr.SQL)
	}
	return list
}

// createTable gives the statement that makes a table with all that is on it.
func createTable(t *schema.Table) string {
	var lines []string
	for _, c := range t.Columns {
		lines = append(lines, columnSQL(t, c))
	}
	if k := t.PrimaryKey; k != nil {
		parts := k.Options["parts"]
		if parts == "" {
			parts = quoteAll(k.Columns)
		}
		lines = append(lines, "primary key ("+parts+")")
	}
	for _, k := range t.Uniques {
		lines = append(lines, uniqueSQL(t, k))
	}
	for _, x := range t.Indexes {
		lines = append(lines, indexSQL(t, x))
	}
	for _, k := range t.Checks {
		if k.Column == "" {
			lines = append(lines, checkSQL(t, k))
		}
	}
	for _, k := range t.ForeignKeys {
		if !served(t, k.Columns, "") {
			lines = append(lines, "key "+quote(k.Name)+" ("+quoteAll(k.Columns)+")")
		}
		lines = append(lines, foreignKeySQL(k))
	}
	return "create table if not exists " + quote(t.Name) + " (\n  " + strings.Join(lines, ",\n  ") + "\n)" +
		tableOptions(t)
}

func tableOptions(t *schema.Table) string {
	collate := t.Options["collate"]
	if collate == "" {
		collate = bytewise
	}
	engine := t.Options["engine"]
	if engine == "" {
		engine = "InnoDB"
	}
	text := " engine=" + engine + charset(collate)
	if o := t.Options["options"]; o != "" {
		text += " " + o
	}
	if t.Comment != "" {
		text += " comment=" + literal(t.Comment)
	}
	return text
}

// charset gives a collation with the character set that it is of.
func charset(collation string) string {
	set, _, _ := strings.Cut(collation, "_")
	if collation == "binary" {
		return " character set binary"
	}
	return " character set " + set + " collate " + collation
}

// columnSQL gives the whole definition of a column: what is left out of one is lost.
func columnSQL(t *schema.Table, c *schema.Column) string {
	sql := quote(c.Name) + " " + declaration(c)
	switch {
	case c.Type.Name == "json" && !c.Type.Native:
		sql += charset("utf8mb4_bin")
	case isText(c) && c.Collate != "":
		sql += charset(c.Collate)
	case isText(c):
		sql += charset(bytewise)
	}
	if c.Options["compressed"] != "" {
		sql += " compressed"
	}
	switch {
	case c.Generated != nil:
		how := "virtual"
		if c.Generated.Stored {
			how = "stored"
		}
		sql += " generated always as (" + stored(t, c.Generated.Expr) + ") " + how
	case c.NotNull:
		sql += " not null"
	default:
		sql += " null"
	}
	switch {
	case c.Identity != nil:
		sql += " auto_increment"
	case c.Default != nil && c.Generated == nil:
		sql += " default " + defaultSQL(t, c)
	case c.Generated == nil && !c.NotNull:
		sql += " default null"
	}
	if c.OnUpdateNow {
		sql += " on update current_timestamp" + precision(c)
	}
	if c.Options["invisible"] != "" {
		sql += " invisible"
	}
	if c.Comment != "" {
		sql += " comment " + literal(c.Comment)
	}
	if k := columnCheck(t, c); k != "" {
		sql += " check (" + k + ")"
	}
	return sql
}

// precision gives the digits of a column's seconds, in parentheses.
func precision(c *schema.Column) string {
	if d := declaration(c); strings.Contains(d, "(") {
		return d[strings.Index(d, "("):]
	}
	return ""
}

func defaultSQL(t *schema.Table, c *schema.Column) string {
	e := *c.Default
	if now, ok := e.Tree.(*sqltext.Now); ok && e.Native == "" {
		if d := declaration(c); now.Name == "current_timestamp" &&
			(strings.HasPrefix(d, "datetime") || strings.HasPrefix(d, "timestamp")) {
			return "current_timestamp" + precision(c)
		}
	}
	text := stored(t, e)
	if e.Tree != nil && schema.Constant(e.Tree) || e.Native != "" && oneValue(e.Native) {
		return text
	}
	if strings.HasPrefix(text, "current_timestamp(") {
		return text
	}
	return "(" + text + ")"
}

// oneValue reports whether a text of the server's is a single value, perhaps with a sign or in another
// base: anything else stands in parentheses as a default.
func oneValue(text string) bool {
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	if tokens[0].Is("-") || tokens[0].Is("+") {
		tokens = tokens[1:]
	}
	for _, t := range tokens {
		if t.Kind == sqltext.Quoted || t.Is("(") || t.Kind == sqltext.Op {
			return false
		}
	}
	return true
}

func uniqueSQL(t *schema.Table, k *schema.Key) string {
	return "unique key " + quote(k.Name) + " (" + keyParts(t, k.Columns, true) + ")" + comment(k.Options)
}

func comment(o map[string]string) string {
	if c := o["comment"]; c != "" {
		return " comment " + literal(c)
	}
	return ""
}

// asIndex is the comment of a unique key that was made as an index, not as a constraint:
// the server itself does not tell the two apart.
const asIndex = "lastboard: an index, no constraint"

// keyBytes is how long an index may be, all its columns together (the manual, InnoDB
// limitations).
const keyBytes = 3072

// keyParts gives the columns of an index. Of a text without a length the beginning
// alone is indexed; a unique one is kept whole by the server.
func keyParts(t *schema.Table, columns []string, unique bool) string {
	parts := make([]string, len(columns))
	for i, n := range columns {
		parts[i] = quote(n)
		if c := t.Column(n); c != nil && !unique && unbounded(c) {
			parts[i] += fmt.Sprintf("(%d)", beginning(t, columns, c))
		}
	}
	return strings.Join(parts, ", ")
}

// unbounded reports whether a column's values have no greatest length that an index
// could hold.
func unbounded(c *schema.Column) bool {
	d := declaration(c)
	return strings.HasSuffix(d, "text") || strings.HasSuffix(d, "blob")
}

// beginning gives how many characters, or bytes, of a long value an index holds.
func beginning(t *schema.Table, columns []string, c *schema.Column) int {
	n, room := 0, keyBytes
	for _, name := range columns {
		col := t.Column(name)
		switch {
		case col == nil:
		case unbounded(col):
			n++
		case isText(col) && len(col.Type.Args) > 0:
			room -= 4*col.Type.Args[0] + 3
		default:
			room -= 16
		}
	}
	room = max(room/max(n, 1)-2, 64)
	if isText(c) {
		room /= 4
	}
	if n == 1 && len(columns) == 1 && isText(c) {
		return keyBytes / 4
	}
	return room
}

// indexSQL gives an index as it stands in a statement.
func indexSQL(t *schema.Table, x *schema.Index) string {
	words := "key "
	if x.Unique {
		words = "unique key "
	}
	if kind := x.Options["kind"]; kind != "" {
		words = kind + " key "
	}
	columns := make([]string, len(x.Parts))
	for i, p := range x.Parts {
		columns[i] = p.Column
	}
	parts := strings.Split(keyParts(t, columns, x.Unique || x.Options["kind"] != ""), ", ")
	if p := x.Options["parts"]; p != "" {
		parts = []string{p}
	} else {
		for i, p := range x.Parts {
			if p.Desc {
				parts[i] += " desc"
			}
		}
	}
	sql := words + quote(x.Name) + " (" + strings.Join(parts, ", ") + ")"
	if u := x.Options["using"]; u != "" {
		sql += " using " + u
	}
	if x.Unique {
		return sql + " comment " + literal(asIndex)
	}
	if x.Options["ignored"] != "" {
		sql += " ignored"
	}
	return sql + comment(x.Options)
}

func checkSQL(t *schema.Table, k *schema.Check) string {
	return "constraint " + quote(k.Name) + " check (" + stored(t, k.Expr) + ")"
}

func foreignKeySQL(k *schema.ForeignKey) string {
	return "constraint " + quote(k.Name) + " foreign key (" + quoteAll(k.Columns) + ") " + references(k)
}

func references(k *schema.ForeignKey) string {
	sql := "references " + quote(k.Table)
	if len(k.References) > 0 {
		sql += " (" + quoteAll(k.References) + ")"
	}
	act := func(a string) string {
		if a == "" {
			return "no action"
		}
		return a
	}
	return sql + " on delete " + act(k.OnDelete) + " on update " + act(k.OnUpdate)
}

// ownIndexes lists the indexes that the server may have made by itself for a foreign key:
// those of just its columns. Such a one goes as soon as another index could serve the key.
func ownIndexes(t *schema.Table, k *schema.ForeignKey) (list []*schema.Index) {
	if t == nil {
		return nil
	}
	for _, x := range t.Indexes {
		if !x.Unique && len(x.Options) == 0 && slices.EqualFunc(x.Parts, k.Columns,
			func(part schema.IndexPart, c string) bool {
				return part.Expr == nil && schema.SameName(part.Column, c)
			}) {
			list = append(list, x)
		}
	}
	return list
}

// served reports whether an index other than one begins with the columns, as the server
// wants for a foreign key.
func served(t *schema.Table, columns []string, but string) bool {
	begins := func(list []string) bool {
		return len(list) >= len(columns) && slices.EqualFunc(list[:len(columns)], columns, schema.SameName)
	}
	if t.PrimaryKey != nil && begins(t.PrimaryKey.Columns) {
		return true
	}
	whole := func(names []string) bool {
		return !slices.ContainsFunc(names, func(n string) bool { c := t.Column(n); return c != nil && unbounded(c) })
	}
	for _, k := range t.Uniques {
		if k.Name != but && begins(k.Columns) && whole(k.Columns) {
			return true
		}
	}
	for _, x := range t.Indexes {
		var names []string
		for _, p := range x.Parts {
			names = append(names, p.Column)
		}
		if x.Name != but && x.Options["kind"] == "" && x.Options["parts"] == "" && begins(names) && whole(names) {
			return true
		}
	}
	return false
}

// keptSQL gives the columns of a table of kept values with their types.
func keptSQL(letter string, t *schema.Table, columns []string) string {
	list := make([]string, len(columns))
	for i, name := range columns {
		c := t.Column(name)
		if letter == "k" {
			c = planning.WidestKey(c)
		}
		list[i] = fmt.Sprintf("%s%d %s", letter, i+1, declaration(c))
		if isText(c) {
			list[i] += collated(c)
		}
		if letter != "k" {
			list[i] += " null"
		}
	}
	return strings.Join(list, ", ")
}

// collated gives the character set and collation of a text column.
func collated(c *schema.Column) string {
	if c.Collate != "" {
		return charset(c.Collate)
	}
	return charset(bytewise)
}
