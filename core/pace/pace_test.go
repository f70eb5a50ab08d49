package pace_test

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/clock"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/internal/sample"
)

// waiting is a client whose shots take a fixed time of the fake clock.
type waiting struct {
	clk     *clock.Clock
	takes   time.Duration
	shots   int
	rewound int
}

func (w *waiting) Shoot(ctx context.Context, s *shots.Shot) {
	s.Start = w.clk.Now()
	select {
	case <-time.After(w.takes):
	case <-ctx.Done():
		s.Class, s.Err = shots.Cut, ctx.Err()
	}
	s.End = w.clk.Now()
	w.shots++
}
func (w *waiting) Rewind() { w.rewound++ }
func (w *waiting) Close()  {}

func heat(clk *clock.Clock, p plan.Pace, takes ...time.Duration) (*pace.Heat, []*waiting) {
	h := &pace.Heat{Clock: clk, Pace: p}
	var clients []*waiting
	for _, d := range takes {
		c := &waiting{clk: clk, takes: d}
		clients = append(clients, c)
		h.Clients = append(h.Clients, c)
		h.Warm = append(h.Warm, tally.NewRecorder(&sample.Shape, 10, 10))
		h.Judged = append(h.Judged, tally.NewRecorder(&sample.Shape, 100, 100))
	}
	return h, clients
}

func TestRepeatShootsOneAfterAnother(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, clients := heat(clock.Start(), plan.Pace{Repeat: 5, Warmup: &plan.Warmup{Shots: 2}}, 10*time.Millisecond)
		span, err := h.Drive(t.Context())
		if err != nil || span.End-span.Start != 50*time.Millisecond || span.Start != 20*time.Millisecond {
			t.Errorf("judged %+v, %v; want 20ms to 70ms", span, err)
		}
		if h.Warm[0].Total() != 2 || h.Judged[0].Total() != 5 || clients[0].rewound != 1 {
			t.Errorf("%d warm, %d judged, %d rewound; want 2, 5, 1", h.Warm[0].Total(), h.Judged[0].Total(), clients[0].rewound)
		}
	})
}

func TestClientsShootForATime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := plan.Pace{
			Clients: 2, For: plan.Span(100 * time.Millisecond), Warmup: &plan.Warmup{For: plan.Span(50 * time.Millisecond)},
		}
		h, _ := heat(clock.Start(), p, 10*time.Millisecond, 40*time.Millisecond)
		var stages []pace.Stage
		h.OnStage = func(s pace.Stage, _ time.Duration) { stages = append(stages, s) }
		span, err := h.Drive(t.Context())
		// The slow client's warm-up ends at 80 ms, and its third shot, begun at 80 ms of the judged part, is finished.
		if err != nil || span.Start != 80*time.Millisecond || span.End-span.Start != 120*time.Millisecond {
			t.Errorf("judged %+v, %v; want from 80ms for 120ms", span, err)
		}
		if a, b := h.Judged[0].Total(), h.Judged[1].Total(); a != 10 || b != 3 {
			t.Errorf("%d and %d shots; want 10 and 3", a, b)
		}
		if len(stages) != 2 || stages[0] != pace.WarmingUp || stages[1] != pace.Judged {
			t.Errorf("stages = %v", stages)
		}
		sums := tally.Merge(h.Judged)
		if sums.Elapsed != 220*time.Millisecond {
			t.Errorf("clients were busy for %s; want 100ms + 120ms", sums.Elapsed)
		}
	})
}

func TestClientsShareANumberOfShots(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, _ := heat(clock.Start(), plan.Pace{
			Clients: 2, Shots: 11, Warmup: &plan.Warmup{},
		}, 10*time.Millisecond, 100*time.Millisecond)
		if _, err := h.Drive(t.Context()); err != nil {
			t.Fatal(err)
		}
		if a, b := h.Judged[0].Total(), h.Judged[1].Total(); a != 10 || b != 1 {
			t.Errorf("%d and %d shots; want 10 and 1: whoever is free takes the next", a, b)
		}
	})
}

