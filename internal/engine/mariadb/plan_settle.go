package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
)

// settle parts the steps into those that define something, each of which commits by
// itself, and those that write rows, which share transactions with their records.
func (p *planner) settle() []*engine.Step {
	var list []*engine.Step
	for _, s := range p.Steps {
		switch {
		case s.Proof != nil:
			s.Alone = true // no read is worth keeping an old view of all rows for
			list = append(list, s)
		case s.Batch != nil:
			p.settleBatch(s)
			list = append(list, s)
		default:
			list = append(list, p.parted(s)...)
		}
	}
	return list
}

func (p *planner) settleBatch(s *engine.Step) {
	keys := strings.Join(s.Batch.Keys, ", ")
	rows := quote(s.Table)
	s.Batch.Middle = "select " + keys + " from (select " + keys + ", row_number() over (order by " + keys +
		") as lastboard_n from " + rows + ") b where lastboard_n = (select count(*) div 2 from " + rows + ")"
	if strings.Contains(keys, ".") {
		s.Batch.Middle = ""
	}
	s.Batch.Apart = true
	if s.Batch.Middle != "" {
		s.Batch.Hold = "select 1 from " + rows + " where " + engine.Range + " for update"
	}
}

// parted splits a step where what it does changes between defining and writing.
func (p *planner) parted(s *engine.Step) []*engine.Step {
	var groups [][]string
	last := -1
	for _, sql := range s.SQL {
		kind := 0
		if s.Outside != nil || defines(sql) {
			kind = 1
		}
		if kind != last {
			groups, last = append(groups, nil), kind
		}
		groups[len(groups)-1] = append(groups[len(groups)-1], sql)
	}
	if s.Load != nil && last == 1 || len(groups) == 0 {
		groups = append(groups, nil) // the rows of a file, behind the table for them
	}
	var list []*engine.Step
	for i, sql := range groups {
		part := *s
		part.SQL = sql
		if i > 0 {
			part.Keeps, part.Undo = nil, nil
		}
		if i < len(groups)-1 {
			part.PutsBack, part.Load, part.Preview = nil, nil, ""
		}
		if len(sql) > 0 && (s.Outside != nil || defines(sql[0])) {
			outside := engine.Outside{}
			if s.Outside != nil {
				outside = *s.Outside
			} else if len(groups) > 1 {
				part.Kind, part.Rows, part.Seconds, part.WritersWait = engine.Catalog, 0, 0, engine.WaitBriefly
				if !slices.ContainsFunc(sql, func(x string) bool {
					return !strings.HasPrefix(x, "create table ") && !strings.HasPrefix(x, "create unique index if not exists ")
				}) {
					part.Lock, part.WritersWait = "none", engine.WaitNo
				}
			}
			outside.Statements = nil
			for _, x := range sql {
				outside.Statements = append(outside.Statements, engine.Statement{SQL: x, Patient: strings.HasPrefix(x, "select ")})
			}
			part.Outside = &outside
		} else {
			part.Outside, part.Lock = nil, lockRows
			part.Alone = !p.small && len(part.Keeps) == 0
		}
		list = append(list, &part)
	}
	return list
}
