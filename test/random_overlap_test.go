package test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

var overlaps = flag.Int("overlaps", 3, "how many random overlaps are opened, settled and taken back on each server")

// overlapping makes a random table of a live database and a random migration that opens an overlap.
type overlapping struct {
	r      *rand.Rand
	server string
}

func (g *overlapping) one(list ...string) string { return list[g.r.IntN(len(list))] }

// table gives the statements that make it, with rows: columns of several types, some of them not null,
// with defaults, indexes or unique.
func (g *overlapping) table() []string {
	null := func(value string) string {
		switch g.r.IntN(4) {
		case 0:
			return " not null"
		case 1:
			return " not null default " + value
		case 2:
			return " default " + value
		}
		return ""
	}
	tons := null("7")
	list := []string{"create table vessel (id integer not null primary key, name varchar(30)" + null("'none'") +
		", label varchar(40) not null, tons integer" + tons + ", width numeric(7,2)" + null("1.5") +
		", number varchar(10) not null, built date, flag varchar(8)" + null("'NO'") + ", unique (number))"}
	if g.r.IntN(2) == 0 {
		list = append(list, "create index by_name on vessel (name, tons)")
	}
	if g.r.IntN(2) == 0 {
		list = append(list, "create index by_tons on vessel (tons)")
	}
	for id := range g.r.IntN(40) {
		of := fmt.Sprint(g.r.IntN(1000))
		if !strings.Contains(tons, "not null") && g.r.IntN(5) == 0 {
			of = "null"
		}
		list = append(list, fmt.Sprintf("insert into vessel values (%d, 'n%d', 'P%d:%d', %s, %d.%02d, '%04d', %s, 'F%d')",
			id+1,
			id%7, id%5, id, of, g.r.IntN(300), g.r.IntN(100), id,
			g.one("null", "'2031-05-01'"), id%3))
	}
	return list
}

// migration gives some of the changes for which an overlap stays open, of columns that are each of one
// alone.
func (g *overlapping) migration() string {
	all := []string{
		"alter table vessel rename column name to title",
		"alter table vessel drop column flag",
		"alter table vessel add column class varchar(20) not null using (concat('c', id))",
		"alter table vessel alter column tons set data type bigint",
		"alter table vessel alter column tons set data type varchar(20)",
		"alter table vessel alter column number set data type integer using (cast(number as integer))",
		"alter table vessel alter column width set data type numeric(7,1) using (round(width, 1)) restore using (width_m), " +
			"rename column width to width_m",
		"alter table vessel add column port varchar(20) not null using (left(label, position(':' in label) - 1)), add " +
			"column " +
			"berth integer using (cast(substring(label from position(':' in label) + 1) as integer)), drop column label " +
			"restore using (concat(port, ':', cast(berth as varchar(9))))",
		"alter table vessel alter column built set data type timestamp",
	}
	if g.server == "SQLite" { // for what else is there no overlap
		all = append(all[:3], "alter table vessel rename column number to code, rename column tons to weight",
			"alter table vessel drop column built, add column berth integer not null using (id * 2)")
	}
	g.r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	text, tons := "-- Something else\n", false
	for _, s := range all[:1+g.r.IntN(3)] {
		if strings.Contains(s, "column tons") && tons {
			continue // one overlap for a column
		}
		tons = tons || strings.Contains(s, "column tons")
		text += s + ";\n"
	}
	return text
}

// TestRandomOverlaps opens random overlaps, settles them and takes them back from both, in a random
// order: whenever all is taken back, all is as it was, to the letter.
func TestRandomOverlaps(t *testing.T) {
	beside(t)
	for i, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			opened, refused := 0, 0
			for n := range *overlaps {
				seed := 1 + uint64(*day)*uint64(*overlaps) + uint64(n)
				if *firstSeed > 0 {
					seed = *firstSeed + uint64(n)
				}
				g := &overlapping{rand.New(rand.NewPCG(seed, uint64(i))), server}
				o := officeOn(t, server, g.table())
				o.paced("lock_wait = '" + g.one("300ms", "5ms") + "'\nlock_tries = 200\n")
				text := g.migration()
				o.migration("0002-change", text)
				start := o.canonical(true)
				state := ""
				for step := range 6 {
					args := []string{"advance", "--yes", "--let-writers-wait"}
					switch {
					case state == "open" && g.r.IntN(2) == 0:
						args[0], state = "settle", "settled"
					case state != "":
						args, state = []string{"retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"}, ""
					default:
						state = "open"
					}
					r := o.run(args...)
					if r.code == 3 && step == 0 {
						refused++
						t.Logf("seed %d: %s: %s", seed, text, r.stderr)
						break
					}
					if r.code != 0 {
						t.Fatalf("-seed %d: %s%v: %s", seed, text, args, r)
					}
					if state == "open" && !strings.Contains(o.must("status"), " open ") {
						state = "settled"
					}
					o.must("audit")
					if opened++; state == "" {
						if now := o.canonical(true); now != start {
							t.Fatalf("-seed %d: %s%v: it is not what it was: %s", seed, text, args, firstDifference(start, now))
						}
					}
				}
			}
			t.Logf("%d steps, %d migrations were refused", opened, refused)
			if opened < 3**overlaps {
				t.Errorf("only %d steps of %d overlaps: the test has lost its aim", opened, *overlaps)
			}
		})
	}
}
