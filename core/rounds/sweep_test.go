package rounds_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/judge/curve"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/internal/sample"
)

// swept reads a plan whose first contender takes n milliseconds and whose second takes 3, with what else is given.
func swept(t *testing.T, more string) *plan.Plan {
	t.Helper()
	src := "duel: Writers\nbaseline: growing\ncontenders:\n  growing: { stub: { takes: '{{n}}ms', drifts: 20% } }\n" +
		"  steady: { stub: { takes: 3ms, drifts: 20% } }\npace: { repeat: 5 }\n" + more
	p, err := read.Plan("w.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func at(n string) cell.Point { return cell.At(map[string]string{"n": n}) }

// sweep runs a sweep to its end.
func sweep(ctx context.Context, cfg rounds.Config) (r *result.Result, events []rounds.Event, err error) {
	out := make(chan rounds.Event)
	done := make(chan struct{})
	go func() {
		defer close(done)
		cfg.Kinds, cfg.Program = []contender.Kind{sample.Stub()}, "test"
		r, err = rounds.Run(ctx, cfg, out)
	}()
	for e := range out {
		events = append(events, e)
	}
	<-done
	return r, events, err
}

// heatsAt counts the heats of each point.
func heatsAt(r *result.Result) map[cell.Point]int {
	n := map[cell.Point]int{}
	for i := range r.Heats {
		n[r.Heats[i].Point]++
	}
	return n
}

// Every round holds every cell of every point, in an order of its own, so that a drift of the machine falls on all
// alike and makes nobody grow.
func TestASweepInterleavesItsPoints(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r, _, err := sweep(t.Context(), rounds.Config{
			Plan: swept(t, "rounds: 12\nsweep: { over: { n: [1, 2, 4, 16] } }\n"), Seed: 7,
		})
		if err != nil || len(r.Order) != 12 || len(r.Heats) != 12*8 {
			t.Fatalf("%d rounds, %d heats, %v", len(r.Order), len(r.Heats), err)
		}
		orders := map[string]bool{}
		for i, round := range r.Order {
			cells := map[cell.Cell]bool{}
			for j, c := range round {
				cells[c] = true
				if h := &r.Heats[8*i+j]; h.Cell != c || h.Round != i+1 {
					t.Errorf("heat %d of round %d is of %s in round %d; want %s", j+1, i+1, h.Cell, h.Round, c)
				}
			}
			if len(cells) != 8 {
				t.Errorf("round %d has %d cells", i+1, len(cells))
			}
			orders[fmt.Sprint(round)] = true
		}
		if len(orders) != 12 {
			t.Errorf("%d orders for 12 rounds", len(orders))
		}
		s, err := judge.JudgeSweep(r)
		if err != nil {
			t.Fatal(err)
		}
		c := s.Curve(0, figure.Mean, judge.AsMeasured)
		if law := c.Laws[1]; law == nil || law.Kind != curve.Steady {
			t.Errorf("on a machine that gets slower, the steady one grows by %+v", law)
		}
		if len(c.Turns) != 1 || c.Turns[0].At.Low > 3 || c.Turns[0].At.High < 3 {
			t.Errorf("the order turns at %+v; want 3", c.Turns)
		}
		for i := range r.Sweep.Points {
			p := &r.Sweep.Points[i]
			if p.Entrants[0].Touch == nil || p.Weighing == nil || !strings.Contains(p.Entrants[0].Does, "ms") {
				t.Errorf("at %s nobody was weighed in: %+v", p.At, p.Entrants[0])
			}
		}
	})
}

// What stand-ins are known to cost is found: a fixed part and one for each, a share that is done under a lock, and
// where one takes over from the other.
func TestKnownCostsAreFound(t *testing.T) {
	tests := []struct {
		name, stub, over string
		kind             curve.Kind
		params           []float64 // of the first contender
		turn             float64   // where steady takes over; 0: nowhere
	}{
		{
			"a fixed part and one for each", "takes: 4ms, each: 500us, of: 1", "{ rows: { values: [1, 2, 4, 8, 16, 32], %s } }",
			curve.Each, []float64{0.004, 0.0005}, 12,
		},
		{
			"a tenth under a lock", "takes: 2ms, split: 18ms, of: 1", "{ threads: { values: [1, 2, 4, 8, 16, 32], %s } }",
			curve.Shared, []float64{0.02, 0.1, 0}, 0,
		},
		{
			"nothing to share", "takes: 2ms", "{ threads: { values: [1, 2, 4, 8, 16], sets: pace.repeat } }",
			curve.Steady, []float64{0.002}, 0,
		},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				over := strings.Replace(tt.over, "%s", "sets: growing.stub.of", 1)
				src := "duel: Truth\nbaseline: growing\ncontenders:\n  growing: { stub: { " + tt.stub + " } }\n" +
					"  steady: { stub: { takes: 10ms } }\npace: { repeat: 5 }\nrounds: 10\nsweep: { over: " + over + " }\n"
				p, err := read.Plan("t.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
				if err != nil {
					t.Fatal(err)
				}
				r, _, err := sweep(t.Context(), rounds.Config{Plan: p, Seed: 3})
				if err != nil {
					t.Fatal(err)
				}
				s, err := judge.JudgeSweep(r)
				if err != nil {
					t.Fatal(err)
				}
				c := s.Curve(0, figure.Mean, judge.AsMeasured)
				law := c.Laws[0]
				if law == nil || law.Kind != tt.kind {
					t.Fatalf("found %+v; want %s", law, tt.kind)
				}
				for i, want := range tt.params {
					const hair = 1e-4 // of what is exact
					if p := law.Params[i]; p.Low > want+hair*max(want, 1) || p.High < want-hair*max(want, 1) {
						t.Errorf("%s is %+v; want %g", law.Kind.Params()[i], p, want)
					}
				}
				if tt.turn == 0 {
					return
				}
				if len(c.Turns) != 1 || c.Turns[0].At.Low > 1.001*tt.turn || c.Turns[0].At.High < tt.turn/1.001 {
					t.Errorf("it turns at %+v; want %g", c.Turns, tt.turn)
				}
			})
		})
	}
}

