package postgres

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A table whose rows stand in parts is changed as a whole, and the server changes its parts with it. What
// the server would do only while all writers wait is done part by part: indexes, unique keys and foreign
// keys. Parts come and go meanwhile: which there are is asked each time, of the server.

// partitioned reports whether the rows of a table stand in parts.
func partitioned(t *schema.Table) bool { return t != nil && t.Options[partitionedBy] != "" }

// selectEachIndex gives what is to be done next for each part until it has an index that is attached to that
// of the table, the root. {alone} makes one of a part that is parted in turn, which stands there alone as on
// the table, and {held} a constraint of one that is built.
const selectEachIndex = `with recursive up as (
		select indexrelid, indrelid from pg_index where indexrelid = {root}
		union all
		select x.indexrelid, x.indrelid from up join pg_inherits on inhparent = up.indexrelid join pg_index x on x.indexrelid = inhrelid
	)
	select case
			when x.indexrelid is null and t.isleaf then 'create {unique}index concurrently ' || i.called || ' on ' || t.relid::regclass || {definition}
			when x.indexrelid is null then {alone}
			when t.isleaf and not x.indisvalid then 'drop index concurrently ' || x.indexrelid::regclass
			{held}
			else 'alter index ' || a.indexrelid::regclass || ' attach partition ' || x.indexrelid::regclass end,
		case when t.isleaf and (x.indexrelid is null or not x.indisvalid) then null else {part} end, null
	from {parts}
		cross join lateral (select quote_ident({called}) as called) i join up a on a.indrelid = t.parentrelid
		left join pg_index x on x.indrelid = t.relid and x.indexrelid = to_regclass(quote_ident(n.nspname) || '.' || i.called)
	where t.level > 0 and not exists (select 1 from up where up.indrelid = t.relid) order by t.level, c.relname`

// selectEachIndexGone gives what takes away the indexes of parts that are not attached.
const selectEachIndexGone = `select case when k.oid is null and t.isleaf then 'drop index concurrently ' || x.indexrelid::regclass
			when k.oid is null then 'drop index ' || x.indexrelid::regclass
			else 'alter table ' || t.relid::regclass || ' drop constraint ' || quote_ident(k.conname) end,
		case when k.oid is not null or not t.isleaf then {part} end, null
	from {parts} join pg_index x on x.indrelid = t.relid join pg_class xc on xc.oid = x.indexrelid left join pg_constraint k on k.conindid = x.indexrelid
	where t.level > 0 and not xc.relispartition and xc.relname = {called} order by c.relname`

// selectEachReference gives what is to be done next for each part until it has a foreign key that is proven.
const selectEachReference = `select case when k.oid is null then 'alter table ' || t.relid::regclass || {definition}
			else 'alter table ' || t.relid::regclass || ' validate constraint ' || quote_ident(k.conname) end,
		case when k.oid is null then {part} else '-' end, case when k.oid is null then {first} end
	from {parts} left join pg_constraint k on k.conrelid = t.relid and k.conname = {constraint}
	where t.isleaf and t.level > 0 and not coalesce(k.convalidated, false) order by c.relname`

// selectEachReferenceGone gives what takes away the foreign keys of parts.
const selectEachReferenceGone = `select 'alter table ' || t.relid::regclass || ' drop constraint ' || quote_ident(k.conname), {part}, null
	from {parts} join pg_constraint k on k.conrelid = t.relid and k.conname = {constraint} and k.conparentid = 0
	where t.isleaf and t.level > 0 order by c.relname`

// eachPart fills in one of these queries: marks and what stands for them.
func (p *planner) eachPart(query string, with ...string) string {
	home := literal(p.Facts.Schema.Home)
	return strings.NewReplacer(append(with,
		"{parts}",
		"pg_partition_tree("+tableOID(p.Table)+") t join pg_class c on c.oid = t.relid join pg_namespace n on n.oid = "+
			"c.relnamespace",
		"{part}",
		"case when n.nspname = "+home+" then c.relname::text else n.nspname || '.' || c.relname end")...).Replace(query)
}

func tableOID(t *schema.Table) string { return "to_regclass(" + literal(name(t.Name)) + ")" }

// partIndex names the index of a part by the part and that of the table.
func partIndex(index string) string {
	return "(select case when octet_length(n) < 64 then n else left(n, 7) || '_' || md5(n) end from (select " +
		"c.relname || '_' || " +
		literal(index) + " as n) as lastboard_name)"
}

