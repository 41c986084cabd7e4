// Package project reads lastboard.toml: where the migrations are, and which
// databases there are.
package project

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/pelletier/go-toml/v2"

	"lastboard/internal/core/fault"
	"lastboard/internal/engine"
	"lastboard/internal/files"
	"lastboard/internal/pattern"
	"lastboard/internal/sqltext"
)

// File is the name of a project's file.
const File = "lastboard.toml"

// Project is a folder with a lastboard.toml and its migrations.
type Project struct {
	Dir string
	// ID is what the databases in its care know it by; "" means that they are not asked.
	ID         string
	Migrations string // the folder, absolute
	Database   string // the one that is used when none is named
	Databases  map[string]*Database
}

// Database is one database of a project.
type Database struct {
	Name    string
	URL     string
	Live    bool
	Confirm bool
	// LedgerHere lets the ledger stand in the database itself where it would have one of
	// its own.
	LedgerHere bool
	// RunsAs is the role that a server is to know the session by; "" means the login itself.
	RunsAs string
	// Replicas are the URLs of those that follow it, where it cannot tell itself.
	Replicas []string
	Pace     Pace
}

// Pace is how hard Lastboard may work on a database; zero means not said.
type Pace struct {
	BatchTime  time.Duration
	BatchLimit time.Duration // of one statement of a batch
	LockWait   time.Duration
	LockTries  int
	KeepDays   int
	// A backfill holds while a replica is further behind than ReplicaBehind, or a
	// transaction is older than OldTransaction; nil means not said, 0 never.
	ReplicaBehind, OldTransaction *time.Duration
	// WorkShare is the share of time that a backfill of a live database works, up to 1; the
	// rest it pauses.
	WorkShare float64
}

// LeastShare is the least share of time that a backfill can be made to work, and MostOfAFile the
// greatest one on a file, which has one writer: others have it for as long.
const (
	LeastShare  = 0.02
	MostOfAFile = 0.5
)

type fileProject struct {
	ID         string                  `toml:"id"`
	Migrations string                  `toml:"migrations"`
	Database   string                  `toml:"database"`
	Databases  map[string]fileDatabase `toml:"databases"`
}

type fileDatabase struct {
	URL      string   `toml:"url"`
	Live     bool     `toml:"live"`
	Confirm  bool     `toml:"confirm"`
	Ledger   string   `toml:"ledger"`
	RunsAs   string   `toml:"runs_as"`
	Replicas []string `toml:"replicas"`
	Pace     filePace `toml:"pace"`
}

type filePace struct {
	BatchTime      string   `toml:"batch_time"`
	BatchLimit     string   `toml:"batch_limit"`
	WorkShare      string   `toml:"work_share"`
	Rest           *float64 `toml:"rest"` // of before
	LockWait       string   `toml:"lock_wait"`
	LockTries      *int     `toml:"lock_tries"`
	ReplicaBehind  string   `toml:"replica_behind"`
	OldTransaction string   `toml:"old_transaction"`
	KeepDays       *int     `toml:"keep_days"`
}

var knownKeys = []string{
	"id", "migrations", "database", "databases", "url", "live", "confirm", "ledger", "runs_as", "replicas", "pace",
	"batch_time", "batch_limit", "work_share", "lock_wait", "lock_tries", "replica_behind", "old_transaction", "keep_days",
}

