package rounds_test

import (
	"context"
	"slices"
	"testing"
	"time"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/rounds"
	"paceduel/internal/sample"
)

// What a service holds is seen in every heat that it lasts for, and is its contender's where shots start no processes.
func TestAServiceIsWatched(t *testing.T) {
	for fresh, lasts := range map[string]bool{"heat": true, "duel": true, "run": false} {
		src := "duel: T\nbaseline: a\ncourse: { stub: { takes: 1ms } }\npace: { repeat: 3 }\nrounds: 2\ncontenders:\n  b:\n" +
			"  a: { service: { shell: 'echo open; exec sleep 100', ready: { line: open }, fresh: " + fresh + " } }\n"
		p, err := read.Plan(t.TempDir()+"/p.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
		if err != nil {
			t.Fatal(err)
		}
		out := make(chan rounds.Event)
		go func() {
			for range out {
			}
		}()
		r, err := rounds.Run(t.Context(), rounds.Config{Plan: p, Kinds: []contender.Kind{sample.Stub()}, Seed: 1}, out)
		if err != nil || len(r.Heats) != 4 {
			t.Fatalf("fresh %s: %d heats, %v", fresh, len(r.Heats), err)
		}
		if kept := r.Entrant("a").OneProcess; kept != (fresh == "duel") || r.Entrant("b").OneProcess {
			t.Errorf("fresh %s: one process for all shots: %v", fresh, kept)
		}
		for _, h := range r.Heats {
			s := h.Service
			if (s != nil) != (lasts && h.Contender == "a") {
				t.Errorf("fresh %s: %s has a service %v", fresh, h.Contender, s != nil)
			}
			if s == nil {
				continue
			}
			if len(s.Moments) < 2 || s.Moments[0].Processes != 1 || s.Moments[0].Threads != 1 || s.Moments[0].At < 0 ||
				s.Peak < 100<<10 || s.Peak > 64<<20 || !s.Exact {
				t.Errorf("fresh %s: %+v", fresh, s)
			}
			if used, known := h.CPU(); !known || used != s.CPU || h.Peak() != s.Peak {
				t.Errorf("fresh %s: CPU %s (%v), peak %d", fresh, used, known, h.Peak())
			}
		}
	}
}

// housing is a driver that notes when its processes are wanted and when they are not.
type housing struct {
	contender.Driver
	calls *[]string
}

func (h housing) Begin(context.Context, int) ([]contender.Start, error) {
	*h.calls = append(*h.calls, "begin")
	return nil, nil
}

func (h housing) End()                         { *h.calls = append(*h.calls, "end") }
func (h housing) Used() time.Duration          { return 0 }
func (h housing) Resident() contender.Resident { return contender.Resident{} }

// What the weigh-in had started is ended before the first heat, so that nobody's processes are there while others have
// theirs.
func TestTheWeighInLeavesNoProcesses(t *testing.T) {
	var calls []string
	kind := sample.Stub()
	open := kind.Open
	kind.Open = func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		d, err := open(s, settings)
		return housing{d, &calls}, err
	}
	src := "duel: T\nbaseline: a\ncourse: { stub: { takes: 1ms } }\npace: { repeat: 2 }\nrounds: 1\n" +
		"contenders: { a: , b: }\n"
	p, err := read.Plan(t.TempDir()+"/p.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{kind.Kind}})
	if err != nil {
		t.Fatal(err)
	}
	out := make(chan rounds.Event)
	go func() {
		for range out {
		}
	}()
	if _, err := rounds.Run(t.Context(), rounds.Config{Plan: p, Kinds: []contender.Kind{kind}, Seed: 1}, out); err != nil {
		t.Fatal(err)
	}
	if len(calls) < 3 || !slices.Equal(calls[:3], []string{"end", "end", "begin"}) {
		t.Errorf("%v", calls)
	}
}
