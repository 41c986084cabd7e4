package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
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
	first  *schema.Schema // the tables when the trial began
	// probing means that the copies are committed, so that the locks of each step show.
	probing bool
	parts   []string // of tables whose rows stand in parts, made here alone
	untried bool     // a native statement was not tried: what it makes is not here
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
	t := &trial{d: d, conn: conn, base: base, made: map[string]bool{}, places: map[string]bool{},
		left: map[string][]*schema.ForeignKey{}}
	if err := script(ctx, conn, "begin; set local lock_timeout = '2s'; set local lastboard.writes = 'on'"); err != nil {
		return nil, errors.Join(err, t.Close())
	}
	return t.open(ctx)
}

// open makes the places of a trial.
func (t *trial) open(ctx context.Context) (*trial, error) {
	d := t.d
	t.first = t.base
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
		case tokens[i+1].Is(".") && !follows(tokens, i, ".") && !follows(tokens, i, "collate") && t.stands(tok.Value),
			follows(tokens, i, "schema") && t.stands(tok.Value):
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
	if c.View != nil && c.View.After != nil {
		if err := t.reads(ctx, c.View.After); err != nil {
			return nil, nil, err
		}
	}
	return nil, nil, t.read(ctx, c)
}

// reads refuses a view of a table that has gone, or has another name, by now: the real one
// still stands behind the copies.
func (t *trial) reads(ctx context.Context, v *schema.View) error {
	r, err := query(ctx, t.conn, `select distinct c.relname from pg_rewrite r join pg_depend d on d.classid = 'pg_rewrite'::regclass and d.objid = r.oid
		join pg_class c on d.refclassid = 'pg_class'::regclass and c.oid = d.refobjid join pg_namespace n on n.oid = c.relnamespace
		where r.ev_class = to_regclass($1) and n.nspname = $2`, []any{t.there(name(v.Name)), t.d.home})
	if err != nil {
		return err
	}
	for _, row := range r.Values {
		n := text(row[0])
		if t.first.Table(n) != nil && t.base.Table(n) == nil || t.first.View(n) != nil && t.base.View(n) == nil {
			return &engine.Refused{Message: "view " + v.Name + " reads " + n + ", which is not there any more",
				Cure: "name what it is called by now"}
		}
	}
	return nil
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
				return &engine.Refused{Message: fmt.Sprintf("the way back could not compute column %s: %s", column, message(err)),
					Cure: "write another restore using, with a cast if need be"}
			}
		}
	}
	return nil
}

// Broken implements engine.Trial: the server lets nothing be broken but what it does
// not understand.
func (t *trial) Broken(context.Context, []string) ([]string, error) { return nil, nil }

// natives are the definitions of the server's own that may be tried. A language that is
// trusted runs nothing of a routine when it is made.
func (t *trial) natives() planning.Native {
	return planning.Native{
		Creates: []string{"table", "index", "view", "function", "procedure", "trigger", "type", "domain", "sequence", "rule",
			"policy"},
		Alters:   []string{"table", "view", "index", "trigger", "policy", "rule", "column"},
		Drops:    []string{"table", "view", "trigger", "policy", "rule"},
		Harmless: []string{bodiesLater},
		Never:    []string{"concurrently", "tablespace", "soname", "owner", "publication", "subscription", "extension"},
		There: func(n string) bool {
			return t.made[n] || t.base.Table(n) != nil && t.made[t.base.Table(n).Name]
		},
		Place: t.stands,
	}
}

func (t *trial) step(ctx context.Context, s *engine.Step) error {
	if ns := schemaMade(s); ns != "" {
		return t.place(ctx, ns)
	}
	if t.natives().UntriedStep(s) {
		t.untried = true
		return nil
	}
	if s.Native && t.untried { // it may need what was not made here
		return t.ifAllIsThere(ctx, s)
	}
	return t.all(ctx, s)
}

// ifAllIsThere tries a native step, and leaves it untried where it names what is not there: an earlier
// one that was not tried may make it.
func (t *trial) ifAllIsThere(ctx context.Context, s *engine.Step) error {
	if _, err := exec(ctx, t.conn, "savepoint native", nil); err != nil {
		return err
	}
	err := t.all(ctx, s)
	end := "release savepoint native"
	if unknown := missing(err); err != nil && unknown != "" {
		s.Untried, err = "it needs what was not tried itself: "+unknown, nil
		end = "rollback to savepoint native"
	}
	if err == nil {
		_, err = exec(ctx, t.conn, end, nil)
	}
	return err
}

// missing says what a statement named that is not there; "" for another error.
func missing(err error) string {
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		switch pe.Code { // undefined: a table, a function, another object, a schema
		case "42P01", "42883", "42704", "3F000":
			return pe.Message
		}
	}
	return ""
}

