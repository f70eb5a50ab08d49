package app

import (
	"testing"

	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/internal/sample"
	"paceduel/screen"
)

// overWriters is a finished sweep in which the second of two takes over at 3 writers.
func overWriters() *result.Result {
	return sample.MakeSwept(sample.Swept{
		Duel: sample.Duel{
			Entrants: []sample.Entrant{{Name: "buffered", Bytes: 9}, {Name: "mapped", Bytes: 9}, {Name: "locked", Bytes: 9}},
			Rounds:   14, Shots: 20, Seed: 5,
		},
		Parameters: []result.Parameter{sample.Numbers("writers", plan.Threads, 1, 2, 4, 8)},
		Takes: func(way int, at ...float64) float64 {
			return []float64{0.001 * (1 + at[0]), 0.001 * (3.4 + 0.2*at[0]), 0.004 * at[0]}[way]
		},
		Spread: 0.1, Heats: 0.02,
	})
}

// openSweep is the application with a finished sweep in view.
func openSweep(t *testing.T) Model {
	t.Helper()
	cfg := config(t, map[string]string{"tides.duel.yaml": tides})
	r := overWriters()
	cfg.Open = r
	m := started(t, cfg, 142, 42)
	for _, msg := range drain(judgeSweep(r, false)) {
		m = feedAll(m, msg)
	}
	return m
}

// A finished sweep is opened at its own stop; the other stops show one of its points, whichever was chosen.
func TestASweepAndItsPoints(t *testing.T) {
	m := openSweep(t)
	if m.at != screen.Sweep {
		t.Fatalf("it opens at %s", m.at)
	}
	shows(t, m, "Berth board", "buffered is fastest up to 3 writers", "✓sweep", "at writers 1")
	m = press(t, m, "v")
	shows(t, m, "Berth board, writers 1", "mapped 1.8", "buffered")
	m = press(t, m, "p")
	m = feedAll(m, screen.PointMsg{Point: 3, Open: true})
	if m.at != screen.Verdict {
		t.Errorf("from a point one comes to %s", m.at)
	}
	shows(t, m, "Berth board, writers 8", "mapped 1.8")
	if v := m.scene.Run.Verdict; v == nil || v.Rounds != 14 {
		t.Errorf("the verdict of the point: %+v", v)
	}
	m = press(t, m, "r")
	shows(t, m, "Berth board, writers 8", "42 heats")
	m = feedAll(m, screen.TurnMsg{Base: "mapped"})
	if turned := m.scene.Run.Turned["mapped"]; turned == nil || turned.Baseline != "mapped" {
		t.Errorf("turned %+v", m.scene.Run.Turned)
	}
	if m = feedAll(m, screen.PointMsg{Point: 99}); m.scene.Run.Swept.Point != 3 {
		t.Errorf("a point that there is not is in view: %d", m.scene.Run.Swept.Point)
	}
}

// A weigh-in that fails at one point brings that point into view.
func TestAPointThatFailsIsShown(t *testing.T) {
	m := started(t, config(t, map[string]string{"w.duel.yaml": `duel: Writers
baseline: a
contenders:
  a: { stub: { takes: 1ms, answer: "{{tide}}" } }
  b: { stub: { takes: 1ms, answer: ebb } }
pace: { repeat: 2 }
same: { body: exact }
sweep: { over: { tide: [ebb, flood] } }
`}), 142, 42)
	m = toEnd(t, press(t, m, "enter"))
	if m.at != screen.WeighIn || m.scene.Run.Swept.Result.Sweep.Say(m.point) != "tide flood" {
		t.Errorf("in view is %s at %q", m.at, m.point)
	}
	shows(t, m, "Writers, tide flood", "flood")
}

// A sweep that cannot be gone on with stays in view, and it is said why.
func TestASweepThatCannotGoOn(t *testing.T) {
	m := openSweep(t)
	m = press(t, m, "p", "+")
	if m.scene.Run == nil || m.scene.Run.Live || m.scene.Run.Swept == nil {
		t.Fatalf("in view is %+v", m.scene.Run)
	}
	if m.notice.text == "" || !m.notice.trouble {
		t.Errorf("nothing says why: %+v", m.notice)
	}
	shows(t, m, "buffered is fastest up to 3 writers")
}