// eachIndex gives the query for the indexes of parts; definition is what stands behind the name of a part, and
// constraint is what goes with the index: "unique", "primary key", or "" for nothing.
func (p *planner) eachIndex(index, unique, definition, constraint string) string {
	alone := "'create " + unique + "index ' || i.called || ' on only ' || t.relid::regclass || " + literal(definition)
	held := ""
	if constraint != "" {
		alone = "'alter table only ' || t.relid::regclass || ' add constraint ' || i.called || " +
			literal(" "+constraint+" "+definition)
		held = "when t.isleaf and not exists (select 1 from pg_constraint k where k.conindid = x.indexrelid) then " +
			"'alter table ' " +
			"|| t.relid::regclass || ' add constraint ' || i.called || ' " + constraint + " using index ' || i.called"
	}
	return p.eachPart(selectEachIndex, "{root}", "to_regclass("+literal(beside(p.Table.Name, index))+")",
		"{unique}", unique,
		"{definition}", literal(definition), "{alone}", alone, "{held}", held, "{called}", partIndex(index))
}

// buildParts adds a step that builds an index of each part beside applications.
func (p *planner) buildParts(what, index string, first engine.Statement, unique, definition, constraint string) {
	drop := "drop index if exists " + beside(p.Table.Name, index)
	if constraint != "" {
		drop = p.dropConstraint(index)
	}
	done := "select 1 from pg_index where indexrelid = to_regclass(" + literal(beside(p.Table.Name, index)) +
		") and indisvalid"
	s := p.build(what, index, done, first, engine.Statement{Each: true,
		SQL: p.eachIndex(index, unique, definition, constraint)})
	s.Outside.Clean = []engine.Statement{{SQL: drop}, {Each: true, SQL: p.eachPart(selectEachIndexGone, "{called}",
		partIndex(index))}}
	s.Outside.GoesOn = true
	s.Why = "built concurrently for each part, and attached: nobody waits for it"
}

// tellsParts refuses to give a column another name or type beside programs by which the parts of the table, or
// of one of its parts, are told apart: the server finds the part of a row before a trigger could act.
func (p *planner) tellsParts(columns ...string) {
	list := []*schema.Table{p.Table}
	if !partitioned(p.Table) {
		return
	}
	for _, t := range append(list, p.Facts.Schema.Parts(p.Table.Name)...) {
		tokens, _ := sqltext.Scan(t.Options[partitionedBy], sqltext.Engine)
		for _, tok := range tokens {
			if named := tok.Kind == sqltext.Word || tok.Kind == sqltext.Quoted; named && schema.HasName(columns, tok.Value) {
				p.Fail(&engine.Refused{Message: fmt.Sprintf("the parts of table %s are told apart by column %s, which "+
					"cannot be another one "+
					"beside programs that use it as it is", t.Name, tok.Value),
					Cure: "take its old use out of the programs first, and add --settle; another type needs another table"})
				return
			}
		}
	}
}

// swapInParts refuses another type beside programs of a column of a key: the server makes no key of a table in
// parts of an index that is there.
func (p *planner) swapInParts(c *schema.SwapChange) {
	if !partitioned(p.Table) {
		return
	}
	p.tellsParts(c.Columns()...)
	keys := slices.Clone(p.Table.Uniques)
	if k := p.Table.PrimaryKey; k != nil {
		keys = append(keys, k)
	}
	for _, k := range keys {
		for _, n := range c.Columns() {
			if schema.HasName(k.Columns, n) {
				p.Fail(&engine.Refused{Message: fmt.Sprintf("column %s is of key %s of table %s, whose rows stand in "+
					"parts: it cannot get "+
					"another type beside programs", n, k.Name, p.Table.Name),
					Cure: "do it while the database is not live, or let writers wait: --settle --let-writers-wait"})
				return
			}
		}
	}
}

