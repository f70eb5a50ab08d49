package footing_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/footing"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/shots"
	"paceduel/internal/sample"
)

// board is the test's service, run by the test binary itself: it answers on PORT with the number of its process.
func board(how string) {
	switch how {
	case "breaks":
		fmt.Println("the slipway is blocked")
		os.Exit(3)
	case "stubborn":
		signal.Ignore(syscall.SIGTERM)
	case "never":
		fmt.Println("still thinking")
		select {}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, os.Getpid()) })
	mux.HandleFunc("/die", func(http.ResponseWriter, *http.Request) {
		fmt.Println("struck a rock")
		os.Exit(9)
	})
	if path := os.Getenv("NOTIFY_SOCKET"); path != "" && how != "mute" {
		if conn, err := net.Dial("unixgram", path); err == nil {
			fmt.Fprint(conn, "STATUS=rigging\n")
			fmt.Fprint(conn, "STATUS=afloat\nREADY=1\n")
			conn.Close()
		}
	}
	fmt.Println("open on", os.Getenv("PORT"))
	os.WriteFile("ready", nil, 0o644)
	http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), mux)
	os.Exit(1)
}

// serving opens a footing whose contender a has the board as a service, with more keys of it in rest.
func serving(t *testing.T, how, rest string) (*footing.Footing, *footing.Ground) {
	t.Helper()
	return servingAfter(t, "", how, rest)
}

