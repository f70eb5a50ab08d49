package chart_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// Effects lie on one scale from the deed, and where we have to ask it is shown what that may add.
func TestWhenEffectsAreSeenIsDrawn(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 600, Seed: 4, Entrants: []sample.Entrant{
		{Name: "polls", Latency: sample.Times(0.1, 0.1)}, {Name: "pushes", Latency: sample.Times(0.01, 0.1)},
	}})
	sample.Arriving(r, "polls", "asked", 100*time.Millisecond, 50*time.Millisecond)
	sample.Arriving(r, "pushes", "event", 2*time.Millisecond, 0)
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "polls" {
			h.Backlog = &result.Backlog{Most: 40, Over: [][2]int64{{0, 10}, {5e8, 40}, {1e9, 10}}}
		}
	}
	r.Heats[0].Amounts = map[string]int64{"never came": 3}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	p := chart.NewArrivals(r, v)
	if len(p.Lanes) != 2 || !p.Any() || !p.Scale.Log {
		t.Fatalf("%+v", p)
	}
	a, b := p.Lanes[0], p.Lanes[1]
	if math.Abs(a.P50-p.Scale.At(0.113)) > 0.02 || !(a.P99 > a.P50) || math.Abs(a.Floor-p.Scale.At(0.05)) > 1e-9 ||
		b.Floor != 0 || b.P50 > a.P50/2 || !a.First || !b.First {
		t.Errorf("%+v, %+v", a, b)
	}
	if !strings.HasSuffix(a.Says, "asked every 50.0 ms") {
		t.Errorf("%q", a.Says)
	}
	const piled = "10.0 deeds/s come through; over a heat 20.0 under way on average, 40 at most"
	if len(a.Backlog) != 3 || len(b.Backlog) != 0 || a.Backlog[1] != (chart.Dot{X: 0.5, Y: 1}) ||
		a.Backlog[2].Y != 0.25 || a.Piled != piled || !strings.Contains(p.Note, "under way over the heat") {
		t.Errorf("%+v, %q, %q", a.Backlog, a.Piled, p.Note)
	}
	dark := 0
	for c, share := range a.Density {
		if share > 0 {
			dark++
			if at := float64(c) / float64(len(a.Density)); at < a.P50-0.1 || at > a.P50+0.1 {
				t.Errorf("column %d of %d is dark", c, len(a.Density))
			}
		}
	}
	if dark == 0 {
		t.Error("nothing is drawn")
	}
	none := chart.NewArrivals(r, &judge.Verdict{})
	if none.Any() || !strings.HasPrefix(none.Sentence, "There is nothing that arrives") {
		t.Errorf("%+v", none)
	}
}
