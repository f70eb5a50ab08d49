package pace_test

import (
	"context"
	"errors"
	"math"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/pace"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/internal/sample"
)

// server answers after a fixed time, but for those who ask while it stalls: they are answered when the stall is over.
type server struct {
	clk         *clock.Clock
	takes       time.Duration
	stall, over time.Duration // from the start of the clock
}

func (s server) Shoot(ctx context.Context, shot *shots.Shot) {
	shot.Start = s.clk.Now()
	wait := s.takes
	if shot.Start >= s.stall && shot.Start < s.over {
		wait = s.over - shot.Start + s.takes
	}
	select {
	case <-time.After(wait):
	case <-ctx.Done():
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	}
	shot.End = s.clk.Now()
}
func (s server) Rewind() {}
func (s server) Close()  {}

// drive performs a heat at a rate on the fake clock, with so many clients at most.
func drive(ctx context.Context, s server, p plan.Pace, most int) (pace.Span, tally.Sums, []time.Duration, error) {
	p.Warmup = &plan.Warmup{}
	h := &pace.Heat{Clock: s.clk, Pace: p, Seed: 7, Sleep: time.Sleep}
	for range most {
		h.Clients = append(h.Clients, s)
		h.Warm, h.Judged = append(
			h.Warm, tally.NewRecorder(&sample.Shape, 1, 1),
		), append(h.Judged, tally.NewRecorder(&sample.Shape, 5000, 10))
	}
	span, err := h.Drive(ctx)
	var latencies []time.Duration
	merged := tally.Merge(h.Judged)
	fired, _ := tally.Kept(h.Judged)
	for _, s := range fired {
		latencies = append(latencies, s.Latency)
	}
	slices.Sort(latencies)
	return span, merged.Sums, latencies, err
}

// At 100 shots a second a stall of 1 s holds up the 100 shots that are due meanwhile, the first for the whole second
// and each of the others 10 ms less: of 1 000 shots in 10 s, the p95 waits half the stall.
func TestAStallShowsInAllThatWereDue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := server{clock.Start(), 2 * time.Millisecond, 4 * time.Second, 5 * time.Second}
		_, sums, latencies, err := drive(t.Context(), s, plan.Pace{Rate: 100, For: plan.Span(10 * time.Second)}, 200)
		if err != nil || sums.Shots() != 1000 {
			t.Fatalf("%d shots, %v; want 1000", sums.Shots(), err)
		}
		if p50, p95, max := latencies[499], latencies[949], latencies[999]; p50 != 2*time.Millisecond ||
			p95 != 502*time.Millisecond || max != 1002*time.Millisecond {
			t.Errorf("p50 %s, p95 %s, max %s; want 2 ms, 502 ms, 1.002 s", p50, p95, max)
		}
	})
}

// Too few clients for a stall: their shots are sent late, and the wait counts all the same.
func TestLateShotsCountFromWhenTheyWereDue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := server{clock.Start(), 2 * time.Millisecond, 4 * time.Second, 5 * time.Second}
		_, sums, latencies, err := drive(t.Context(), s, plan.Pace{Rate: 100, For: plan.Span(10 * time.Second)}, 2)
		if err != nil || sums.Shots() != 1000 {
			t.Fatalf("%d shots, %v; want 1000", sums.Shots(), err)
		}
		// Two wait for the whole stall; the others queue behind them and are caught up 2 at a time.
		if max := latencies[999]; max < 1000*time.Millisecond || max > 1010*time.Millisecond {
			t.Errorf("the longest took %s", max)
		}
		if p95 := latencies[949]; p95 < 490*time.Millisecond || p95 > 620*time.Millisecond {
			t.Errorf("p95 %s; want somewhat over half the stall", p95)
		}
		if sums.Lags.N < 999 || sums.Lags.Late < 90 || sums.Lags.Max < 900*time.Millisecond || sums.Lags.Quantile(0.5) != 0 {
			t.Errorf(
				"lags: %d of %d late, at most %s, median %s", sums.Lags.Late, sums.Lags.N, sums.Lags.Max, sums.Lags.Quantile(0.5),
			)
		}
	})
}

