package postgres

import (
	"strings"

	"lastboard/internal/engine"
)

func init() { engine.Register(about) }

var about = &engine.About{
	Name: "postgres", Title: "PostgreSQL", Schemes: []string{"postgres", "postgresql"},
	Example: "postgres://office@db.example/harbour", Words: reserved,
	Traits: engine.Traits{Schemas: true, Places: true, Mirrors: true, Supplies: true, Swaps: true, Links: true,
		Watches: true, StandsIn: true, Prepares: true},
	RunSeconds: 0.04, UnitSeconds: 0.01,
	New: func(o engine.Options) engine.Engine { return Engine{Unproven: o.Unproven, RunsAs: o.RunsAs} },
}

// About implements engine.Engine.
func (Engine) About() *engine.About { return about }

// reserved words that a name could well be: the key word appendix of PostgreSQL's manual (reserved).
var reserved = strings.Fields(`all analyse analyze and any array as asc asymmetric both case cast check collate column
		constraint create current_catalog current_date current_role current_time current_timestamp current_user default deferrable
		desc distinct do else end except false fetch for foreign from grant group having in initially intersect into lateral leading
		limit localtime localtimestamp not null offset on only or order placing primary references returning select session_user
		some symmetric table then to trailing true union unique user using variadic when where window with`)