func TestAnInterruptCutsTheHeat(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 35*time.Millisecond)
		defer cancel()
		h, _ := heat(clock.Start(), plan.Pace{Repeat: 100, Warmup: &plan.Warmup{}}, 10*time.Millisecond)
		span, err := h.Drive(ctx)
		if err == nil || span.End != 35*time.Millisecond || h.Judged[0].Total() != 3 {
			t.Errorf(
				"ended at %s with %d shots, %v; want 35ms with 3 and the context's error", span.End, h.Judged[0].Total(), err,
			)
		}
		if _, err := h.Drive(ctx); err == nil {
			t.Error("a heat starts after the interrupt")
		}
	})
}

// What is done before and after runs is no part of any latency, and its failure stops the heat.
func TestFramedShots(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, _ := heat(clock.Start(), plan.Pace{Repeat: 3, Warmup: &plan.Warmup{Shots: 1}}, 10*time.Millisecond)
		var before []pace.Stage
		after := 0
		h.Before = func(_ context.Context, s pace.Stage) error {
			before = append(before, s)
			time.Sleep(time.Second)
			return nil
		}
		h.After = func(context.Context, *shots.Shot) error {
			after++
			time.Sleep(500 * time.Millisecond)
			return nil
		}
		span, err := h.Drive(t.Context())
		if err != nil || len(before) != 4 || before[0] != pace.WarmingUp || before[1] != pace.Judged || after != 4 {
			t.Fatalf("before %v, after %d times, %v", before, after, err)
		}
		if h.Judged[0].Latency != 30*time.Millisecond || span.Aside != 4*time.Second ||
			span.End-span.Start != 4530*time.Millisecond {
			t.Errorf(
				"latencies sum to %s, %s beside shots of %s; want 30ms, 4s of 4.53s", h.Judged[0].Latency, span.Aside,
				span.End-span.Start,
			)
		}
		broken := errors.New("no such berth")
		h.Before = func(context.Context, pace.Stage) error { return broken }
		var stopped *pace.StoppedError
		if _, err := h.Drive(t.Context()); !errors.As(err, &stopped) || !errors.Is(err, broken) {
			t.Errorf("a step that fails gives %v; want the heat stopped by it", err)
		}
	})
}

// After the judged part there is a silence, then one shot that counts by itself.
func TestAShotAfterASilence(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		clk := clock.Start()
		p := plan.Pace{Clients: 2, Shots: 4, Warmup: &plan.Warmup{}, Wake: plan.Span(3 * time.Second)}
		h, clients := heat(clk, p, 10*time.Millisecond, 10*time.Millisecond)
		h.Wake = tally.NewRecorder(&sample.Shape, 0, 1)
		var stages []pace.Stage
		h.OnStage = func(s pace.Stage, _ time.Duration) { stages = append(stages, s) }
		span, err := h.Drive(t.Context())
		if err != nil || span.End != 20*time.Millisecond || clk.Now() != 3*time.Second+30*time.Millisecond {
			t.Errorf("judged up to %s, over at %s, %v", span.End, clk.Now(), err)
		}
		if h.Wake.Total() != 1 || clients[0].shots+clients[1].shots != 5 || h.Judged[0].Total()+h.Judged[1].Total() != 4 {
			t.Errorf(
				"%d woke, %d shots of which %d judged", h.Wake.Total(), clients[0].shots+clients[1].shots,
				h.Judged[0].Total()+h.Judged[1].Total(),
			)
		}
		if len(stages) != 2 || stages[1] != pace.Silent || stages[1].String() != "silence" {
			t.Errorf("stages %v", stages)
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second) // in the silence
		defer cancel()
		if _, err := h.Drive(ctx); !errors.Is(err, context.DeadlineExceeded) || h.Wake.Total() != 1 {
			t.Errorf("cut in the silence: %v, %d woke", err, h.Wake.Total())
		}
	})
}
