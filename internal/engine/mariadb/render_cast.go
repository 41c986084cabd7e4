package mariadb

import (
	"fmt"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/sqltext"
)

// asText casts a value to a text that compares byte for byte, in whatever session.
func asText(x string) string { return "(cast(" + x + " as char) collate " + bytewise + ")" }

// cast rounds a number that becomes a whole one half away from zero, as the standard
// has it, and never cuts a text: that is for the column to refuse. For a proof, what
// cannot be converted gives null.
func (r *renderer) cast(e *sqltext.Cast) string {
	x := r.expr(e.X, bindOr)
	from, t := r.Kind(e.X), e.Type
	switch {
	case t.Native:
		return "cast(" + x + " as " + typeSQL(t) + ")"
	case t.IsInteger():
		switch from {
		case "integer", "boolean":
			return x
		case "real", "numeric":
			return "cast(round(cast(" + x + " as " + exact + ")) as signed)"
		}
		return r.guarded(e, "cast(trim("+x+") as signed)")
	case t.Name == "numeric":
		if len(t.Args) == 0 {
			return r.guarded(e, "cast("+x+" as "+exact+")")
		}
		scale := append(t.Args, 0)[1]
		if r.Mode == planning.Proven {
			return fmt.Sprintf("round(%s, %d)", r.guarded(e, "cast("+x+" as "+exact+")"), scale)
		}
		return fmt.Sprintf("cast(%s as decimal(%d,%d))", x, t.Args[0], scale)
	case t.Name == "real":
		return r.guarded(e, "cast("+x+" as float)")
	case t.Name == "double precision":
		return r.guarded(e, "cast("+x+" as double)")
	case t.IsText(), t.Name == "json", t.Name == "uuid":
		return r.textOf(e.X, from)
	case t.Name == "date":
		return r.guarded(e, "cast("+x+" as date)")
	case t.Name == "time":
		return r.guarded(e, "cast("+x+" as time(6))")
	case t.Name == "timestamp", t.Name == "timestamp with time zone":
		return r.guarded(e, "cast("+x+" as datetime(6))")
	case t.Name == "boolean":
		switch from {
		case "integer", "real", "numeric":
			return "(" + x + " <> 0)"
		case "boolean":
			return x
		}
		return r.guarded(e, "case lower(trim("+x+")) when 'true' then 1 when 'false' then 0 when '1' then 1 when '0' "+
			"then 0 end")
	case t.Name == "binary", t.Name == "varbinary", t.Name == "blob":
		return "cast(" + x + " as binary)"
	}
	return "cast(" + x + " as " + typeSQL(t) + ")"
}

// textOf gives a value as text: a time without the zeros behind its seconds.
func (r *renderer) textOf(e sqltext.Expr, from string) string {
	x := r.expr(e, bindOr)
	switch {
	case from == "text":
		return x
	case strings.HasPrefix(from, "timestamp"):
		return "trim(trailing '.' from trim(trailing '0' from " + asText("cast("+x+" as datetime(6))") + "))"
	case from == "time":
		return "trim(trailing '.' from trim(trailing '0' from " + asText("cast("+x+" as time(6))") + "))"
	}
	return asText(x)
}

// guarded casts, and in a proof only what can be.
func (r *renderer) guarded(e *sqltext.Cast, cast string) string {
	if ok := r.convertible(e, r.expr(e.X, bindOr)); ok != "" && r.Mode == planning.Proven {
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
	s := asText(x)
	date := "left(" + s + ", 10)"
	day := "case when " + date + ` regexp '^[0-9]{4}-(0[1-9]|1[0-2])-[0-9]{2}$' then cast(substr(` + date +
		", 9) as signed) between 1 and dayofmonth(last_day(cast(concat(left(" + s + ", 8), '01') as date))) else false end"
	switch t := e.Type; {
	case t.IsInteger():
		return s + " regexp " + wholePattern
	case t.Name == "numeric", t.Name == "real", t.Name == "double precision":
		return s + " regexp " + numberPattern
	case t.Name == "boolean":
		return "lower(trim(" + s + ")) in ('true', 'false', '1', '0')"
	case t.Name == "date":
		return day + " and (char_length(" + s + ") = 10 or substr(" + s + ", 12) regexp " + timePattern + ")"
	case t.Name == "timestamp", t.Name == "timestamp with time zone":
		return day + " and (char_length(" + s + ") = 10 or substr(" + s + ", 11, 1) in (' ', 'T') and substr(" + s +
			", 12) regexp " + timePattern + ")"
	case t.Name == "time":
		return s + " regexp " + timePattern
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
		return "case when not (" + ok + ") then " + asText(x) + " end"
	})
}

const (
	wholePattern  = `'^[[:space:]]*[+-]?[0-9]+[[:space:]]*$'`
	numberPattern = `'^[[:space:]]*[+-]?([0-9]+[.]?[0-9]*|[.][0-9]+)[[:space:]]*$'`
	timePattern   = `'^([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9]([.][0-9]+)?)?$'`
)
