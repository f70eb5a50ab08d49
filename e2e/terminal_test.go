package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// terminal is the program in a tmux window of its own server.
type terminal struct {
	t      testing.TB
	socket string
	h      home
}

// patience is how long a screen may take to show what it must; a loaded machine is slow.
const patience = 2 * time.Minute

func openTerminal(t testing.TB, h home, w, height int, args ...string) *terminal {
	t.Helper()
	if os.Getenv(withoutTerminal) != "" {
		t.Skip("left out knowingly: " + withoutTerminal + " is set")
	}
	term := &terminal{t, filepath.Join(h.dir, "tmux.sock"), h}
	line := fmt.Sprintf("cd %s && %s %s; echo ended with $?; exec sleep 1000", h.dir, program, strings.Join(args, " "))
	cmd := exec.Command(
		"tmux", "-S", term.socket, "-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(height),
		line,
	)
	cmd.Env = h.env
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("tmux: %v: %s", err, out)
	}
	t.Cleanup(func() { exec.Command("tmux", "-S", term.socket, "kill-server").Run() })
	return term
}

func (term *terminal) tmux(args ...string) string {
	term.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", term.socket}, args...)...).CombinedOutput()
	if err != nil {
		term.t.Fatalf("tmux %v: %v: %s", args, err, out)
	}
	return string(out)
}

func (term *terminal) press(keys ...string) {
	term.t.Helper()
	term.tmux(append([]string{"send-keys"}, keys...)...)
}

// wait waits until the screen shows every part, and returns it.
func (term *terminal) wait(parts ...string) string {
	term.t.Helper()
	return term.until(func(text string) (missing string) {
		for _, p := range parts {
			if !holds(text, p) {
				missing = p
			}
		}
		return missing
	})
}