// A time in place of rounds is kept, and goes to points that need it.
func TestASweepWithinATime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := swept(t, "sweep: { over: { n: [1, 2, 4] }, within: 4s }\n")
		began := time.Now()
		r, events, err := sweep(t.Context(), rounds.Config{Plan: p, Seed: 7, Steering: rounds.Steering{
			Needs: func(*result.Result) map[cell.Point]float64 {
				return map[cell.Point]float64{at("1"): 0.1, at("2"): 1, at("4"): 0.6}
			},
		}})
		if took := time.Since(began); err != nil || took > 4*time.Second || took < 3500*time.Millisecond {
			t.Errorf("it took %s, %v; want about 4 s", took, err)
		}
		n := heatsAt(r)
		if n[at("1")] != 2*rounds.FirstRounds || n[at("2")] <= 3*n[at("1")] || n[at("4")] < n[at("2")]-4 {
			t.Errorf("heats at points: %v", n)
		}
		told := slices.ContainsFunc(events, func(e rounds.Event) bool { _, ok := e.(rounds.OrderChanged); return ok })
		if !told || len(r.Order) != r.Plan.Rounds {
			t.Errorf("rounds that were added were told: %v; %d of %d", told, len(r.Order), r.Plan.Rounds)
		}
	})
}

// Points are added where lines bend, have the rounds of the others first, and then part in all of them.
func TestPointsAreAddedWhereLinesBend(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r, _, err := sweep(t.Context(), rounds.Config{
			Plan: swept(t, "rounds: 10\nsweep: { over: { n: [1, 2, 8] }, where: bends }\n"), Seed: 7,
			Steering: rounds.Steering{Bends: func(*result.Result) []rounds.Stretch {
				return []rounds.Stretch{{From: "2", To: "8"}, {From: "1", To: "2"}} // there is nothing between 1 and 2
			}},
		})
		if err != nil {
			t.Fatal(err)
		}
		n := heatsAt(r)
		if len(n) != 4 || n[at("5")] != 20 || n[at("1")] != 20 || len(r.Order) != 15 {
			t.Errorf("heats at points %v in %d rounds; want 20 at each of 1, 2, 5 and 8", n, len(r.Order))
		}
		var points []string
		for i := range r.Sweep.Points {
			points = append(points, r.Sweep.Points[i].At.Values()["n"])
		}
		if !slices.Equal(points, []string{"1", "2", "5", "8"}) || !r.Sweep.Points[2].Added || r.Sweep.Points[1].Added {
			t.Errorf("points %v, added %v", points, r.Sweep.Points[2].Added)
		}
		if own := r.Order[5]; len(own) != 2 || own[0].Point != at("5") {
			t.Errorf("round 6 is %v; want that of the point that was added", own)
		}
	})
}

// Whoever fails at one point lets nothing begin, and it is said where.
func TestAContenderThatFailsAtAPoint(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		src := "duel: Writers\nbaseline: a\ncontenders:\n  a: { stub: { takes: 1ms } }\n" +
			"  b: { stub: { takes: 1ms } }\npace: { repeat: 2 }\n" +
			"sweep: { over: { n: { values: [1, 9], sets: a.stub.fail-at } } }\n"
		p, err := read.Plan("w.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
		if err != nil {
			t.Fatal(err)
		}
		r, _, err := sweep(t.Context(), rounds.Config{Plan: p, Seed: 7})
		if err == nil || !strings.Contains(err.Error(), "at n 1: ") || len(r.Heats) > 0 {
			t.Errorf("%v, with %d heats", err, len(r.Heats))
		}
	})
}

