package history_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"paceduel/core/files"
	"paceduel/core/history"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/internal/sample"
)

const againPlan = "duel: Tides\nbaseline: tiled\ncontenders:\n  tiled: { stub: { takes: 2ms } }\n" +
	"  joined: { stub: { takes: 1ms } }\n  spread: { stub: { takes: 1ms } }\npace: { repeat: 3 }\nrounds: 6\n" +
	"question: of gauges.csv\n"

// A plan is run as it was: its text, what was laid over it, who took part. What differs now is said.
func TestAnEarlierPlanIsRunAsItWas(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "t.duel.yaml")
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("gauges.csv", "1,2")
	write("t.duel.yaml", againPlan)
	r := run(1, 4) // of tiled and joined alone
	r.Plan.Source, r.Plan.Sets, r.Plan.Files = againPlan, []string{"rounds=9"}, files.Named(againPlan, dir)
	opt := read.Options{Kinds: []plan.Kind{sample.Stub().Kind}}
	again := func(file string) (*plan.Plan, string) {
		t.Helper()
		p, notes, err := history.Again(r, file, opt)
		if err != nil {
			t.Fatal(err)
		}
		return p, strings.Join(notes, "\n")
	}
	p, notes := again(file)
	var names []string
	for _, c := range p.Contenders {
		names = append(names, c.Name)
	}
	if p.Rounds != 9 || !slices.Equal(names, []string{"tiled", "joined"}) || notes != "" || p.Dir != dir {
		t.Errorf("%d rounds of %q in %s, with %q", p.Rounds, names, p.Dir, notes)
	}
	write("gauges.csv", "1,3")
	write("t.duel.yaml", strings.Replace(againPlan, "repeat: 3", "repeat: 4", 1))
	if p, notes = again(file); p.Pace.Repeat != 3 || !strings.Contains(notes, "says something else now, see pace:") ||
		!strings.Contains(notes, "gauges.csv holds something else now") {
		t.Errorf("%q", notes)
	}
	os.Remove(file)
	os.Remove(filepath.Join(dir, "gauges.csv"))
	if _, notes = again(file); !strings.Contains(notes, "is gone") || !strings.Contains(notes, "is not there any more") {
		t.Errorf("%q", notes)
	}
	if _, notes = again("/nowhere/t.duel.yaml"); !strings.Contains(notes, "is not here") {
		t.Errorf("%q", notes)
	}
	r.Plan.Source = ""
	if _, _, err := history.Again(r, file, opt); err == nil || !strings.Contains(err.Error(), "measured elsewhere") {
		t.Errorf("%v", err)
	}
}
