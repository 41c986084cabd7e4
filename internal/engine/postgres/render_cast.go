package postgres

import (
	"fmt"

	"lastboard/internal/engine/planning"
	"lastboard/internal/sqltext"
)

// cast rounds a number that becomes a whole one half away from zero, as the standard
// has it, and never cuts a text: that is for the column to refuse. For a proof, a
// number never overflows, and what cannot be converted gives null.
func (r *renderer) cast(e *sqltext.Cast) string {
	x := r.expr(e.X, bindOr)
	from, t := r.Kind(e.X), e.Type
	proven := r.Mode == planning.Proven
	target := typeSQL(t)
	switch {
	case t.Native:
		return "cast(" + x + " as " + target + ")"
	case t.IsInteger():
		if proven {
			target = "numeric"
		}
		if from == "real" || from == "numeric" {
			return "cast(round(cast(" + x + " as numeric)) as " + target + ")"
		}
		if from == "boolean" {
			return "cast(" + x + " as integer)"
		}
	case t.Name == "numeric":
		if proven && len(t.Args) > 0 {
			x, target = r.guarded(e, "numeric"), "numeric"
			return fmt.Sprintf("round(%s, %d)", x, append(t.Args, 0)[1])
		}
	case t.IsText():
		if from == "boolean" {
			return "cast(cast(" + x + " as integer) as text)"
		}
		return "cast(" + x + " as text)"
	case t.Name == "boolean":
		if from == "numeric" || from == "real" || from == "integer" {
			return "(" + x + " <> 0)" // the server casts no other whole number than an integer
		}
	case t.Name == "binary", t.Name == "varbinary", t.Name == "blob":
		if from == "text" {
			return "convert_to(" + x + ", 'UTF8')"
		}
	}
	return r.guarded(e, target)
}

// guarded casts, and in a proof only what can be.
func (r *renderer) guarded(e *sqltext.Cast, target string) string {
	x := r.expr(e.X, bindOr)
	cast := "cast(" + x + " as " + target + ")"
	if ok := r.convertible(e, x); ok != "" && r.Mode == planning.Proven {
		return "case when " + ok + " then " + cast + " end"
	}
	return cast
}

// convertible gives the condition that a cast of a text can be made; "" where it
// always can, or where the engine alone knows.
func (r *renderer) convertible(e *sqltext.Cast, x string) string {
	if from := r.Kind(e.X); from != "text" && from != "" || e.Type.Native {
		return ""
	}
	s := "cast(" + x + " as text)"
	date := "substring(" + s + " from 1 for 10)"
	day := "case when " + date + ` ~ '^[0-9]{4}-(0[1-9]|1[0-2])-[0-9]{2}$' then cast(substring(` + date +
		" from 9) as integer) between 1 and extract(day from cast(substring(" +
		date + " from 1 for 8) || '01' as date) + interval '1 month' - interval '1 day') else false end"
	switch t := e.Type; {
	case t.IsInteger():
		return s + " ~ " + wholePattern
	case t.Name == "numeric", t.Name == "real", t.Name == "double precision":
		return s + " ~ " + numberPattern
	case t.Name == "boolean":
		return "lower(trim(" + s + ")) in ('true', 'false', '1', '0')"
	case t.Name == "date":
		return day + " and (char_length(" + s + ") = 10 or substring(" + s + " from 12) ~ " + timePattern + ")"
	case t.Name == "timestamp", t.Name == "timestamp with time zone":
		return day + " and (char_length(" + s + ") = 10 or substring(" + s + " from 11 for 1) in (' ', 'T') and substring(" +
			s + " from 12) ~ " + timePattern + ")"
	case t.Name == "time":
		return s + " ~ " + timePattern
	case t.Name == "uuid":
		return s + ` ~* '^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$'`
	}
	return ""
}

// unconverted gives the first text that a cast in e would be given and cannot
// convert; "" where none can be.
func (r *renderer) unconverted(e sqltext.Expr) string {
	return planning.FirstUnconverted(e, r.plain, func(c *sqltext.Cast) string {
		x := r.plain(c.X)
		ok := r.convertible(c, x)
		if ok == "" {
			return ""
		}
		return "case when not (" + ok + ") then " + "cast(" + x + " as text)" + " end"
	})
}

const (
	wholePattern  = `'^\s*[+-]?[0-9]+\s*$'`
	numberPattern = `'^\s*[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)\s*$'`
	timePattern   = `'^([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9](\.[0-9]+)?)?$'`
)
