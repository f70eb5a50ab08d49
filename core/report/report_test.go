package report_test

import (
	"encoding/csv"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/report"
	"paceduel/core/result"
	"paceduel/internal/golden"
	"paceduel/internal/sample"
)

func made(t *testing.T) (*result.Result, *judge.Verdict) {
	t.Helper()
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 600, Clients: 4, Seed: 12, Entrants: []sample.Entrant{
		{
			Name: "per-vessel", Latency: sample.Times(0.012, 0.1), Bytes: 8443,
		}, {Name: "joined | twice", Latency: sample.Times(0.004, 0.1), Bytes: 8443},
		{
			Name: "snapshot", Latency: sample.Times(0.001, 0.1), Bytes: 8443,
		}, {Name: "per-vessel again", Latency: sample.Times(0.012, 0.1), Bytes: 8443}}})
	r.Entrants[3].Mirror = true
	r.Entrants[2].Avoid = "a change must be seen at once"
	r.Plan.Claims = []string{"snapshot at least 5x faster than per-vessel"}
	r.Plan.Stakes = &result.Stakes{Items: 1e6}
	r.Plan.Sets = []string{"rounds=10"}
	r.Plan.Source = "duel: Berth board\nquestion: \"```?\"\n"
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, v
}

func madeSwept(t *testing.T) (*result.Result, *judge.Sweep) {
	t.Helper()
	r := sample.MakeSwept(sample.Swept{
		Duel: sample.Duel{
			Entrants: []sample.Entrant{{Name: "buffered", Bytes: 9}, {Name: "mapped | twice", Bytes: 9}}, Rounds: 12, Shots: 20,
			Seed: 5,
		},
		Parameters: []result.Parameter{sample.Numbers("writers", plan.Threads, 1, 2, 4, 8)},
		Takes: func(way int, at ...float64) float64 {
			return []float64{0.001 * (1 + at[0]), 0.001 * (3.4 + 0.2*at[0])}[way]
		},
		Spread: 0.1, Heats: 0.02,
	})
	r.Plan.Claims = []string{"buffered best at writers 1"}
	s, err := judge.JudgeSweep(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, s
}

func TestASweepIsReported(t *testing.T) {
	r, s := madeSwept(t)
	var out strings.Builder
	if err := report.SweptMarkdown(&out, r, s, nil); err != nil {
		t.Fatal(err)
	}
	golden.Check(t, "sweep", out.String())
	out.Reset()
	if err := report.SweptFigures(&out, r, s); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	if err != nil || len(rows) != 1+len(s.Figures)*4*2 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	for _, row := range rows[1:] {
		if row[2] == "mean" && row[0] == "1" && row[3] == "buffered" && (row[7] != "1" || row[11] != "buffered") {
			t.Errorf("%q", row)
		}
	}
}

// What is known of the inside of shots at a point of a sweep stands in its report, with a picture of its own.
func TestTheInsideOfASweep(t *testing.T) {
	r, _ := madeSwept(t)
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Point == r.Sweep.Points[1].At && h.Contender == "buffered" {
			looked := sample.Legs(false, 0.041, 0.052, 0.03)(rng, h.Round)
			h.Inside, _ = result.LookInside(looked, int64(len(looked)))
		}
	}
	s, err := judge.JudgeSweep(r)
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	if err := report.SweptMarkdown(&out, r, s, nil); err != nil {
		t.Fatal(err)
	}
	if text := out.String(); strings.Count(text, "## Inside a shot\n\n### writers 2\n") != 1 ||
		strings.Count(text, "### ") != 1 || !strings.Contains(text, "| step | begins |") {
		t.Error(text)
	}
	pictures := 0
	for _, p := range paper.AllSwept(r, s) {
		if strings.Contains(p.Title, "what happens in a shot, writers 2") && strings.Contains(p.Name, "writers-2-inside") {
			pictures++
		}
	}
	if pictures != 1 {
		t.Errorf("%d pictures of the inside at writers 2", pictures)
	}
}

// Everything of a sweep that is exported is there, and its result can be read again as it was.
func TestASweepIsExported(t *testing.T) {
	r, s := madeSwept(t)
	dir := t.TempDir()
	written, err := report.ExportSweep(r, s, dir)
	if err != nil {
		t.Fatal(err)
	}
	endings := map[string]int{}
	for _, path := range written {
		if info, err := os.Stat(path); err != nil || info.Size() == 0 {
			t.Errorf("%s: %v", path, err)
		}
		endings[filepath.Ext(path)]++
	}
	if endings[".svg"] == 0 || endings[".svg"] != endings[".pdf"] || endings[".md"] != 1 || endings[".csv"] != 1 {
		t.Errorf("written %v", endings)
	}
	again, err := result.ReadFile(written[len(written)-1])
	if err != nil {
		t.Fatal(err)
	}
	same, err := judge.JudgeSweep(again)
	if err != nil || same.Sentence != s.Sentence {
		t.Errorf("read again: %q, %v; want %q", same.Sentence, err, s.Sentence)
	}
}

