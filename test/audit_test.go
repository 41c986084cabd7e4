package test

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
)

// TestTheLedgerItselfIsAudited is that what nobody but somebody else can have written into the
// ledger is named.
func TestTheLedgerItselfIsAudited(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table berth (id integer not null primary key, d varchar(20))",
		"insert into berth values (1, 'a')"}, func(t *testing.T, o *office) {
		o.migration("0002-less", "-- Less\nalter table berth drop column d;\n")
		o.must("advance", "--yes")
		m, k := o.ledger("migration"), o.ledger("kept")
		for what, c := range map[string][3]string{
			"what it changed":     {"update " + m + " set changes = '{broken' where version = '0002'", "changes", m},
			"the tables after it": {"update " + m + " set wanted = '[]' where version = '0002'", "wanted", m},
			"its text": {"update " + m + " set source = '-- Less\nalter table berth drop column id;' where " +
				"version = '0002'", "source", m},
			"state": {"update " + m + " set state = 'banana' where version = '0002'", "state", m},
			"where it keeps values": {"update " + k + " set keeping = replace(keeping, 'lastboard_kept_1', 'berth') where " +
				"version = '0002'", "keeping", k},
		} {
			was := strings.TrimPrefix(o.query("select "+c[1]+" from "+c[2]+" where version = '0002'"), "string:")
			o.exec(c[0])
			o.wants(o.code(5, "audit"), "ledger, migration", "0002", what, "somebody has changed the ledger")
			o.exec("update " + c[2] + " set " + c[1] + " = '" + strings.ReplaceAll(was, "'", "''") + "' where version = '0002'")
			o.must("audit")
		}
		o.exec("delete from " + m + " where version = '0002'")
		o.wants(o.code(5, "audit"), "record", "gone")
		o.exec("alter table " + m + " rename to " + map[string]string{"mariadb": o.ledger("away")}[engineWord(o)] +
			map[string]string{"postgres": "away", "sqlite": "away"}[engineWord(o)])
		for _, command := range [][]string{{"status"}, {"audit"}, {"advance", "--yes"}} {
			o.wants(o.code(1, command...), "ledger-broken", "bring it back from a backup")
		}
	})
}

// TestMendsRunAsTheyStand is that what audit shows to mend a difference can be run by a person,
// in a session as it comes, and mends it.
func TestMendsRunAsTheyStand(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table berth (id integer not null primary key, depth integer)",
		"insert into berth values (1, 2)"}, func(t *testing.T, o *office) {
		trigger := map[string][]string{
			"sqlite":  {"create trigger tick after insert on berth begin update berth set depth = 1 where id = new.id; end"},
			"mariadb": {"create trigger tick before insert on berth for each row set new.depth = 1"},
			"postgres": {"create function tick() returns trigger language plpgsql as 'begin return new; end'",
				"create trigger tick before insert on berth for each row execute function tick()"},
		}[engineWord(o)]
		for _, hand := range [][]string{trigger, {"create index by_hand on berth (depth)"},
			{"alter table berth add column spare integer"}} {
			o.exec(hand...)
			var out struct {
				Differences []struct {
					Mend string `json:"mend"`
				} `json:"differences"`
			}
			r := o.code(5, "audit", "--json")
			if err := json.Unmarshal([]byte(r.stdout), &out); err != nil || len(out.Differences) == 0 ||
				out.Differences[0].Mend == "" {
				t.Fatalf("no mend: %v %s", err, r)
			}
			o.asPerson(out.Differences[0].Mend)
			o.must("audit")
		}
	})
}

// TestAuditInTheMiddle is that nothing is advised to be dropped that a stopped migration is
// about to need.
func TestAuditInTheMiddle(t *testing.T) {
	beside(t)
	onEach(t, berthsOf(1200), func(t *testing.T, o *office) {
		stoppedMidway(o)
		r := o.code(5, "audit")
		o.wants(r, "migration 0002 is in its middle: lastboard advance goes on with it")
		if strings.Contains(strings.ToLower(r.String()), "drop column") {
			t.Errorf("it advises to drop what is being filled: %s", r)
		}
		o.must("advance", "--yes", "--let-writers-wait")
		o.must("audit")
	})
}

// asPerson runs a script in the engine's own client or, where there is none, as it stands.
func (o *office) asPerson(script string) {
	o.Helper()
	if engineWord(o) != "mariadb" {
		o.exec(script)
		return
	}
	c := exec.Command("mariadb", "--no-defaults", "--socket="+mariadbServer(o.T).Socket(), "--user=root", o.name())
	c.Stdin = strings.NewReader(script + ";\n")
	if text, err := c.CombinedOutput(); err != nil {
		o.Errorf("%s: %v: %s", script, err, text)
	}
}
