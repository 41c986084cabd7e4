package mariadb

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// trial is a database of its own on the same server, with an empty copy of each table
// that a step speaks of. The server cannot take back what defines something, so it is
// made, and dropped when the trial ends.
type trial struct {
	d        *database
	s        *session
	name     string
	base     *schema.Schema // the tables as they are, and as planned changes left them
	made     map[string]bool
	uncopied map[string]bool // triggers that cannot be made here
	// left are foreign keys that a table in the trial lacks, since the tables they lead
	// to were not needed there.
	left   map[string][]*schema.ForeignKey
	memory memory
	// untried means that a native statement was not tried: what it makes is not here.
	untried bool
}

// scratch begins the names of the databases of trials.
const scratch = "lastboard_trial_"

// Trial implements engine.Database.
func (d *database) Trial(ctx context.Context) (engine.Trial, error) {
	base, err := d.Schema(ctx)
	if err != nil {
		return nil, err
	}
	s, err := d.connect(ctx, "")
	if err != nil {
		return nil, err
	}
	t := &trial{d: d, s: s, base: base, name: fmt.Sprintf("%s%d", scratch, s.id), made: map[string]bool{},
		uncopied: map[string]bool{}, left: map[string][]*schema.ForeignKey{}}
	if err := t.open(ctx); err != nil {
		return nil, errors.Join(err, t.Close())
	}
	return t, nil
}

// open makes the database, after those have gone that died trials have left.
func (t *trial) open(ctx context.Context) error {
	t.s.exec(ctx, "set session sql_log_bin = 0") // where the user may: replicas need none of it
	if _, err := t.s.query(ctx, "select get_lock("+literal(t.name)+", 0)"); err != nil {
		return err
	}
	dead, err := deadTrials(ctx, t.s, "")
	if err != nil {
		return err
	}
	for _, name := range dead {
		dropTrial(ctx, t.s, name) // one that does not go is in nobody's way
	}
	// A statement as it is written leaves much to what the database gives by default.
	r, err := t.s.query(ctx, "select default_character_set_name, default_collation_name from "+
		"information_schema.schemata where schema_name = ?", t.d.config.DBName)
	if err != nil || len(r.Values) == 0 {
		return errors.Join(err, fmt.Errorf("what database %s gives by default is not known", t.d.config.DBName))
	}
	if _, err := t.s.exec(ctx, "create database "+quote(t.name)+" character set "+text(r.Values[0][0])+" collate "+
		text(r.Values[0][1])+" comment "+literal(t.d.config.DBName)); err != nil {
		return t.d.cannot("user "+t.d.account+" may make no database for the empty copies on which steps are tried",
			"grant all on `lastboard\\_trial\\_%`.* to "+t.d.account, err)
	}
	_, err = t.s.exec(ctx, "use "+quote(t.name))
	return err
}

// deadTrials lists the databases of trials that have died, of one database or, where of is
// "", of all.
func deadTrials(ctx context.Context, s *session, of string) (list []string, err error) {
	r, err := s.query(ctx, "select schema_name from information_schema.schemata where schema_name like '"+
		strings.ReplaceAll(scratch, "_", "!_")+"%' escape '!' and schema_name regexp '^lastboard_trial_[0-9]+$' and "+
		"schema_comment <> '' and (? = '' or binary schema_comment = ?) and is_free_lock(schema_name) = 1", of, of)
	if err != nil {
		return nil, err
	}
	for _, v := range r.Values {
		list = append(list, text(v[0]))
	}
	return list, nil
}

// Lasts implements engine.Trial.
func (t *trial) Lasts() bool { return true }

// Close drops the database. The server may still be at the files of a table that has just gone; and where several
// sessions make triggers at once, it may leave a copy of a table's file of triggers, or of a trigger's own (a.TRG-,
// seen with 10.11), and then drops no database with that folder: those are written again, which takes them away. A
// folder that is still not empty stays as an empty database that nobody is told of: what was to be done is done.
func (t *trial) Close() error {
	ctx := context.Background()
	triggers, err := t.s.query(ctx, "select event_object_table, trigger_name from information_schema.triggers where "+
		"event_object_schema = ?", t.name)
	for n := 0; err == nil && n < 10; n++ {
		if err = dropTrial(ctx, t.s, t.name); code(err) != errNotEmpty {
			break
		}
		err = nil
		time.Sleep(time.Duration(n) * 10 * time.Millisecond)
		t.writeAgain(ctx, triggers.Values)
	}
	return errors.Join(err, t.s.close())
}