// Load reads the project in dir.
func Load(dir string) (*Project, error) {
	path := filepath.Join(dir, File)
	data, err := files.Read(path, files.Settings)
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil, fault.New(fault.Usage, "project-missing",
			"run lastboard init here, or name the project's folder with --project", "there is no %s in %s", File, dir)
	}
	if err != nil {
		return nil, err
	}
	var f fileProject
	decoder := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil {
		return nil, explain(path, string(data), err)
	}
	p := &Project{Dir: dir, ID: f.ID, Database: f.Database, Databases: map[string]*Database{}}
	if f.Migrations == "" {
		f.Migrations = "migrations"
	}
	p.Migrations = f.Migrations
	if !filepath.IsAbs(p.Migrations) {
		p.Migrations = filepath.Join(dir, f.Migrations)
	}
	for name, d := range f.Databases {
		db := &Database{Name: name, Live: d.Live, Confirm: d.Confirm, LedgerHere: d.Ledger == "here", RunsAs: d.RunsAs}
		if d.Ledger != "" && !db.LedgerHere {
			return nil, fault.New(fault.Usage, "configuration", `write ledger = "here", or leave it out`,
				"%s: ledger of database %s is not \"here\": %q", path, name, d.Ledger)
		}
		if db.URL, err = expand(path, name, d.URL); err != nil {
			return nil, err
		}
		for key, n := range map[string]struct{ said, to *int }{"lock_tries": {d.Pace.LockTries, &db.Pace.LockTries},
			"keep_days": {d.Pace.KeepDays, &db.Pace.KeepDays}} {
			if n.said == nil {
				continue
			}
			if *n.to = *n.said; *n.to < 1 {
				return nil, fault.New(fault.Usage, "configuration", "write a number from 1, or delete the line",
					"%s: %s of database %s is %d", path, key, name, *n.said)
			}
		}
		if db.Pace.WorkShare, err = workShare(path, db, d.Pace); err != nil {
			return nil, err
		}
		for key, v := range map[string]struct {
			text string
			to   *time.Duration
		}{"batch_time": {d.Pace.BatchTime, &db.Pace.BatchTime}, "batch_limit": {d.Pace.BatchLimit, &db.Pace.BatchLimit},
			"lock_wait": {d.Pace.LockWait, &db.Pace.LockWait}} {
			if v.text == "" {
				continue
			}
			if *v.to, err = time.ParseDuration(v.text); err != nil || *v.to <= 0 {
				return nil, fault.New(fault.Usage, "configuration", `write it as "100ms" or "2s"`,
					"%s: %s of database %s is not a time: %q", path, key, name, v.text)
			}
		}
		for key, v := range map[string]struct {
			text string
			to   **time.Duration
		}{"replica_behind": {d.Pace.ReplicaBehind, &db.Pace.ReplicaBehind},
			"old_transaction": {d.Pace.OldTransaction, &db.Pace.OldTransaction}} {
			if v.text == "" {
				continue
			}
			bound, err := time.ParseDuration(v.text)
			if err != nil || bound < 0 {
				return nil, fault.New(fault.Usage, "configuration", `write it as "5s" or "10m"; "0s" holds for none`,
					"%s: %s of database %s is not a time: %q", path, key, name, v.text)
			}
			*v.to = &bound
		}
		for _, r := range d.Replicas {
			url, err := expand(path, name, r)
			if err != nil {
				return nil, err
			}
			db.Replicas = append(db.Replicas, url)
		}
		p.Databases[name] = db
	}
	return p, nil
}

// workShare reads the share of time that a backfill works; 0 means not said.
func workShare(path string, db *Database, pace filePace) (float64, error) {
	wrong := func(cure, format string, args ...any) error {
		return fault.New(fault.Usage, "configuration", cure, "%s: "+format, append([]any{path}, args...)...)
	}
	if pace.Rest != nil {
		share := max(1/(1+max(*pace.Rest, 0)), LeastShare)
		return 0, wrong(fmt.Sprintf(`write work_share = "%.0f %%"`, 100*share),
			"rest of database %s is said otherwise now, as the share of time that a backfill works", db.Name)
	}
	if pace.WorkShare == "" {
		return 0, nil
	}
	text, ok := strings.CutSuffix(pace.WorkShare, "%")
	percent, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	switch {
	case !ok || err != nil || !(percent >= 100*LeastShare && percent <= 100):
		return 0, wrong(`write work_share = "40 %"`, "work_share of database %s is not a share of %.0f %% to 100 %%: %q",
			db.Name, 100*LeastShare, pace.WorkShare)
	case isFile(db.URL) && percent > 100*MostOfAFile:
		return 0, wrong(fmt.Sprintf(`write work_share = "%.0f %%"`, 100*MostOfAFile),
			"work_share of database %s is above %.0f %%: a file has one writer, and applications need it for as long", db.Name,
			100*MostOfAFile)
	}
	return percent / 100, nil
}

// Above gives the nearest folder with a project, from dir upwards; dir where there is none.
func Above(dir string) string {
	for d := dir; ; d = filepath.Dir(d) {
		if _, err := os.Stat(filepath.Join(d, File)); err == nil {
			return d
		}
		if d == filepath.Dir(d) {
			return dir
		}
	}
}

