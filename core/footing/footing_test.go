package footing_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/footing"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/internal/sample"
)

func TestMain(m *testing.M) {
	keeper.Run()
	if how := os.Getenv("FOOTING_BOARD"); how != "" {
		board(how)
	}
	os.Exit(m.Run())
}

// write lays files out in dir: name and contents in turn.
func write(t *testing.T, dir string, pairs ...string) {
	t.Helper()
	for i := 0; i < len(pairs); i += 2 {
		path := filepath.Join(dir, pairs[i])
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(pairs[i+1]), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// open reads a plan with the given footing in dir and begins its duel.
func open(t *testing.T, dir, text string) (*footing.Footing, *footing.Ground) {
	t.Helper()
	return openPlan(t, dir, "contenders: { a: , b: }\nfooting:\n"+text)
}

// openOwn does so for contenders that have footings of their own.
func openOwn(t *testing.T, dir, contenders string) (*footing.Footing, *footing.Ground) {
	t.Helper()
	return openPlan(t, dir, "contenders: { "+contenders+" }\n")
}

func openPlan(t *testing.T, dir, text string) (*footing.Footing, *footing.Ground) {
	t.Helper()
	t.Setenv("XDG_CACHE_HOME", filepath.Join(t.TempDir(), "cache"))
	src := "duel: Packer\nbaseline: a\ncourse: { stub: { takes: 1us } }\npace: { repeat: 3 }\n" + text
	kind := sample.Stub().Kind
	p, err := read.Plan(filepath.Join(dir, "p.duel.yaml"), []byte(src), read.Options{
		Kinds: []plan.Kind{kind}, Lookup: func(string) (string, bool) { return "oyster", true },
	})
	if err != nil {
		t.Fatal(err)
	}
	f, err := footing.Open(p, clock.Start())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.Close)
	if _, err := f.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	return f, f.Of("a")
}

func reading(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		return "no file"
	}
	return string(text)
}

func TestAWorkspaceIsFreshAsOftenAsThePlanSays(t *testing.T) {
	for fresh, want := range map[string]string{"run": "- - - - ", "heat": "- x - x ", "duel": "- x x x "} {
		t.Run(fresh, func(t *testing.T) {
			dir := t.TempDir()
			write(t, dir, "in/manifest.txt", "salt cod\n", "in/quay/list", "1\n")
			_, g := open(t, dir, "  workspace: { from: in, fresh: "+fresh+" }\n")
			seen := ""
			for range 2 {
				if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
					t.Fatal(err)
				}
				for range 2 {
					if err := g.BeforeRun(t.Context(), false); err != nil {
						t.Fatal(err)
					}
					seen += strings.TrimSpace(
						strings.ReplaceAll(reading(t, filepath.Join(g.Dir(), "manifest.txt")), "salt cod", "-"),
					) + " "
					write(t, g.Dir(), "manifest.txt", "x")
					if err := g.AfterRun(t.Context(), &shots.Shot{}); err != nil {
						t.Fatal(err)
					}
				}
				if _, err := g.EndHeat(t.Context()); err != nil {
					t.Fatal(err)
				}
			}
			if seen != want {
				t.Errorf("runs found %q; want %q", seen, want)
			}
			if got := reading(t, filepath.Join(dir, "in/manifest.txt")); got != "salt cod\n" {
				t.Errorf("the original holds %q now", got)
			}
		})
	}
}