// writeAgain makes and drops tables and triggers of the names that were here.
func (t *trial) writeAgain(ctx context.Context, triggers [][]any) {
	of := map[string][]string{}
	for table := range t.made {
		of[table] = nil
	}
	for _, v := range triggers {
		of[text(v[0])] = append(of[text(v[0])], text(v[1]))
	}
	for table, names := range of {
		name := quote(t.name) + "." + quote(table)
		t.s.exec(ctx, "create table if not exists "+name+" (x integer)")
		for _, n := range slices.Concat(names, names, []string{"lastboard_a", "lastboard_b"}) {
			t.s.exec(ctx, "create or replace trigger "+quote(t.name)+"."+quote(n)+" before insert on "+name+
				" for each row set @lastboard_again = 1")
		}
		t.s.exec(ctx, "drop table if exists "+name)
	}
}

// dropTrial drops the database of a trial.
func dropTrial(ctx context.Context, s *session, name string) error {
	_, err := s.exec(ctx, "drop database if exists "+quote(name))
	return err
}

// Schema implements engine.Trial.
func (t *trial) Schema(context.Context) (*schema.Schema, error) { return t.base, nil }

// Run implements engine.Trial.
func (t *trial) Run(ctx context.Context, c *schema.Change, steps []*engine.Step) (needed, broken []string, err error) {
	if err := t.d.mayMake(ctx, steps); err != nil {
		return nil, nil, err
	}
	if err := t.need(ctx, c, steps); err != nil {
		return nil, nil, err
	}
	x := c.Table
	if c.Mirror != nil {
		x = c.Mirror.Renaming()
	}
	if x != nil && x.Before != nil {
		if needed, err = t.needed(ctx, x); err != nil || len(needed) > 0 {
			return needed, nil, err
		}
	}
	for _, s := range steps {
		if err := t.step(ctx, s); err != nil {
			return nil, nil, err
		}
	}
	if err := t.restores(ctx, c); err != nil {
		return nil, nil, err
	}
	if err := t.read(ctx, c); err != nil {
		return nil, nil, err
	}
	for _, v := range t.base.Views {
		if t.made[v.Name] {
			broken = append(broken, "view "+v.Name)
		}
	}
	broken, err = t.Broken(ctx, broken)
	return nil, broken, err
}

// Broken implements engine.Trial: views over what is gone are there and do not work.
func (t *trial) Broken(ctx context.Context, names []string) ([]string, error) {
	var list []string
	for _, n := range names {
		view, ok := strings.CutPrefix(n, "view ")
		if !ok {
			continue
		}
		_, err := t.s.query(ctx, "select 1 from "+quote(view)+" limit 0")
		switch {
		case code(err) == errViewBroken:
			list = append(list, n)
		case err != nil && code(err) != errNoTable:
			return nil, err
		}
	}
	return list, nil
}

// restores tries whether what a way back would compute can be computed: better now than
// on the way back.
func (t *trial) restores(ctx context.Context, c *schema.Change) error {
	if c.Table == nil || c.Table.Before == nil || c.Table.After == nil {
		return nil
	}
	for _, column := range slices.Sorted(maps.Keys(c.Table.Restore)) {
		text, err := (dialect{}).Expr(c.Table.Restore[column], planning.Scope{Table: c.Table.After, Mode: planning.Computed})
		if err == nil {
			_, err = t.s.query(ctx, "explain select "+text+" from "+quote(c.Table.After.Name))
		}
		if err != nil {
			return &engine.Refused{Message: fmt.Sprintf("the way back could not compute column %s: %s", column, message(err)),
				Cure: "write another restore using, with a cast if need be"}
		}
	}
	return nil
}

// natives are the definitions of the server's own that may be tried: an event would run, and
// a table can be a window on another server or a file.
func (t *trial) natives() planning.Native {
	return planning.Native{
		Creates: []string{"table", "index", "view", "function", "procedure", "trigger", "sequence"},
		Alters:  []string{"table", "view"},
		Drops:   []string{"table", "view", "index"},
		Never: []string{"soname", "connection", "directory", "federated", "federatedx", "connect", "spider", "csv", "s3",
			"union", "event", "wrapper", "exchange", "import", "discard"},
		There: func(n string) bool { return t.made[n] || t.base.Table(n) != nil && t.made[t.base.Table(n).Name] },
	}
}

