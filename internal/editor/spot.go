package editor

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// spot is a place in a migration, with what is known there.
type spot struct {
	folder *folder
	path   string
	text   text
	offset int
	// statement is the one at the place, which may be half written, as words; parsed is it where it
	// could be read.
	statement []sqltext.Token
	parsed    sqltext.Statement
	// tables are those before the statement.
	tables *schema.Schema
}

func newSpot(f *folder, i int, t text, offset int) *spot {
	s := &spot{folder: f, text: t, offset: offset, tables: f.tables(i)}
	tokens, _ := sqltext.Scan(t.source, sqltext.Migration)
	start := 0
	for n, tok := range tokens {
		if tok.Is(";") && tok.Pos.Offset < offset {
			start = n + 1
		}
	}
	end := start
	for end < len(tokens) && tokens[end].Kind != sqltext.EOF && !tokens[end].Is(";") {
		end++
	}
	s.statement = tokens[start:end]
	m := f.list[i]
	if m.File == nil {
		return s
	}
	for _, st := range m.File.Statements {
		if len(s.statement) > 0 && st.Start().Offset >= s.statement[0].Pos.Offset {
			if st.Start().Offset == s.statement[0].Pos.Offset {
				s.parsed = st
			}
			break
		}
		if after, _, err := schema.Apply(s.tables, st, f.engine.About().Env(m.CSV)); err == nil {
			s.tables = after
		}
	}
	return s
}

// before gives the words of the statement that end before the place, and the word that is being written
// there.
func (s *spot) before() (words []sqltext.Token, prefix string) {
	for _, t := range s.statement {
		switch {
		case t.End() < s.offset || t.End() == s.offset && t.Kind == sqltext.Op:
			words = append(words, t)
		case t.Pos.Offset < s.offset:
			prefix = s.text.source[t.Pos.Offset:s.offset]
		}
	}
	return words, prefix
}

// known lists the tables that the statement names.
func (s *spot) known() (list []*schema.Table) {
	for _, t := range s.statement {
		if t.Kind != sqltext.Word && t.Kind != sqltext.Quoted {
			continue
		}
		if found := s.tables.Table(t.Value); found != nil && !slices.Contains(list, found) {
			list = append(list, found)
		}
	}
	return list
}

// The protocol's kinds of what can be written.
const (
	itemFunction = 3
	itemColumn   = 5
	itemKeyword  = 14
	itemTable    = 22
	itemType     = 25
)

type item struct {
	Label      string `json:"label"`
	Kind       int    `json:"kind"`
	Detail     string `json:"detail,omitempty"`
	InsertText string `json:"insertText,omitempty"`
	SortText   string `json:"sortText"`
}

// tableWords stand before the name of a table.
var tableWords = []string{"table", "into", "from", "join", "update", "references", "backfill", "view"}

// keywords are those of statements.
var keywords = strings.Fields(`add alter always and as asc assert back backfill between by cascade case cast check column comment
	constraint create current_date current_time current_timestamp default delete desc discard done drop else end every exists
	expression false first foreign from generated identity in index insert into is key like not null on or position primary
	rebuild references rename restore select set stored table then to true type unique update using values view virtual when
	where`)

// complete lists what can be written at the place: tables where one is wanted, types where one is, and
// else the columns of the statement's tables, functions and keywords.
func (s *Server) complete(at *spot) any {
	words, prefix := at.before()
	list := []item{}
	add := func(rank, label string, kind int, detail string) {
		it := item{Label: label, Kind: kind, Detail: detail, SortText: rank + label}
		if kind == itemTable || kind == itemColumn {
			if q := quoted(label); q != label {
				it.InsertText = q
			}
		}
		if strings.HasPrefix(strings.ToLower(label), strings.ToLower(strings.Trim(prefix, `"`))) {
			list = append(list, it)
		}
	}
	var last sqltext.Token
	if len(words) > 0 {
		last = words[len(words)-1]
	}
	tables := func(rank string) {
		for _, t := range at.tables.Tables {
			add(rank, t.Name, itemTable, fmt.Sprintf("table, %d columns", len(t.Columns)))
		}
		for _, v := range at.tables.Views {
			add(rank, v.Name, itemTable, "view")
		}
	}
	switch {
	case slices.ContainsFunc(tableWords, last.Is), last.Is("on") && len(words) > 1 && words[0].Is("create"):
		tables("1")
		return complete(list)
	case last.Is("type") || wantsType(words):
		for _, t := range sqltext.TypeNames() {
			add("1", t, itemType, "type")
		}
		return complete(list)
	}
	for _, t := range at.known() {
		for _, c := range t.Columns {
			add("1", c.Name, itemColumn, columnWords(t, c))
		}
	}
	for _, f := range sqltext.Functions {
		add("3", f, itemFunction, "function")
	}
	for _, k := range keywords {
		add("2", k, itemKeyword, "")
	}
	if len(at.known()) == 0 {
		tables("4")
	}
	return complete(list)
}

