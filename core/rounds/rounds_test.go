package rounds_test

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/weighin"
	"paceduel/internal/sample"
)

func reading(t *testing.T, slow, fast, pace string) *plan.Plan {
	t.Helper()
	src := fmt.Sprintf(
		"duel: Tides\nbaseline: slow\ncontenders:\n  slow: { stub: { %s } }\n  fast: { stub: { %s } }\npace: %s\nrounds: "+
			"4\n",
		slow, fast, pace,
	)
	p, err := read.Plan("t.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// run runs a duel and returns its events; each is handed to react first.
func run(
	ctx context.Context, p *plan.Plan, seed uint64, react func(rounds.Event),
) (events []rounds.Event, r *result.Result, err error) {
	out := make(chan rounds.Event)
	done := make(chan struct{})
	go func() {
		defer close(done)
		r, err = rounds.Run(ctx, rounds.Config{
			Plan: p, Kinds: []contender.Kind{sample.Stub()}, Seed: seed, Program: "test",
		}, out)
	}()
	for e := range out {
		if react != nil {
			react(e)
		}
		events = append(events, e)
	}
	<-done
	return events, r, err
}

func TestARunFromStartToEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := reading(t, "takes: 10ms", "takes: 5ms", "{ repeat: 20, warmup: 3 }")
		events, r, err := run(t.Context(), p, 77, nil)
		if err != nil || r.Ending != result.Done || len(r.Heats) != 8 || r.Seed != 77 {
			t.Fatalf("ended %q with %d heats, %v; want done with 8", r.Ending, len(r.Heats), err)
		}
		for i, h := range r.Heats {
			if want := r.Order[i/2][i%2]; h.Cell != want || h.Round != i/2+1 {
				t.Errorf("heat %d is of %s in round %d; the order says %s", i, h.Contender, h.Round, want)
			}
			takes := map[string]time.Duration{"slow": 10 * time.Millisecond, "fast": 5 * time.Millisecond}[h.Contender]
			if h.OK != 20 || h.Warmup != 3 || h.Wall != 20*takes || h.LatencySum != 20*takes || h.Cut {
				t.Errorf("heat %d = %+v; want 20 shots of %s", i, h, takes)
			}
			if got := h.Mean(); got != takes.Seconds() {
				t.Errorf("mean of heat %d is %g", i, got)
			}
		}
		var kinds []string
		for _, e := range events {
			name := strings.TrimPrefix(reflect.TypeOf(e).String(), "rounds.")
			if name != "Progress" && name != "StageBegan" {
				kinds = append(kinds, name)
			}
		}
		want := []string{"Started", "Footed", "Asking", "Touched", "Asking", "Touched", "Weighed"}
		for range 8 {
			want = append(want, "HeatBegan", "HeatEnded")
		}
		if want = append(want, "Ended"); !slices.Equal(kinds, want) {
			t.Errorf("events %v; want %v", kinds, want)
		}
	})
}

func TestTheSeedGivesTheOrder(t *testing.T) {
	p := reading(t, "takes: 1ms", "takes: 1ms", "{ repeat: 1 }")
	p.Rounds = 50
	if !reflect.DeepEqual(rounds.Order(p, 5), rounds.Order(p, 5)) {
		t.Error("one seed gives two orders")
	}
	if reflect.DeepEqual(rounds.Order(p, 5), rounds.Order(p, 6)) {
		t.Error("two seeds give one order")
	}
	first := 0
	for _, names := range rounds.Order(p, 5) {
		if len(names) != 2 || names[0] == names[1] {
			t.Fatalf("round of %v", names)
		}
		if names[0].Contender == "slow" {
			first++
		}
	}
	if first < 10 || first > 40 {
		t.Errorf("slow goes first in %d of 50 rounds", first)
	}
}

func TestAnInterruptKeepsWhatWasMeasured(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		ended := 0
		_, r, err := run(ctx, reading(t, "takes: 10ms", "takes: 10ms", "{ repeat: 20 }"), 1, func(e rounds.Event) {
			if _, ok := e.(rounds.HeatEnded); ok {
				if ended++; ended == 3 {
					time.AfterFunc(55*time.Millisecond, cancel)
				}
			}
		})
		if !errors.Is(err, context.Canceled) || r.Ending != result.Interrupted || r.Reason != "stopped after 3 of 8 heats" {
			t.Fatalf("ended %q (%s), %v", r.Ending, r.Reason, err)
		}
		if len(r.Heats) != 4 || !r.Heats[3].Cut || r.Heats[3].OK == 0 || r.Heats[2].Cut {
			t.Errorf("%d heats, the last %+v; want 3 whole ones and a cut one", len(r.Heats), r.Heats[len(r.Heats)-1])
		}
	})
}

