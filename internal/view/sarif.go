package view

import (
	"path/filepath"

	"lastboard/internal/core/check"
	"lastboard/internal/core/fault"
)

// The Static Analysis Results Interchange Format 2.1.0, an OASIS standard: as much of
// it as findings need.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string    `json:"id"`
		ShortDescription sarifText `json:"shortDescription"`
		Help             sarifText `json:"help"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		RuleIndex int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations,omitempty"`
	}
	sarifLocation struct {
		PhysicalLocation sarifPlace `json:"physicalLocation"`
	}
	sarifPlace struct {
		ArtifactLocation sarifFile   `json:"artifactLocation"`
		Region           sarifRegion `json:"region"`
	}
	sarifFile struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"`
	}
)

// Sarif writes findings for code-review tools.
func (p *Printer) Sarif(list fault.List, rules []check.Rule, version string) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "lastboard", Version: version, Rules: []sarifRule{}}},
		Results: []sarifResult{}}
	index := map[string]int{}
	add := func(id, meaning, cure string) {
		if cure == "" {
			cure = meaning
		}
		index[id] = len(run.Tool.Driver.Rules)
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{id, sarifText{meaning}, sarifText{cure}})
	}
	for _, r := range rules {
		add(r.ID, r.Meaning, r.Cure)
	}
	for _, f := range list {
		if _, known := index[f.Rule]; !known {
			add(f.Rule, f.Message, f.Cure)
		}
		text := f.Message
		if f.Cure != "" {
			text += ". Cure: " + f.Cure
		}
		level := string(f.Level)
		if level == "" {
			level = "error"
		}
		r := sarifResult{RuleID: f.Rule, RuleIndex: index[f.Rule], Level: level, Message: sarifText{text}}
		if f.Where.File != "" {
			r.Locations = []sarifLocation{{sarifPlace{sarifFile{filepath.ToSlash(f.Where.File)},
				sarifRegion{max(1, f.Where.Line), max(1, f.Where.Column)}}}}
		}
		run.Results = append(run.Results, r)
	}
	const form = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
	return p.document(sarifLog{form, "2.1.0", []sarifRun{run}})
}
