package pace_test

import (
	"context"
	"math"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/clock"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/tally"
	"paceduel/internal/sample"
)

// Each level of a climb is asked as often as its rate says, by when shots are due.
func TestAClimbOfRates(t *testing.T) {
	second := plan.Span(time.Second)
	tests := map[string]struct {
		climb plan.Climb
		want  []int64
	}{
		"in steps": {plan.Climb{
			From: plan.Level{Rate: 100}, To: plan.Level{Rate: 800}, Steps: 4, Under: second,
		}, []int64{100, 200, 400, 800}},
		// A smooth climb over T from a to b has due a·T/ln(b/a)·(e^(ln(b/a)·t/T)-1) by t.
		"smoothly": {plan.Climb{From: plan.Level{Rate: 100}, To: plan.Level{Rate: 1600}, Under: second}, nil},
	}
	for name, tt := range tests {
		synctest.Test(t, func(t *testing.T) {
			s := server{clk: clock.Start(), takes: time.Millisecond}
			span := 4 * time.Second
			_, sums, _, err := driveSteps(t.Context(), s, plan.Pace{
				Rate: tt.climb.To.Rate, Climb: &tt.climb, For: plan.Span(span),
			}, 50)
			if err != nil {
				t.Fatal(err)
			}
			want := tt.want
			if want == nil {
				growth := math.Log(16)
				by := func(share float64) float64 { return 100 * 4 / growth * math.Expm1(growth*share) }
				for i := range plan.Stretches {
					want = append(
						want, int64(math.Ceil(by(float64(i+1)/plan.Stretches)))-int64(math.Ceil(by(float64(i)/plan.Stretches))),
					)
				}
			}
			for i, step := range sums.Steps {
				if d := step.Shots - want[i]; d < -1 || d > 1 || step.Failed != 0 || step.Histogram.TotalCount() != step.Shots {
					t.Errorf("%s: step %d has %d shots; want %d", name, i, step.Shots, want[i])
				}
			}
			if len(sums.Steps) != len(want) || len(sums.Steps) != len(tt.climb.Levels()) {
				t.Errorf("%s: %d steps, %d levels; want %d", name, len(sums.Steps), len(tt.climb.Levels()), len(want))
			}
		})
	}
}

// A server that bears 500 a second lets the levels below that be, and what it cannot send is counted where it was due.
func TestWhatAClimbCannotSendIsCountedByStep(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := server{clk: clock.Start(), takes: 4 * time.Millisecond}
		climb := plan.Climb{From: plan.Level{Rate: 250}, To: plan.Level{Rate: 4000}, Steps: 5, Under: plan.Span(time.Second)}
		span, sums, _, err := driveSteps(t.Context(), s, plan.Pace{
			Rate: 4000, Climb: &climb, For: plan.Span(5 * time.Second),
		}, 2)
		if err != nil || len(span.UnsentAt) != 5 || span.UnsentAt[0]+span.UnsentAt[1] != 0 || span.UnsentAt[4] < 3900 {
			t.Fatalf("unsent by step %v, %v", span.UnsentAt, err)
		}
		total := int64(0)
		for i, step := range sums.Steps {
			if got := step.Shots + span.UnsentAt[i]; got != int64(climb.Levels()[i]) {
				t.Errorf("step %d accounts for %d of %g shots", i, got, climb.Levels()[i])
			}
			total += span.UnsentAt[i]
		}
		if total != span.Unsent {
			t.Errorf("%d unsent in all, %d by steps", span.Unsent, total)
		}
	})
}

// driveSteps is drive with what the recorders hold.
func driveSteps(ctx context.Context, s server, p plan.Pace, most int) (pace.Span, *tally.Merged, []tally.Raw, error) {
	p.Warmup = &plan.Warmup{}
	h := &pace.Heat{Clock: s.clk, Pace: p, Seed: 7, Sleep: time.Sleep}
	for range most {
		h.Clients = append(h.Clients, s)
		h.Warm, h.Judged = append(
			h.Warm, tally.NewRecorder(&sample.Shape, 1, 1),
		), append(h.Judged, tally.NewRecorder(&sample.Shape, 5000, 10))
	}
	span, err := h.Drive(ctx)
	fired, _ := tally.Kept(h.Judged)
	return span, tally.Merge(h.Judged), fired, err
}

