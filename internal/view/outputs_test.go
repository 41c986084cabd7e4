package view

import (
	"encoding/json"
	"strings"
	"testing"

	"lastboard/internal/core/audit"
	"lastboard/internal/core/check"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

func TestDifferencesSayWhatIsLostAndGained(t *testing.T) {
	was := &schema.Table{Name: "vessel", Columns: []*schema.Column{
		{Name: "flag", Type: sqltext.Type{Name: "text"}, NotNull: true},
		{Name: "tax", Generated: &schema.Generated{Expr: schema.Expr{Native: "dues*1.2"}}},
	}}
	is := &schema.Table{Name: "vessel", Columns: []*schema.Column{
		{Name: "port", Type: sqltext.Type{Name: "varchar", Args: []int{8}}, NotNull: true, OnUpdateNow: true},
		{Name: "tax", Generated: &schema.Generated{Expr: schema.Expr{Native: "dues*1.25"}}},
	}}
	p, out, _ := printer(0)
	p.Differences(was, is, []schema.Difference{
		{Table: "vessel", Object: "column", Name: "flag", Attribute: "exists", Expected: "yes", Found: "no"},
		{Table: "vessel", Object: "column", Name: "port", Attribute: "exists", Expected: "no", Found: "yes"},
		{Table: "vessel", Object: "column", Name: "tax", Attribute: "generated", Expected: "dues * 1.2",
			Found: "dues * 1.25"},
		{Table: "vessel", Object: "column", Name: "name", Attribute: "not null", Expected: "yes", Found: "no"},
		{Table: "vessel", Object: "column", Name: "name", Attribute: "default", Expected: "", Found: ""},
	})
	for _, want := range []string{
		"column flag            text not null  -                                                     lost",
		"column port            -              varchar(8) not null on update current_timestamp  gained",
		"column tax: generated  dues*1.2       dues*1.25",
		"column name: not null  yes            no                                                    lost",
	} {
		if !strings.Contains(squeezed(out.String()), squeezed(want)) {
			t.Errorf("wanted %q in\n%s", want, out)
		}
	}
}

func squeezed(s string) string { return strings.Join(strings.Fields(s), " ") }

func TestKeptIsSaidInWords(t *testing.T) {
	p, out, _ := printer(0)
	p.Kept(nil)
	if !strings.Contains(out.String(), "nothing is kept") {
		t.Errorf("got %s", out)
	}
	out.Reset()
	var list []KeptThing
	for _, what := range []string{engine.KeptColumn, engine.KeptConverted, engine.KeptValues, engine.KeptTable,
		engine.KeptRows, engine.KeptKeys} {
		list = append(list, KeptThing{Version: "0005", Table: "vessel", What: what, Columns: []string{"flag"}, Rows: 1200,
			Bytes: 4096, At: "2031-05-01T10:00:00.000Z", Past: what == engine.KeptRows})
	}
	list[0].For = ledger.Retreat
	p.Kept(list)
	for _, want := range []string{"dropped column, taken back", "values before another type", "values before a fill",
		"dropped table", "deleted rows", "keys of inserted rows", "vessel.flag 1,200 4.1 kB 2031-05-01 10:00",
		"past keep_days"} {
		if !strings.Contains(squeezed(out.String()), want) {
			t.Errorf("wanted %q in\n%s", want, out)
		}
	}
	if strings.Count(out.String(), "past keep_days") != 1 {
		t.Errorf("one is past its time:\n%s", out)
	}
}

func TestAuditGroupsWhatOneStatementMends(t *testing.T) {
	p, out, _ := printer(0)
	p.Audit(nil)
	if !strings.Contains(out.String(), "matches:") {
		t.Errorf("got %s", out)
	}
	out.Reset()
	p.Audit([]audit.Finding{
		{Difference: schema.Difference{Table: "vessel", Object: "column", Name: "rust", Attribute: "exists", Expected: "no",
			Found: "yes"}, Mend: "one;\ntwo"},
		{Difference: schema.Difference{Table: "vessel", Object: "column", Name: "flag", Attribute: "default",
			Expected: "'NO'", Found: ""}, Mend: "one;\ntwo"},
		{Difference: schema.Difference{Table: "berth", Object: "index", Name: "by_code", Attribute: "exists", Expected: "yes",
			Found: "no"}, Mend: "three"},
	})
	text := squeezed(out.String())
	for _, want := range []string{"vessel should be is column rust not there there column flag: default 'NO' - to " +
		"mend it: one; two berth should be is index by_code there missing to mend it: three"} {
		if !strings.Contains(text, want) {
			t.Errorf("wanted %q in\n%s", want, out)
		}
	}
}

func TestSarifNamesEachRuleOnce(t *testing.T) {
	p, out, _ := printer(0)
	p.JSON = true
	list := fault.List{
		{Level: fault.Warning, Rule: "name-reserved", Message: "order is reserved", Cure: "choose another",
			Where: fault.Where{File: "migrations/0002-a.sql", Line: 3, Column: 7}},
		{Rule: "of-its-own", Message: "something", Where: fault.Where{}},
	}
	if err := p.Sarif(list, check.Rules(), "1.2.3"); err != nil {
		t.Fatal(err)
	}
	var doc sarifLog
	if err := json.Unmarshal(out.Bytes(), &doc); err != nil {
		t.Fatal(err)
	}
	run := doc.Runs[0]
	if len(run.Tool.Driver.Rules) != len(check.Rules())+1 || run.Tool.Driver.Version != "1.2.3" {
		t.Errorf("got %d rules", len(run.Tool.Driver.Rules))
	}
	first, second := run.Results[0], run.Results[1]
	if first.Level != "warning" || first.Message.Text != "order is reserved. Cure: choose another" ||
		first.Locations[0].PhysicalLocation.Region != (sarifRegion{3, 7}) {
		t.Errorf("got %+v", first)
	}
	if second.Level != "error" || len(second.Locations) != 0 ||
		run.Tool.Driver.Rules[second.RuleIndex].ID != "of-its-own" {
		t.Errorf("got %+v", second)
	}
}

func TestStatusAndEntries(t *testing.T) {
	p, out, _ := printer(0)
	p.Status(nil)
	p.Entries(nil)
	if !strings.Contains(out.String(), "there are no migrations yet") ||
		!strings.Contains(out.String(), "nothing was done to this database yet") {
		t.Errorf("got %s", out)
	}
	out.Reset()
	at, back := "2031-05-01T10:00:00.000Z", ledger.Retreat
	p.Status([]MigrationStatus{
		{Version: "0001", Name: "open", Title: "Open", State: ledger.Settled, AdvancedAt: &at},
		{Version: "0002", Name: "back", State: ledger.Stopped, Direction: &back},
		{Version: "0003", Name: "next", State: ledger.Waiting},
	})
	p.Entries([]ledger.Entry{{At: at, Version: "0001", What: "advanced", By: "ash", Host: "pier", Seconds: 1.25,
		Rows: 2000, Note: "why"}})
	for _, want := range []string{"0001 settled 2031-05-01 10:00 open Open", "0002 stopped on the way back",
		"0003 waiting next", "2031-05-01 10:00 0001 advanced ash on pier 1.2 s 2,000 why"} {
		if !strings.Contains(squeezed(out.String()), want) {
			t.Errorf("wanted %q in\n%s", want, out)
		}
	}
}