// all tries the statements of a step.
func (t *trial) all(ctx context.Context, s *engine.Step) error {
	statements := slices.Concat(s.SQL, s.Mend)
	if s.Proof != nil {
		statements = []string{s.Proof.SQL, s.Proof.Count}
	}
	if s.Batch != nil {
		statements = append(statements, s.Batch.Upper, s.Batch.Second())
	}
	statements = slices.DeleteFunc(statements, func(sql string) bool { return givesOthers(s, sql) })
	if t.probing {
		return errors.Join(t.probe(ctx, s, statements), t.others(ctx, s))
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
		sql = t.there(engine.Whole(sql))
		if writes(sql) {
			sql = "explain " + sql // there are no rows to refer to
		}
		if _, err := exec(ctx, t.conn, sql, nil); err != nil {
			return t.wouldNot(s, err)
		}
	}
	if err := t.others(ctx, s); err != nil {
		return err
	}
	after, err := t.files(ctx)
	if err != nil || s.Table == "" || s.Kind == engine.Rebuild {
		return err
	}
	ns, n := t.d.split(s.Table)
	if key := scratch + ns + "." + n; before[key] != "" && before[key] != after[key] && after[key] != "" && !s.Rewrites {
		s.Rewrites, s.Kind, s.Why = true, engine.Rewrite,
			"the server has shown on an empty copy that it writes every row anew"
		s.Seconds = float64(s.Rows) / rewriteRate
	}
	return nil
}

// givesOthers reports whether a statement of a step gives those that are to be run.
func givesOthers(s *engine.Step, sql string) bool {
	return s.Outside != nil && slices.ContainsFunc(s.Outside.Statements, func(st engine.Statement) bool {
		return st.Each && st.SQL == sql
	})
}

// others tries the statements that statements of a step give: for the part that a copy has.
func (t *trial) others(ctx context.Context, s *engine.Step) error {
	if s.Outside == nil {
		return nil
	}
	for _, st := range s.Outside.Statements {
		for rows := 1; st.Each && rows > 0; {
			r, err := query(ctx, t.conn, t.namesThere(t.there(st.SQL)), nil)
			if err != nil {
				return err
			}
			rows = len(r.Values)
			for _, v := range r.Values {
				sql := strings.Replace(t.there(text(v[0])), " concurrently", "", 1)
				if _, err := exec(ctx, t.conn, sql, nil); err != nil {
					return t.wouldNot(s, err)
				}
			}
		}
	}
	return nil
}

// namesThere leads names in strings, with which the catalog is asked, to the copies.
func (t *trial) namesThere(sql string) string {
	for ns := range t.places {
		sql = strings.ReplaceAll(sql, "to_regclass('"+quote(ns)+".", "to_regclass('"+quote(scratch+ns)+".")
	}
	return sql
}

// schemaMade gives the schema that a native statement makes, and nothing else; "" for another step.
func schemaMade(s *engine.Step) string {
	if !s.Native || len(s.SQL) != 1 {
		return ""
	}
	tokens, _ := sqltext.Scan(s.SQL[0], sqltext.Engine)
	var words []sqltext.Token
	for _, t := range tokens {
		if t.Kind != sqltext.EOF && !t.Is("if") && !t.Is("not") && !t.Is("exists") {
			words = append(words, t)
		}
	}
	if len(words) != 3 || !words[0].Is("create") || !words[1].Is("schema") {
		return ""
	}
	return words[2].Value
}

func (t *trial) wouldNot(s *engine.Step, err error) error {
	text := message(err)
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "2BP01" && pe.Detail != "" { // what depends on it
		text += " (" + strings.ReplaceAll(pe.Detail, "\n", "; ") + ")"
	}
	return &engine.Refused{Message: fmt.Sprintf("PostgreSQL would not %s: %s", s.What,
		strings.ReplaceAll(text, scratch+t.d.home+".", "")), Err: err}
}

// writes reports whether a statement writes rows.
func writes(sql string) bool {
	word, _, _ := strings.Cut(sql, " ")
	return word == "insert" || word == "update" || word == "delete" || word == "with" &&
		strings.Contains(sql, "insert into")
}

// files gives the files of the trial's tables: one that changes shows that the server
// writes every row anew.
func (t *trial) files(ctx context.Context) (map[string]string, error) {
	r, err := query(ctx, t.conn,
		"select n.nspname || '.' || coalesce(p.relname, c.relname), c.relfilenode from pg_class c join "+
			"pg_namespace n on n.oid = c.relnamespace left join pg_inherits on inhrelid = c.oid and c.relispartition left join "+
			"pg_class p on p.oid = inhparent where n.nspname like 'lastboard\\_trial\\_%' and c.relkind = 'r'", nil)
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