// explain says what is wrong with the file, and where.
func explain(path, text string, err error) error {
	f := fault.New(fault.Usage, "configuration", "", "%v", err)
	f.Where = fault.Where{File: path, Line: 1, Column: 1}
	var strict *toml.StrictMissingError
	var decode *toml.DecodeError
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		e := strict.Errors[0]
		key := e.Key()
		last := key[len(key)-1]
		f.Where.Line, f.Where.Column = e.Position()
		f.Message = fmt.Sprintf("there is no setting %s", last)
		if near, ok := sqltext.Nearest(last, knownKeys); ok {
			f.Cure = "did you mean " + near + "?"
		}
	case errors.As(err, &decode):
		f.Where.Line, f.Where.Column = decode.Position()
		f.Message = strings.TrimPrefix(decode.Error(), "toml: ")
		if m := mismatch().FindStringSubmatch(f.Message); m != nil {
			f.Message = fmt.Sprintf("%s needs %s, and this is a TOML %s", strings.Join(decode.Key(), "."), kindWords[m[2]], m[1])
		}
	}
	if strings.HasPrefix(f.Message, "cannot store a table in a string") {
		f.Message, f.Cure = decode.Key()[0]+" needs a text between quotes, and this is a section",
			"did you mean [databases.NAME]?"
	}
	f.Source = secret().ReplaceAllString(sqltext.SourceLine(text, f.Where.Line), "$1$2…")
	return f
}

// secret finds passwords in a line that is shown: in a URL, and as one of its options.
var secret = pattern.Of(`(://[^:/@"']*:)[^@"']*|(?i:((?:ssl)?password\s*=\s*["']?)[^&"']*)`)

// mismatch is what the reader of TOML says of a value of another kind than a setting has.
var mismatch = pattern.Of(`^cannot decode TOML (\w+) into struct field \S+ of type (\S+)$`)

var kindWords = map[string]string{
	"string": "a text between quotes", "bool": "true or false", "int": "a whole number", "float64": "a number",
	"[]string": "a list of texts",
}

var variable = pattern.Of(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// expand puts the environment's values into a URL.
func expand(path, database, url string) (string, error) {
	if url == "" {
		return "", fault.New(fault.Usage, "configuration", `write url = "`+engine.Files().Example+`"`,
			"%s: database %s has no url", path, database)
	}
	var missing string
	out := variable().ReplaceAllStringFunc(url, func(m string) string {
		name := m[2 : len(m)-1]
		v, ok := os.LookupEnv(name)
		if !ok {
			missing = name
		}
		return v
	})
	if missing != "" {
		return url, nil // it may never be asked for; Pick says so
	}
	return out, nil
}

// Pick gives the database that is meant: by URL, by name, or the project's own.
func (p *Project) Pick(name, url string) (*Database, error) {
	if url != "" {
		return &Database{Name: "--url", URL: url}, nil
	}
	if name == "" {
		name = p.Database
	}
	if name == "" && len(p.Databases) == 1 {
		for n := range p.Databases {
			name = n
		}
	}
	var names []string
	for n := range p.Databases {
		names = append(names, n)
	}
	slices.Sort(names)
	if name == "" {
		return nil, fault.New(fault.Usage, "configuration", "name one with --database: "+strings.Join(names, ", "),
			"lastboard.toml does not say which database to use")
	}
	db, ok := p.Databases[name]
	if !ok {
		cure := "there are: " + strings.Join(names, ", ")
		if near, ok := sqltext.Nearest(name, names); ok {
			cure = "did you mean " + near + "?"
		}
		return nil, fault.New(fault.Usage, "configuration", cure, "lastboard.toml has no database %s", name)
	}
	if m := variable().FindStringSubmatch(db.URL); m != nil {
		return nil, fault.New(fault.Usage, "configuration", "set it, and run the command again",
			"the url of database %s needs the environment variable %s", name, m[1])
	}
	return db, nil
}

func isFile(url string) bool {
	k := engine.ByURL(url)
	return k != nil && k.File
}

// Path makes the path of a file's URL absolute: it is relative to the project.
func (p *Project) Path(url string) string {
	scheme, path, _ := strings.Cut(url, ":")
	if !isFile(url) || filepath.IsAbs(path) {
		return url
	}
	return scheme + ":" + filepath.Join(p.Dir, path)
}
