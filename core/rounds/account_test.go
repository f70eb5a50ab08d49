package rounds_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/shots"
	"paceduel/internal/sample"
)

// counting is a driver whose contender counts its shots itself, and says how it goes about them.
type counting struct {
	contender.Driver
	shots, open, began *int64
	fails              error // of its account
	way                *string
}

func (c counting) Client(i, n int) contender.Client {
	*c.open++
	return countingClient{c.Driver.Client(i, n), c}
}

type countingClient struct {
	contender.Client
	of counting
}

func (c countingClient) Shoot(ctx context.Context, shot *shots.Shot) {
	*c.of.shots++
	c.Client.Shoot(ctx, shot)
	if shot.View != nil {
		shot.View.QueryShape = *c.of.way
	}
}

func (c countingClient) Close() {
	*c.of.open--
	c.Client.Close()
}

func (c counting) BeginAccount(context.Context) error {
	*c.began = *c.shots
	return c.fails
}

func (c counting) EndAccount(context.Context) (map[string]int64, error) {
	if *c.open != 0 {
		return nil, errors.New("its clients are still open")
	}
	return map[string]int64{"counted": 7 * (*c.shots - *c.began)}, nil
}

func (c counting) Explain(context.Context) (text, shape string, err error) {
	return "by " + *c.way, *c.way, nil
}

// crowded is a database that much is asked of.
type crowded struct{}

func (crowded) BeginAccount(context.Context) error { return nil }

func (crowded) EndAccount(context.Context) (map[string]int64, error) {
	return map[string]int64{"counted": 1000}, nil
}

// accounts runs a duel of contenders that count, and tells of each heat's end.
func accounts(t *testing.T, fails error, ended func(way *string, h *result.Heat)) *result.Result {
	t.Helper()
	kind := sample.Stub()
	kind.Shape.Account = []shots.Amount{{Name: "counted", Unit: "counts", Row: "counted a shot", Per: shots.PerShot}}
	open, way := kind.Open, "index"
	kind.Open = func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		d, err := open(s, settings)
		return counting{d, new(int64), new(int64), new(int64), fails, &way}, err
	}
	kind.Watch = func(contender.Setup, *plan.Watch) (contender.Accounted, error) {
		return crowded{}, nil
	}
	kind.Watches = func(*plan.Watch, plan.Surroundings) []plan.Fault { return nil }
	src := "duel: T\nbaseline: a\ncourse: { stub: { takes: 1ms }, watch: { postgres: here } }\n" +
		"pace: { repeat: 4, warmup: 3 }\nrounds: 2\n" +
		"contenders: { a: , b: }\n"
	p, err := read.Plan(t.TempDir()+"/p.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{kind.Kind}})
	if err != nil {
		t.Fatal(err)
	}
	out := make(chan rounds.Event)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for e := range out {
			if e, ok := e.(rounds.HeatEnded); ok {
				ended(&way, &e.Heat)
			}
		}
	}()
	r, err := rounds.Run(t.Context(), rounds.Config{Plan: p, Kinds: []contender.Kind{kind}, Seed: 1}, out)
	<-done
	if err != nil || len(r.Heats) != 4 {
		t.Fatalf("%d heats, %v", len(r.Heats), err)
	}
	return r
}

// A contender's own account of a heat is read around it, when its clients have gone, and is of all its shots. What
// counts itself is not counted again by the database that it is said to use.
func TestAnAccountIsReadAroundHeats(t *testing.T) {
	r := accounts(t, nil, func(*string, *result.Heat) {})
	for _, h := range r.Heats {
		if h.AccountShots != 7 || h.Account["counted"] != 7*7 || h.OK != 4 {
			t.Errorf("%s: %d shots, %v of %d", h.Contender, h.OK, h.Account, h.AccountShots)
		}
	}
	if !slices.ContainsFunc(r.Amounts, func(a shots.Amount) bool { return a.Name == "counted" }) {
		t.Errorf("not declared: %v", r.Amounts)
	}
	if x, ok := r.Amount(&r.Heats[0], "counted"); !ok || x != 4*7 {
		t.Errorf("the judged shots' share is %v, %v", x, ok)
	}
}

// One that cannot be read is told once, and stops nothing.
func TestAnAccountThatCannotBeRead(t *testing.T) {
	r := accounts(t, errors.New("the ledger is locked"), func(*string, *result.Heat) {})
	for _, h := range r.Heats {
		if h.Account != nil || !h.Counts() {
			t.Errorf("%s: %v, %s", h.Contender, h.Account, h.Stopped)
		}
	}
	if told := strings.Join(r.Footing.Cannot, "; "); strings.Count(told, "the ledger is locked") != 2 {
		t.Errorf("told: %s", told)
	}
}

// Another way than at the weigh-in is kept with the heats after which it was seen.
func TestAWayThatChanges(t *testing.T) {
	ended := 0
	r := accounts(t, nil, func(way *string, h *result.Heat) {
		if ended++; ended == 2 {
			*way = "scan"
		}
	})
	for i, want := range []string{"", "", "by scan", "by scan"} {
		if got := r.Heats[i].QueryPlan; got != want {
			t.Errorf("heat %d: %q, want %q", i+1, got, want)
		}
	}
}