// until waits until nothing is missing from the screen any more, and returns it.
func (term *terminal) until(missing func(text string) string) string {
	term.t.Helper()
	deadline := time.Now().Add(patience)
	for {
		text := term.tmux("capture-pane", "-p")
		what := missing(text)
		if what == "" {
			return text
		}
		if time.Now().After(deadline) {
			term.t.Fatalf("the screen does not show %q:\n%s", what, text)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// The way of a newcomer: start the demo, run the duel, see the verdict, save a picture, leave.
func TestTheDemoOnScreen(t *testing.T) {
	h := newHome(t)
	term := openTerminal(t, h, 142, 42, "demo")
	term.wait("pace duel", "Berth board", "Manifest packer", "start the duel enter", "Does one joined query")
	term.press("Enter")
	term.wait("▸rounds", "Round 1 of 10", "running order", "halt and keep")
	// Resized in mid-run, down to the least window, below it, and back; nothing of the size before is left.
	for _, size := range []struct{ w, h int }{{80, 24}, {60, 10}, {142, 42}} {
		term.tmux("resize-window", "-x", fmt.Sprint(size.w), "-y", fmt.Sprint(size.h))
		if size.w < 80 {
			term.wait("This window is 60x10;", "Pace Duel needs 80x24", "The duel goes on.")
			continue
		}
		term.until(func(text string) string {
			lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
			switch {
			case len(lines) != size.h || !strings.Contains(lines[size.h-1], "quit"):
				return "the keys in the last line"
			case !strings.Contains(lines[1], "▸rounds") || strings.Count(text, "footing ─") != 1:
				return "one trail, in the second line"
			case strings.Count(text, "running order") != 1:
				return "one running order"
			}
			return ""
		})
	}
	term.press("w")
	term.wait("first touch", "application/json", "All passed the weigh-in")
	term.press("r")
	term.wait("Round 3 of 10") // the whole of it is run headless
	term.press("h")
	term.wait("!rounds", "✓verdict", "snapshot", "throughput", "p50")
	term.press("s")
	term.wait("saved berth-board-")
	saved, err := filepath.Glob(filepath.Join(h.dir, "berth-board-*.svg"))
	if err != nil || len(saved) != 1 {
		t.Errorf("saved %v, %v; want one SVG", saved, err)
	}
	term.press("x")
	term.wait("▲ per-vessel", "baseline", "p99")
	term.press("x")
	term.wait("Half of the shots take up to", "up to it", "longer")
	term.press("z", "Left", "o")
	term.wait("% of the scale in view")
	term.press("x", "BSpace")
	term.wait("share that takes longer, log scale", "100 %")
	term.press("x", "Down")
	term.wait("stakes", "cautions", "interrupted: ", "closed model", "see where it shows enter")
	term.tmux("resize-window", "-x", "80", "-y", "24")
	term.wait("stakes", "servers like this machine for 9 000/s")
	term.press("x")
	term.wait("p50", "throughput")
	term.tmux("resize-window", "-x", "142", "-y", "42")
	term.press("l")
	term.wait("1 run, 0 of them to the end", "Berth board")
	term.press("a", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down")
	term.wait("Manifest packer asks stream against gather")
	term.press("q")
	term.wait("ended with 0")
}

// The demo's agents are called for by the duel that wants them: they stand on the footing, and drive.
func TestTheDemosAgentsOnScreen(t *testing.T) {
	beside(t)
	h := newHome(t)
	term := openTerminal(t, h, 142, 42, "demo")
	term.wait("26 duels in the demo harbour")
	term.press("Down")
	term.wait("Board from afar asks joined against per-vessel")
	term.press("Enter")
	term.wait("round 2 of 10")
	term.press("f")
	term.wait("driven by the agents at near and far", "roadstead   far", "quayside    near", "within")
	term.press("r", "b")
	term.wait("by agent")
	term.press("h")
	term.wait("!rounds")
	term.press("q")
	term.wait("ended with 0")
}

// An interrupt in mid-run: the heats are in the log, also for the next start.
func TestAnInterruptOnScreen(t *testing.T) {
	h := newHome(t)
	h.write(t, "long.duel.yaml", longRun)
	term := openTerminal(t, h, 100, 30, "open", ".")
	term.wait("Long asks b against a", "not run yet")
	term.press("Enter")
	term.wait("Round 2 of 100")
	term.press("Space")
	term.wait("Paused after", "space has it go on")
	term.press("z")
	term.wait("by the clock", "longest", "this machine")
	term.press("BSpace", "Space")
	term.wait("is on,")
	term.press("C-c")
	term.wait("A duel is on.", "esc  go on")
	term.press("Escape")
	term.wait("halt and keep")
	term.press("h")
	term.wait("!rounds", "caution", "ended early")
	term.press("Enter", "q")
	term.wait("ended with 0")

	again := openTerminal(t, home{t.TempDir(), h.env}, 100, 30, "open", h.dir)
	again.wait("Long asks b against a", "interrupted after")
	again.press("l")
	again.wait("interrupted,", "heats kept")
	again.press("Enter")
	again.wait("ladder", "ended early")
	again.press("x", "x", "x")
	again.wait("interrupted:", "rounds are complete")
	again.press("q")
	again.wait("ended with 0")
}

// Without a plan, on screen; and colour left out when asked.
func TestBetweenOnScreen(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.env = append(h.env, "NO_COLOR=yes")
	h.write(t, "manifest.txt", strings.Repeat("0001;Brave Petrel;salt cod\n", 5000))
	term := openTerminal(t, h, 120, 35, "between", "'gzip -1 -c manifest.txt'", "'cat manifest.txt'")
	term.wait("running order")
	term.wait("✓verdict", "cat is", "CPU/run")
	if coloured := term.tmux("capture-pane", "-p", "-e"); strings.Contains(coloured, "\x1b[38") {
		t.Error("there are colours although NO_COLOR is set")
	}
	term.press("C-s")
	term.wait("the plan is in")
	if kept, _ := filepath.Glob(filepath.Join(h.dir, "*.duel.yaml")); len(kept) != 1 {
		t.Errorf("kept plans: %v", kept)
	}
	term.press("q")
	term.wait("ended with 0")
}

// A plan is edited in the user's editor, read again, and its trouble shown at its line; then mended the same way.
func TestEditingOnScreen(t *testing.T) {
	h := newHome(t)
	h.write(t, "count.duel.yaml", quick)
	h.write(
		t, "editor",
		"#!/bin/sh\nif grep -q repeet \"$1\"; then sed -i 's/repeet/repeat/' \"$1\"; else sed -i 's/repeat/repeet/' "+
			"\"$1\"; fi\n",
	)
	if err := os.Chmod(filepath.Join(h.dir, "editor"), 0o755); err != nil {
		t.Fatal(err)
	}
	h.env = append(h.env, "VISUAL=", "EDITOR="+filepath.Join(h.dir, "editor"))
	term := openTerminal(t, h, 120, 35, "open", ".")
	term.wait("Count asks long against short")
	term.press("e")
	term.wait(
		"count.duel.yaml cannot be run as it is", "line 6, column 9", `unknown key "repeet" in pace`,
		`did you mean "repeat"?`,
	)
	term.press("e")
	term.wait("Count asks long against short", "read ")
	term.press("n")
	term.wait("what is to be found out?", "two commands: which is faster?", "how fast it starts")
	term.press("Down", "Enter")
	term.wait("who stands against whom?")
	term.press("-l", "quick law")
	term.press("Tab", "Tab", "Tab")
	term.press("-l", "sleep 0.01")
	term.press("Tab")
	term.press("-l", "sleep 0.02")
	term.press("C-s")
	term.wait("2 duels", "quick law asks challenger against baseline", "wrote ")
	term.press("d", "d")
	term.wait("1 duel in", "deleted ")
	term.press("q")
	term.wait("ended with 0")
}

// The first minute: an empty folder, two lines, a verdict, a plan to keep.
func TestTheFirstMinute(t *testing.T) {
	h := newHome(t)
	term := openTerminal(t, h, 142, 42)
	term.wait("What stands against what?", "try both enter")
	term.press("-l", "sleep 0.02")
	term.press("Tab")
	term.press("-l", "slep 0.01")
	term.press("Enter")
	term.wait("exit code 0 in ", "no such program on PATH", "did you mean sleep?")
	term.press("C-u")
	term.press("-l", "sleep 0.01")
	term.press("Enter")
	term.wait("Both were tried. Enter runs 10 rounds", "They answer the same", "start the duel")
	term.press("Enter")
	term.wait("✓verdict", "sleep 0.01 is ", "faster than sleep 0.02")
	term.press("C-s")
	term.wait("the plan is in ")
	term.press("q")
	term.wait("ended with 0")
}

func TestASavedFileOpensInEveryView(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "count.duel.yaml", quick)
	h.run(t, "run", "count.duel.yaml", "--json", "out.json").says(t, 0)
	term := openTerminal(t, h, 110, 32, "open", "out.json")
	term.wait("long is", "in the mean", "✓verdict")
	term.press("r")
	term.wait("All 16 heats are done", "running order", "p50")
	term.press("w")
	term.wait("All passed the weigh-in", "exit code 0")
	term.press("?")
	term.wait("Keys of weigh-in", "Everywhere")
	term.press("q")
	term.wait("ended with 0")
}

// Footing and weigh-in on screen: what will be done, what it cost, what the answers are, looked for and saved.
func TestFootingOnScreen(t *testing.T) {
	h := newHome(t)
	h.write(t, "yard/manifest.json", `{"holds":[{"cargo":"salt cod"},{"cargo":"timber"}]}`)
	h.write(t, "yard.duel.yaml", `duel: Yard
baseline: whole
contenders:
  whole: { command: { run: [cat, manifest.json], stdout: pipe } }
  part: { command: { shell: "echo x >> log; head -c 30 manifest.json", stdout: pipe } }
pace: { repeat: 2 }
rounds: 2
footing: { workspace: { from: yard, fresh: run }, caches: [cold, warm] }
`)
	term := openTerminal(t, h, 142, 42, "open", ".")
	term.wait("Yard asks part against whole")
	term.press("f")
	term.wait(
		"what Yard will do around each run", "fresh copy of yard", "drop pages of the workspace", "the run itself",
		"this machine", "processors for us",
	)
	term.press("a", "Enter")
	term.wait("✓verdict", "mean cold", "mean warm")
	term.press("f")
	term.wait("went into their footing", "1 file, 51 B", "1 file added")
	term.press("w")
	term.wait("part did not answer as whole did", "ships 1.70x the bytes of part", "holds[].cargo", "1 file added")
	term.press("/")
	term.wait("look for")
	term.press("-l", "timber")
	term.press("Enter")
	term.wait("›", `"cargo": "timber"`)
	term.press("s")
	term.wait("saved yard-", "and 3 more", "whole")
	term.press("q")
	term.wait("ended with 0")
}

// What services are about while a run is on, and afterwards how they came up and what they held.
func TestServicesOnScreen(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "lamps.duel.yaml", `duel: Lamps
baseline: slow
course: { command: { run: [sleep, "0.02"] } }
contenders:
  slow: { service: { shell: "echo kindling; sleep 0.4; echo lit with 7 wicks; sleep 600", ready: { line: lit }, marks: { wicks: { pattern: "with ([0-9]+)", unit: wicks } } } }
  quick: { service: { shell: "echo lit; sleep 600", ready: { line: lit } } }
pace: { repeat: 8 }
rounds: 6
rungs: [start, first answer, mean]
`)
	term := openTerminal(t, h, 142, 42, "open", ".")
	term.wait("Lamps asks quick against slow")
	term.press("Enter")
	term.wait("▸rounds", "starting", "service messages")
	term.press("m")
	term.wait("its service slow: ", "kindling", "ready, ")
	term.wait("✓verdict", "quick is", "first answer", "memory at rest")
	term.press("y")
	term.wait("✓why", "6 starts", "ready", "it tells wicks 7 wicks", "first output")
	term.press("z", "s")
	term.wait("saved lamps-start-")
	term.press("x")
	term.wait("holds", "at rest", "under load", "afterwards")
	term.press("z", "z", "Right", "s")
	term.wait("saved lamps-memory-")
	term.tmux("resize-window", "-x", "80", "-y", "24")
	term.wait("start", "memory", "at rest")
	term.press("q")
	term.wait("ended with 0")
}