// step tries one step, and gives it what the server shows of it: the algorithm and the
// lock of each alter.
func (t *trial) step(ctx context.Context, s *engine.Step) error {
	bare := *s
	bare.SQL = nil
	for _, sql := range s.SQL {
		_, sql = modeOf(sql)
		bare.SQL = append(bare.SQL, strings.TrimPrefix(sql, unchecked))
	}
	if t.natives().UntriedStep(&bare) {
		s.Untried, t.untried = bare.Untried, true
		return nil
	}
	statements := s.SQL
	switch {
	case s.Proof != nil:
		statements = []string{s.Proof.SQL, s.Proof.Count}
	case s.Batch != nil:
		statements = append(slices.Clone(s.SQL), s.Batch.Upper, s.Batch.Second())
	}
	var found []string
	for _, sql := range statements {
		more, err := t.statement(ctx, sql)
		if c := code(err); s.Native && t.untried && (c == errNoTable || c == errNoRoutine || c == errViewBroken) {
			s.Untried = "it needs what was not tried itself: " + message(err)
			return nil
		}
		if err != nil {
			return t.wouldNot(s, err)
		}
		found = append(found, more...)
	}
	s.Ways = found
	if err := s.Fill(found); err != nil {
		return err
	}
	worst := -1
	for _, way := range found {
		worst = max(worst, slices.Index(ways, way))
	}
	if worst >= 0 {
		return t.believe(s, ways[worst])
	}
	return nil
}

// statement tries one statement, and gives the algorithm and the lock of each alter in it.
func (t *trial) statement(ctx context.Context, sql string) (found []string, err error) {
	if head, rest := modeOf(sql); head != "" {
		if _, err := t.s.exec(ctx, head); err != nil {
			return nil, err
		}
		found, err = t.statement(ctx, rest)
		_, back := t.s.exec(ctx, (Engine{}).Preamble())
		return found, errors.Join(err, back)
	}
	if strings.Contains(sql, engine.Between) {
		for _, part := range strings.Split(sql, engine.Between)[1:] {
			more, err := t.statement(ctx, part)
			if err != nil {
				return nil, err
			}
			found = append(found, more...)
		}
		return found, nil
	}
	if strings.Contains(sql, algorithm) {
		way, err := t.d.cheapest(ctx, sql, func(sql string) error { _, err := t.s.exec(ctx, sql); return err })
		return []string{way}, err
	}
	text, _, _ := strings.Cut(engine.Whole(sql), engine.Noted)
	word, _, _ := strings.Cut(text, " ")
	switch {
	case word == "insert" && strings.Contains(text, ") values ") && !strings.Contains(text, "?"):
		// For real: only so does the server look at the values.
		_, err = t.s.exec(ctx, "start transaction")
		if err == nil {
			_, err = t.s.exec(ctx, "set statement foreign_key_checks = 0 for "+text)
			_, e := t.s.exec(ctx, "rollback")
			err = errors.Join(err, e)
		}
	case slices.Contains([]string{"insert", "update", "delete"}, word):
		text = strings.Replace("explain "+text, " limit ?", " limit 1", 1)
		_, err = t.s.query(ctx, text)
	case word == "select", word == "with":
		_, err = t.s.query(ctx, text)
	default:
		if _, err = t.s.exec(ctx, text); isAnew(text) && refusedWay(err) {
			err = nil // there is another way
		}
	}
	return nil, err
}