// servingAfter is serving with shell commands before the board.
func servingAfter(t *testing.T, before, how, rest string) (*footing.Footing, *footing.Ground) {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	src := "duel: Board\nbaseline: a\ncourse: { stub: { takes: 1us } }\npace: { repeat: 3 }\ncontenders:\n  b:\n  a: { " +
		"service: { shell: '" + before + "exec " + self + " ${PORT}', env: { FOOTING_BOARD: " + how + " }" + rest + " } }\n"
	p, err := read.Plan(filepath.Join(t.TempDir(), "p.duel.yaml"), []byte(src), read.Options{
		Kinds: []plan.Kind{sample.Stub().Kind}, Lookup: func(string) (string, bool) { return "", false },
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

// ask is what the board of g answers; empty when nobody does.
func ask(g *footing.Ground, path string) string {
	answer, err := http.Get("http://127.0.0.1:" + g.Port() + path)
	if err != nil {
		return ""
	}
	defer answer.Body.Close()
	body, _ := io.ReadAll(answer.Body)
	return string(body)
}

func TestAServiceIsFreshOrKept(t *testing.T) {
	for fresh, want := range map[string]string{
		"run": "ABCDEFGH", "heat": "AABBCCDD", "round": "AAAABBBB", "duel": "AAAAAAAA",
	} {
		t.Run(fresh, func(t *testing.T) {
			f, g := serving(t, "answers", ", fresh: "+fresh)
			names := map[string]string{}
			got := ""
			heat := func(round, runs int) {
				if err := g.BeginHeat(t.Context(), plan.AsFound, round); err != nil {
					t.Fatal(err)
				}
				for range runs {
					if err := g.BeforeRun(t.Context(), false); err != nil {
						t.Fatal(err)
					}
					pid := ask(g, "/")
					if names[pid] == "" {
						names[pid] = string(rune('A' + len(names)))
					}
					got += names[pid]
					if err := g.AfterRun(t.Context(), &shots.Shot{}); err != nil {
						t.Fatal(err)
					}
				}
				if _, err := g.EndHeat(t.Context()); err != nil {
					t.Fatal(err)
				}
			}
			heat(0, 0) // as at the weigh-in
			for round := range 2 {
				done, err := f.Round(t.Context(), round+1)
				if err != nil {
					t.Fatal(err)
				}
				heat(round+1, 2)
				heat(round+1, 2)
				if err := done(t.Context()); err != nil {
					t.Fatal(err)
				}
			}
			if err := f.End(t.Context()); err != nil {
				t.Fatal(err)
			}
			if got != want || names[""] != "" {
				t.Errorf("runs met services %s (%v); want %s", got, names, want)
			}
			if pid := ask(g, "/"); pid != "" {
				t.Errorf("service %s is there after the duel", pid)
			}
		})
	}
}

func TestWaysToBeReady(t *testing.T) {
	for _, way := range []string{
		"", ", ready: { url: 'http://127.0.0.1:${PORT}/x', status: 200 }", ", ready: { line: '^open on [0-9]+$' }",
		", ready: { file: ready }", ", ready: { notify: true }",
	} {
		_, g := serving(t, "answers", way)
		if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
			t.Errorf("ready%s: %v", way, err)
		}
		seen, err := g.EndHeat(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if len(seen.Costs) != 2 || !strings.HasPrefix(seen.Costs[0].Said, "ready in ") ||
			seen.Costs[1].Said != "ended at TERM" {
			t.Errorf("ready%s: costs %+v", way, seen.Costs)
		}
	}
}

func TestAServiceThatFailsSpeaksForItself(t *testing.T) {
	for how, want := range map[string]string{
		"breaks": "ended (exit code 3): the slipway is blocked",
		"never":  "was not ready after 300ms (its port accepts): still thinking",
		"mute":   "was not ready after 300ms (it says READY=1): open on",
	} {
		rest := ", limit: 300ms"
		if how == "mute" {
			rest += ", ready: { notify: true }"
		}
		_, g := serving(t, how, rest)
		err := g.BeginHeat(t.Context(), plan.AsFound, 1)
		var service *footing.ServiceError
		if !errors.As(err, &service) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", how, err, want)
		}
	}
}

func TestAServiceThatWillNotEndIsKilled(t *testing.T) {
	_, g := serving(t, "stubborn", ", stop: { grace: 50ms }")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	seen, err := g.EndHeat(t.Context())
	if err != nil || seen.Costs[1].Said != "killed after 50ms" {
		t.Errorf("costs %+v, %v", seen.Costs, err)
	}
}

// What a service started in a session of its own ends with it, so that the next one finds its place free.
func TestWhatLeftAServicesGroupEndsWithIt(t *testing.T) {
	file := filepath.Join(t.TempDir(), "pid")
	_, g := servingAfter(t, "setsid sleep 600 >/dev/null 2>&1 & echo $! > "+file+"; ", "answers", "")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	stat := sleeping(t, file)
	if _, err := g.EndHeat(t.Context()); err != nil {
		t.Fatal(err)
	}
	if text := reading(t, stat); text != "no file" {
		t.Errorf("it is there still: %s", text)
	}
}

func TestAServiceThatDiesEndsItsHeat(t *testing.T) {
	_, g := serving(t, "answers", ", fresh: duel")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	first := ask(g, "/")
	ctx, release := g.Watched(t.Context())
	ask(g, "/die")
	select {
	case <-ctx.Done():
	case <-time.After(10 * time.Second):
		t.Fatal("nobody noticed")
	}
	if err := release(false); err == nil || !strings.Contains(err.Error(), "ended (exit code 9)") ||
		!strings.Contains(err.Error(), "struck a rock") {
		t.Errorf("why it died: %v", err)
	}
	if _, err := g.EndHeat(t.Context()); err != nil {
		t.Fatal(err)
	}
	// The next heat gets another.
	if err := g.BeginHeat(t.Context(), plan.AsFound, 2); err != nil || ask(g, "/") == first {
		t.Errorf("after its death: %v", err)
	}
	ctx, release = g.Watched(t.Context())
	if err := release(false); err != nil || ctx.Err() != context.Canceled {
		t.Errorf("a service that lives is released with %v", err)
	}
	if _, err := g.EndHeat(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// A service that is fresh for the heat starts on the state of caches that the heat is run in, prepared before.
func TestAServiceStartsColdOrWarm(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	write(t, dir, "yard/tables", strings.Repeat("tide", 50_000), "yard/cache/old", "x")
	src := "duel: Board\nbaseline: a\ncourse: { stub: { takes: 1us } }\npace: { repeat: 3 }\nfooting: { workspace: { " +
		"from: yard }, stores: cache, caches: [cold, warm] }\ncontenders:\n  b:\n" +
		"  a: { service: { prepare: 'ls cache > prepared', shell: 'cat tables > /dev/null; echo open; exec sleep 100', " +
		"ready: { line: open } } }\n"
	p, err := read.Plan(filepath.Join(dir, "p.duel.yaml"), []byte(src), read.Options{
		Kinds: []plan.Kind{sample.Stub().Kind},
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
	var stages []footing.Stage
	f.OnService = func(n footing.News) { stages = append(stages, n.Stage) }
	g := f.Of("a")
	for state, want := range map[plan.State]string{
		plan.Cold: "fresh copy of yard, empty cache, drop pages of the workspace, ls cache > prepared, start ",
		plan.Warm: "fresh copy of yard, read pages of the workspace, ls cache > prepared, start ",
	} {
		if err := g.BeginHeat(t.Context(), state, 1); err != nil {
			t.Fatal(err)
		}
		seen, err := g.EndHeat(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		var did []string
		for _, c := range seen.Costs {
			did = append(did, c.What)
		}
		if got := strings.Join(did, ", "); !strings.HasPrefix(got, want) {
			t.Errorf("%s: did %s; want %s", state, got, want)
		}
		if len(seen.Starts) != 1 || seen.Starts[0].Prepared <= 0 || seen.Starts[0].Output <= 0 ||
			seen.Starts[0].Output > seen.Starts[0].Ready {
			t.Errorf("%s: starts %+v", state, seen.Starts)
		}
		var listed []string
		for _, c := range footing.Steps(p, &p.Contenders[1], state) {
			listed = append(listed, c.What)
		}
		if got := strings.Join(listed, ", "); !strings.Contains(got, want) {
			t.Errorf("%s: lists %s; want %s", state, got, want)
		}
	}
	if want := []footing.Stage{
		footing.Preparing, footing.Starting, footing.Ready, footing.Stopping, footing.Stopped,
	}; !slices.Equal(stages[:5], want) {
		t.Errorf("stages %v; want %v", stages, want)
	}
}

// A service finds where it stands in PWD.
func TestWhereAServiceStands(t *testing.T) {
	t.Setenv("PWD", t.TempDir())
	_, g := servingAfter(t, `echo "$PWD" > where; `, "answers", "")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	if got := strings.TrimSpace(reading(t, filepath.Join(g.Dir(), "where"))); got != g.Dir() {
		t.Errorf("PWD is %q; want %q", got, g.Dir())
	}
	if _, err := g.EndHeat(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// A process that left its service's group and holds the service's output does not hold up its end.
func TestOutputThatIsHeldOpen(t *testing.T) {
	// It answers once the other has left: one that is still in its group ends with that.
	left := "setsid --fork sh -c \"echo \\$\\$ >left; exec env -i /bin/sleep 95.4321\"; " +
		"until [ -s left ] && grep -q sleep /proc/$(cat left)/comm; do :; done; "
	_, g := servingAfter(t, left, "answers", ", stop: { grace: 1ms }")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	var seen footing.Seen
	go func() {
		var err error
		seen, err = g.EndHeat(t.Context())
		ended <- err
	}()
	select {
	case err := <-ended:
		if err != nil || seen.Strays != 1 {
			t.Errorf("the heat ended with %v and %d strays; want the one that was left", err, seen.Strays)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("the heat does not end while somebody holds the output of its service")
	}
}
