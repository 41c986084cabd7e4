package engine

import (
	"cmp"
	"slices"
	"strings"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// About is what is to be known of an engine before anything is connected.
type About struct {
	Name    string   // the word for it in native statements and in output
	Title   string   // as people write it
	Schemes []string // that its URLs may begin with
	Example string   // a URL
	// Words are reserved: every program has to quote a name that is one of them.
	Words []string
	// Taken begins the names that the engine keeps for itself; "" where none does.
	Taken string
	Traits
	// RunSeconds is what a run takes beside its steps on an ordinary machine, reading the tables and writing the
	// ledger, and UnitSeconds what each of its transactions takes.
	RunSeconds, UnitSeconds float64
	// New gives the engine.
	New func(Options) Engine
}

// Traits are what engines differ in that concerns more than how a thing is said.
type Traits struct {
	File        bool // a database is a file: it has a path, one writer, and no roles
	Schemas     bool // tables stand in schemas
	Places      bool // a column gets a place among the others without a copy of the table
	Mirrors     bool // a column can be kept under two names while programs write by either
	MirrorsHide bool // such a column is invisible to who does not name it
	MirrorsTurn bool // the column gets its other name in the step in which that goes
	Swaps       bool // a column can get another type beside programs that write it
	Links       bool // columns can be kept equal to those that they are made from, both ways
	Supplies    bool // the engine can supply a column that an insert leaves out from others of its row
	StandsIn    bool // a view can stand for a renamed table, for reading and writing
	Watches     bool // triggers can count who writes without keeping anybody waiting
	AlwaysIsNot bool // a program can write a number of its own into a column that always numbers itself
	Binary      bool // there are no decimals: a half may be rounded either way
	Prepares    bool // a prepared statement fails when a column that it returns has got another type
	PlainCase   bool // upper and lower know no letters beyond a to z
}

// Options are what a person decides of how an engine is used.
type Options struct {
	Unproven   bool   // a server may answer like the engine and be another one
	RunsAs     string // the role by whose rights all is done; "" is the login's own
	LedgerHere bool   // the ledger may stand where applications can write to it
}

var known []*About

// Register makes an engine known: its package does so as it is loaded.
func Register(k *About) {
	known = append(known, k)
	slices.SortFunc(known, func(a, b *About) int { return cmp.Compare(a.Name, b.Name) })
	sqltext.RegisterEngine(k.Name)
}

// Known lists the engines that this program has, by name.
func Known() []*About { return known }

// ByURL gives the engine of a database's URL; nil where there is none.
func ByURL(url string) *About {
	scheme, _, ok := strings.Cut(url, ":")
	i := slices.IndexFunc(known, func(k *About) bool { return slices.Contains(k.Schemes, scheme) })
	if !ok || i < 0 {
		return nil
	}
	return known[i]
}

// Files gives the engine whose databases are files.
func Files() *About {
	return known[slices.IndexFunc(known, func(k *About) bool { return k.File })]
}

// Env is what statements mean on the engine; file gives the columns of a CSV file, and may be
// nil.
func (a *About) Env(file func(string) (*schema.Table, error)) schema.Env {
	taken := []string{Prefix}
	for _, k := range known {
		if k.Taken != "" {
			taken = append(taken, k.Taken)
		}
	}
	return schema.Env{Engine: a.Name, Schemas: a.Schemas, Taken: taken, File: file}
}