// Clients join in as the climb says: in each step so many shots as its clients perform one after another.
func TestAClimbOfClients(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := server{clk: clock.Start(), takes: 10 * time.Millisecond}
		climb := plan.Climb{From: plan.Level{Clients: 2}, To: plan.Level{Clients: 8}, Steps: 3, Under: plan.Span(time.Second)}
		if want := []float64{2, 4, 8}; !slices.Equal(climb.Levels(), want) {
			t.Fatalf("levels %v; want %v", climb.Levels(), want)
		}
		_, sums, _, err := driveSteps(t.Context(), s, plan.Pace{
			Clients: 8, Climb: &climb, For: plan.Span(3 * time.Second),
		}, 8)
		for i, want := range []int64{200, 400, 800} {
			if got := sums.Steps[i].Shots; err != nil || got != want {
				t.Errorf("step %d has %d shots, %v; want %d", i, got, err, want)
			}
		}
	})
	// smoothly: the clients at a moment are from·(to/from)^share, rounded up as each joins
	synctest.Test(t, func(t *testing.T) {
		s := server{clk: clock.Start(), takes: 10 * time.Millisecond}
		climb := plan.Climb{From: plan.Level{Clients: 1}, To: plan.Level{Clients: 16}, Under: plan.Span(time.Second)}
		_, sums, _, err := driveSteps(t.Context(), s, plan.Pace{
			Clients: 16, Climb: &climb, For: plan.Span(4 * time.Second),
		}, 16)
		// Client i joins at 4 s·log16(i+1), and asks a hundred times a second from there.
		want := 0.0
		for i := range 16 {
			want += 400 * (1 - math.Log(float64(i+1))/math.Log(16))
		}
		if got := float64(sums.Shots()); err != nil || math.Abs(got-want) > 16 {
			t.Errorf("%g shots, %v; want about %g", got, err, want)
		}
	})
}

// Who thinks for 90 ms after an answer of 10 asks ten times a second; the mean of random thoughts is the same; and
// clients that begin one after another do.
func TestClientsThinkAndBeginOneAfterAnother(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := plan.Pace{
			Clients: 4, For: plan.Span(10 * time.Second), Think: plan.Span(90 * time.Millisecond),
			Stagger: plan.Span(80 * time.Millisecond),
		}
		s := server{clk: clock.Start(), takes: 10 * time.Millisecond}
		span, sums, fired, err := driveSteps(t.Context(), s, p, 4)
		if err != nil || sums.Shots() != 4*100 || span.End-span.Start != 10*time.Second {
			t.Errorf("%d shots in %s, %v; want 400 in 10 s", sums.Shots(), span.End-span.Start, err)
		}
		for i, raw := range fired[:4] {
			if want := time.Duration(i) * 20 * time.Millisecond; raw.Start-span.Start != want {
				t.Errorf("client %d begins after %s; want %s", i, raw.Start-span.Start, want)
			}
		}
	})
	synctest.Test(t, func(t *testing.T) {
		p := plan.Pace{
			Clients: 20, For: plan.Span(50 * time.Second), Think: plan.Span(90 * time.Millisecond), Spread: plan.Poisson,
		}
		s := server{clk: clock.Start(), takes: 10 * time.Millisecond}
		_, sums, _, err := driveSteps(t.Context(), s, p, 20)
		if err != nil || sums.Shots() < 9700 || sums.Shots() > 10300 { // 10 000, of a deviation of 90
			t.Errorf("%d shots, %v; want about 10 000", sums.Shots(), err)
		}
	})
}