func TestWhatARunChangedIsSeen(t *testing.T) {
	dir := t.TempDir()
	write(
		t, dir, "in/same.txt", "a", "in/rewritten.txt", "b", "in/changed.txt", "c", "in/removed.txt", "ddd", "in/deep/er.txt",
		"e", "in/.store/old", "f",
	)
	_, g := open(t, dir, "  workspace: in\n  stores: .store\n")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	write(
		t, g.Dir(), "rewritten.txt", "b", "changed.txt", "cc", "added.txt", "12345", "deep/er.txt", "E", ".store/new", "77",
	)
	if err := os.Remove(filepath.Join(g.Dir(), "removed.txt")); err != nil {
		t.Fatal(err)
	}
	files, err := g.Written(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range files {
		names = append(names, f.Path)
	}
	if want := []string{
		"added.txt", "changed.txt", "deep/er.txt", "rewritten.txt",
	}; !slices.Equal(names, want) || files[0].Bytes != 5 || !strings.HasPrefix(files[0].SHA256, "5994471a") {
		t.Errorf("written: %+v; want %v", files, want)
	}
	seen, err := g.EndHeat(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	c := seen.Changes
	if c.Added != 1 || c.Changed != 2 || c.Removed != 1 || c.Rewritten != 1 || c.Bytes != 5+2+1 || c.StoreFiles != 2 ||
		c.StoreBytes != 3 {
		t.Errorf("changes %+v", c)
	}
	how := map[string]string{}
	for _, change := range c.List {
		how[change.Path] = change.How
	}
	want := map[string]string{
		"added.txt": result.Added, "changed.txt": result.Changed, "deep/er.txt": result.Changed,
		"removed.txt": result.Removed, "rewritten.txt": result.Rewritten,
	}
	for path, h := range want {
		if how[path] != h {
			t.Errorf("%s is %q; want %q", path, how[path], h)
		}
	}
	if len(how) != len(want) {
		t.Errorf("listed %v", how)
	}
}

// Nothing that happens in a workspace may reach an original through a link.
func TestLinksDoNotLeadOut(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "outside/ledger.txt", "ours", "in/real.txt", "real")
	for link, target := range map[string]string{
		"in/inner": "real.txt", "in/outer": filepath.Join(dir, "outside/ledger.txt"), "in/folder": "../outside",
		"in/lost": "nowhere",
	} {
		if err := os.Symlink(target, filepath.Join(dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	_, g := open(t, dir, "  workspace: in\n")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"inner", "outer", "folder/ledger.txt"} {
		if got := reading(t, filepath.Join(g.Dir(), path)); got == "no file" {
			t.Errorf("%s is not there", path)
		}
		write(t, g.Dir(), path, "theirs")
	}
	if target, err := os.Readlink(filepath.Join(g.Dir(), "inner")); err != nil || target != "real.txt" {
		t.Errorf("the inner link became %q, %v", target, err)
	}
	if got := reading(t, filepath.Join(dir, "outside/ledger.txt")) +
		reading(t, filepath.Join(dir, "in/real.txt")); got != "oursreal" {
		t.Errorf("originals were written: %q", got)
	}
}

func TestFixturesThatCannotBeLaidAreNamed(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "one/list", "1", "two/list", "2")
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	p := &plan.Plan{Dir: dir, Contenders: []plan.Contender{{Name: "a", Ground: plan.Ground{
		Place: plan.Place{Workspace: &plan.Workspace{From: plan.Lines{"one", "two"}, Fresh: plan.EveryHeat}},
	}}}}
	f, err := footing.Open(p, clock.Start())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.Begin(t.Context()); err == nil || !strings.Contains(err.Error(), "list stands in two of the fixtures") {
		t.Errorf("two files of one name: %v", err)
	}
}

func TestColdAndWarm(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "in/big.bin", strings.Repeat("0123456789abcdef", 1<<16), "in/.store/left", "x")
	_, g := open(t, dir, "  workspace: { from: in, fresh: run }\n  caches: [cold, warm]\n  stores: .store\n")
	store := filepath.Join(g.Dir(), ".store")

	if err := g.BeginHeat(t.Context(), plan.Cold, 1); err != nil {
		t.Fatal(err)
	}
	if err := g.BeforeRun(t.Context(), false); err != nil {
		t.Fatal(err)
	}
	if left, _ := os.ReadDir(store); len(left) != 0 {
		t.Errorf("a cold run finds %d files in its store", len(left))
	}
	seen, err := g.EndHeat(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	// Memory file systems keep their pages; then it has to be said.
	can := footing.Probe(t.Context(), filepath.Dir(g.Dir())).DropPages == ""
	if can != (seen.Check.ColdLeft < 0.05) {
		t.Errorf("pages can be dropped: %v, and yet %g are left", can, seen.Check.ColdLeft)
	}

	if err := g.BeginHeat(t.Context(), plan.Warm, 1); err != nil {
		t.Fatal(err)
	}
	for i, fill := range []bool{false, true} {
		if err := g.BeforeRun(t.Context(), i == 0); err != nil {
			t.Fatal(err)
		}
		if !fill {
			if err := os.RemoveAll(store); err != nil { // the priming run leaves nothing
				t.Fatal(err)
			}
		}
	}
	seen, err = g.EndHeat(t.Context())
	if err != nil || !slices.Equal(seen.Check.Unfilled, []string{".store"}) || seen.Check.WarmMissing > 0.05 {
		t.Errorf("a store that was not filled: %+v, %v", seen.Check, err)
	}
	if err := g.BeginHeat(t.Context(), plan.Warm, 2); err != nil {
		t.Fatal(err)
	}
	write(t, g.Dir(), ".store/kept", "1", "big.bin", "ruined")
	if err := g.BeforeRun(t.Context(), false); err != nil {
		t.Fatal(err)
	}
	if reading(t, filepath.Join(store, "kept")) != "1" || len(reading(t, filepath.Join(g.Dir(), "big.bin"))) != 1<<20 {
		t.Error("a warm run has lost its store, or found what the run before had left")
	}
}

func TestStepsRunWhereAndWhenTheyShould(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "in/x", "")
	log := filepath.Join(dir, "log")
	say := func(what string) string {
		return `'echo ` + what +
			` $PACEDUEL_CONTENDER $PACEDUEL_STATE $PACEDUEL_ROUND $(basename $PWD) >> $PACEDUEL_PLAN_DIR/log; echo told ` +
			what + ` oyster'`
	}
	text := "  workspace: in\n  before: { duel: " + say("d") + ", round: " + say("r") + ", heat: " + say("h") +
		", run: [" + say("one") + ", " + say("two") + "] }\n" +
		"  after: { duel: " + say("D") + ", round: " + say("R") + ", heat: " + say("H") + ", run: " + say("N") + " }\n"
	f, g := open(t, dir, text)
	done, err := f.Round(t.Context(), 7)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(
		g.BeginHeat(t.Context(), plan.AsFound, 7), g.BeforeRun(t.Context(), false), g.AfterRun(t.Context(), &shots.Shot{}),
	); err != nil {
		t.Fatal(err)
	}
	seen, err := g.EndHeat(t.Context())
	if err := errors.Join(err, done(t.Context()), f.End(t.Context())); err != nil {
		t.Fatal(err)
	}
	base, own := filepath.Base(dir), filepath.Base(g.Dir())
	want := "d 0 " + base + "\nr 7 " + base + "\nh a as found 7 " + own + "\none a as found 7 " + own +
		"\ntwo a as found 7 " + own + "\nN a as found 7 " + own +
		"\nH a as found 7 " + own + "\nR 7 " + base + "\nD 0 " + base + "\n"
	if got := reading(t, log); got != want {
		t.Errorf("steps wrote\n%s\nwant\n%s", got, want)
	}
	var when []string
	for _, c := range seen.Costs {
		when = append(when, c.When)
		if strings.HasPrefix(c.When, "before") && (!strings.HasPrefix(c.Said, "told ") || c.Took <= 0 || c.Times != 1) {
			t.Errorf("cost %+v", c)
		}
	}
	if want := []string{
		"heat", "before heat", "before run", "before run", "after run", "after heat",
	}; !slices.Equal(when, want) {
		t.Errorf("costs of %v; want %v", when, want)
	}
	if len(f.Costs) < 5 {
		t.Errorf("costs of duel and round: %+v", f.Costs)
	}
}

func TestAStepThatFailsSpeaksForItself(t *testing.T) {
	dir := t.TempDir()
	_, g := open(t, dir, "  before: { run: 'echo the sluice is shut >&2; exit 4' }\n")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	err := g.BeforeRun(t.Context(), false)
	var step *footing.StepError
	if !errors.As(err, &step) ||
		!strings.Contains(err.Error(), "before run: echo the sluice is shut >&2; exit 4: exit code 4: the sluice is shut") {
		t.Errorf("error %v", err)
	}
}

func TestWhatAStepLeavesRunningEndsWithItsScope(t *testing.T) {
	for name, line := range map[string]string{
		"in its group":            "sleep 600 >/dev/null 2>&1 & echo $! > pid",
		"in a session of its own": "setsid sleep 600 >/dev/null 2>&1 & echo $! > pid",
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			_, g := open(t, dir, "  before: { heat: '"+line+"' }\n")
			if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
				t.Fatal(err)
			}
			stat := sleeping(t, filepath.Join(dir, "pid"))
			if strings.Contains(reading(t, stat), ") Z ") {
				t.Fatal("it does not go on during the heat")
			}
			if _, err := g.EndHeat(t.Context()); err != nil {
				t.Fatal(err)
			}
			gone(t, stat)
		})
	}
}

