package judge_test

import (
	"strings"
	"testing"
	"time"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// What a plan cannot settle is told before it runs, with what would.
func TestWhatCannotComeOfItIsForeseen(t *testing.T) {
	long(t)
	plan := func(change func(*result.Plan)) *result.Result {
		r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 12, 20))
		r.Heats = nil
		r.Plan.Pace = result.Pace{Repeat: 12}
		r.Plan.Rounds = 12
		change(&r.Plan)
		return r
	}
	for want, r := range map[string]*result.Result{
		"": plan(func(p *result.Plan) { p.Decides = "p50" }),
		"12 runs are too few for p90 and p99: that takes 500 shots": plan(func(*result.Plan) {}),
		"70 shots are too few for p99: that takes 500 shots": plan(func(p *result.Plan) {
			p.Pace = result.Pace{Rate: 100, For: 700 * time.Millisecond}
		}),
		"6 rounds cannot settle any of 5 comparisons together;": plan(func(p *result.Plan) {
			p.Rounds, p.Pace = 6, result.Pace{Rate: 100, For: 700 * time.Millisecond}
		}),
		"4 rounds settle nothing: an interval needs 5": plan(
			func(p *result.Plan) { p.Rounds, p.Decides = 4, "p50" },
		),
		"6 rounds cannot settle any of 4 comparisons together;": plan(func(p *result.Plan) { p.Rounds = 6 }),
		`"joined p99 under 20ms" cannot be decided: p99 takes 500 shots a heat`: plan(func(p *result.Plan) {
			p.Claims = []string{"joined p99 under 20ms"}
		}),
	} {
		var all []string
		for _, c := range judge.Foresee(r) {
			if c.Try == "" {
				t.Errorf("%q comes without what to do", c.What)
			}
			all = append(all, c.What)
		}
		said := strings.Join(all, "; ")
		if want == "" && said != "" {
			t.Errorf("foreseen: %q; want nothing", said)
		}
		if !strings.Contains(said, want) {
			t.Errorf("foreseen: %q; want %q", said, want)
		}
	}
}

func TestHowLongItTakesIsForeseen(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 10, 20))
	r.Heats = nil
	r.Plan.Pace = result.Pace{Clients: 4, For: 2 * time.Second, WarmupFor: time.Second}
	if got := r.Expected(); got != 10*2*3*time.Second {
		t.Errorf("20 heats of 3 s take %s", got)
	}
	r.Plan.Pace = result.Pace{Repeat: 4, WarmupShots: 1}
	r.Entrants[0].Touch, r.Entrants[1].Touch = &result.Touch{Latency: time.Second}, nil
	if got := r.Expected(); got != 0 {
		t.Errorf("with a contender that was not asked: %s", got)
	}
	r.Entrants[1].Touch = &result.Touch{Latency: 2 * time.Second}
	if got := r.Expected(); got != 10*5*3*time.Second {
		t.Errorf("20 heats of 5 runs of 1 s and 2 s take %s", got)
	}
}

// What is told beforehand is what is judged afterwards: without a warm-up no memory is measured, and none is counted.
func TestUnmeasuredMemoryIsNotCountedBeforehand(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 7, Shots: 1, Seed: 2, Entrants: []sample.Entrant{
		{Name: "one", Latency: sample.Times(2, 0.01), CPU: time.Second},
		{Name: "two", Latency: sample.Times(1, 0.01), CPU: time.Second},
	}})
	r.Plan.Pace = result.Pace{Repeat: 1, Words: "1 run a heat"}
	for _, c := range judge.Foresee(r) {
		t.Errorf("foreseen: %s", c.What) // seven rounds are enough for mean and CPU
	}
	for _, c := range weigh(t, r).Cautions {
		if c.Kind == judge.FewRounds {
			t.Errorf("judged: %s", c.What)
		}
	}
	r.Plan.Pace.WarmupShots = 1
	if len(judge.Foresee(r)) == 0 {
		t.Error("seven rounds are said to be enough for mean, CPU and memory")
	}
}
