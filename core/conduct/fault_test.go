package conduct

import (
	"strings"
	"testing"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/rounds"
	"paceduel/internal/sample"
)

// When whoever watches falls, the run under way is ended before the fault goes on its way.
func TestAFallOfTheWatcherEndsTheRun(t *testing.T) {
	stub := sample.Stub()
	p, err := read.Plan("t.duel.yaml", []byte("duel: T\nbaseline: a\ncontenders: { a: { stub: { takes: 1ms } }, b: { "+
		"stub: {} } }\n"+
		"pace: { repeat: 2 }\nrounds: 500\n"), read.Options{Kinds: []plan.Kind{stub.Kind}})
	if err != nil {
		t.Fatal(err)
	}
	heats := 0
	defer func() {
		if fell := recover(); fell == nil || !strings.Contains(fell.(string), "overboard") || heats != 3 {
			t.Errorf("after %d heats: %v", heats, fell)
		}
	}()
	Duel(t.Context(), Spec{Plan: p, Kinds: []contender.Kind{stub}, Glance: -1}, func(e rounds.Event) {
		if _, ok := e.(rounds.HeatEnded); ok {
			if heats++; heats == 3 {
				panic("man overboard")
			}
		}
	})
}