// sleeping waits until the process whose number is in a file is the program that it was to become, and names the file
// that tells of it.
func sleeping(t *testing.T, file string) (stat string) {
	t.Helper()
	stat = "/proc/" + strings.TrimSpace(reading(t, file)) + "/stat"
	for range 5000 {
		if strings.Contains(reading(t, stat), "(sleep)") {
			return stat
		}
		time.Sleep(time.Millisecond)
	}
	t.Fatalf("there is no sleep: %s", reading(t, stat))
	return ""
}

// gone waits until a process has ended.
func gone(t *testing.T, stat string) {
	t.Helper()
	for range 5000 {
		if text := reading(t, stat); text == "no file" || strings.Contains(text, ") Z ") {
			return
		}
		time.Sleep(time.Millisecond)
	}
	t.Errorf("it is there still: %s", reading(t, stat))
}

func TestAnInterruptEndsAStep(t *testing.T) {
	_, g := open(t, t.TempDir(), "  before: { heat: 'sleep 600' }\n  idle: 10m\n")
	for name, do := range map[string]func(context.Context) error{
		"a step":    func(ctx context.Context) error { return g.BeginHeat(ctx, plan.AsFound, 1) },
		"idle time": func(ctx context.Context) error { return g.BeforeRun(ctx, false) },
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		if err := do(ctx); !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("%s: %v", name, err)
		}
		cancel()
	}
}

