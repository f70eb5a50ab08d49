package fleet

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"paceduel/core/bus"
	"paceduel/core/contender/all"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/weighin"
)

// beside runs a duel on the agent that sits beside its service.
func beside(
	ctx context.Context, link *bus.Link, p *plan.Plan, control *rounds.Control, watch func(rounds.Event),
) (*result.Result, error) {
	out, watched := watching(watch)
	f := New(Config{Link: link, Program: "test", Kinds: all.Kinds(), Wait: 2 * time.Second})
	r, err := f.RunBeside(ctx, rounds.Config{Plan: p, Program: "test", Seed: 7, Glance: -1, Control: control}, out)
	<-watched
	return r, err
}

// office has an agent sit beside services, in a folder.
func (h *harbour) office() (dir string) {
	dir = h.t.TempDir()
	h.join("office", "", func(a *Agent) { a.cfg.Dir, a.changes = dir, atLeisure })
	return dir
}

const besideLines = "pace: { clients: 4, shots: 40, warmup: 0 }\nrounds: 2\n" +
	"load: { beside: office, agents: [quay-1, quay-2] }\n" +
	"footing: { before: { duel: [ \"echo here > done-here\" ] } }\n"

func TestADuelIsRunBesideItsService(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	dir := h.office()
	h.join("quay-1", "")
	h.join("quay-2", "")
	var heats, heads int
	p := h.plan(besideLines, nil)
	r, err := beside(t.Context(), h.link("runs"), p, nil, func(e rounds.Event) {
		switch e := e.(type) {
		case rounds.HeatEnded:
			heats++
		case rounds.Started:
			heads++
		case rounds.Ended:
			if e.Result.Ending != result.Done {
				t.Errorf("it ended as %s, %s", e.Result.Ending, e.Result.Reason)
			}
		}
	})
	if err != nil || heats != 4 || heads != 1 || len(r.Heats) != 4 || r.Plan.File != p.File {
		t.Fatalf("%v, %d heats heard of, %d in the result, of %s", err, heats, len(r.Heats), r.Plan.File)
	}
	for i := range r.Heats {
		if r.Heats[i].OK != 40 || len(r.Heats[i].Shares) != 2 {
			t.Errorf("heat %d: %d shots by %d agents", i, r.Heats[i].OK, len(r.Heats[i].Shares))
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "done-here")); err != nil {
		t.Errorf("the step before the duel was not performed there: %v", err)
	}
	// and once more: the agent is free again
	if _, err := beside(t.Context(), h.link("again"), p, nil, nil); err != nil {
		t.Error(err)
	}
}

// A run beside its service is steered and interrupted as any other.
func TestARunBesideItsServiceIsSteered(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.office()
	h.join("quay-1", "")
	h.join("quay-2", "")
	control := &rounds.Control{}
	ctx, cancel := context.WithCancel(t.Context())
	p := h.plan(strings.Replace(besideLines, "shots: 40", "for: 500ms", 1), nil)
	var extended, cut bool
	r, err := beside(ctx, h.link("runs"), p, control, func(e rounds.Event) {
		switch e := e.(type) {
		case rounds.AgentsReady:
			control.AddRounds(3)
		case rounds.OrderChanged:
			extended = len(e.Head.Order) == 5
			cancel()
		case rounds.Ended:
			cut = e.Result.Ending == result.Interrupted
		}
	})
	if !extended || !cut || !errors.Is(err, context.Canceled) || len(r.Heats) >= 10 {
		t.Errorf("rounds added: %v, interrupted: %v, %v, %d heats", extended, cut, err, len(r.Heats))
	}
}

func TestWhoMaySitBeside(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("office", "")
	h.join("quay-1", "")
	h.join("quay-2", "")
	_, err := beside(t.Context(), h.link("runs"), h.plan(besideLines, nil), nil, nil)
	if err == nil || !strings.Contains(err.Error(), "--beside DIR") {
		t.Errorf("an agent whose owner does not allow it: %v", err)
	}
	p := h.plan(strings.Replace(besideLines, "beside: office", "beside: elsewhere", 1), nil)
	if _, err := beside(t.Context(), h.link("runs"), p, nil, nil); err == nil || !strings.Contains(err.Error(),
		"elsewhere") {
		t.Errorf("one that is not there: %v", err)
	}
}

// What fails there fails here, in the same words and with the same kind of error.
func TestAWeighInBesideFails(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.office()
	h.join("quay-1", "")
	h.join("quay-2", "")
	h.url = "http://127.0.0.1:1"
	r, err := beside(t.Context(), h.link("runs"), h.plan(besideLines, nil), nil, nil)
	if !weighin.IsFailed(err) || r.Ending != result.Failed || r.Entrants[0].Touch == nil {
		t.Errorf("ended with %v, %s", err, r.Ending)
	}
}
