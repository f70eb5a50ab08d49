package pace_test

import (
	"context"
	"errors"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/clock"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/shares"
	"paceduel/core/tally"
	"paceduel/internal/sample"
)

// driven is what one part of a heat did: the moments from which its latencies count, after its start.
func driven(t *testing.T, p plan.Pace, part shares.Part) (began []time.Duration, span pace.Span) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		clk := clock.Start()
		if p.Warmup == nil {
			p.Warmup = &plan.Warmup{}
		}
		h := &pace.Heat{
			Clock: clk, Pace: p, Seed: 7, Sleep: time.Sleep, Part: part, All: pace.Clients(p),
		}
		for range part.Count(pace.Clients(p)) {
			h.Clients = append(h.Clients, server{clk: clk, takes: 3 * time.Millisecond})
			h.Warm = append(h.Warm, tally.NewRecorder(&sample.Shape, 0, 1))
			h.Judged = append(h.Judged, tally.NewRecorder(&sample.Shape, 5000, 1))
		}
		var err error
		if span, err = h.Drive(t.Context()); err != nil {
			t.Fatal(err)
		}
		kept, _ := tally.Kept(h.Judged)
		for _, s := range kept {
			at := s.Start
			if s.Due > 0 {
				at = s.Due
			}
			began = append(began, at-span.Start)
		}
	})
	return began, span
}

// Parts of a heat that are driven by themselves do together what the whole does: the same shots at the same moments.
func TestPartsAreTheWhole(t *testing.T) {
	climb := &plan.Climb{From: plan.Level{Rate: 50}, To: plan.Level{Rate: 400}, Steps: 4}
	joining := &plan.Climb{From: plan.Level{Clients: 2}, To: plan.Level{Clients: 12}}
	tests := []struct {
		name    string
		pace    plan.Pace
		weights []int
	}{
		{"a rate", plan.Pace{Rate: 200, Most: 60, For: plan.Span(time.Second)}, []int{1, 1, 1, 1}},
		{"a rate by weight", plan.Pace{Rate: 200, Most: 60, For: plan.Span(time.Second)}, []int{5, 2, 1}},
		{"users", plan.Pace{Rate: 300, Spread: plan.Poisson, Most: 60, For: plan.Span(time.Second)}, []int{1, 1, 1}},
		{"shots at a rate", plan.Pace{Rate: 100, Most: 60, Shots: 101}, []int{1, 1, 1, 1}},
		{"a climb", plan.Pace{Rate: 400, Climb: climb, Most: 60, For: plan.Span(2 * time.Second)}, []int{2, 1}},
		{"clients that think", plan.Pace{
			Clients: 7, Think: plan.Span(9 * time.Millisecond), Spread: plan.Poisson, Stagger: plan.Span(50 * time.Millisecond),
			For: plan.Span(time.Second),
		}, []int{1, 1, 1}},
		{"clients that join", plan.Pace{Clients: 12, Climb: joining, For: plan.Span(time.Second)}, []int{1, 1, 1, 1}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			want, _ := driven(t, tt.pace, shares.Part{})
			var got []time.Duration
			deal := shares.NewDeal(tt.weights)
			for i := range tt.weights {
				own, _ := driven(t, tt.pace, deal.Part(i))
				got = append(got, own...)
			}
			slices.Sort(got)
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Errorf("%d shots by parts, %d by the whole, or at other moments", len(got), len(want))
			}
		})
	}
}

// A number of shots is shared out to the last one, warm-up included, also to those who have none of it.
func TestShotsAreSharedToTheLast(t *testing.T) {
	p := plan.Pace{Clients: 5, Shots: 5, Warmup: &plan.Warmup{Shots: 2}}
	deal := shares.NewDeal([]int{1, 1, 1})
	for i, want := range []int{2, 2, 1} {
		if got, _ := driven(t, p, deal.Part(i)); len(got) != want {
			t.Errorf("part %d had %d shots; want %d", i, len(got), want)
		}
	}
}

// A stage begins when it begins everywhere, and a heat for which that moment never comes is stopped.
func TestStagesWaitForTheirMoment(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		clk := clock.Start()
		h, _ := heat(clk, plan.Pace{Clients: 1, Shots: 1, Warmup: &plan.Warmup{Shots: 1}}, time.Millisecond)
		var began []time.Duration
		h.OnStage = func(_ pace.Stage, at time.Duration) { began = append(began, at) }
		h.Await = func(_ context.Context, s pace.Stage) error {
			time.Sleep(time.Second)
			return nil
		}
		span, err := h.Drive(t.Context())
		if err != nil || span.Start != 2*time.Second+time.Millisecond || len(began) != 2 || began[0] != time.Second {
			t.Errorf("stages began at %v, the judged one at %v, %v", began, span.Start, err)
		}
		h.Await = func(_ context.Context, s pace.Stage) error {
			if s == pace.Judged {
				return errors.New("an agent is late")
			}
			return nil
		}
		before := h.Judged[0].Total()
		var stopped *pace.StoppedError
		if _, err = h.Drive(t.Context()); !errors.As(err, &stopped) || h.Judged[0].Total() != before {
			t.Errorf("the heat went on: %v", err)
		}
	})
}
