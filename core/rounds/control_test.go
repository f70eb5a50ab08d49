package rounds_test

import (
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/internal/sample"
)

// steered runs a duel of three with a control; react is called for each event before the run goes on.
func steered(
	t *testing.T, more string, enough func(*result.Result) bool, react func(rounds.Event, *rounds.Control),
) (*result.Result, error) {
	t.Helper()
	src := "duel: Tides\nbaseline: slow\ncontenders:\n  slow: { stub: { takes: 10ms } }\n  fast: { stub: { takes: 5ms } " +
		"}\n  third: { stub: { takes: 5ms } }\npace: { repeat: 5, warmup: 0 }\n" + more
	p, err := read.Plan("t.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
	if err != nil {
		t.Fatal(err)
	}
	control := &rounds.Control{}
	out := make(chan rounds.Event)
	var r *result.Result
	done := make(chan struct{})
	go func() {
		defer close(done)
		r, err = rounds.Run(t.Context(), rounds.Config{
			Plan: p, Kinds: []contender.Kind{sample.Stub()}, Seed: 5, Control: control, Enough: enough,
		}, out)
	}()
	for e := range out {
		if react != nil {
			react(e, control)
		}
	}
	<-done
	return r, err
}

func TestAPauseIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		heats, paused, resumed := 0, time.Duration(0), time.Duration(0)
		r, err := steered(t, "rounds: 2\n", nil, func(e rounds.Event, c *rounds.Control) {
			switch e := e.(type) {
			case rounds.HeatBegan: // what is said now comes before the next heat
				if heats++; heats == 3 {
					c.Pause()
					c.Pause() // changes nothing
				}
			case rounds.Paused:
				paused = e.At
				time.AfterFunc(time.Minute, c.Resume)
			case rounds.Resumed:
				resumed = e.At
			}
		})
		if err != nil || len(r.Heats) != 6 || resumed-paused != time.Minute || r.Paused != time.Minute {
			t.Fatalf("%d heats, paused from %s to %s, kept as %s, %v", len(r.Heats), paused, resumed, r.Paused, err)
		}
		for i, h := range r.Heats {
			if after := h.At > paused; after != (i >= 3) {
				t.Errorf("heat %d ran at %s, the pause began at %s", i, h.At, paused)
			}
		}
	})
}

// Rounds that are added follow the seed as if they had been planned, and who is left out has no more heats.
func TestRoundsAddedAndContendersLeftOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		heats := 0
		var changes []rounds.OrderChanged
		r, err := steered(t, "rounds: 3\n", nil, func(e rounds.Event, c *rounds.Control) {
			switch e := e.(type) {
			case rounds.HeatBegan: // what is said now comes before the next heat
				heats++
				switch heats {
				case 4: // the first of round 2
					c.LeaveOut("slow") // the baseline stays
					c.LeaveOut("fast")
					c.LeaveOut("third") // one has to be left
				case 7:
					c.AddRounds(2)
				}
			case rounds.OrderChanged:
				changes = append(changes, e)
			}
		})
		if err != nil || len(changes) != 2 || len(r.Order) != 5 || r.Plan.Rounds != 5 {
			t.Fatalf("%d changes, %d rounds, %v", len(changes), len(r.Order), err)
		}
		if first, then := changes[0].Head, changes[1].Head; first.Entrant("fast").LeftOut != 2 ||
			r.Entrant("fast").LeftOut != 2 || then.Plan.Rounds != 5 {
			t.Errorf(
				"left out from round %d on, at last %d; then %d rounds", first.Entrant("fast").LeftOut, r.Entrant("fast").LeftOut,
				then.Plan.Rounds,
			)
		}
		count := map[string]int{}
		for _, h := range r.Heats {
			count[h.Contender]++
		}
		ran := 1 // fast in round 1, and in round 2 if it came first
		if r.Heats[3].Contender == "fast" {
			ran = 2
		}
		if count["slow"] != 5 || count["third"] != 5 || count["fast"] != ran {
			t.Errorf("heats %v; want 5, 5 and %d of fast", count, ran)
		}
		planned := &plan.Plan{Rounds: 5, Contenders: []plan.Contender{{Name: "slow"}, {Name: "fast"}, {Name: "third"}}}
		for i, bouts := range rounds.Order(planned, 5) {
			var want []cell.Cell
			for _, b := range bouts {
				if b.Contender != "fast" || i == 0 || i == 1 && ran == 2 {
					want = append(want, b)
				}
			}
			if !slices.Equal(r.Order[i], want) {
				t.Errorf("round %d runs %v; want %v", i+1, r.Order[i], want)
			}
		}
	})
}

// An until is asked from the plan's rounds on, after whole rounds, and its most is an end, too.
func TestUntil(t *testing.T) {
	const until = "rounds: 7\nuntil: { figure: mean, within: 5%, most: 12 }\n"
	for _, tt := range []struct{ at, want int }{{1, 7}, {9, 9}, {99, 12}} {
		synctest.Test(t, func(t *testing.T) {
			asked := 0
			r, err := steered(t, until, func(r *result.Result) bool {
				asked++
				if len(r.Heats)%3 != 0 {
					t.Errorf("asked after %d heats", len(r.Heats))
				}
				return len(r.Heats)/3 >= tt.at
			}, nil)
			if err != nil || len(r.Heats) != 3*tt.want || len(r.Order) != tt.want || r.Plan.Rounds != tt.want ||
				r.Plan.Until.Most != 12 {
				t.Errorf("reached at %d: %d heats, %d rounds, %v; want %d rounds", tt.at, len(r.Heats), r.Plan.Rounds, err, tt.want)
			}
			if most := 12 - 7; asked > most {
				t.Errorf("asked %d times; want %d at most", asked, most)
			}
		})
	}
}

// A run with looks is asked after these rounds alone, and the last of them ends it.
func TestLooks(t *testing.T) {
	for at, want := range map[int]int{5: 5, 6: 10, 99: 20} {
		synctest.Test(t, func(t *testing.T) {
			var asked []int
			r, err := steered(t, "rounds: auto up to 20\n", func(r *result.Result) bool {
				asked = append(asked, len(r.Heats)/3)
				return len(r.Heats)/3 >= at
			}, nil)
			if err != nil || len(r.Order) != want || len(r.Heats) != 3*want || !slices.Equal(r.Plan.Looks, []int{5, 10, 20}) {
				t.Errorf("enough from %d: %d rounds, %v; want %d", at, len(r.Order), err, want)
			}
			for _, n := range asked {
				if n != 5 && n != 10 {
					t.Errorf("asked after %d rounds", n)
				}
			}
		})
	}
}
