package rounds_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/commits"
	"paceduel/core/contender/all"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

// repository has two commits of a tool that says which one it is, and one that does not build.
func repository(t *testing.T) string {
	t.Helper()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("LEFT OUT: git is not installed here")
	}
	dir := t.TempDir()
	cmd := exec.Command("/bin/sh", "-ec", `git init -q -b main .
for i in one two bad; do
	printf '#!/bin/sh\necho %s; touch ran\n' $i >source
	if [ $i = bad ]; then printf 'exit 7\n' >build.sh; else printf 'cp source tool; chmod +x tool\n' >build.sh; fi
	git add -A; git -c user.name=H -c user.email=h@skerrow.example commit -qm "says $i"; git tag $i
done`)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return dir
}

func builtPlan(t *testing.T, dir, text string) rounds.Config {
	t.Helper()
	p, err := read.Plan(filepath.Join(dir, "p.duel.yaml"), []byte(text), read.Options{Kinds: all.PlanKinds()})
	if err != nil {
		t.Fatal(err)
	}
	return rounds.Config{
		Plan: p, Kinds: all.Kinds(), Program: "test", Seed: 1, Builds: commits.Cache{Dir: filepath.Join(t.TempDir(), "b")},
	}
}

func runAll(t *testing.T, cfg rounds.Config) (r *result.Result, building []string, err error) {
	t.Helper()
	events := make(chan rounds.Event)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for e := range events {
			if b, ok := e.(rounds.Building); ok {
				building = append(building, b.Contender+" "+b.Revision)
			}
		}
	}()
	r, err = rounds.Run(t.Context(), cfg, events)
	<-done
	return r, building, err
}

// Each contender is what its commit makes it, stands where any other would, and says which commit it is.
func TestContendersAreBuiltFromCommits(t *testing.T) {
	dir := repository(t)
	plan := func(second string) string {
		return fmt.Sprintf(`duel: Tools
baseline: first
course: { from: { build: sh build.sh } }
contenders:
  first: { command: { run: [./tool], stdout: pipe }, from: { git: one } }
  second: { command: { run: ["${TREE}/tool"], stdout: pipe }, from: { git: %s } }
pace: { repeat: 1, warmup: 0 }
rounds: 2
`, second)
	}
	cfg := builtPlan(t, dir, plan("two"))
	r, building, err := runAll(t, cfg)
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"one", "two"} {
		e := &r.Entrants[i]
		if e.Touch == nil || strings.TrimSpace(e.Touch.Body) != want || e.From == nil || e.From.Subject != "says "+want ||
			e.Version != "commit "+e.From.Commit[:9] || e.From.Cached {
			t.Errorf("%s: %+v, %+v", e.Name, e.From, e.Touch)
		}
	}
	if got := strings.Join(building, ", "); got != "first one, second two" {
		t.Errorf("built: %s", got)
	}
	if _, err := os.Stat(filepath.Join(dir, "ran")); err != nil {
		t.Error("the tools did not stand in the plan's folder")
	}
	if cfg.Plan.Contenders[0].Ground.Tree != "" {
		t.Error("where something was built was entered in a plan that others read")
	}
	if r, _, err = runAll(t, cfg); err != nil || !r.Entrants[0].From.Cached {
		t.Errorf("the second time it is built again, %v", err)
	}
	for revision, want := range map[string]string{"bad": "exit code 7", "gone": "no commit is called gone"} {
		r, _, err := runAll(t, builtPlan(t, dir, plan(revision)))
		if err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "second: ") ||
			len(r.Heats) > 0 {
			t.Errorf("%s: %v", revision, err)
		}
	}
}
