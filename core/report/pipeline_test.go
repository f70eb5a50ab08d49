package report_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"paceduel/core/judge"
	"paceduel/core/report"
	"paceduel/internal/golden"
	"paceduel/internal/sample"
)

// piped are a duel with a claim of each finding, one without claims, and one that was not measured.
func piped(t *testing.T) []report.Duel {
	t.Helper()
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 40, Seed: 4, Entrants: []sample.Entrant{
		{Name: "slow", Latency: sample.Times(0.01, 0.1)}, {Name: "fast", Latency: sample.Times(0.005, 0.1)},
	}})
	r.Plan.Claims = []string{
		"fast mean at least 1.5x faster than slow", "fast mean under 1ms", "fast mean at least 1.99x faster than slow",
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	plain := *r
	plain.Plan.Name, plain.Plan.Claims = "Plain & <simple> | #1", nil
	w, err := judge.Judge(&plain)
	if err != nil {
		t.Fatal(err)
	}
	return []report.Duel{
		{Name: r.Plan.Name, File: "berths.duel.yaml", Result: r, Verdict: v, Took: 1500 * time.Millisecond},
		{Name: plain.Plan.Name, File: "plain.duel.yaml", Result: &plain, Verdict: w, Took: time.Second},
		{Name: "Gone", File: "gone.duel.yaml", Err: errors.New("it's gone:\n\x1b[31m# no service")},
	}
}

func TestPipelinesInEveryForm(t *testing.T) {
	duels := piped(t)
	for name, content := range map[string]func(*bytes.Buffer) error{
		report.JUnitFile:   func(b *bytes.Buffer) error { return report.JUnit(b, duels) },
		report.TAPFile:     func(b *bytes.Buffer) error { return report.TAP(b, duels) },
		report.SummaryFile: func(b *bytes.Buffer) error { return report.Summary(b, duels) },
	} {
		var out bytes.Buffer
		if err := content(&out); err != nil {
			t.Fatal(err)
		}
		if strings.ContainsRune(out.String(), '\x1b') {
			t.Errorf("%s takes orders to a terminal along", name)
		}
		golden.Check(t, name, out.String())
	}
}

// Other programs read the same of a JUnit file: how many cases there are, and which are not well.
func TestJUnitAsOthersReadIt(t *testing.T) {
	var out bytes.Buffer
	if err := report.JUnit(&out, piped(t)); err != nil {
		t.Fatal(err)
	}
	var read struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Errors   int `xml:"errors,attr"`
		Suites   []struct {
			Name  string `xml:"name,attr"`
			Cases []struct {
				Name    string    `xml:"name,attr"`
				Failure *struct{} `xml:"failure"`
				Error   *struct{} `xml:"error"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal(out.Bytes(), &read); err != nil {
		t.Fatal(err)
	}
	failures, faults, cases := 0, 0, 0
	for _, s := range read.Suites {
		for _, c := range s.Cases {
			cases++
			if c.Failure != nil {
				failures++
			}
			if c.Error != nil {
				faults++
			}
		}
	}
	if read.Tests != 5 || cases != 5 || read.Failures != 2 || failures != 2 || read.Errors != 1 || faults != 1 ||
		read.Suites[1].Name != "Plain & <simple> | #1" {
		t.Errorf("%+v", read)
	}
}

func TestAPipelineThatCannotBeWritten(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new")
	if err := report.WritePipeline(dir, piped(t)); err != nil {
		t.Fatal(err)
	}
	if err := report.WritePipeline(filepath.Join(dir, report.TAPFile), nil); err == nil ||
		!strings.Contains(err.Error(), report.TAPFile) {
		t.Errorf("%v", err)
	}
}

// Notes stand at the lines of plans in which claims do, and only of what is not upheld.
func TestNotesToLinesOfPlans(t *testing.T) {
	duels := piped(t)
	for i := range duels {
		if r := duels[i].Result; r != nil && len(r.Plan.Claims) > 0 {
			duels[i].File = "bench/a plan.duel.yaml"
			r.Plan.Source = "duel: x\n# " + r.Plan.Claims[len(r.Plan.Claims)-1] + "\nclaims:\n  - " +
				strings.Join(r.Plan.Claims, "\n  - ") +
				"\n"
		}
	}
	duels[0].Held = []judge.Claim{{Text: "joined is not surely worse", Finding: judge.Refuted, Why: "1.3x slower"}}
	duels[0].HeldTo = "run 1112-1403abc"
	var out bytes.Buffer
	if err := report.SARIF(&out, duels); err != nil {
		t.Fatal(err)
	}
	var read struct {
		Version string
		Runs    []struct {
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(out.Bytes(), &read); err != nil {
		t.Fatal(err)
	}
	rules := map[string]int{}
	for _, r := range read.Runs[0].Results {
		rules[r.RuleID]++
		if len(r.Locations) > 0 {
			at := r.Locations[0].PhysicalLocation
			if strings.Contains(at.ArtifactLocation.URI, " ") || at.Region.StartLine == 2 || at.Region.StartLine < 1 {
				t.Errorf("%s stands at %+v", r.Message.Text, at)
			}
		}
	}
	if read.Version != "2.1.0" || rules["claim-refuted"] != 2 || rules["claim-undecided"] != 1 ||
		rules["not-measured"] != 1 {
		t.Errorf("%v of %s", rules, out.String())
	}
	out.Reset()
	if err := report.Summary(&out, duels); err != nil || !strings.Contains(out.String(), "Held to run 1112-1403abc") ||
		!strings.Contains(out.String(), "| joined is not surely worse | **refuted** | 1.3x slower |") {
		t.Errorf("%s, %v", out.String(), err)
	}
}