func TestNothingIsTimedWhenTheWeighInFails(t *testing.T) {
	tests := []struct{ name, fast, want string }{
		{"wrong answer", "fail-all: true", "status 503, expected 200"},
		{"cannot be opened", `no-open: no such tool`, "no such tool"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, r, err := run(t.Context(), reading(t, "takes: 1us", tt.fast, "{ repeat: 2 }"), 1, nil)
			if !weighin.IsFailed(err) || !strings.Contains(err.Error(), tt.want) ||
				!strings.HasPrefix(err.Error(), "fast did not pass") {
				t.Errorf("error %v; want fast to fail with %q", err, tt.want)
			}
			if len(r.Heats) != 0 || r.Ending != result.Failed || r.Entrant("fast").Touch.Err != tt.want ||
				r.Entrant("slow").Touch.Err != "" {
				t.Errorf("result %+v", r)
			}
		})
	}
}

func TestFailuresInARoundAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, r, err := run(t.Context(), reading(t, "takes: 10ms", "takes: 5ms, fail-at: 4", "{ repeat: 5, warmup: 0 }"), 1,
			nil)
		if err != nil {
			t.Fatal(err)
		}
		failed := int64(0)
		for _, h := range r.Of("fast", "") {
			failed += h.Failures["status"]
			if h.Failed() > 0 && (h.OK != 4 || len(h.Causes) != 1 || h.LatencySum != 20*time.Millisecond) {
				t.Errorf("heat with the failure: %+v", h)
			}
		}
		if failed != 1 {
			t.Errorf("%d failures; want the one", failed)
		}
	})
}

func TestAHeatWaitsUntilTheOneBeforeIsDealtWith(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var busy time.Time
		_, _, err := run(t.Context(), reading(t, "takes: 1ms", "takes: 1ms", "{ repeat: 2 }"), 1, func(e rounds.Event) {
			switch e.(type) {
			case rounds.HeatEnded:
				time.Sleep(time.Second) // storing it takes long, on the fake clock
				busy = time.Now()
			case rounds.StageBegan:
				if time.Now().Before(busy) {
					t.Error("a heat began while the one before was being stored")
				}
			}
		})
		if err != nil {
			t.Fatal(err)
		}
	})
}

func TestGlancesShowAHeatUnderWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var glances []rounds.Progress
		_, _, err := run(t.Context(), reading(
			t, "takes: 10ms", "takes: 10ms", "{ clients: 2, for: 2s, warmup: 500ms }",
		), 1, func(e rounds.Event) {
			if p, ok := e.(rounds.Progress); ok {
				glances = append(glances, p)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
		// Ten looks of 250 ms fit into a heat of 2.5 s; one may fall together with its end.
		if len(glances) < 8*9 || len(glances) > 8*10 {
			t.Errorf("%d glances at 8 heats", len(glances))
		}
		for _, g := range glances {
			if g.Shots > 0 && g.P50.Round(10*time.Microsecond) != 10*time.Millisecond {
				t.Errorf("glance at %s with a p50 of %s; want 10 ms", g.At, g.P50)
			}
			if g.Left < 0 || g.Left > 25*time.Second || len(g.Recent) > 160 {
				t.Errorf("glance with %s left and %d dots", g.Left, len(g.Recent))
			}
		}
		if last := glances[8]; last.Rate < 150 || last.Rate > 250 {
			t.Errorf("rate %g/s; want about 200/s", last.Rate)
		}
	})
}

// A run with a time to keep within leaves out rounds for which there is none, tells of it, and is done all the same.
func TestARunKeepsWithinItsTime(t *testing.T) {
	for within, want := range map[time.Duration]int{time.Second: 2, 100 * time.Millisecond: 1, time.Hour: 4} {
		synctest.Test(t, func(t *testing.T) {
			out := make(chan rounds.Event)
			changed := 0
			var r *result.Result
			var err error
			done := make(chan struct{})
			go func() {
				defer close(done)
				r, err = rounds.Run(t.Context(), rounds.Config{ // a round of 345 ms
					Plan: reading(t, "takes: 10ms", "takes: 5ms", "{ repeat: 20, warmup: 3 }"), Seed: 1, Program: "test",
					Kinds: []contender.Kind{sample.Stub()}, Within: within,
				}, out)
			}()
			for e := range out {
				if _, ok := e.(rounds.OrderChanged); ok {
					changed++
				}
			}
			<-done
			short := want < 4
			if err != nil || r.Ending != result.Done || r.Plan.Rounds != want || len(r.Heats) != 2*want ||
				(r.Plan.Short != nil) != short || short && (r.Plan.Short.Planned != 4 || changed != 1) {
				t.Errorf("within %s: %d rounds, %d heats, %d changes, %+v, %v", within, r.Plan.Rounds, len(r.Heats), changed,
					r.Plan.Short, err)
			}
		})
	}
}
