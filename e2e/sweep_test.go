package e2e

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/judge"
	"paceduel/core/result"
)

// overTurns is a sweep in which counting up to n takes ever longer, and counting up to 6 000 does not: whoever counts
// turns over between 1 000 and 40 000.
const overTurns = `duel: Turns
question: From how many turns on does a set number pay?
baseline: counted
contenders:
  counted: { command: { shell: "i=0; while [ $i -lt {{turns}} ]; do i=$((i+1)); done" } }
  set: { command: { shell: "i=0; while [ $i -lt 6000 ]; do i=$((i+1)); done" } }
sweep: { over: { turns: [100, 1000, 40000] } }
pace: { repeat: 1, warmup: 0 }
rounds: 8
claims: [counted at turns=100 at least 1.1x faster than set]
`

func TestASweepFromEndToEnd(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "turns.duel.yaml", overTurns)
	h.run(t, "check", "turns.duel.yaml").says(t, 0, "at turns 100", "at turns 40000", "a run takes")
	o := h.run(t, "run", "turns.duel.yaml", "--json", "out.json")
	o.says(
		t, 0, "8 rounds of 3 points", "heat 48 of 48", "counted, turns 1000", "In the mean, counted is fastest",
		"mean, turns", "together at 95 %", "counted at turns=100 at least 1.1x faster than set: upheld",
	)
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil || r.Sweep == nil || len(r.Heats) != 48 {
		t.Fatalf("the result file: %v", err)
	}
	s, err := judge.JudgeSweep(r)
	if err != nil || !strings.Contains(o.out, strings.Fields(s.Sentence)[3]) {
		t.Errorf("judged again: %q, %v", s.Sentence, err)
	}
	h.run(t, "log").says(t, 0, r.ID, "counted is fastest")
	h.run(t, "show", r.ID).says(t, 0, "mean, turns", "claims")

	// it goes on under its name
	h.run(t, "run", "turns.duel.yaml", "--go-on", r.ID).says(t, 2, "has the 8 rounds of the plan already", "--rounds 18")
	h.run(t, "run", "turns.duel.yaml", "--go-on", r.ID, "--rounds", "9", "--json", "on.json").says(t, 0, "heat 54 of 54")
	more, err := result.ReadFile(filepath.Join(h.dir, "on.json"))
	if err != nil || more.ID != r.ID || len(more.Heats) != 54 || len(more.Sittings) != 1 {
		t.Fatalf("gone on with: %d heats, %v", len(more.Heats), err)
	}
	h.write(t, "other.duel.yaml", strings.Replace(overTurns, "-lt 6000", "-lt 7000", 1))
	h.run(t, "run", "other.duel.yaml", "--go-on", r.ID, "--rounds", "20").says(
		t, 2, "measures something else now, see contenders",
	)
	if out := h.run(t, "log").out; strings.Count(out, r.ID) != 1 || strings.Contains(out, "failed") {
		t.Errorf("the log says %s", out)
	}

	h.run(t, "export", r.ID, "--to", "pictures").says(t, 0, "turns-sweep-mean-"+r.ID+".svg", ".pdf", ".csv", ".md")
	f, err := os.Open(filepath.Join(h.dir, "pictures", "turns-"+r.ID+".csv"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil || len(rows) < 7 || rows[0][0] != "turns" {
		t.Errorf("%d rows, %v", len(rows), err)
	}
}

// Points fill in as rounds go, values are read off, and from a point one comes to its own verdict and back.
func TestASweepOnScreen(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "turns.duel.yaml", overTurns)
	h.write(t, "a-first.duel.yaml", strings.Replace(overTurns, "duel: Turns", "duel: Another", 1))
	term := openTerminal(t, h, 142, 42, "open", "turns.duel.yaml")
	term.wait("Turns asks") // and not the first of the folder
	term.press("Enter")
	term.wait("▸sweep", "So far:", "counted", "lines", "halt and keep")
	term.wait("✓sweep", "counted is fastest", "best", "turns", "at turns 100", "mean, turns")
	term.press("Right", "Right")
	term.wait("at turns 40000")
	term.press("x")
	term.wait("in numbers", "1000", "by")
	term.press("s")
	term.wait("saved turns-sweep-mean", ".csv")
	term.press("x")
	term.wait("who wins where", "claims", "upheld", "how words were reached")
	term.press("x", "F")
	term.wait("figure ")
	term.press("B", "C", "C")
	term.press("Enter")
	term.wait("Turns, turns 40000", "✓verdict", "set is")
	term.press("r")
	term.wait("Turns, turns 40000", "All 16 heats are done", "round 1")
	term.press("w")
	term.wait("Turns, turns 40000", "first touch")
	term.press("p", "s")
	term.wait("saved turns-sweep-mean", ".svg")
	term.press("+")
	term.wait("round 9 of 13")
	term.wait("✓sweep", "counted is fastest")
	term.tmux("resize-window", "-x", "80", "-y", "24")
	term.wait("counted is fastest", "turns")
	term.press("l")
	term.wait("1 run, 1 of them to the end")
	term.press("q")
	term.wait("ended with 0")
}
