package rounds_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/contender"
	"paceduel/core/contender/command"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

func TestMain(m *testing.M) {
	if how, ok := os.LookupEnv(lampEnv); ok {
		light(how)
	}
	keeper.Run()
	os.Exit(m.Run())
}

// real runs a plan of commands in dir and returns what came of it; see is told of each event.
func real(t *testing.T, dir, src string, see ...func(rounds.Event)) (*result.Result, error) {
	t.Helper()
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	p, err := read.Plan(filepath.Join(dir, "p.duel.yaml"), []byte(src), read.Options{
		Kinds: []plan.Kind{command.Kind.Kind},
	})
	if err != nil {
		t.Fatal(err)
	}
	out, done := make(chan rounds.Event), make(chan struct{})
	go func() {
		defer close(done)
		for e := range out {
			for _, tell := range see {
				tell(e)
			}
		}
	}()
	r, err := rounds.Run(t.Context(), rounds.Config{Plan: p, Kinds: []contender.Kind{command.Kind}, Seed: 1}, out)
	<-done
	return r, err
}

// A tool that rewrites its input finds it as it was at every run, cold and warm, and the original is never touched.
func TestAToolThatRewritesItsInput(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "in"), []byte("raw\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	const tool = `'test $(cat in) = raw || exit 7; echo done > in; if [ -e .store/x ]; then echo warm; else mkdir -p .store; touch .store/x; echo cold; fi'`
	r, err := real(t, dir, `duel: Rewriting
baseline: a
course: { command: { shell: `+tool+`, stdout: pipe } }
contenders: { a: , b: }
pace: { repeat: 2, warmup: 1 }
rounds: 2
footing: { workspace: { from: in, fresh: run }, caches: [cold, warm], stores: .store }
same: { files: hash }
`)
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Heats) != 8 {
		t.Fatalf("%d heats; want both contenders cold and warm in both rounds", len(r.Heats))
	}
	for _, h := range r.Heats {
		if h.OK != 2 || h.Failed() != 0 || h.Stopped != "" {
			t.Errorf("%s %s: %d good, %v %v %s", h.Contender, h.State, h.OK, h.Failures, h.Causes, h.Stopped)
		}
		if each := h.Received / 2; each != 5 {
			t.Errorf("%s %s: %d bytes a run; want those of one word", h.Contender, h.State, each)
		}
		if h.Changes == nil || h.Changes.Changed != 1 || h.Changes.StoreFiles != 1 {
			t.Errorf("changes %+v", h.Changes)
		}
		if h.State == "warm" && len(h.Unfilled) > 0 {
			t.Errorf("warm runs found %v empty", h.Unfilled)
		}
		if h.Busy > h.LatencySum*11/10 {
			t.Errorf("%s of footing are in its time of %s", h.Busy-h.LatencySum, h.Busy)
		}
	}
	if text, err := os.ReadFile(filepath.Join(dir, "in")); err != nil || string(text) != "raw\n" {
		t.Errorf("the original is %q, %v", text, err)
	}
	for _, e := range r.Entrants {
		if e.Touch.State != "cold" || e.Touch.Body != "cold\n" || e.Again == nil || e.Again.Body != "warm\n" {
			t.Errorf("%s: touched %+v and %+v", e.Name, e.Touch, e.Again)
		}
	}
	states := map[string]int{}
	for i := range r.Order {
		for _, b := range r.Order[i] {
			states[b.Contender+" "+b.State]++
		}
	}
	if len(states) != 4 || states["a cold"] != 2 {
		t.Errorf("order %v", states)
	}
}

func TestAStepThatFailsStopsItsHeatAlone(t *testing.T) {
	dir := t.TempDir()
	r, err := real(t, dir, `duel: Stopped
baseline: a
course: { command: { shell: 'true' } }
contenders: { a: , b: { footing: { before: { run: 'test $PACEDUEL_ROUND != 2 || { echo the crane is stuck; exit 5; }' } } } }
pace: { repeat: 1, warmup: 0 }
rounds: 3
`)
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Heats) != 6 || len(r.Of("a", "")) != 3 || len(r.Of("b", "")) != 2 {
		t.Fatalf("%d heats, %d and %d of which count", len(r.Heats), len(r.Of("a", "")), len(r.Of("b", "")))
	}
	for _, h := range r.Heats {
		if stopped := h.Contender == "b" &&
			h.Round == 2; stopped != strings.Contains(h.Stopped, "exit code 5: the crane is stuck") {
			t.Errorf("%s in round %d: stopped %q", h.Contender, h.Round, h.Stopped)
		}
	}
	if r.Ending != result.Done {
		t.Errorf("the run ended %s", r.Ending)
	}
}

func TestAStepThatFailsAtTheWeighInLetsNobodyStart(t *testing.T) {
	_, err := real(t, t.TempDir(), `duel: Stopped
baseline: a
course: { command: { shell: 'true' } }
contenders: { a: , b: { footing: { before: { heat: 'echo no crane; exit 1' } } } }
pace: { repeat: 1 }
`)
	if err == nil || !strings.Contains(
		err.Error(), "b did not pass the weigh-in: before heat: echo no crane; exit 1: exit code 1: no crane",
	) {
		t.Errorf("error %v", err)
	}
	_, err = real(t, t.TempDir(), `duel: Stopped
baseline: a
course: { command: { shell: 'true' } }
contenders: { a: , b: }
pace: { repeat: 1 }
footing: { before: { duel: 'echo no quay; exit 1' } }
`)
	if err == nil || !strings.Contains(err.Error(), "before duel: echo no quay; exit 1: exit code 1: no quay") {
		t.Errorf("error %v", err)
	}
}

// One answer in many that is another is found and fails, and is in no latency.
func TestAnAnswerThatChangesDuringTheRun(t *testing.T) {
	dir := t.TempDir()
	src := `duel: Changing
baseline: a
course: { command: { shell: 'echo tide 1', stdout: pipe } }
contenders: { a: , b: { command: { shell: 'echo x >> n; if [ $(wc -l < n) -eq 11 ]; then echo tide 2; else echo tide 1; fi' } } }
pace: { repeat: 5, warmup: 1 }
rounds: 2
same: { body: exact, sample: 100% }
`
	r, err := real(t, dir, src)
	if err != nil {
		t.Fatal(err)
	}
	failed := int64(0)
	for _, h := range r.Heats {
		failed += h.Failures["same-work"]
		if h.Sampled != 5 || h.OK+h.Failed() != 5 {
			t.Errorf("%s in round %d: %d compared of %d", h.Contender, h.Round, h.Sampled, h.OK+h.Failed())
		}
		if h.Failed() > 0 && !strings.Contains(
			strings.Join(h.Causes, " "), "not the same bytes as at the weigh-in: line 1 is tide 2, not tide 1",
		) {
			t.Errorf("causes %q", h.Causes)
		}
		if _, err := h.Histogram(); err != nil {
			t.Error(err)
		}
	}
	if failed != 1 {
		t.Errorf("%d answers failed; want the one", failed)
	}
	os.Remove(filepath.Join(dir, "n"))
	r, err = real(t, dir, strings.Replace(src, "100%", "0", 1))
	if err != nil || r.Heats[0].Sampled != 0 {
		t.Errorf("nothing was to be compared: %d, %v", r.Heats[0].Sampled, err)
	}
}
