package judge_test

import (
	"math"
	"testing"
	"time"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

func TestWhenEffectsAreSeen(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 600, Seed: 4, Entrants: []sample.Entrant{
		{Name: "polls", Latency: sample.Times(0.1, 0.1)}, {Name: "pushes", Latency: sample.Times(0.01, 0.1)},
	}})
	sample.Arriving(r, "polls", "event", 80*time.Millisecond, 0)
	sample.Arriving(r, "polls", "asked", 100*time.Millisecond, 50*time.Millisecond)
	sample.Arriving(r, "pushes", "event", 2*time.Millisecond, 0)
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "polls" {
			h.Amounts = map[string]int64{"never came": 2, "out of order": 1}
			h.Backlog = &result.Backlog{Most: int64(400 + h.Round)}
			for n := range int64(400) {
				h.Backlog.Over = append(h.Backlog.Over, [2]int64{n * 1e6, n + 1})
			}
		}
	}
	r.Plan.Rungs = []figure.Name{figure.Of(figure.P50, "event"), figure.Of(figure.P99, "event")}
	v, err := judge.Judge(r)
	if err != nil || len(v.Arrivals) != 3 {
		t.Fatalf("%d, %v", len(v.Arrivals), err)
	}
	if a := v.Arrivals[0]; a.Effect != "event" || math.Abs(a.P50.V-0.092) > 0.002 || a.P99.V < a.P50.V || a.Came != 6000 ||
		a.Never != 20 || a.Late != 10 || a.Floor != 0 || v.Arrivals[1].Floor != 0.05 {
		t.Errorf("%+v", a)
	}
	const want = "event of pushes is seen 2.29 ms after the deed, asked of polls only after 114 ms, 50x as late " +
		"(50 to 50). It is asked for every 50.0 ms, which is part of that. The way through polls does not keep up: more " +
		"and more deeds are under way, up to 405 in the typical heat. Of polls, 20 effects never came. Of polls, " +
		"10 effects came out of order."
	if v.ArrivalsSentence != want {
		t.Errorf("%q; want %q", v.ArrivalsSentence, want)
	}
	if a := figureIn(t, v, figure.Of(figure.P99, "event")); a.Word != judge.Better || math.Abs(a.Ratio-40) > 0.5 {
		t.Errorf("%+v", a)
	}
}