func complete(list []item) any { return map[string]any{"isIncomplete": false, "items": list} }

// wantsType reports whether the next word is the type of a column that is added.
func wantsType(words []sqltext.Token) bool {
	n := len(words)
	name := func(t sqltext.Token) bool {
		return t.Kind == sqltext.Quoted || t.Kind == sqltext.Word && !sqltext.Reserved(t.Value)
	}
	return n > 2 && words[n-2].Is("column") && words[n-3].Is("add") && name(words[n-1])
}

// quoted gives a name as it can be written.
func quoted(name string) string {
	tokens, err := sqltext.Scan(name, sqltext.Migration)
	if err == nil && len(tokens) == 2 && tokens[0].Kind == sqltext.Word && !sqltext.Reserved(tokens[0].Value) {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// columnWords say what a column is: "varchar(40) not null, of vessel".
func columnWords(t *schema.Table, c *schema.Column) string {
	words := []string{c.Type.String()}
	if c.NotNull {
		words = append(words, "not null")
	}
	switch {
	case c.Identity != nil:
		words = append(words, "numbers itself")
	case c.Generated != nil:
		words = append(words, "computed")
	case c.Default != nil && c.Default.Tree != nil:
		words = append(words, "default "+sqltext.PrintExpr(c.Default.Tree))
	}
	return strings.Join(words, " ") + ", of " + t.Name
}

// hover says what the word at the place stands for, and what its statement would do.
func (s *Server) hover(at *spot) any {
	var parts []string
	for _, t := range at.statement {
		if t.Pos.Offset > at.offset || t.End() < at.offset || t.Kind != sqltext.Word && t.Kind != sqltext.Quoted {
			continue
		}
		if table := at.tables.Table(t.Value); table != nil {
			lines := []string{"table " + table.Name}
			for _, c := range table.Columns {
				lines = append(lines, "  "+c.Name+"  "+strings.TrimSuffix(columnWords(table, c), ", of "+table.Name))
			}
			parts = append(parts, strings.Join(lines, "\n"))
		}
		for _, table := range at.known() {
			if c := table.Column(t.Value); c != nil {
				parts = append(parts, c.Name+"  "+columnWords(table, c))
			}
		}
	}
	if steps := cmp.Or(at.planned(s.last[filepath.Dir(at.path)]), at.steps()); steps != "" {
		parts = append(parts, steps)
	}
	if len(parts) == 0 {
		return nil
	}
	return map[string]any{"contents": map[string]any{"kind": "plaintext", "value": strings.Join(parts, "\n\n")}}
}

// manyRows is how many a table is taken to have whose rows nobody has counted.
const manyRows = 1_000_000

// steps say what the statement would do, by its kinds and locks alone; "" where that is not known.
func (s *spot) steps() (words string) {
	defer func() {
		if recover() != nil { // a plan is made for tables that a database has shown
			words = ""
		}
	}()
	if s.parsed == nil {
		return ""
	}
	e := s.folder.engine
	_, change, err := schema.Apply(s.tables, s.parsed, e.About().Env(nil))
	if err != nil {
		return ""
	}
	facts := engine.Facts{Schema: s.tables, Rows: map[string]int64{}, Bytes: map[string]int64{}, Live: s.folder.live,
		Short: 0.2, Now: "2031-05-01 10:00:00", KeptTable: func() string { return engine.Prefix + "kept_1" }}
	for _, t := range change.Subjects() {
		facts.Rows[t], facts.Bytes[t] = manyRows, 100*manyRows
	}
	if change.Table != nil && change.Table.After != nil {
		change.Table.After = e.Holds(change.Table)
	}
	steps, err := e.Steps(change, facts)
	if err != nil || len(steps) == 0 {
		return ""
	}
	lines := []string{"on " + e.About().Title + ", with many rows (guess):"}
	for _, st := range steps {
		lock := st.Lock
		if lock == "" {
			lock = "none"
		}
		lines = append(lines, fmt.Sprintf("  %s: %s; writers wait: %s; lock: %s", st.Kind, st.What, st.WritersWait, lock))
	}
	return strings.Join(lines, "\n")
}
