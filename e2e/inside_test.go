package e2e

import (
	"bufio"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"paceduel/core/result"
	"paceduel/harbour"
)

// What happens inside a shot: legs of a page, and spans of a service that tells of itself, measured, said, shown and
// saved.
func TestTheInsideOfShots(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.run(t, "harbour", "lay", ".").says(t, 0)
	h.env = append(h.env, "PACEDUEL="+program)
	o := h.run(t, "run", "inside-the-service.duel.yaml", "--rounds", "2", "--set", "pace.for=300ms", "--json", "out.json")
	o.says(t, 1, "inside a shot", "look up vessel, look up berth and look up tide, one after another", "select vessel",
		"told \"select vessel\" times over 20: undecided")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.Heats {
		h := &r.Heats[i]
		if h.Traced == nil || h.Traced.Sampled == 0 || h.Traced.Lost > 0 || h.Traced.Late > 0 || h.Inside == nil {
			t.Errorf("round %d of %s: %+v", h.Round, h.Contender, h.Traced)
		}
	}
	h.run(t, "export", "out.json", "--to", "pictures").says(t, 0, "-inside-", "-moved-")

	term := openTerminal(t, h, 142, 42, "open", "out.json")
	term.wait("✓verdict", "in-turn", "at-once", "board")
	term.press("y")
	term.wait("inside", "GET /page", "  look up vessel", "━━━", "of the path", "at 0 s:")
	term.press("N")
	term.wait("▲ in-turn baseline  p50 ")
	term.press("N", "N", "N", "N", "D", "D")
	term.wait("GET /page", "+")
	term.until(func(text string) string {
		if strings.Contains(text, "look up vessel  ") {
			return "no steps within the page"
		}
		return ""
	})
	term.press("s")
	term.wait("saved inside-the-service-inside-")
	term.press("x")
	term.wait("moved", "in all", "still open")
	term.press("q")
	term.wait("ended with 0")
}

// A shot of several requests, in one order and the other, against a service of the demo.
func TestAPageInLegs(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.run(t, "harbour", "lay", ".").says(t, 0)
	h.env = append(h.env, "HARBOUR="+serveHarbour(t, h))
	o := h.run(t, "run", "page-of-a-vessel.duel.yaml", "--rounds", "2", "--set", "pace.for=300ms", "--json", "out.json")
	o.says(t, 1, "requests a shot", "vessel, berth and tide wait for each other, ", "and need not",
		"at-once does that and takes")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Failed() > 0 || h.Inside == nil || !h.Inside.Known || len(h.Inside.Steps) != 3 {
			t.Errorf("round %d of %s: %+v", h.Round, h.Contender, h.Inside)
		}
	}
}

// Lines with a time show what happens inside a program that knows nothing of us.
func TestTheLinesExample(t *testing.T) {
	beside(t)
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("LEFT OUT: python3 is not installed here")
	}
	h, dir := newHome(t), examples(t)
	h.run(t, "harbour", "lay", filepath.Join(dir, "data")).says(t, 0)
	o := h.run(t, "run", filepath.Join(dir, "lines.duel.yaml"), "--rounds", "5", "--set", "pace.repeat=1",
		"--json", "out.json")
	o.says(t, 0, "inside a shot", "- insert takes ", "sort takes less for sort", "at most 50% that of insert: upheld")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.Heats { // how much of the whole they are is the machine's affair: an interpreter starts first
		h, told := &r.Heats[i], []string(nil)
		for _, s := range h.Inside.Steps {
			told = append(told, s.Name)
		}
		slices.Sort(told)
		if want := []string{"load", "pack", "sort", "split"}; !slices.Equal(told, want) {
			t.Errorf("round %d of %s tells %v, want %v", h.Round, h.Contender, told, want)
		}
	}
}

// serveHarbour starts the harbour's service as a process of its own, and returns where it answers.
func serveHarbour(t *testing.T, h home) string {
	t.Helper()
	serve := exec.Command(program, "harbour", "serve", "--listen", "127.0.0.1:0")
	serve.Dir, serve.Env = h.dir, h.env
	out, err := serve.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		serve.Process.Signal(syscall.SIGTERM)
		serve.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	url, ok := harbour.ReadAnnouncement(line)
	if err != nil || !ok {
		t.Fatalf("the harbour said %q, %v", line, err)
	}
	return url
}
