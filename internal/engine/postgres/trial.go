package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
)

// trial is a transaction that is never committed. In it, each table that a step speaks
// of is made anew, empty, in a schema that stands for the real one; the steps' names
// lead there. The real tables are never touched, not even locked.
type trial struct {
	d      *database
	conn   *pgconn.PgConn
	base   *schema.Schema // the tables as they are, and as planned changes left them
	made   map[string]bool
	places map[string]bool // schemas that stand for others
	// left are foreign keys that a table in the trial lacks, since the tables they lead
	// to were not needed there.
	left   map[string][]*schema.ForeignKey
	memory memory
	// probing means that the copies are committed, so that the locks of each step show.
	probing bool
}

// scratch begins the names of the schemas of a trial.
const scratch = "lastboard_trial_"

// Trial implements engine.Database.
func (d *database) Trial(ctx context.Context) (engine.Trial, error) {
	if err := d.mayTry(ctx); err != nil {
		return nil, err
	}
	base, err := d.Schema(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	t := &trial{d: d, conn: conn, base: base, made: map[string]bool{}, places: map[string]bool{}, left: map[string][]*schema.ForeignKey{}}
	if err := script(ctx, conn, "begin; set local lock_timeout = '2s'; set local lastboard.writes = 'on'"); err != nil {
		return nil, errors.Join(err, t.Close())
	}
	return t.open(ctx)
}

// open makes the places of a trial.
func (t *trial) open(ctx context.Context) (*trial, error) {
	d := t.d
	if err := errors.Join(t.place(ctx, d.home), t.place(ctx, own)); err != nil {
		return nil, errors.Join(err, t.Close())
	}
	path := "set search_path = " + quote(scratch+d.home) + ", " + quote(d.home)
	if err := script(ctx, t.conn, path); err != nil {
		return nil, errors.Join(err, t.Close())
	}
	return t, nil
}

// Lasts implements engine.Trial: the transaction would keep the server from cleaning
// up behind the run.
func (t *trial) Lasts() bool { return false }

func (t *trial) Close() error {
	ctx := context.Background()
	if t.probing {
		return errors.Join(clearProbe(ctx, t.conn), t.conn.Close(ctx))
	}
	_, err := command(ctx, t.conn, "rollback")
	return errors.Join(err, t.conn.Close(ctx))
}

// Schema implements engine.Trial.
func (t *trial) Schema(context.Context) (*schema.Schema, error) { return t.base, nil }

// place makes the schema that stands for another.
func (t *trial) place(ctx context.Context, ns string) error {
	if t.places[ns] {
		return nil
	}
	t.places[ns] = true
	_, err := exec(ctx, t.conn, "create schema "+quote(scratch+ns), nil)
	if err != nil {
		return fmt.Errorf("trying the steps needs the right to make a schema that is never committed: %w", err)
	}
	return nil
}

// there gives a statement in which every schema is the one that stands for it.
func (t *trial) there(sql string) string {
	sql = translate(sql, 0)
	tokens, _ := sqltext.Scan(sql, sqltext.Migration)
	var b strings.Builder
	last := 0
	for i, tok := range tokens {
		switch {
		case tok.Kind != sqltext.Quoted && tok.Kind != sqltext.Word || i+1 >= len(tokens):
			continue
		case tokens[i+1].Is(".") && !follows(tokens, i, ".") && t.stands(tok.Value), follows(tokens, i, "schema") && t.stands(tok.Value):
		case follows(tokens, i, "exists") && t.stands(tok.Value) && strings.HasPrefix(strings.ToLower(sql), "drop schema"):
		default:
			continue
		}
		b.WriteString(sql[last:tok.Pos.Offset] + quote(scratch+tok.Value))
		last = tok.End()
	}
	b.WriteString(sql[last:])
	sql = b.String()
	// Names stand in strings, too, where the catalog is asked.
	return strings.NewReplacer(`'"`+own+`".`, `'"`+scratch+own+`".`).Replace(sql)
}

// stands reports whether another schema stands for one here.
func (t *trial) stands(ns string) bool {
	return t.places[ns] || strings.HasPrefix(ns, engine.Prefix+"kept_")
}

// Run implements engine.Trial.
func (t *trial) Run(ctx context.Context, c *schema.Change, steps []*engine.Step) (needed, broken []string, err error) {
	if c.Table != nil && c.Table.Before != nil {
		if needed, err = t.needed(ctx, c.Table); err != nil || len(needed) > 0 {
			return needed, nil, err
		}
	}
	if err := t.d.mayChange(ctx, t.base, c, steps); err != nil {
		return nil, nil, err
	}
	if err := t.need(ctx, c, steps); err != nil {
		return nil, nil, err
	}
	for _, s := range steps {
		if err := t.step(ctx, s); err != nil {
			return nil, nil, err
		}
	}
	if err := t.restores(ctx, c); err != nil {
		return nil, nil, err
	}
	return nil, nil, t.read(ctx, c)
}

// restores tries whether what a way back would compute can stand in the columns that it
// is for: better now than on the way back.
func (t *trial) restores(ctx context.Context, c *schema.Change) error {
	if c.Table == nil || c.Table.Before == nil || c.Table.After == nil {
		return nil
	}
	for _, column := range slices.Sorted(maps.Keys(c.Table.Restore)) {
		text, err := (dialect{}).Expr(c.Table.Restore[column], planning.Scope{Table: c.Table.After, Mode: planning.Computed})
		if err != nil {
			return &engine.Refused{Message: err.Error()}
		}
		probe := quote(scratch+own) + ".probe"
		for _, sql := range []string{
			"create table " + probe + " (v " + declaration(c.Table.Before.Column(column)) + ")",
			"explain insert into " + probe + " select " + text + " from " + name(c.Table.After.Name),
			"drop table " + probe,
		} {
			if _, err := exec(ctx, t.conn, t.there(sql), nil); err != nil {
				return &engine.Refused{Message: fmt.Sprintf("the way back could not compute column %s: %s", column, message(err)), Cure: "write another restore using, with a cast if need be"}
			}
		}
	}
	return nil
}

// Broken implements engine.Trial: the server lets nothing be broken but what it does
// not understand.
func (t *trial) Broken(context.Context, []string) ([]string, error) { return nil, nil }

func (t *trial) step(ctx context.Context, s *engine.Step) error {
	statements := slices.Concat(s.SQL, s.Mend)
	if s.Proof != nil {
		statements = []string{s.Proof.SQL, s.Proof.Count}
	}
	if s.Batch != nil {
		statements = append(statements, s.Batch.Upper, strings.ReplaceAll(s.Batch.Next, "limit ?", "limit 1"))
	}
	if t.probing {
		return t.probe(ctx, s, statements)
	}
	before, err := t.files(ctx)
	if err != nil {
		return err
	}
	for _, sql := range statements {
		if s.Outside != nil {
			sql = strings.Replace(sql, " concurrently", "", 1)
			if !transactional(sql) {
				continue
			}
		}
		sql = t.there(strings.ReplaceAll(sql, engine.Range, "true"))
		if writes(sql) {
			sql = "explain " + sql // there are no rows to refer to
		}
		if _, err := exec(ctx, t.conn, sql, nil); err != nil {
			return t.wouldNot(s, err)
		}
	}
	after, err := t.files(ctx)
	if err != nil || s.Table == "" || s.Kind == engine.Rebuild {
		return err
	}
	ns, n := t.d.split(s.Table)
	if key := scratch + ns + "." + n; before[key] != "" && before[key] != after[key] && after[key] != "" && !s.Rewrites {
		s.Rewrites, s.Kind, s.Why = true, engine.Rewrite, "the server has shown on an empty copy that it writes every row anew"
		s.Seconds = float64(s.Rows) / rewriteRate
	}
	return nil
}

func (t *trial) wouldNot(s *engine.Step, err error) error {
	return &engine.Refused{Message: fmt.Sprintf("PostgreSQL would not %s: %s", s.What, strings.ReplaceAll(message(err), scratch+t.d.home+".", ""))}
}

// writes reports whether a statement writes rows.
func writes(sql string) bool {
	word, _, _ := strings.Cut(sql, " ")
	return word == "insert" || word == "update" || word == "delete" || word == "with" && strings.Contains(sql, "insert into")
}

// files gives the files of the trial's tables: one that changes shows that the server
// writes every row anew.
func (t *trial) files(ctx context.Context) (map[string]string, error) {
	r, err := query(ctx, t.conn, "select n.nspname || '.' || c.relname, c.relfilenode from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname like 'lastboard\\_trial\\_%' and c.relkind = 'r'", nil)
	if err != nil {
		return nil, err
	}
	files := map[string]string{}
	for _, v := range r.Values {
		files[text(v[0])] = text(v[1])
	}
	return files, nil
}

func message(err error) string {
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		return pe.Message
	}
	return err.Error()
}

