package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/term"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/project"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/sqltext"
	"lastboard/internal/view"
)

// session is a command at work on one database of one project.
type session struct {
	*view.Printer
	project  *project.Project
	database *project.Database
	engine   engine.Engine
	db       engine.Database
	ledger   *ledger.Ledger
	probe    bool // plans are tried on committed copies
	replicas []engine.Database
}

// open reads the project and connects. Commands say first which database it is.
func (g *global) open(ctx context.Context, mode engine.Mode) (*session, error) {
	s := &session{Printer: g.printer()}
	var err error
	if s.project, err = g.load(); err != nil {
		return nil, err
	}
	if s.database, err = s.project.Pick(g.database, g.url); err != nil {
		return nil, err
	}
	url := s.project.Path(s.database.URL)
	if s.engine, err = engineFor(url, s.database, g.unproven); err != nil {
		return nil, err
	}
	if s.db, err = s.engine.Open(ctx, url, mode); err != nil {
		return nil, openFault(err)
	}
	s.ledger = ledger.For(s.db, s.project.ID)
	s.Database(s.name(), s.db.Info(), s.database.Live)
	s.sayTrials(ctx)
	return s, nil
}

// reopen connects anew, for another purpose.
func (s *session) reopen(ctx context.Context, mode engine.Mode) error {
	if err := s.db.Close(); err != nil {
		return err
	}
	db, err := s.engine.Open(ctx, s.project.Path(s.database.URL), mode)
	if err != nil {
		return openFault(err)
	}
	s.db, s.ledger = db, ledger.For(db, s.project.ID)
	return nil
}

// openFault says in full what a database that cannot be opened or written needs.
func openFault(err error) error {
	var known *fault.Fault
	var list fault.List
	if errors.As(err, &known) || errors.As(err, &list) {
		return err
	}
	var cannot *engine.CannotOpen
	if errors.As(err, &cannot) {
		f := fault.New(fault.Failed, "cannot-open", cannot.Cure, "%s", cannot.Message)
		f.Err = err
		return f
	}
	var busy *engine.Busy
	if errors.As(err, &busy) {
		f := fault.New(fault.Failed, "database-locked", "wait, and run the command again",
			"another program has locked the database")
		if len(busy.Who) > 0 {
			f.Message = "the database could not be read, for somebody keeps a table locked: in the way is " +
				busy.Who[0].String()
			f.Cure = "wait until it is done, or end it, and run the command again"
		}
		f.Err = err
		return f
	}
	return err
}

// load reads the project; a database given by its URL needs none.
func (g *global) load() (*project.Project, error) {
	dir, err := filepath.Abs(g.project)
	if err != nil {
		return nil, err
	}
	if !g.named {
		dir = project.Above(dir)
	}
	p, err := project.Load(dir)
	var f *fault.Fault
	if g.url != "" && errors.As(err, &f) && f.Rule == "project-missing" {
		return &project.Project{Dir: dir, Migrations: filepath.Join(dir, "migrations")}, nil
	}
	return p, err
}

func (s *session) name() string {
	if s.database.Name == "--url" {
		return filepath.Base(s.db.Info().Name)
	}
	return s.database.Name
}

func (s *session) close() {
	for _, r := range s.replicas {
		r.Close()
	}
	s.db.Close()
}

// engineFor gives the engine of a database's URL.
func engineFor(url string, d *project.Database, unproven bool) (engine.Engine, error) {
	scheme, _, ok := strings.Cut(url, ":")
	kind := engine.ByURL(url)
	switch {
	case !ok:
		return nil, fault.New(fault.Usage, "configuration", "write "+engine.Files().Example,
			"%q is not the URL of a database", url)
	case kind == nil:
		var known []string
		for _, k := range engine.Known() {
			known = append(known, k.Example)
		}
		return nil, fault.New(fault.Usage, "engine-unknown", "write one as "+strings.Join(known, ", "),
			"no engine for %s: URLs", scheme)
	case kind.File && d.RunsAs != "":
		return nil, fault.New(fault.Usage, "configuration", "delete the line",
			"database %s has runs_as, and %s knows no roles", d.Name, kind.Title)
	}
	return kind.New(engine.Options{Unproven: unproven, RunsAs: d.RunsAs, LedgerHere: d.LedgerHere}), nil
}

// loadMigrations reads the project's folder; paths are shown as seen from here.
func loadMigrations(p *project.Project) ([]*migration.Migration, error) {
	return migration.Load(fromHere(p.Migrations))
}