// keyOfParts refuses a unique key in which a column is missing by which a part is parted in turn. That of
// the table itself misses on a copy already.
func (p *planner) keyOfParts(key string, columns []string) {
	for _, part := range p.Facts.Schema.Parts(p.Table.Name) {
		tokens, _ := sqltext.Scan(part.Options[partitionedBy], sqltext.Engine)
		for _, t := range tokens {
			c := p.After.Column(t.Value)
			if c != nil && (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && !schema.HasName(columns, c.Name) {
				p.Fail(&engine.Refused{Message: fmt.Sprintf("%s has to have column %s, by which part %s is parted in turn",
					key, c.Name,
					part.Name), Cure: "add it to the key, or part it by a column of the key"})
			}
		}
	}
}

func (p *planner) indexParts(x *schema.Index) {
	unique := ""
	if x.Unique {
		unique = "unique "
	}
	whole := indexSQL(p.After, x, "index if not exists ")
	begin := "create " + unique + "index if not exists " + quote(x.Name) + " on " + p.table()
	definition := strings.TrimPrefix(whole, begin)
	p.buildParts("build index "+x.Name, x.Name, engine.Statement{SQL: strings.Replace(begin, " on ", " on only ", 1) +
		definition}, unique, definition, "")
}

func (p *planner) keyParts(words string, k *schema.Key, nulls string) {
	columns := "(" + quoteAll(k.Columns) + ")"
	first := fmt.Sprintf("alter table only %s add constraint %s %s%s %s", p.table(), quote(k.Name), words, nulls, columns)
	p.buildParts("build the index of constraint "+k.Name, k.Name, engine.Statement{SQL: first,
		Unless: p.constraint(k.Name)},
		"unique ", " "+columns+nulls, words)
}

// constraint gives a row when a constraint stands.
func (p *planner) constraint(n string) string {
	return "select 1 from pg_constraint where conrelid = " + tableOID(p.Table) + " and conname = " + literal(n)
}

// referenceParts adds a foreign key of each part beside applications, and then that of the table, which
// takes them for its own.
func (p *planner) referenceParts(k *schema.ForeignKey, first string) {
	definition := strings.TrimPrefix(addForeignKey(&schema.Table{Name: "part"}, k), "alter table "+name("part"))
	locked := "null"
	if first != "" {
		locked = literal(first)
	}
	each := p.eachPart(selectEachReference, "{definition}", literal(definition+" not valid"), "{first}", locked,
		"{constraint}",
		literal(k.Name))
	gone := p.eachPart(selectEachReferenceGone, "{constraint}", literal(k.Name))
	s := p.outside(engine.Scan, scanRate, lockWriters, "add constraint "+k.Name, p.hasConstraint(k.Name),
		[]engine.Statement{{SQL: p.dropConstraint(k.Name)}, {Each: true, SQL: gone}},
		engine.Statement{Each: true, SQL: each}, engine.Statement{SQL: addForeignKey(p.Table, k), First: first})
	s.Strong = []string{p.Table.Name, k.Table}
	s.Outside.GoesOn = true
	s.Why = "it holds for new rows at once, and is then proven for the others, part by part, without keeping writers of " +
		"either table waiting"
}

// lockParts lets a step lock all parts of its table at once before it changes it: the server would wait for
// each in turn, and those that write to the others would wait with it.
func (p *planner) lockParts(s *engine.Step) {
	if s.Table != p.Table.Name || len(s.Strong) == 0 || s.Lock != lockExclusive && s.Lock != lockWriters &&
		s.Lock != "share" {
		return
	}
	lock := "lock table " + p.table() + " in " + s.Lock + " mode"
	if s.Outside == nil {
		if len(s.SQL) > 0 && !strings.HasPrefix(s.SQL[0], "lock table ") {
			s.SQL = append([]string{lock}, s.SQL...)
		}
		return
	}
	s.SQL = nil
	for i, st := range s.Outside.Statements {
		if !st.Direct && !st.Patient && !st.Each && st.First == "" && !strings.Contains(st.SQL, " only "+p.table()) {
			st.First = lock
			s.Outside.Statements[i] = st
		}
		if st.First != "" {
			s.SQL = append(s.SQL, st.First)
		}
		s.SQL = append(s.SQL, st.SQL)
	}
}

// ownParts refuses to drop a column of which a part has something of its own, which would go with it.
func (p *planner) ownParts() {
	for _, part := range p.Facts.Schema.Parts(p.Table.Name) {
		for _, c := range p.Dropped() {
			what := ""
			for _, x := range part.Indexes {
				if x.Uses(c.Name) {
					what = "index " + x.Name
				}
			}
			for _, k := range part.Checks {
				if k.Expr.Mentions(c.Name) {
					what = "constraint " + k.Name
				}
			}
			if what != "" {
				p.Fail(&engine.Refused{Message: fmt.Sprintf("%s of part %s needs column %s, and would go with it", what, part.Name,
					c.Name), Cure: "drop it first, with a native statement"})
			}
		}
	}
}

// moveParts gives the statement that moves the parts of a table to another schema, where the table is
// already.
func moveParts(t *schema.Table, to string) []string {
	if !partitioned(t) {
		return nil
	}
	return []string{"do " +
		dollar("declare part regclass; begin for part in select relid from pg_partition_tree("+tableOID(t)+
			") where level > 0 loop execute 'alter table ' || part || ' set schema ' || "+literal(quote(to))+"; end loop; end")}
}

// togetherWithParts refuses to move a table out of sight whose parts stand in other schemas: they would
// not come back there.
func (p *planner) togetherWithParts() {
	ns, _, _ := strings.Cut(p.Table.Name, tableOf(p.Table).Name)
	for _, part := range p.Facts.Schema.Parts(p.Table.Name) {
		if other, _, _ := strings.Cut(part.Name, tableOf(part).Name); other != ns {
			p.Fail(&engine.Refused{Message: "part " + part.Name + " of table " + p.Table.Name +
				" stands in another schema, so that it " +
				"would not come back there", Cure: "move it to the schema of the table first, or write discard"})
		}
	}
}
