package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/result"
)

// laid is a home with the demo's plans, whose services are this program.
func laid(t *testing.T) home {
	t.Helper()
	h := newHome(t)
	h.run(t, "harbour", "lay", ".").says(t, 0)
	h.env = append(h.env, "PACEDUEL="+program, "HARBOUR=http://127.0.0.1:1")
	return h
}

// A clerk who does one thing after another lets nobody in meanwhile, and one who does it in slices does.
func TestWhoWaitsForTheClerk(t *testing.T) {
	beside(t)
	h := laid(t)
	o := h.run(t, "run", "tide-office.duel.yaml", "--rounds", "1", "--only", "slices", "--set", "pace.repeat=2",
		"--json", "out.json")
	o.says(t, 1, "meanwhile", "While slices works, a bystander waits")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	longest := map[string]float64{}
	for i := range r.Heats {
		longest[r.Heats[i].Contender] = r.Heats[i].Bystander.Meanwhile.Longest.Seconds()
	}
	if longest["one-go"] < 3*longest["slices"] {
		t.Errorf("longest silences %v", longest)
	}
}

// A notice that is looked for is late by the time between two looks, asleep more than awake; one that is told is not.
func TestWhenNoticesAreSeen(t *testing.T) {
	beside(t)
	h := laid(t)
	o := h.run(t, "run", "notice-board.duel.yaml", "--rounds", "1", "--set", "pace.repeat=4", "--json", "out.json")
	o.says(t, 1, "arrivals", "It is asked for every 50.0 ms", "awake against asleep")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	mean := map[string]float64{}
	for i := range r.Heats {
		h := &r.Heats[i]
		if h.Failed() > 0 {
			t.Errorf("%s %s: %v", h.Contender, h.State, h.Failures)
		}
		mean[h.Contender+" "+h.State] = h.Mean()
	}
	if mean["polls asleep"] < 2*mean["polls awake"] || mean["pushes asleep"] > mean["polls asleep"]/5 {
		t.Errorf("means %v", mean)
	}
}

// Of three logs whose processes are killed, the one that keeps positions back loses what it had acknowledged.
func TestWhatACrashLoses(t *testing.T) {
	beside(t)
	h := laid(t)
	o := h.run(t, "run", "position-log.duel.yaml", "--rounds", "1", "--set", "course.crash.times=2", "--set",
		"pace.for=200ms", "--json", "out.json")
	o.says(t, 0, "buffered loses", "of the last acknowledged records", "written and synced lose none",
		"buffered loses what it had acknowledged when its process dies")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil || len(r.Crashes) != 6 {
		t.Fatalf("%d crashes, %v", len(r.Crashes), err)
	}
	for _, c := range r.Crashes {
		lost := c.Lost() > 0
		if c.Err != "" || c.Acknowledged < 20 || c.Again <= 0 || lost != (c.Contender == "buffered") || c.Unknown > 4 {
			t.Errorf("%+v", c)
		}
	}
	h.run(t, "export", r.ID, "--to", "out").says(t, 0)
	pictures, _ := filepath.Glob(filepath.Join(h.dir, "out", "*survival*.svg"))
	reports, _ := filepath.Glob(filepath.Join(h.dir, "out", "*.md"))
	if len(pictures) != 1 || len(reports) != 1 {
		t.Fatalf("%v, %v", pictures, reports)
	}
	if text, err := os.ReadFile(reports[0]); err != nil || !strings.Contains(string(text), "## Survival") {
		t.Errorf("%v: %s", err, text)
	}
}
