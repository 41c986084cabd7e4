package postgres

import (
	"fmt"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// A row that moves to another part is deleted there and inserted here, for triggers that fire after it.
// What it was called before is noted by a trigger that fires before, in a table whose rows go with the
// statement.

const turnSuffix = "_turn"

// across gives the statements that make the triggers which let what is kept or noted follow the rows of a
// table in parts, and their functions: gone, moved and came are what they do.
func across(r planning.RowKeys, t *schema.Table, kept, gone, moved, came string) []string {
	turn := name(kept + turnSuffix)
	list := []string{"create table if not exists " + turn + " (" + keptSQL("k", t, r.Names) + ", " + keptSQL("n",
		t, r.Names) +
		", primary key (" + r.List() + "))", "create index if not exists " + quote(kept+turnSuffix+"_to") + " on " +
		turn + " (" +
		planning.KeptSQL("n", len(r.Names)) + ")"}
	list = append(list, acrossFunctions(r, kept, gone, moved, came)...)
	trigger := func(begin, suffix, when, condition string) {
		n := begin + kept + suffix
		if condition != "" {
			condition = " when (" + condition + ")"
		}
		list = append(list, "create or replace trigger "+quote(n)+" "+when+" on "+name(t.Name)+" for each row"+condition+
			" execute function "+name(kept+suffix)+"()", always(t, n))
	}
	changed := r.Changed(func(a, b string) string { return a + " is distinct from " + b })
	trigger(lastTrigger, turnSuffix, "before update", changed)
	trigger("", goneSuffix, "after delete", othersWrite)
	trigger("", movedSuffix, "after update", changed)
	trigger("", cameSuffix, "after insert", "")
	return list
}

func acrossFunctions(r planning.RowKeys, kept, gone, moved, came string) []string {
	turn := name(kept + turnSuffix)
	columns := len(r.Names)
	again, was, is, old := make([]string, columns), make([]string, columns), make([]string, columns),
		make([]string, columns)
	for i, k := range r.Names {
		again[i] = fmt.Sprintf("n%d = excluded.n%d", i+1, i+1)
		was[i] = fmt.Sprintf("k%d%sold.%s", i+1, r.Equal(k), quote(k))
		is[i] = fmt.Sprintf("n%d%snew.%s", i+1, r.Equal(k), quote(k))
		old[i] = fmt.Sprintf("old.%s := t.k%d; ", quote(k), i+1)
	}
	turned := "delete from " + turn + " where " + strings.Join(was, " and ") + "; "
	return []string{
		"create or replace function " + name(kept+turnSuffix) + "() returns trigger language plpgsql security definer set " +
			"search_path = pg_catalog, pg_temp as " + dollar("begin insert into "+turn+" values ("+r.Of("old")+", "+r.Of("new")+
			") on conflict ("+r.List()+") do update set "+strings.Join(again, ", ")+"; return new; end"),
		function(kept+goneSuffix, "if exists (select 1 from "+turn+" where "+strings.Join(was,
			" and ")+") then return null; end if; "+
			gone),
		function(kept+movedSuffix, moved+turned),
		function(kept+cameSuffix, "declare t record; begin select * into t from "+turn+" where "+strings.Join(is, " and ")+
			"; if found then old := new; "+strings.Join(old,
			"")+turned+moved+"elsif "+othersWrite+" then "+came+"end if; end; "),
	}
}