// Workspaces go with their run; those of a run that was killed are removed by the next.
func TestNothingIsLeftBehind(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "in/x", "1")
	f, g := open(t, dir, "  workspace: in\n")
	base := filepath.Dir(g.Dir())
	place := filepath.Dir(base)
	stale := filepath.Join(place, "paceduel-0101-0000-x")
	write(t, stale, "lock", "", "1-a/x", "")
	if err := os.Chmod(filepath.Join(stale, "1-a"), 0o500); err != nil {
		t.Fatal(err)
	}
	other, err := footing.Open(&plan.Plan{Dir: dir, Contenders: []plan.Contender{
		{Name: "z", Ground: plan.Ground{Place: plan.Place{Workspace: &plan.Workspace{From: plan.Lines{"in"}}}}},
	}}, clock.Start())
	if err != nil {
		t.Fatal(err)
	}
	if reading(t, filepath.Join(stale, "lock")) != "no file" {
		t.Error("what a killed run left is there still")
	}
	if reading(t, filepath.Join(g.Dir(), "x")) != "1" {
		t.Error("a run that goes on has lost its workspace to another")
	}
	other.Close()
	f.Close()
	if left, _ := os.ReadDir(place); len(left) != 0 {
		t.Errorf("%d folders are left", len(left))
	}
}

func TestWhatTheMachineCannotDoIsSaid(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	p := &plan.Plan{Footing: plan.Footing{
		OwnCPUs: plan.CPUs{1000},
	}, Contenders: []plan.Contender{{Name: "a", Ground: plan.Ground{Place: plan.Place{CPUs: plan.CPUs{0, 1001}}}}}}
	f, err := footing.Open(p, clock.Start())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	cannot, err := f.Begin(t.Context())
	if err != nil || len(cannot) != 2 || !strings.HasPrefix(
		cannot[0], "Pace Duel cannot be kept to processors 1000: this machine has ",
	) || !strings.HasPrefix(cannot[1], "a cannot be kept to processors 0,1001") {
		t.Errorf("cannot: %q, %v", cannot, err)
	}
}

func TestStepsAreListedInTheirOrder(t *testing.T) {
	src := "duel: x\nbaseline: a\ncourse: { stub: { takes: 1ms } }\ncontenders: { a: , b: }\npace: { repeat: 3 }\n" +
		"footing: { workspace: { from: ., fresh: run }, caches: [cold, warm], stores: s, idle: 2s, before: { duel: A, " +
		"round: B, heat: C, run: D }, after: { run: E } }\n"
	p, err := read.Plan("x.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
	if err != nil {
		t.Fatal(err)
	}
	list := func(s plan.State) string {
		var out []string
		for _, c := range footing.Steps(p, &p.Contenders[0], s) {
			out = append(out, c.When+": "+c.What)
		}
		return strings.Join(out, "\n")
	}
	cold := "before duel: A\nduel: first copy of .\nbefore round: B\nbefore heat: C\nrun: fresh copy of .\nbefore run: " +
		"D\nrun: empty s\nrun: drop pages of the workspace\nrun: nothing for 2s\ntimed: wait 1ms\nafter run: E"
	if got := list(plan.Cold); got != cold {
		t.Errorf("cold:\n%s\nwant\n%s", got, cold)
	}
	if got := list(plan.Warm); !strings.Contains(got, "before run: D\nrun: read pages of the workspace\n") ||
		strings.Contains(got, "drop") || strings.Contains(got, "empty") {
		t.Errorf("warm:\n%s", got)
	}
}

// What was set up is taken down after an interrupt, too.
func TestStepsAfterwardsSurviveAnInterrupt(t *testing.T) {
	dir := t.TempDir()
	f, g := open(t, dir, "  after: { round: 'echo round >> log', heat: 'echo heat >> log', run: 'echo run >> log' }\n")
	ctx, cancel := context.WithCancel(t.Context())
	done, err := f.Round(ctx, 1)
	if err := errors.Join(err, g.BeginHeat(ctx, plan.AsFound, 1), g.BeforeRun(ctx, false)); err != nil {
		t.Fatal(err)
	}
	cancel()
	if err := g.AfterRun(ctx, &shots.Shot{}); err != nil {
		t.Error(err)
	}
	if _, err := g.EndHeat(ctx); err != nil {
		t.Error(err)
	}
	if err := done(ctx); err != nil {
		t.Error(err)
	}
	if got := reading(t, filepath.Join(dir, "log")); got != "run\nheat\nround\n" {
		t.Errorf("steps afterwards wrote %q", got)
	}
}