// believe corrects a step by the way in which the server did it on an empty copy.
func (t *trial) believe(s *engine.Step, way string) error {
	if t.d.cluster && !strings.HasPrefix(way, "algorithm=instant") {
		return &engine.Refused{
			Message: fmt.Sprintf("this server is one of a cluster that runs each statement everywhere at once, and to %s "+
				"is not instant there (%s)", s.What, way),
			Cure: "on a cluster only instant changes are made",
		}
	}
	copies := strings.HasPrefix(way, "algorithm=copy") || strings.HasPrefix(way, "algorithm=inplace")
	s.Lock = lockMetadata
	if strings.HasSuffix(way, "shared") {
		s.Lock = lockShared
	}
	switch {
	case strings.HasPrefix(way, "algorithm=instant") && strings.HasPrefix(s.SQL[len(s.SQL)-1], "select "):
		s.Kind, s.Rewrites = engine.Scan, false // of the rows that are proven
	case strings.HasPrefix(way, "algorithm=instant") && keepsLocked(s):
		s.Kind, s.Rewrites = engine.Scan, false // which is what takes the time
	case strings.HasPrefix(way, "algorithm=instant"):
		s.Rewrites, s.Rows, s.Seconds = false, 0, 0
		if s.Kind == engine.Rewrite || s.Kind == engine.Build || s.Kind == engine.Scan &&
			!strings.Contains(s.SQL[0], engine.Between) {
			s.Kind = engine.Catalog
		}
	case copies && s.Kind != engine.Build:
		s.Kind, s.Rewrites = engine.Rewrite, true
		s.Seconds = max(s.Seconds, float64(s.Rows)/rewriteRate)
		s.Pause = float64(s.Bytes) / awayRate
		if s.Lock == lockShared { // for all of it
			s.Pause = max(s.Pause, s.Seconds)
		}
	case copies:
		s.Rewrites = true
	case s.Kind == engine.Rewrite:
		s.Kind, s.Rewrites = engine.Scan, false
	case s.Kind == engine.Catalog: // an index goes
		s.Seconds = 0
	}
	if s.Kind == engine.Catalog && s.Seconds == 0 {
		s.Rows = 0
	}
	if s.Lock != lockShared && (!strings.Contains(s.SQL[0], engine.Between) || !keepsLocked(s) &&
		strings.HasPrefix(way, "algorithm=instant")) {
		s.WritersWait = engine.WaitBriefly
	}
	if s.Why == "" {
		s.Why = "the server has accepted " + way + " on an empty copy"
	}
	return nil
}

// keepsLocked reports whether a step keeps values while a table is locked.
func keepsLocked(s *engine.Step) bool {
	return strings.Contains(s.SQL[0], engine.Between+"insert into ")
}

func (t *trial) wouldNot(s *engine.Step, err error) error {
	return &engine.Refused{Message: fmt.Sprintf("MariaDB would not %s: %s", s.What,
		strings.NewReplacer("`"+t.name+"`.", "", `"`+t.name+`".`, "", t.name+".", "").Replace(message(err)))}
}

// read takes in what the steps have led to.
func (t *trial) read(ctx context.Context, c *schema.Change) error {
	found, err := (&reader{query: t.s.query, database: t.name, standsFor: t.d.config.DBName}).read(ctx)
	if err != nil {
		return err
	}
	if x := c.Table; x != nil && x.Before != nil && x.After != nil && x.After.Name != x.Before.Name {
		t.left[x.After.Name] = t.left[x.Before.Name]
		delete(t.left, x.Before.Name)
		t.made[x.After.Name] = true
		for _, ks := range t.left {
			for i, k := range ks {
				if schema.SameName(k.Table, x.Before.Name) {
					copied := *k
					copied.Table = x.After.Name
					ks[i] = &copied
				}
			}
		}
	}
	next := &schema.Schema{}
	for _, table := range t.base.Tables {
		if !t.made[table.Name] {
			next.Tables = append(next.Tables, table)
		}
	}
	for _, table := range found.Tables {
		t.made[table.Name] = true
		before := t.base.Table(table.Name)
		if c.Table != nil && c.Table.Before != nil && c.Table.After != nil &&
			schema.SameName(c.Table.After.Name, table.Name) {
			before = t.base.Table(c.Table.Before.Name)
		}
		table.ForeignKeys = append(table.ForeignKeys, t.left[table.Name]...)
		leaveServing(table)
		slices.SortFunc(table.ForeignKeys, func(a, b *schema.ForeignKey) int { return strings.Compare(a.Name, b.Name) })
		if x := c.Table; before == nil && x != nil && x.After != nil && x.Rows != nil &&
			schema.SameName(x.After.Name, table.Name) {
			table.Triggers = x.After.Triggers // it comes back with them, and has none in the trial
		}
		if before != nil {
			for _, tr := range before.Triggers {
				if t.uncopied[tr.Name] {
					table.Triggers = append(table.Triggers, tr)
				}
			}
		}
		next.Tables = append(next.Tables, table)
	}
	slices.SortStableFunc(next.Tables, func(a, b *schema.Table) int { return strings.Compare(a.Name, b.Name) })
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
	if c.Table != nil && c.Table.After != nil {
		planning.ServerWords(c.Table.After, next.Table(c.Table.After.Name))
	}
	t.base = t.memory.keep(next)
	return nil
}