// A server that can bear 500 a second is asked 1 000: half of the shots are never sent, and that is counted.
func TestWhatCannotBeSentIsCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := server{clk: clock.Start(), takes: 4 * time.Millisecond}
		span, sums, _, err := drive(t.Context(), s, plan.Pace{Rate: 1000, For: plan.Span(2 * time.Second)}, 2)
		if err != nil || sums.Shots()+span.Unsent != 2000 || span.Unsent < 980 || span.Unsent > 1010 {
			t.Errorf("%d sent, %d not, %v; want some half of 2000", sums.Shots(), span.Unsent, err)
		}
	})
}

func TestANumberOfShotsAtARate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := server{clk: clock.Start(), takes: time.Millisecond}
		span, sums, _, err := drive(t.Context(), s, plan.Pace{Rate: 50, Shots: 26}, 3)
		if err != nil || sums.Shots() != 26 || span.Unsent != 0 || span.End-span.Start != 501*time.Millisecond {
			t.Errorf("%d shots in %s, %v; want 26, the last due at 500 ms", sums.Shots(), span.End-span.Start, err)
		}
	})
}

func TestAnInterruptEndsARate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer cancel()
		s := server{clk: clock.Start(), takes: 10 * time.Second}
		span, sums, _, err := drive(ctx, s, plan.Pace{Rate: 100, For: plan.Span(time.Minute)}, 5)
		if err == nil || sums.Shots() != 0 || span.End > 400*time.Millisecond {
			t.Errorf("%d shots until %s, %v", sums.Shots(), span.End, err)
		}
	})
}

// Gaps of independent users have the mean of the rate and, being exponential, a standard deviation of the same size.
func TestSchedules(t *testing.T) {
	even := pace.NewSchedule(plan.Pace{Rate: 400}, 1)
	for i := range 1001 {
		if at := even.Next(); at != time.Duration(i)*2500*time.Microsecond {
			t.Fatalf("shot %d is due at %s", i, at)
		}
	}
	const n = 200_000
	s, last := pace.NewSchedule(plan.Pace{Rate: 1000, Spread: plan.Poisson}, 3), 0.0
	var sum, squares float64
	for range n {
		at := s.Next().Seconds()
		gap := at - last
		last = at
		sum += gap
		squares += gap * gap
	}
	mean := sum / n
	if dev := math.Sqrt(squares/n - mean*mean); math.Abs(mean-0.001) > 0.00001 || math.Abs(dev-0.001) > 0.00002 {
		t.Errorf("gaps have mean %g and deviation %g; want 0.001 both", mean, dev)
	}
	if a, b := pace.NewSchedule(plan.Pace{
		Rate: 9, Spread: plan.Poisson,
	}, 3).Next(), pace.NewSchedule(plan.Pace{Rate: 9, Spread: plan.Poisson}, 3).Next(); a != b {
		t.Error("one seed gives two schedules")
	}
}

// A client at whose fault the program falls is missed by nobody else, and said.
func TestAFaultAtARateIsSaid(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		clk := clock.Start()
		h := &pace.Heat{Clock: clk, Pace: plan.Pace{Rate: 100, Shots: 50, Warmup: &plan.Warmup{}}, Seed: 7, Sleep: time.Sleep}
		good := server{clk, 25 * time.Millisecond, time.Hour, time.Hour}
		for _, c := range []contender.Client{good, falling{good}, good, good, good} {
			h.Clients = append(h.Clients, c)
			h.Warm = append(h.Warm, tally.NewRecorder(&sample.Shape, 1, 1))
			h.Judged = append(h.Judged, tally.NewRecorder(&sample.Shape, 100, 10))
		}
		_, err := h.Drive(t.Context())
		var fault *panics.Error
		if !errors.As(err, &fault) || !strings.HasPrefix(fault.At, "rate_test.go:") {
			t.Errorf("a fault in a client is told as %v", err)
		}
		if n := tally.Merge(h.Judged).Shots(); n < 40 {
			t.Errorf("the others made %d shots of 50", n)
		}
	})
}

// falling is a server that is not there.
type falling struct{ server }

func (falling) Shoot(context.Context, *shots.Shot) { panic("struck a rock") }