// A sweep that is gone on with is one run: what it lacks is run, and what it has stays as it is.
func TestASweepIsGoneOnWith(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		before, _, err := sweep(t.Context(), rounds.Config{
			Plan: swept(t, "rounds: 3\nsweep: { over: { n: [1, 2, 8] } }\n"), Seed: 7,
		})
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Hour)
		wider := swept(t, "rounds: 5\nsweep: { over: { n: [2, 4, 8] } }\n")
		joined, err := rounds.Joined(wider, before)
		if err != nil {
			t.Fatal(err)
		}
		r, _, err := sweep(t.Context(), rounds.Config{Plan: joined, Before: before})
		if err != nil {
			t.Fatal(err)
		}
		if r.ID != before.ID || r.Seed != before.Seed || !r.Started.Equal(before.Started) {
			t.Errorf("run %s of seed %d; want %s and %d", r.ID, r.Seed, before.ID, before.Seed)
		}
		if n := heatsAt(r); !maps.Equal(n, map[cell.Point]int{at("1"): 10, at("2"): 10, at("4"): 10, at("8"): 10}) {
			t.Errorf("heats at points %v", n)
		}
		for i := range before.Heats {
			if r.Heats[i].Cell != before.Heats[i].Cell || r.Heats[i].At != before.Heats[i].At {
				t.Fatalf("heat %d is another one", i+1)
			}
		}
		last := before.Heats[len(before.Heats)-1]
		if next := r.Heats[len(before.Heats)]; next.Round != 4 || next.At <= last.At || next.At > last.At+time.Minute {
			t.Errorf("it goes on in round %d at %s, after %s", next.Round, next.At, last.At)
		}
		if len(r.Sittings) != 1 || r.Sittings[0].Round != 4 || r.Wall(r.Sittings[0].At).Sub(r.Started) < time.Hour {
			t.Errorf("sittings %+v", r.Sittings)
		}
	})
}

func TestSweepsThatCannotBeGoneOnWith(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		before, _, err := sweep(t.Context(), rounds.Config{
			Plan: swept(t, "rounds: 3\nsweep: { over: { n: [1, 2] } }\n"), Seed: 7,
		})
		if err != nil {
			t.Fatal(err)
		}
		other := swept(t, "rounds: 9\nsweep: { over: { n: [1, 2] } }\n")
		other.Contenders[1].Name = "calm"
		plain := reading(t, "takes: 10ms", "takes: 5ms", "{ repeat: 20 }")
		tests := []struct {
			name string
			plan *plan.Plan
			want string
		}{
			{"no more rounds", swept(t, "rounds: 3\nsweep: { over: { n: [1, 2] } }\n"), "has the 3 rounds of the plan already"},
			{"other contenders", other, "its contenders were"},
			{"no sweep", plain, "no sweep to go on with"},
			{"another parameter", swept(
				t, "rounds: 9\nsweep: { over: { n: [1, 2], m: { values: [1, 2], sets: pace.repeat } } }\n",
			), `it was over ["n"]`},
			{"more rounds", swept(t, "rounds: 9\nsweep: { over: { n: [1, 2] } }\n"), ""},
		}
		for _, tt := range tests {
			_, err := rounds.Joined(tt.plan, before)
			if tt.want == "" {
				if err != nil {
					t.Errorf("%s: %v", tt.name, err)
				}
			} else if err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("%s: %v; want %s", tt.name, err, tt.want)
			}
		}
		running := *before
		running.Ending = result.Running
		if _, err := rounds.Joined(swept(t, "rounds: 9\nsweep: { over: { n: [1, 2] } }\n"), &running); err == nil {
			t.Error("a run that is still on was gone on with")
		}
	})
}

// An interrupt keeps what was measured of a sweep, and it can be gone on with.
func TestAnInterruptedSweepIsGoneOnWith(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := swept(t, "rounds: 6\nsweep: { over: { n: [1, 2] } }\n")
		ctx, cancel := context.WithTimeout(t.Context(), 150*time.Millisecond)
		defer cancel()
		before, _, err := sweep(ctx, rounds.Config{Plan: p, Seed: 7})
		if !errors.Is(err, context.DeadlineExceeded) || len(before.Heats) == 0 || len(before.Heats) >= 24 {
			t.Fatalf("%d heats, %v", len(before.Heats), err)
		}
		joined, err := rounds.Joined(p, before)
		if err != nil {
			t.Fatal(err)
		}
		r, _, err := sweep(t.Context(), rounds.Config{Plan: joined, Before: before})
		if err != nil || r.Ending != result.Done || len(r.Order) != 6 {
			t.Errorf("%s after %d rounds, %v", r.Ending, len(r.Order), err)
		}
		s, err := judge.JudgeSweep(r)
		if err != nil || s.Rounds < 4 {
			t.Errorf("%d rounds are complete, %v", s.Rounds, err)
		}
	})
}
