package chart_test

import (
	"strings"
	"testing"
	"time"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/internal/sample"
)

// Work, waits and silences of a heat lie on one scale, and somebody who was held up stands above the limit.
func TestWhoWaitsIsDrawn(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 20, Seed: 3, Entrants: []sample.Entrant{
		{Name: "one-go", Latency: sample.Times(0.1, 0.01)}, {Name: "slices", Latency: sample.Times(0.1, 0.01)},
	}})
	for i := range r.Heats {
		held := 2 * time.Second
		if r.Heats[i].Contender == "slices" {
			held = 5 * time.Millisecond
		}
		sample.HeldUp(&r.Heats[i], held)
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	p := chart.NewMeanwhile(r, v)
	if len(p.Lanes) != 2 || !p.Any() || p.Scale.Max < 3 {
		t.Fatalf("%+v", p)
	}
	a, b := p.Lanes[0], p.Lanes[1]
	if len(a.Silences) != 1 || a.Silences[0].Label != "2.00 s" || len(b.Silences) != 0 || len(a.Dots) != 300 {
		t.Errorf("%+v, %+v, %d dots", a.Silences, b.Silences, len(a.Dots))
	}
	q := a.Silences[0]
	if q.From < 0.05 || q.To-q.From < 0.9*2/p.Scale.Max || q.To-q.From > 1.1*2/p.Scale.Max {
		t.Errorf("%+v on a scale to %g s", q, p.Scale.Max)
	}
	high := func(l chart.MeanwhileLane) (n int) {
		for _, d := range l.Dots {
			if d.Y > l.Limit {
				n++
			}
		}
		return n
	}
	if high(a) < 190 || high(b) != 0 || !strings.Contains(a.Says, "longest 2.00 s, held up 66.7 %") {
		t.Errorf("%d and %d above the limit: %s", high(a), high(b), a.Says)
	}
	if len(a.Work) == 0 || a.Work[0].From > a.Work[0].To {
		t.Errorf("work %+v", a.Work)
	}
	r.Heats[0].Bystander = nil
	if p := chart.NewMeanwhile(r, &judge.Verdict{}); p.Any() || !strings.Contains(p.Sentence, "Nobody asked meanwhile") {
		t.Errorf("%+v", p)
	}
}
