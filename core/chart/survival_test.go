package chart_test

import (
	"math"
	"testing"
	"time"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// What was kept and what was lost stand on one scale, so that their lengths may be compared.
func TestWhatCrashesLeaveIsDrawn(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 600, Seed: 4, Entrants: []sample.Entrant{
		{Name: "written", Latency: sample.Times(0.002, 0.1)}, {Name: "buffered", Latency: sample.Times(0.001, 0.1)},
	}})
	for no := 1; no <= 4; no++ {
		r.Crashes = append(r.Crashes,
			result.Crash{Contender: "written", No: no, Acknowledged: 1_000, Records: 1_000, Again: time.Millisecond},
			result.Crash{Contender: "buffered", No: no, Acknowledged: 2_000, Records: 1_500})
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	p := chart.NewSurvival(r, v)
	if len(p.Lanes) != 2 || len(p.Lanes[1].Crashes) != 4 || !p.Any() {
		t.Fatalf("%+v", p)
	}
	a, b := p.Lanes[0].Crashes[0], p.Lanes[1].Crashes[0]
	if a.Lost != 0 || a.Label != "" || b.Label != "500" || math.Abs(b.Kept/b.Lost-3) > 1e-9 ||
		math.Abs(b.Kept/a.Kept-1.5) > 1e-9 || p.Deepest != b.Lost {
		t.Errorf("%+v, %+v of %+v", a, b, p.Scale)
	}
	if p := chart.NewSurvival(r, &judge.Verdict{}); p.Any() {
		t.Errorf("%+v", p)
	}
}