// fromHere gives a path as seen from the working folder, if it is near.
func fromHere(path string) string {
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, path); err == nil && !strings.HasPrefix(rel, "../..") {
			return rel
		}
	}
	return path
}

// planner makes a planner on the tables as they are; settle is for a run that opens no overlaps.
func (s *session) planner(ctx context.Context, settle bool) (*plan.Planner, error) {
	in := plan.Input{Engine: s.engine, DB: s.db, Live: s.database.Live, Overlaps: s.database.Live && !settle,
		Short: s.lockWait().Seconds(), Slower: s.slower(), Sizes: true, Probe: s.probe}
	exists, err := s.ledger.Exists(ctx)
	if err != nil {
		return nil, err
	}
	if exists {
		if in.Kept, in.KeptNumber, err = s.ledger.Kept(ctx); err != nil {
			return nil, err
		}
		if in.Opened, err = s.opened(ctx); err != nil {
			return nil, err
		}
	}
	return plan.New(ctx, in)
}

// opened lists the migrations whose overlap is open.
func (s *session) opened(ctx context.Context) ([]plan.Opened, error) {
	exists, err := s.ledger.Exists(ctx)
	if err != nil || !exists {
		return nil, err
	}
	known, err := s.ledger.Migrations(ctx)
	if err != nil {
		return nil, err
	}
	return plan.Open(known, s.engine)
}

// runner makes the runner of a command that changes the database.
func (s *session) runner(o runFlags) *run.Runner {
	return &run.Runner{Engine: s.engine, DB: s.db, Options: run.Options{
		Workers: o.workers, Another: func(ctx context.Context) (engine.Database, error) {
			return s.engine.Open(ctx, s.project.Path(s.database.URL), engine.Write)
		},
		Program: Version, Project: s.project.ID, Slower: s.slower(), Live: s.database.Live, LetWritersWait: o.letWritersWait,
		Settle: o.settle, TrustKept: o.trustKept, SlowStatement: o.slowStatement, Pace: s.pace(),
		LockWait: s.lockWait(), LockTries: s.lockTries(), Observe: s.NewProgress().Observe,
		Differs:        func(d run.Difference) error { return s.goOnAsRecorded(o.yes, d) },
		ReplicaBehind:  s.bound(s.database.Pace.ReplicaBehind, replicaBehind),
		OldTransaction: s.bound(s.database.Pace.OldTransaction, oldTransaction),
	}}
}

// goOnAsRecorded shows two plans of a stopped run, and asks.
func (s *session) goOnAsRecorded(yes string, d run.Difference) error {
	if yes != "" || !term.IsTerminal(int(os.Stdin.Fd())) {
		return d.Refusal()
	}
	s.Line("migration %s has stopped in the middle, and planned again it comes to other steps: %s", d.Version, d.Step)
	s.Line("  recorded by %s: %s", d.By, d.Recorded)
	s.Line("  planned by %s: %s", d.Now, d.Planned)
	return s.confirm("", "Go on with the recorded steps?")
}

// runFlags are the flags of commands that change a database.
type runFlags struct {
	yes            string
	letWritersWait bool
	workers        int
	metrics        string
	metricsFile    string
	settle         bool
	trustKept      bool
	slowStatement  bool
	trial          time.Duration // for which settle only tries
	settleAfter    bool          // and settles then
}

// confirm asks before anything is changed. Where the project asks for it, the
// answer is the database's name.
func (s *session) confirm(yes, question string) error {
	wanted := "yes"
	if s.database.Confirm {
		wanted = s.database.Name
	}
	switch {
	case yes == wanted, yes == s.database.Name:
		return nil
	case yes != "":
		return fault.New(fault.Refused, "not-confirmed", "add --yes="+wanted,
			"this database has to be named before it is changed")
	case !term.IsTerminal(int(os.Stdin.Fd())):
		hint := "--yes"
		if wanted != "yes" {
			hint += "=" + wanted
		}
		return fault.New(fault.Refused, "not-confirmed", "add "+hint, "nobody is there to confirm the change")
	}
	fmt.Fprintf(os.Stderr, "%s Type %s to go on: ", question, wanted)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil && line == "" || strings.TrimSpace(line) != wanted {
		return fault.New(fault.Refused, "not-confirmed", "", "not confirmed: nothing was changed")
	}
	return nil
}

func canonical(m *migration.Migration) []string {
	var list []string
	for _, st := range m.File.Statements {
		list = append(list, strings.Split(sqltext.PrintStatement(st), "\n")...)
	}
	return list
}
