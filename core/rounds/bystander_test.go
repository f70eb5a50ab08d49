package rounds_test

import (
	"testing"
	"time"

	"paceduel/core/contender"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/internal/sample"
)

// A bystander asks before each heat and while it is on, each by itself, and what it waited is judged as a stream.
func TestABystanderAsksMeanwhile(t *testing.T) {
	kind := sample.Stub()
	src := "duel: T\nbaseline: a\n" +
		"course: { bystander: { stub: { takes: 2ms }, rate: 500/s, quiet: 60ms, within: 40ms } }\n" +
		"pace: { repeat: 4, warmup: 1 }\nrounds: 2\nrungs: [mean, longest silence, p50 of bystander]\n" +
		"contenders: { a: { stub: { takes: 30ms } }, b: { stub: { takes: 20ms } } }\n"
	p, err := read.Plan(t.TempDir()+"/p.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{kind.Kind}})
	if err != nil {
		t.Fatal(err)
	}
	out, done := make(chan rounds.Event), make(chan struct{})
	go func() {
		defer close(done)
		for range out {
		}
	}()
	r, err := rounds.Run(t.Context(), rounds.Config{Plan: p, Kinds: []contender.Kind{kind}, Seed: 1}, out)
	<-done
	if err != nil {
		t.Fatal(err)
	}
	for _, h := range r.Heats {
		b := h.Bystander
		if b == nil {
			t.Fatalf("%s has no bystander", h.Contender)
		}
		due := func(span time.Duration) int64 { return int64(span / (2 * time.Millisecond)) }
		for name, probes := range map[string]result.Probes{"quiet": b.Quiet, "meanwhile": b.Meanwhile} {
			if want := due(probes.Span); probes.Due < want*3/4 || probes.Due > want+2 || probes.OK != probes.Due ||
				probes.Longest < 2*time.Millisecond || len(probes.Dots) == 0 ||
				(probes.HeldUp > 0) != (probes.Longest > b.Within) {
				t.Errorf("%s, %s: %d of %d due, %+v", h.Contender, name, probes.Due, want, probes)
			}
		}
		if b.Quiet.Span < 60*time.Millisecond || b.Meanwhile.Span != h.Wall || b.Within != 40*time.Millisecond {
			t.Errorf("%s: quiet for %s, then %s of %s", h.Contender, b.Quiet.Span, b.Meanwhile.Span, h.Wall)
		}
		streams := map[string]bool{}
		for _, s := range h.Splits {
			streams[s.Name] = s.Stream
		}
		if !streams[result.BystanderStream] || !streams[result.QuietStream] {
			t.Errorf("splits %v", streams)
		}
	}
	v, err := judge.Judge(r)
	if err != nil || len(v.Meanwhile) != 2 || v.Meanwhile[0].P50.V < 0.002 {
		t.Errorf("%+v, %v", v, err)
	}
}
