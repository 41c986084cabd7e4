package postgres

import (
	"context"
	"slices"
	"strings"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// While an overlap is open, triggers count how often programs of before write what they alone know.
// They are the first of all of their row, so that they see what the program wrote. Two sequences for
// each column hold the number and the time of the last: a sequence keeps nobody waiting, and counts
// what was taken back as well.

const (
	watchTrigger = "!!" // what begins their names
	watchKind    = "seen"
	watchTime    = "seen_at"
)

func watchName(t *schema.Table, begin, kind, column string) string {
	if column == "" {
		return mirrorName(t, begin, kind)
	}
	return mirrorName(t, begin, kind, column)
}

// watchPlace gives the name of one of the sequences of a column.
func watchPlace(t *schema.Table, kind, column string) string {
	return name(watchName(t, "", kind, column))
}

// watchedBy gives the column whose writes a trigger counts; "" for another trigger.
func watchedBy(t *schema.Table, tr *schema.Trigger) string {
	for _, c := range t.Columns {
		for _, event := range []string{"insert", "update"} {
			if watchName(t, watchTrigger, watchKind+"_"+event, c.Name) == tr.Name {
				return c.Name
			}
		}
	}
	return ""
}

// watch begins to count, or ends it.
func (p *planner) watch(c *schema.WatchChange) {
	columns := schema.WatchedNames(c.Columns)
	names := strings.Join(columns, ", ")
	if c.Off {
		if sql := p.unwatch(columns...); len(sql) > 0 {
			p.Add(engine.Sync, 0, "count no more who writes "+names+" as before", sql...).Strong = []string{p.Table.Name}
		}
		return
	}
	var on, off []string
	for _, w := range c.Columns {
		on, off = append(on, p.watchSQL(w)...), append(off, p.unwatchSQL(w.Column)...)
	}
	s := p.Add(engine.Sync, 0, "count who still writes "+names+" as before", on...)
	s.Lock, s.Strong, s.Undo = lockWriters, []string{p.Table.Name}, off
	s.Why = "so that settle --check can tell whether programs of before are still there"
}

func (p *planner) watchSQL(w schema.Watched) (sql []string) {
	count, at := watchPlace(p.Table, watchKind, w.Column), watchPlace(p.Table, watchTime, w.Column)
	function := name(watchName(p.Table, "", watchKind, w.Column))
	sql = []string{"create sequence if not exists " + count,
		"create sequence if not exists " + at + " minvalue 0 start 0",
		"create or replace function " + function + "() returns trigger language plpgsql security definer set search_path = " +
			"pg_catalog, pg_temp as " + dollar("declare s bigint := extract(epoch from clock_timestamp()); begin perform "+
			"nextval("+literal(count)+"); if (select last_value from "+at+") < s then perform setval("+literal(at)+
			", s); end if; return new; end")}
	p.EachAsBefore([]schema.Watched{w}, p.writes(), func(w schema.Watched, event, condition string) {
		sql = append(sql, "create or replace trigger "+quote(watchName(p.Table, watchTrigger, watchKind+"_"+event, w.Column))+
			" before "+event+" on "+p.table()+" for each row when ("+othersWrite+" and "+condition+") execute function "+
			function+"()")
	})
	return sql
}

// writes says how a trigger tells what programs write.
func (p *planner) writes() planning.Writes {
	return planning.Writes{
		Differ: differs,
		Unwritten: func(c *schema.Column) string {
			none := "null"
			if c.Default != nil {
				none = defaultSQL(p.Table, *c.Default)
			}
			return "cast(" + none + " as " + declaration(c) + ")"
		},
		Null: func(value string) string { return value + " is null" },
	}
}

// unwatch gives the statements that end the counting of columns, as far as it goes on.
func (p *planner) unwatch(columns ...string) (sql []string) {
	for _, c := range columns {
		if slices.ContainsFunc(p.Table.Own, func(tr *schema.Trigger) bool { return watchedBy(p.Table, tr) == c }) {
			sql = append(sql, p.unwatchSQL(c)...)
		}
	}
	return sql
}

func (p *planner) unwatchSQL(column string) (sql []string) {
	for _, event := range []string{"insert", "update"} {
		sql = append(sql, "drop trigger if exists "+quote(watchName(p.Table, watchTrigger, watchKind+"_"+event, column))+
			" on "+p.table())
	}
	return append(sql, "drop function if exists "+name(watchName(p.Table, "", watchKind, column))+"()",
		"drop sequence if exists "+watchPlace(p.Table, watchKind, column),
		"drop sequence if exists "+watchPlace(p.Table, watchTime, column))
}

// Seen implements engine.Onlooker.
func (d *database) Seen(ctx context.Context, t *schema.Table, column string) (engine.Seen, error) {
	count, at := watchPlace(t, watchKind, column), watchPlace(t, watchTime, column)
	r, err := d.Query(ctx, "select 1 where to_regclass(?) is not null and to_regclass(?) is not null", count, at)
	if err != nil || len(r.Values) == 0 {
		return engine.Seen{}, err
	}
	r, err = d.Query(ctx, "select case when c.is_called then c.last_value else 0 end, a.last_value from "+count+" c, "+at+
		" a")
	if err != nil {
		return engine.Seen{}, err
	}
	s := engine.Seen{Counted: true, Times: number(r.Values[0][0])}
	if n := number(r.Values[0][1]); n > 0 {
		s.Last = time.Unix(n, 0).UTC()
	}
	return s, nil
}
