package report

import (
	"encoding/json"
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"paceduel/core/judge"
)

// lineOf is the line of the plan in which a claim stands, from 1; 0 where it is not found, since it was laid over the
// plan or is broken over lines.
func (d *Duel) lineOf(claim string) int {
	if d.Result == nil {
		return 0
	}
	n := 0
	for line := range strings.Lines(d.Result.Plan.Source) {
		n++
		if strings.Contains(line, claim) && !strings.HasPrefix(strings.TrimSpace(line), "#") {
			return n
		}
	}
	if text, _, ok := strings.Cut(claim, ", "); ok { // of one state of caches
		return d.lineOf(text)
	}
	return 0
}

// What of SARIF 2.1.0 (OASIS) notes are made of.
type (
	sarif struct {
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
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID   string    `json:"id"`
		Text sarifText `json:"shortDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		Rule      string          `json:"ruleId"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations,omitempty"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		Line int `json:"startLine"`
	}
)

// The rules of notes.
const (
	refutedRule   = "claim-refuted"
	undecidedRule = "claim-undecided"
	brokenRule    = "not-measured"
)

// SARIF writes what is not as it should be as notes to the lines of plans, for whoever shows such notes beside them: a
// claim that is refuted or could not be measured is an error, one that is undecided a warning.
func SARIF(out io.Writer, duels []Duel) error {
	doc := sarif{
		Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json", Version: "2.1.0",
		Runs: []sarifRun{{Tool: sarifTool{sarifDriver{"Pace Duel", []sarifRule{
			{refutedRule, sarifText{"A claim of the plan was refuted."}},
			{undecidedRule, sarifText{"A claim of the plan is undecided."}},
			{brokenRule, sarifText{"A duel could not be measured."}},
		}}}, Results: []sarifResult{}}},
	}
	for i := range duels {
		d := &duels[i]
		for _, f := range d.findings() {
			if f.Finding == judge.Upheld {
				continue
			}
			one := sarifResult{
				Rule: refutedRule, Level: "error", Message: sarifText{printable(d.Name + ": " + f.what + ": " + f.why)},
			}
			switch {
			case f.broken:
				one.Rule = brokenRule
			case f.Finding == judge.Undecided:
				one.Rule, one.Level = undecidedRule, "warning"
			}
			if d.File != "" {
				at := sarifPhysical{Artifact: sarifArtifact{(&url.URL{Path: filepath.ToSlash(d.File)}).String()}}
				at.Region = &sarifRegion{max(f.line, 1)}
				one.Locations = []sarifLocation{{at}}
			}
			doc.Runs[0].Results = append(doc.Runs[0].Results, one)
		}
	}
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	return e.Encode(&doc)
}
