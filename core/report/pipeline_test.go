package report_test

import (
	"bytes"
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
