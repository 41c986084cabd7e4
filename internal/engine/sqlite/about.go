package sqlite

import (
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

func init() { engine.Register(about) }

var about = &engine.About{
	Name: "sqlite", Title: "SQLite", Schemes: []string{"sqlite"}, Example: "sqlite:harbour.db", Words: reserved,
	Taken: "sqlite_",
	Traits: engine.Traits{File: true, Mirrors: true, MirrorsTurn: true, Supplies: true, AlwaysIsNot: true,
		Binary: true, PlainCase: true},
	RunSeconds: 0.004, UnitSeconds: 0.001,
	New: func(engine.Options) engine.Engine { return Engine{} },
}

// About implements engine.Engine.
func (Engine) About() *engine.About { return about }

// CannotStandIn implements engine.Planner.
func (Engine) CannotStandIn(*schema.Table) string { return "" }

// reserved words that a name could well be: sqlite.org/lang_keywords.html (those that cannot stand unquoted).
var reserved = strings.Fields(`add all alter and as autoincrement between case check collate commit constraint create default
		deferrable delete distinct drop else escape except exists foreign from group having in index insert intersect into is isnull
		join limit not notnull null on or order primary references select set table then to transaction union unique update using
		values when where`)

// Aside implements engine.Planner.
func (Engine) Aside(c *schema.Column) schema.Column { return *c }

// CannotSwap implements engine.Planner.
func (Engine) CannotSwap(*schema.TableChange, *schema.Schema) string { return "the engine cannot" }

// Swaps implements engine.Planner.
func (Engine) Swaps(*schema.SwapChange) (triggers, sql []string) { return nil, nil }

// CannotLink implements engine.Planner.
func (Engine) CannotLink(*schema.TableChange, schema.Link, *schema.Schema) string {
	return "the engine cannot"
}

// Linked implements engine.Planner.
func (Engine) Linked(_ schema.Link, c *schema.Column, _ schema.LinkStage) schema.Column { return *c }

// Links implements engine.Planner.
func (Engine) Links(*schema.Table, schema.Link) (triggers, sql []string) { return nil, nil }