func TestMarkdown(t *testing.T) {
	r, v := made(t)
	var out strings.Builder
	if err := report.Markdown(&out, r, v, nil); err != nil {
		t.Fatal(err)
	}
	golden.Check(t, "report", out.String())
}

func TestFiguresAsCSV(t *testing.T) {
	r, v := made(t)
	var out strings.Builder
	if err := report.Figures(&out, r, v); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	if err != nil || len(rows) < 10 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	at := map[string]int{}
	for i, name := range rows[0] {
		at[name] = i
	}
	seen := false
	for _, row := range rows[1:] {
		if row[at["contender"]] != "snapshot" || row[at["figure"]] != "p50" {
			continue
		}
		seen = true
		ratio, err := strconv.ParseFloat(row[at["ratio"]], 64)
		if err != nil || ratio < 11.5 || ratio > 12.5 || row[at["word"]] != "better" ||
			row[at["on_ladder"]] != "true" || row[at["baseline_against_itself"]] == "" {
			t.Errorf("%v", row)
		}
	}
	if !seen {
		t.Error("p50 of snapshot is missing")
	}
}

func TestExportWritesEverything(t *testing.T) {
	r, v := made(t)
	dir := filepath.Join(t.TempDir(), "new", "folder")
	files, err := report.Export(r, v, dir, chart.Look{})
	if err != nil {
		t.Fatal(err)
	}
	ends := map[string]int{}
	for _, f := range files {
		info, err := os.Stat(f)
		if err != nil || info.Size() == 0 {
			t.Errorf("%s: %v", f, err)
		}
		ends[filepath.Ext(f)]++
	}
	// Two ladders, lanes, distribution, tail and time line.
	if ends[".svg"] != 6 || ends[".pdf"] != 6 || ends[".csv"] != 1 || ends[".md"] != 1 || ends[".json"] != 1 {
		t.Errorf("files %v", ends)
	}
	text, err := os.ReadFile(filepath.Join(dir, "berth-board-"+r.ID+".md"))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if _, rest, ok := strings.Cut(line, "]("); ok && strings.HasPrefix(line, "![") {
			if _, err := os.Stat(filepath.Join(dir, strings.TrimSuffix(strings.TrimSpace(rest), ")"))); err != nil {
				t.Errorf("the report shows a picture that is not there: %v", err)
			}
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "file"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := report.Export(r, v, filepath.Join(dir, "file"), chart.Look{}); err == nil ||
		!strings.Contains(err.Error(), "export to ") {
		t.Errorf("exporting into a file: %v", err)
	}
}

// What was never measured can still be told.
func TestARunWithoutRounds(t *testing.T) {
	r, _ := made(t)
	r.Heats, r.Ending = nil, result.Interrupted
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := report.Export(r, v, t.TempDir(), chart.Look{All: true}); err != nil {
		t.Error(err)
	}
}

// How a database carries a statement out stands in the report, in its own form.
func TestQueryPlansAreReported(t *testing.T) {
	r, v := made(t)
	r.Entrants[0].Touch = &result.Touch{QueryPlan: "SEARCH calls\n  USE TEMP B-TREE\n"}
	var out strings.Builder
	if err := report.Markdown(&out, r, v, nil); err != nil {
		t.Fatal(err)
	}
	const want = "## Query plans\n\n**per-vessel**, at the weigh-in:\n\n    SEARCH calls\n      USE TEMP B-TREE\n"
	if !strings.Contains(out.String(), want) {
		t.Error(out.String())
	}
}

func TestTheInsideInAReport(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 25, Seed: 3, Entrants: []sample.Entrant{
		{Name: "in-turn", Latency: sample.Times(0.1, 0.1), Inside: sample.Legs(false, 0.041, 0.052, 0.049)},
		{Name: "together", Latency: sample.Times(0.1, 0.1), Inside: sample.Legs(true, 0.041, 0.052, 0.049)},
	}})
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	if err := report.Markdown(&out, r, v, nil); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"## Inside a shot", "wait for each other", "| berth | 4", v.Moved[0].Sentence} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("the report lacks %q", want)
		}
	}
}