// split parts a table's name into its schema and its own.
func (d *database) split(table string) (ns, n string) {
	if mine, ok := strings.CutPrefix(table, engine.Prefix); ok && !strings.Contains(table, ".") {
		return own, mine
	}
	if ns, n, ok := strings.Cut(table, "."); ok {
		return ns, n
	}
	return d.home, table
}

// need makes what a change and its steps speak of, as far as it is not there yet.
func (t *trial) need(ctx context.Context, c *schema.Change, steps []*engine.Step) error {
	for _, n := range subjects(c) {
		if err := t.subject(ctx, n); err != nil {
			return err
		}
	}
	words := map[string]bool{}
	for _, s := range steps {
		statements := s.SQL
		if s.Proof != nil {
			statements = []string{s.Proof.SQL}
		}
		for _, sql := range statements {
			tokens, _ := sqltext.Scan(translate(sql, 0), sqltext.Migration)
			for i, tok := range tokens {
				if tok.Kind != sqltext.Word && tok.Kind != sqltext.Quoted {
					continue
				}
				words[tok.Value] = true
				if i+2 < len(tokens) && tokens[i+1].Is(".") && (tok.Value == own || strings.HasPrefix(tok.Value, engine.Prefix+"kept_")) {
					if err := t.kept(ctx, tok.Value, tokens[i+2].Value); err != nil {
						return err
					}
				}
			}
		}
	}
	for _, table := range t.base.Tables {
		_, n := t.d.split(table.Name)
		if words[n] || words[strings.ToLower(n)] {
			if err := t.make(ctx, table); err != nil {
				return err
			}
		}
	}
	for _, v := range t.base.Views {
		_, n := t.d.split(v.Name)
		if words[n] {
			if err := t.view(ctx, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// subjects names the tables that a change is about.
func subjects(c *schema.Change) []string {
	switch {
	case c.Table != nil && c.Table.Before != nil:
		return []string{c.Table.Before.Name}
	case c.Rows != nil:
		return []string{c.Rows.Table.Name}
	case c.Insert != nil:
		return []string{c.Insert.Table.Name}
	case c.Delete != nil:
		return []string{c.Delete.Table.Name}
	case c.Native != nil:
		var list []string
		for _, n := range c.Native.Statement.Touching {
			list = append(list, n.String())
		}
		return list
	}
	return nil
}

// subject makes a table with all that is tied to it: tables that it refers to, those
// that refer to it, and views.
func (t *trial) subject(ctx context.Context, n string) error {
	table := t.base.Table(n)
	if table == nil {
		return nil
	}
	for _, k := range table.ForeignKeys {
		if other := t.base.Table(k.Table); other != nil {
			if err := t.make(ctx, other); err != nil {
				return err
			}
		}
	}
	if err := t.make(ctx, table); err != nil {
		return err
	}
	for _, o := range t.base.Tables {
		if slices.ContainsFunc(o.ForeignKeys, func(k *schema.ForeignKey) bool { return schema.SameName(k.Table, n) }) {
			if err := t.make(ctx, o); err != nil {
				return err
			}
		}
	}
	if err := t.tie(ctx); err != nil {
		return err
	}
	names := map[string]bool{strings.ToLower(tableOf(table).Name): true}
	for size := 0; size != len(names); {
		size = len(names)
		for _, v := range t.base.Views {
			if mentions(v.Query, names) {
				names[strings.ToLower(tableOf(&schema.Table{Name: v.Name}).Name)] = true
				if err := t.view(ctx, v); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func mentions(text string, names map[string]bool) bool {
	tokens, _ := sqltext.Scan(text, sqltext.Migration)
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && names[strings.ToLower(t.Value)]
	})
}

// make makes an empty table like a real one, but for foreign keys.
func (t *trial) make(ctx context.Context, table *schema.Table) error {
	if t.made[table.Name] || table.Opaque != "" {
		return nil
	}
	t.made[table.Name] = true
	ns, _ := t.d.split(table.Name)
	if err := t.place(ctx, ns); err != nil {
		return err
	}
	bare := *table
	bare.ForeignKeys, bare.Own = nil, nil
	t.left[table.Name] = table.ForeignKeys
	bare.Columns = slices.Clone(table.Columns)
	for i, c := range bare.Columns {
		if c.Options["sequence"] != "" { // its default is the real sequence's, and nothing is ever inserted
			copied := *c
			copied.Options = nil
			bare.Columns[i] = &copied
		}
	}
	for _, sql := range (Engine{}).CreateSQL(&bare) {
		if _, err := exec(ctx, t.conn, t.there(sql), nil); err != nil {
			return fmt.Errorf("table %s cannot be copied to try the change: %w", table.Name, err)
		}
	}
	for _, tr := range table.Own {
		if kept := strings.TrimSuffix(strings.TrimSuffix(tr.Name, goneSuffix), "_moved"); strings.HasPrefix(kept, engine.Prefix+"kept_") {
			if err := t.follower(ctx, tr, kept); err != nil {
				return err
			}
		}
	}
	if len(table.Triggers) > 0 {
		// Nothing of the applications' acts in a trial.
		_, err := exec(ctx, t.conn, t.there("alter table "+name(table.Name)+" disable trigger user"), nil)
		return err
	}
	return nil
}

// follower makes a trigger that lets kept values follow their rows, with its function.
func (t *trial) follower(ctx context.Context, tr *schema.Trigger, kept string) error {
	function := name(kept + goneSuffix)
	create := "create or replace function " + function + "() returns trigger language plpgsql as $lastboard$ begin return null; end $lastboard$"
	for _, sql := range []string{create, tr.SQL} {
		if _, err := exec(ctx, t.conn, t.there(sql), nil); err != nil {
			return err
		}
	}
	return nil
}

// tie adds the foreign keys whose both ends are there.
func (t *trial) tie(ctx context.Context) error {
	for _, n := range slices.Sorted(maps.Keys(t.left)) {
		var rest []*schema.ForeignKey
		for _, k := range t.left[n] {
			if !t.made[n] || !t.made[k.Table] {
				rest = append(rest, k)
				continue
			}
			if _, err := exec(ctx, t.conn, t.there(addForeignKey(&schema.Table{Name: n}, k)), nil); err != nil {
				return fmt.Errorf("table %s cannot be copied to try the change: %w", n, err)
			}
		}
		t.left[n] = rest
	}
	return nil
}

// view makes a view over empty tables.
func (t *trial) view(ctx context.Context, v *schema.View) error {
	if t.made[v.Name] {
		return nil
	}
	t.made[v.Name] = true
	for _, table := range t.base.Tables {
		if mentions(v.Query, map[string]bool{strings.ToLower(tableOf(table).Name): true}) {
			if err := t.make(ctx, table); err != nil {
				return err
			}
		}
	}
	for _, other := range t.base.Views {
		if other != v && mentions(v.Query, map[string]bool{strings.ToLower(tableOf(&schema.Table{Name: other.Name}).Name): true}) {
			if err := t.view(ctx, other); err != nil {
				return err
			}
		}
	}
	ns, _ := t.d.split(v.Name)
	if err := t.place(ctx, ns); err != nil {
		return err
	}
	if _, err := exec(ctx, t.conn, t.there(v.SQL), nil); err != nil {
		return fmt.Errorf("view %s cannot be copied to try the change: %w", v.Name, err)
	}
	return nil
}

// kept makes an empty copy of a table of Lastboard's own that a step reads.
func (t *trial) kept(ctx context.Context, ns, n string) error {
	key := ns + "." + n
	if t.made[key] {
		return nil
	}
	real, err := (&reader{query: t.d.Query, where: "n.nspname = " + literal(ns), spell: func(_, x string) string { return ns + "." + x }}).read(ctx)
	if err != nil {
		return err
	}
	table := real.Table(key)
	if table == nil {
		return nil // a step makes it
	}
	bare := *table
	bare.Triggers, bare.Own = nil, nil
	if ns != own {
		bare.ForeignKeys = nil
	}
	return t.make(ctx, &bare)
}

// read takes in what the steps have led to.
func (t *trial) read(ctx context.Context, c *schema.Change) error {
	where := "n.nspname like 'lastboard\\_trial\\_%' and n.nspname <> 'lastboard_trial_lastboard' and n.nspname !~ '^lastboard_trial_lastboard_' and c.relname !~ '^lastboard_'"
	r := &reader{
		query: func(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
			rows, err := query(ctx, t.conn, sql, args)
			if err == nil {
				real(rows)
			}
			return rows, err
		},
		where: where, spell: func(ns, n string) string { return spell(t.d.home, strings.TrimPrefix(ns, scratch), n) },
	}
	found, err := r.read(ctx)
	if err != nil {
		return err
	}
	next := &schema.Schema{Home: t.base.Home}
	t.forgotten(c, found)
	for _, table := range t.base.Tables {
		if !t.made[table.Name] {
			next.Tables = append(next.Tables, table)
		}
	}
	for _, table := range found.Tables {
		t.made[table.Name] = true
		t.likeBefore(c, table)
		next.Tables = append(next.Tables, table)
	}
	for _, v := range t.base.Views {
		if !t.made[v.Name] {
			next.Views = append(next.Views, v)
		}
	}
	for _, v := range found.Views {
		t.made[v.Name] = true
		next.Views = append(next.Views, v)
	}
	t.memory.last = t.base
	t.settle(c, next)
	t.base = t.memory.keep(next)
	return nil
}

// real gives what the server says of the trial the names of the real schemas.
func real(rows *engine.Rows) {
	for _, row := range rows.Values {
		for i, v := range row {
			if s, ok := v.(string); ok && strings.Contains(s, scratch) {
				row[i] = strings.ReplaceAll(s, scratch, "")
			}
		}
	}
}

// forgotten drops what is no longer there from what was made.
func (t *trial) forgotten(c *schema.Change, found *schema.Schema) {
	if c.Table != nil && c.Table.Before != nil && c.Table.After != nil && c.Table.After.Name != c.Table.Before.Name {
		t.left[c.Table.After.Name] = t.left[c.Table.Before.Name]
		delete(t.left, c.Table.Before.Name)
	}
}

// likeBefore gives a table what the trial does not have of it: foreign keys to tables
// that are not there, the sequences of numbers, its options.
func (t *trial) likeBefore(c *schema.Change, table *schema.Table) {
	before := t.base.Table(table.Name)
	was := func(column string) string { return column }
	if c.Table != nil && c.Table.Before != nil && c.Table.After != nil && schema.SameName(c.Table.After.Name, table.Name) {
		before = t.base.Table(c.Table.Before.Name)
		was = func(column string) string { return c.Table.From[column] }
	}
	table.ForeignKeys = append(table.ForeignKeys, t.left[table.Name]...)
	slices.SortFunc(table.ForeignKeys, func(a, b *schema.ForeignKey) int { return strings.Compare(a.Name, b.Name) })
	if before == nil {
		return
	}
	table.Options = before.Options
	for _, col := range table.Columns {
		if old := before.Column(was(col.Name)); old != nil && old.Options["sequence"] != "" && col.Default != nil {
			col.Options = old.Options
		}
	}
}

// settle gives the expressions of what was planned the words in which the server keeps
// them, where they are new or have changed: the two cannot be compared as text.
func (t *trial) settle(c *schema.Change, now *schema.Schema) {
	if c.Table == nil || c.Table.After == nil {
		return
	}
	want, got := c.Table.After, now.Table(c.Table.After.Name)
	if got == nil {
		return
	}
	words := func(w, g *schema.Expr) *schema.Expr {
		if w == nil || g == nil || w.Native != "" || w.Tree == nil {
			return w
		}
		if g.Tree == nil {
			g.Tree = w.Tree
		}
		return &schema.Expr{Tree: w.Tree, Native: g.Native}
	}
	// The server puts a column that comes at the end, wherever it was.
	slices.SortStableFunc(want.Columns, func(a, b *schema.Column) int { return place(got, a.Name) - place(got, b.Name) })
	for _, col := range want.Columns {
		g := got.Column(col.Name)
		if g == nil {
			continue
		}
		col.Default = words(col.Default, g.Default)
		if col.Generated != nil && g.Generated != nil {
			col.Generated = &schema.Generated{Expr: *words(&col.Generated.Expr, &g.Generated.Expr), Stored: col.Generated.Stored}
		}
	}
	want.Checks = slices.Clone(want.Checks)
	for i, k := range want.Checks {
		for _, g := range got.Checks {
			if schema.SameName(g.Name, k.Name) {
				copied := *k
				copied.Expr = *words(&k.Expr, &g.Expr)
				want.Checks[i] = &copied
			}
		}
	}
	want.Indexes = slices.Clone(want.Indexes)
	for i, x := range want.Indexes {
		g := got.Index(x.Name)
		if g == nil || len(g.Parts) != len(x.Parts) {
			continue
		}
		copied := *x
		copied.Where = words(x.Where, g.Where)
		copied.Parts = slices.Clone(x.Parts)
		for j := range copied.Parts {
			copied.Parts[j].Expr = words(x.Parts[j].Expr, g.Parts[j].Expr)
		}
		if x.Options["definition"] != "" {
			copied.Options = g.Options
		}
		want.Indexes[i] = &copied
	}
}

func place(t *schema.Table, column string) int {
	return slices.IndexFunc(t.Columns, func(c *schema.Column) bool { return schema.SameName(c.Name, column) })
}

// needed names what uses the table or the columns that a change drops: the server
// would refuse to drop them, or take what uses them along.
func (t *trial) needed(ctx context.Context, c *schema.TableChange) ([]string, error) {
	var columns []string
	if c.After != nil {
		for _, col := range c.Dropped() {
			columns = append(columns, col.Name)
		}
		for _, col := range c.After.Columns {
			if from, ok := c.From[col.Name]; ok && declaration(c.Before.Column(from)) != declaration(col) {
				columns = append(columns, from)
			}
		}
		if len(columns) == 0 {
			return nil, nil
		}
	}
	if err := t.subject(ctx, c.Before.Name); err != nil {
		return nil, err
	}
	ns, n := t.d.split(c.Before.Name)
	var list []string
	add := func(names ...string) {
		for _, x := range names {
			if !slices.Contains(list, x) {
				list = append(list, x)
			}
		}
	}
	inTrial := func(sql string, args ...any) (*engine.Rows, error) { return query(ctx, t.conn, sql, args) }
	there := func(sql string, args ...any) (*engine.Rows, error) { return t.d.Query(ctx, sql, args...) }
	names, err := dependents(inTrial, scratch+ns, n, columns)
	if err != nil {
		return nil, err
	}
	add(names...)
	if names, err = dependents(there, ns, n, columns); err != nil {
		return nil, err
	}
	for _, x := range names { // the trial knows what planned changes have done to views and triggers
		if !strings.HasPrefix(x, "view ") && !strings.HasPrefix(x, "trigger ") && !strings.HasPrefix(x, "materialized view ") {
			add(x)
		}
	}
	return list, nil
}

// selectDependents lists what would not survive without a table, or without some of its
// columns: views, triggers that name a column, policies, functions, publications.
const selectDependents = `
	select distinct case
		when d.classid = 'pg_rewrite'::regclass then (select case v.relkind when 'm' then 'materialized view ' else 'view ' end || v.relname from pg_rewrite w join pg_class v on v.oid = w.ev_class where w.oid = d.objid)
		when d.classid = 'pg_trigger'::regclass then (select 'trigger ' || g.tgname from pg_trigger g where g.oid = d.objid)
		when d.classid = 'pg_policy'::regclass then (select 'policy ' || p.polname from pg_policy p where p.oid = d.objid)
		when d.classid = 'pg_proc'::regclass then (select 'function ' || f.proname from pg_proc f where f.oid = d.objid)
		else pg_describe_object(d.classid, d.objid, d.objsubid) end
	from pg_depend d join pg_class c on c.oid = d.refobjid join pg_namespace n on n.oid = c.relnamespace left join pg_attribute a on a.attrelid = c.oid and a.attnum = d.refobjsubid
	where d.refclassid = 'pg_class'::regclass and n.nspname = ? and c.relname = ? and d.deptype = 'n'
		and d.classid in ('pg_rewrite'::regclass, 'pg_trigger'::regclass, 'pg_policy'::regclass, 'pg_proc'::regclass, 'pg_publication_rel'::regclass)
		and not (d.classid = 'pg_trigger'::regclass and exists (select 1 from pg_trigger g where g.oid = d.objid and (g.tgname like 'lastboard\_%' or g.tgisinternal)))
		and (? = '' or a.attname = any (string_to_array(?, e'\x1f')))
	order by 1`

func dependents(query func(string, ...any) (*engine.Rows, error), ns, n string, columns []string) ([]string, error) {
	list := strings.Join(columns, "\x1f")
	r, err := query(selectDependents, ns, n, list, list)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, v := range r.Values {
		if v[0] != nil {
			names = append(names, text(v[0]))
		}
	}
	return names, nil
}
