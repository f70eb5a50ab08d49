package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/cell"
	"paceduel/core/contender/all"
	corefooting "paceduel/core/footing"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	corerounds "paceduel/core/rounds"
	"paceduel/core/units"
	"paceduel/internal/golden"
	"paceduel/internal/sample"
	"paceduel/screen"
)

// drain runs commands by hand and returns their messages, but for those of a wait that does not end.
func drain(cmd tea.Cmd) (out []tea.Msg) {
	if cmd == nil {
		return nil
	}
	got := make(chan tea.Msg, 1)
	go func() { got <- cmd() }()
	select {
	case msg := <-got:
		if batch, ok := msg.(tea.BatchMsg); ok {
			for _, c := range batch {
				out = append(out, drain(c)...)
			}
			return out
		}
		if msg != nil {
			out = append(out, msg)
		}
	case <-time.After(20 * time.Second):
	}
	return out
}

// press feeds keys and everything that follows from them.
func press(t *testing.T, m Model, keys ...string) Model {
	t.Helper()
	for _, k := range keys {
		msg := tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		switch k {
		case "enter":
			msg = tea.KeyPressMsg{Code: tea.KeyEnter}
		case "esc":
			msg = tea.KeyPressMsg{Code: tea.KeyEscape}
		case "tab":
			msg = tea.KeyPressMsg{Code: tea.KeyTab}
		case "down":
			msg = tea.KeyPressMsg{Code: tea.KeyDown}
		case "left":
			msg = tea.KeyPressMsg{Code: tea.KeyLeft}
		case "right":
			msg = tea.KeyPressMsg{Code: tea.KeyRight}
		case "backspace":
			msg = tea.KeyPressMsg{Code: tea.KeyBackspace}
		case "ctrl+l", "ctrl+u", "ctrl+s":
			msg = tea.KeyPressMsg{Code: rune(k[len(k)-1]), Mod: tea.ModCtrl}
		}
		m = feedAll(m, msg)
	}
	return m
}

func feedAll(m Model, msg tea.Msg) Model {
	next, cmd := m.Update(msg)
	m = next.(Model)
	for _, follow := range drain(cmd) {
		if _, quit := follow.(tea.QuitMsg); !quit {
			m = feedAll(m, follow)
		}
	}
	return m
}

const tides = `duel: Tides
question: Is the table worth its memory?
baseline: slow
contenders:
  slow: { note: what runs today, stub: { takes: 20ms } }
  fast: { avoid: memory is short, stub: { takes: 1ms } }
pace: { repeat: 3 }
rounds: 15
`

func config(t *testing.T, files map[string]string) Config {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	book, err := logbook.Open(filepath.Join(dir, "l.sqlite"), false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { book.Close() })
	return Config{
		Title: "the test harbour", Dir: dir, Options: read.Options{
			Kinds: []plan.Kind{sample.Stub().Kind},
		}, Kinds: append(all.Kinds(), sample.Stub()),
		Program: "test", Book: book, SaveDir: dir, Seed: 4,
	}
}

// started is the model after its first commands, in a window of w by h.
func started(t *testing.T, cfg Config, w, h int) Model {
	t.Helper()
	m := newModel(t.Context(), cfg)
	m.later = func(time.Duration, func(time.Time) tea.Msg) tea.Cmd { return nil }
	m = feedAll(m, tea.WindowSizeMsg{Width: w, Height: h})
	for _, msg := range drain(readFolder(cfg, "")) {
		m = feedAll(m, msg)
	}
	m, runs := m.readRuns()
	for _, msg := range drain(runs) {
		m = feedAll(m, msg)
	}
	t.Cleanup(m.duels.Wait) // contexts of tests have ended by then
	if len(m.scene.Duels) == 0 && m.captured() {
		m = press(t, m, "esc") // leaves the place to begin, which takes letters for text
	}
	return m
}

func plain(m Model) string { return ansi.Strip(m.View().Content) }

func shows(t *testing.T, m Model, want ...string) {
	t.Helper()
	text := strings.Join(strings.Fields(plain(m)), " ")
	for _, w := range want {
		if !strings.Contains(text, w) {
			t.Errorf("the screen does not show %q:\n%s", w, plain(m))
		}
	}
}

func withRun(m Model, r *result.Result) Model {
	m.scene.Run = opened(r)
	return m
}

func threeWay() *result.Result {
	return sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{
				Name: "per-vessel", Latency: sample.Times(0.0124, 0.3), Bytes: 8443,
			}, {Name: "joined", Latency: sample.Times(0.00365, 0.3), Bytes: 8443},
			{Name: "snapshot", Latency: sample.Times(0.0009, 0.3), Bytes: 8443, FailFrac: 0.02},
		},
		Rounds: 10, Shots: 700, Clients: 8, Seed: 4127,
	})
}

// afterHeats is a model that follows a run whose first n heats have ended.
func afterHeats(m Model, r *result.Result, n int) Model {
	f := newFollower(newFeed())
	head := *r
	head.Heats, head.Ending = nil, result.Running
	f.follow(corerounds.Started{Result: &head})
	for _, h := range r.Heats[:n] {
		f.follow(corerounds.HeatBegan{Round: h.Round, Cell: h.Cell})
		f.follow(corerounds.HeatEnded{Heat: h, Left: time.Minute})
	}
	run := f.run
	m.scene.Run = &run
	return m
}

// A lane has its figures from its first heat on, so that a run that goes wrong is seen early; comparing waits for a
// round.
func TestFirstFiguresComeWithTheFirstHeat(t *testing.T) {
	r := threeWay()
	m := press(t, afterHeats(started(t, config(t, nil), 142, 42), r, 1), "r")
	first := r.Heats[0]
	name, state := first.Contender, first.State
	if lane := m.scene.Run.Lane(name, state); lane.P50 == units.None || lane.Shots != "700" {
		t.Errorf("after its first heat %s has %+v", name, lane)
	}
	shows(t, m, m.scene.Run.Lane(name, state).P50)
	for _, e := range r.Entrants {
		if lane := m.scene.Run.Lane(e.Name, ""); e.Name != name && lane.P50 != units.None {
			t.Errorf("%s, which was not on yet, has %+v", e.Name, lane)
		}
	}
	shows(t, press(t, m, "v"), "There is nothing to weigh before the first round is complete.")
	shows(t, press(t, m, "y"), "")
}

// Whatever the window and the view, exactly its size is drawn.
func TestEveryViewFitsEveryWindow(t *testing.T) {
	cfg := config(t, map[string]string{"tides.duel.yaml": tides, "broken.duel.yaml": "duel: [\n"})
	m := started(t, cfg, 80, 24)
	states := map[string]Model{"empty": started(t, config(t, nil), 80, 24), "fresh": m, "judged": withRun(m, threeWay())}
	live := withRun(m, threeWay())
	run := *live.scene.Run
	run.Live, run.Heats, run.Left = true, run.Heats[:7], time.Minute
	run.Now = &screen.Now{
		Round: 3, Cell: cell.Of("joined", ""), Shots: 100, Rate: 1000, P50: time.Millisecond, P99: time.Second,
		Heat: run.Result.Heats[7],
	}
	live.scene.Run = &run
	states["live"] = live
	for n := 1; n <= 3; n++ { // heats of the first round
		served := threeWay()
		sample.Serve(served)
		states[fmt.Sprintf("after %d heats", n)] = afterHeats(m, served, n)
	}
	withServices := threeWay()
	sample.Serve(withServices)
	states["served"] = withRun(m, withServices)
	states["remembered"] = press(t, press(t, states["served"], "y"), "y")
	leaving := live
	leaving.leaving = true
	states["leaving"] = leaving
	help := live
	help.help = true
	states["help"] = help
	failed := withRun(m, threeWay())
	bad := *failed.scene.Run
	bad.Err, bad.Heats, bad.Verdict = errors.New("no such program"), nil, nil
	failed.scene.Run = &bad
	states["failed"] = failed
	sizes := [][2]int{
		{1, 1}, {3, 2}, {20, 5}, {79, 24}, {80, 23}, {80, 24}, {81, 25}, {100, 30}, {142, 42}, {200, 60}, {400, 120},
	}
	for name, m := range states {
		for _, stop := range everyStop(m) {
			for _, size := range sizes {
				m.at = stop
				next, _ := m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
				lines := strings.Split(next.(Model).View().Content, "\n")
				if len(lines) != size[1] {
					t.Fatalf("%s, %s at %dx%d: %d lines", name, stop, size[0], size[1], len(lines))
				}
				for _, l := range lines {
					if lipgloss.Width(l) != size[0] {
						t.Fatalf(
							"%s, %s at %dx%d: a line of %d cells: %q", name, stop, size[0], size[1], lipgloss.Width(l), ansi.Strip(l),
						)
					}
				}
			}
		}
	}
}

func TestViewsInWords(t *testing.T) {
	cfg := config(t, nil)
	for _, size := range [][2]int{{80, 24}, {142, 42}} {
		m := started(t, cfg, size[0], size[1])
		r := threeWay()
		m = withRun(m, r)
		for _, stop := range []screen.Stop{screen.WeighIn, screen.Rounds, screen.Verdict} {
			m.at = stop
			m = feedAll(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
			golden.Check(t, fmt.Sprintf("%s-%dx%d", stop, size[0], size[1]), plain(m)+"\n")
		}
	}
}

// served is a run of two whose services are started for every heat.
func served(t *testing.T, w, h int) Model {
	t.Helper()
	r := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{{
			Name: "at-start", Latency: sample.Times(0.002, 0.3), Bytes: 700,
		}, {Name: "prepared", Latency: sample.Times(0.002, 0.3), Bytes: 700}},
		Rounds: 10, Shots: 300, Clients: 1, Seed: 4127,
	})
	sample.Serve(r)
	return press(t, withRun(started(t, config(t, nil), w, h), r), "y")
}

func TestWhyInWords(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {142, 42}} {
		m := served(t, size[0], size[1])
		golden.Check(t, fmt.Sprintf("start-%dx%d", size[0], size[1]), plain(m)+"\n")
		golden.Check(t, fmt.Sprintf("memory-%dx%d", size[0], size[1]), plain(press(t, m, "x"))+"\n")
	}
}

// Starts are looked at more closely from zero on, memory about the line; both are saved as they are in view.
func TestLookingIntoARun(t *testing.T) {
	m := served(t, 142, 42)
	shows(
		t, m, "prepared is ready 3.0x sooner", "500 ms 0 s 0 s 500 ms", "settled at shot 12", "the first shot took",
		"each prepared in", "tables",
	)
	wide := plain(m)
	m = press(t, m, "z")
	if closer := plain(m); closer == wide || !strings.Contains(closer, "settled at shot 12") {
		t.Errorf("zoomed in:\n%s", closer)
	}
	if m = press(t, m, "backspace", "backspace"); plain(m) != wide {
		t.Error("zooming out does not lead back")
	}
	m = press(t, m, "s")
	m = press(t, m, "x")
	shows(t, m, "at rest", "under load", "afterwards", "7 threads")
	at := plain(m)
	if m = press(t, m, "z", "right"); plain(m) == at {
		t.Error("nothing moved")
	}
	m = press(t, m, "s")
	for _, what := range []string{"start", "memory"} {
		if saved, _ := filepath.Glob(filepath.Join(m.cfg.SaveDir, "*-"+what+"-*.svg")); len(saved) != 1 {
			t.Errorf("saved %v of %s", saved, what)
		}
	}
	// A caution about memory leads to its picture.
	cautioned := served(t, 142, 42)
	verdict := *cautioned.scene.Run.Verdict
	verdict.Cautions = []judge.Caution{{Kind: judge.Growth, What: "the service grows", See: judge.InMemory}}
	run := *cautioned.scene.Run
	run.Verdict = &verdict
	cautioned.scene.Run = &run
	cautioned = press(t, cautioned, "v", "x", "x", "x", "down", "down", "down", "enter")
	shows(t, cautioned, "✓why", "at rest")
	// A run without services says so.
	m = press(t, withRun(started(t, config(t, nil), 80, 24), threeWay()), "y")
	shows(t, m, "Nothing is known of how the contenders start")
	shows(t, press(t, m, "x"), "Nothing is known of memory")
}

// The log's sentence counts what the logbook holds, and not what the list is cut to.
func TestTheLogSaysWhatItDoesNotList(t *testing.T) {
	m := started(t, config(t, nil), 140, 30)
	list := []logbook.Entry{{
		ID: "1125-1000abc", Name: "Berth board", Ending: result.Done,
	}, {ID: "1125-0900abc", Name: "Berth board", Ending: result.Interrupted}}
	come := runsMsg{of: screen.Kept, runs: list, found: 500, totals: logbook.Totals{Runs: 500, Done: 480}, no: 9}
	m = feedAll(press(t, m, "l"), come)
	shows(t, m, "500 runs, 480 of them to the end; the newest is Berth board", "The newest 2 are listed.")
	// What was asked for before does not take the place of what is wanted now.
	looking := press(t, m, "/", "B")
	shows(t, feedAll(looking, come), `Looking for runs with "B" …`)
	come.of.Text, come.found = "B", 77
	shows(t, feedAll(looking, come), `77 runs with "B" in names`, "The newest 2 are listed.")
	m = feedAll(m, runsMsg{of: screen.Kept, runs: list, found: 2, totals: logbook.Totals{Runs: 2, Done: 1}, no: 9})
	if shows(t, m, "2 runs, 1 of them to the end"); strings.Contains(plain(m), "are listed") {
		t.Error("a list of all says that it is cut")
	}
}

func TestADuelFromAskToLog(t *testing.T) {
	cfg := config(t, map[string]string{"tides.duel.yaml": tides})
	m := started(t, cfg, 142, 42)
	shows(
		t, m, "1 duel in the test harbour. Tides asks fast against slow: 15 rounds, 3 runs a heat", "not run yet",
		"what differs", "not when memory is short",
	)
	m = press(t, m, "enter")
	m = toEnd(t, m)
	if m.at != screen.Verdict {
		t.Errorf("after the run the view is %s; want verdict", m.at)
	}
	shows(t, m, "fast is ", "in the mean", "too few: needs 10 shots a heat", "✓verdict", "● fast")
	m = press(t, m, "s")
	shows(t, m, "saved")
	saved, _ := filepath.Glob(filepath.Join(cfg.SaveDir, "tides-fast-*.svg"))
	if len(saved) != 1 {
		t.Errorf("saved %v; want one SVG", saved)
	}
	m = press(t, m, "ctrl+s")
	if text, err := os.ReadFile(filepath.Join(cfg.SaveDir, "tides.duel.yaml")); err != nil || string(text) != tides {
		t.Errorf("keeping the plan over itself left %q, %v", text, err)
	}
	shows(t, m, "file exists")
	m = press(t, m, "l")
	shows(t, m, "1 run, 1 of them to the end; the newest is Tides")
	m.scene.Run = nil
	m = press(t, m, "enter")
	shows(t, m, "in the mean")
	m = press(t, m, "a")
	shows(t, m, "fast is ")
}

func TestHaltAndQuitKeepWhatWasMeasured(t *testing.T) {
	cfg := config(t, map[string]string{"tides.duel.yaml": tides})
	m := started(t, cfg, 100, 30)
	next, _ := m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	m = feedAllButStates(next.(Model), screen.StartMsg{Duel: m.scene.Duels[0]})
	m = states(t, m, func(r *screen.Run) bool { return len(r.Heats) >= 3 })
	m = press(t, m, "q")
	shows(t, m, "A duel is on.", "q quit and keep", "esc go on")
	m = press(t, m, "esc")
	if m.leaving || !m.scene.Run.Live {
		t.Error("esc did not go on with the duel")
	}
	m = press(t, m, "r", "h")
	m = states(t, m, func(r *screen.Run) bool { return !r.Live })
	if m.scene.Run.Result.Ending != result.Interrupted || len(m.scene.Run.Heats) < 3 {
		t.Errorf("halted as %q with %d heats", m.scene.Run.Result.Ending, len(m.scene.Run.Heats))
	}
	list, err := cfg.Book.List(5, logbook.Filter{})
	if err != nil || len(list) != 1 || list[0].Ending != result.Interrupted || list[0].Heats < 3 {
		t.Errorf("the logbook has %+v, %v", list, err)
	}
}

// A finished run is looked at by the clock: stretches, values at the line, one lane less.
func TestRoundsByTheClock(t *testing.T) {
	r := threeWay()
	for i := range r.Heats {
		h := &r.Heats[i]
		for at := time.Duration(0); at < h.Wall; at += 100 * time.Millisecond {
			h.Buckets = append(h.Buckets, result.Bucket{20, int64(i % 2), 19 * 3e6, 8e6})
		}
	}
	m := withRun(started(t, config(t, nil), 142, 42), r)
	m = press(t, m, "r")
	shows(t, m, "All 30 heats are done", "round 1", "running order", "this machine in the last heat", "p50 12.")
	m = press(t, m, "z")
	shows(t, m, "by the clock. At 06:40:", "was on, in round", "mean 2.85 ms", "longest 8.00 ms", "not on at the line")
	whole := plain(m)
	m = press(t, m, "z", "z")
	if plain(m) == whole {
		t.Error("zooming in changes nothing")
	}
	before := plain(m)
	m = press(t, m, "right", "right")
	if plain(m) == before {
		t.Error("the line does not move")
	}
	m = press(t, m, "left", "left")
	if plain(m) != before {
		t.Error("the line does not come back")
	}
	for range 400 { // to the end of the run, and no further
		m = press(t, m, "right")
	}
	shows(t, m, "to 06:40:")
	m = press(t, m, "enter")
	shows(t, m, "▲ per-vessel hidden")
	m = press(t, m, "down", "enter", "down", "enter") // one lane stays
	if n := strings.Count(plain(m), " hidden"); n != 2 {
		t.Errorf("%d lanes are hidden; want 2", n)
	}
	m = press(t, m, "backspace", "backspace", "backspace")
	shows(t, m, "All 30 heats are done")
}

// Between two heats a run is paused, goes on, gets more rounds and loses a contender.
func TestARunIsSteered(t *testing.T) {
	three := strings.Replace(tides, "pace:", "  third: { stub: { takes: 2ms } }\npace:", 1)
	m := started(t, config(t, map[string]string{"tides.duel.yaml": three}), 142, 42)
	next, _ := m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	m = feedAllButStates(next.(Model), screen.StartMsg{Duel: m.scene.Duels[0]})
	m = states(t, m, func(r *screen.Run) bool { return r.Now != nil })
	m = press(t, m, "r", " ")
	shows(t, m, "the run waits before its next heat")
	m = states(t, m, func(r *screen.Run) bool { return r.Paused })
	shows(t, m, "Paused after", "of 45 heats; space has it go on")
	if strings.Contains(plain(m), "drop it") {
		t.Error("the run could go on without its baseline")
	}
	m = press(t, m, "+", "down", "down")
	shows(t, m, "5 rounds more", "drop it")
	m = press(t, m, "d", " ")
	m = states(t, m, func(r *screen.Run) bool { return !r.Paused && len(r.Result.Order) == 20 })
	shows(t, m, "left out")
	m = press(t, m, "h")
	m = states(t, m, func(r *screen.Run) bool { return !r.Live })
	r := m.scene.Run.Result
	if r.Entrant("third").LeftOut == 0 || r.Entrant("fast").LeftOut != 0 || r.Plan.Rounds != 20 || r.Paused <= 0 {
		t.Errorf("%d rounds, third left out from %d, paused for %s", r.Plan.Rounds, r.Entrant("third").LeftOut, r.Paused)
	}
}

// feedAllButStates handles a start without waiting for the run.
func feedAllButStates(m Model, msg tea.Msg) Model {
	next, _ := m.Update(msg)
	return next.(Model)
}

// states takes the run's states until done says so.
func states(t *testing.T, m Model, done func(*screen.Run) bool) Model {
	t.Helper()
	for m.scene.Run == nil || !done(m.scene.Run) {
		msg := nextState(t.Context(), m.session, m.serial)()
		next, _ := m.Update(msg)
		m = next.(Model)
	}
	return m
}

func TestTroubleIsShown(t *testing.T) {
	cfg := config(t, map[string]string{
		"broken.duel.yaml": strings.Replace(tides, "repeat: 3", "repeet: 3", 1),
		"wrong.duel.yaml":  strings.Replace(tides, "takes: 1ms", "fail-all: true", 1),
	})
	m := started(t, cfg, 142, 42)
	shows(
		t, m, "broken.duel.yaml cannot be run as it is", "broken.duel.yaml, line 7, column 9", `unknown key "repeet" in pace`,
		`did you mean "repeat"?`,
	)
	if strings.Contains(plain(m), "start the duel enter") {
		t.Error("a broken duel can be started")
	}
	m = press(t, m, "down", "enter")
	m = toEnd(t, m)
	if m.at != screen.WeighIn {
		t.Errorf("after a failed weigh-in the view is %s", m.at)
	}
	shows(
		t, m, "fast did not pass the weigh-in, so nothing was timed", "status 503, expected 200", "→ correct the request",
		"!weigh-in",
	)
	m = press(t, m, "v")
	shows(t, m, "There is no verdict: fast did not pass the weigh-in")

	none := config(t, nil)
	none.Book, none.BookErr = nil, errors.New("the disk is read-only")
	m = started(t, none, 100, 30)
	shows(t, m, "There is no duel in the test harbour yet", "paceduel between A B")
	shows(t, press(t, m, "l"), "There is no logbook: the disk is read-only")
	shows(t, press(t, m, "v"), "There is no verdict yet")
	shows(t, press(t, m, "r"), "No duel is on")
	shows(t, press(t, m, "?"), "Keys of ask", "Everywhere", "quit")
}

func TestUnequalWorkIsRefusedUntilItIsAccepted(t *testing.T) {
	unequal := strings.Replace(tides, "stub: { takes: 1ms }", "stub: { takes: 1ms, answer: guessed }", 1)
	m := started(t, config(t, map[string]string{"tides.duel.yaml": unequal + "same: { body: exact }\n"}), 142, 42)
	m = toEnd(t, press(t, m, "enter"))
	shows(
		t, m, "fast broke the plan's rules for the same work, so nothing was timed", "! not the same bytes", "waited │",
		"line 1", "│ guessed", "fast ships 1.17x the bytes of slow", "start all the same", "!weigh-in",
	)
	m = toEnd(t, press(t, m, "t"))
	shows(t, m, "in the mean", "unequal work")
	shows(t, press(t, m, "v", "x", "x", "x"), "unequal work was accepted: fast broke the plan's rules at the weigh-in")
	shows(t, press(t, m, "w"), "and that was accepted")

	// Without rules the difference is told, and nothing is refused.
	m = started(t, config(t, map[string]string{"tides.duel.yaml": unequal}), 142, 42)
	m = toEnd(t, press(t, m, "enter"))
	shows(t, m, "in the mean")
	shows(
		t, press(t, m, "w"), "All passed the weigh-in, but fast did not answer as slow did", "✓ outcome",
		"! not the same bytes",
	)
}

// toEnd takes a run's states until it is over.
func toEnd(t *testing.T, m Model) Model {
	t.Helper()
	for m.scene.Run == nil || m.scene.Run.Live {
		for _, msg := range drain(nextState(t.Context(), m.session, m.serial)) {
			m = feedAll(m, msg)
		}
	}
	return m
}

func TestPairsAndScales(t *testing.T) {
	m := withRun(started(t, config(t, nil), 142, 42), threeWay())
	m = press(t, m, "v")
	shows(t, m, "snapshot fails", "◆ snapshot snapshot is")
	m = press(t, m, "g")
	shows(t, m, "bars: log scale")
	m.h = 24
	m = press(t, m, "o")
	shows(t, m, "● joined joined is")
}

// Keys say what they do, and no view gives a letter of the frame another meaning.
func TestKeysAreCompleteAndUnambiguous(t *testing.T) {
	m := withRun(started(t, config(t, map[string]string{"tides.duel.yaml": tides}), 142, 42), threeWay())
	live := *m.scene.Run
	live.Live = true
	frame := map[string]bool{}
	for _, b := range []key.Binding{m.keys.stops, m.keys.next, m.keys.help, m.keys.quit} {
		for _, k := range b.Keys() {
			frame[k] = true
		}
	}
	meaning := map[string]string{}
	swept := openSweep(t).scene
	sweeping := *swept.Run
	sweeping.Live = true
	for _, stop := range everyStop(m) {
		for _, scene := range []screen.Scene{
			m.scene, {Duels: m.scene.Duels, Run: &live, Runs: m.scene.Runs}, swept, {Run: &sweeping},
		} {
			for _, b := range m.view(stop).Keys(scene) {
				if b.Help().Key == "" || b.Help().Desc == "" {
					t.Errorf("%s: a key without help: %v", stop, b.Keys())
				}
				for _, k := range b.Keys() {
					if frame[k] {
						t.Errorf("%s: %q is the frame's", stop, k)
					}
					if len(k) == 1 && k != "k" {
						if was, ok := meaning[k]; ok && was != b.Help().Desc {
							t.Errorf("%q means %q and %q", k, was, b.Help().Desc)
						}
						meaning[k] = b.Help().Desc
						if k >= "a" && k <= "z" && !strings.Contains(b.Help().Desc, k) {
							t.Errorf("%s: %q is no letter of %q", stop, k, b.Help().Desc)
						}
					}
				}
			}
		}
	}
}

// The whole program, on buffers: start, look round, leave.
func TestWholeProgram(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	in, keys := io.Pipe()
	var out bytes.Buffer
	m := newModel(ctx, config(t, map[string]string{"tides.duel.yaml": tides}))
	p := tea.NewProgram(m, tea.WithInput(in), tea.WithOutput(&out), tea.WithWindowSize(100, 30),
		tea.WithContext(ctx), tea.WithoutSignals(),
		tea.WithEnvironment([]string{"TERM=xterm-256color"}), tea.WithColorProfile(colorprofile.ASCII))
	go io.WriteString(keys, "lvwfraq")
	if _, err := p.Run(); err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(out.String(), "pace duel") {
		t.Error("nothing was drawn")
	}
}

// What a service is about stands at its contender's lane, and its last lines are shown on request.
func TestServicesOnTheRounds(t *testing.T) {
	m := withRun(started(t, config(t, nil), 142, 42), threeWay())
	f := newFollower(newFeed())
	f.run = *m.scene.Run
	f.run.Live, f.run.Heats = true, f.run.Heats[:6]
	follow := func(e corerounds.Event) {
		f.follow(e)
		run := f.run
		m.scene.Run = &run
		m = feedAll(m, tea.WindowSizeMsg{Width: 142, Height: 42})
	}
	follow(corerounds.ServiceIs{Contender: "joined", Stage: corefooting.Starting})
	m = press(t, m, "r")
	shows(t, m, "starting")
	if strings.Contains(plain(m), "no service of its own") {
		t.Error("nobody asked what it says")
	}
	m = press(t, m, "m")
	shows(t, m, "no service of its own")
	m = press(t, m, "down")
	shows(t, m, "its service joined: starting", "it has printed nothing")
	follow(corerounds.ServiceIs{
		Contender: "joined", Stage: corefooting.Ready, Took: 34 * time.Millisecond, Said: "open\x1b[31m on 4711\a",
	})
	shows(t, m, "ready, 34.0 ms", "open on 4711")
	follow(corerounds.HeatBegan{Round: 3, Cell: cell.Of("joined", "")})
	follow(corerounds.ServiceIs{Contender: "joined", Stage: corefooting.Starting})
	shows(t, m, "joined is next, its service is starting")
	follow(corerounds.ServiceIs{Contender: "joined", Stage: corefooting.Rushed})
	shows(t, m, "joined is on", "rushed")
	follow(corerounds.Progress{Round: 3, Cell: cell.Of("joined", ""), Said: "open on 4711\nthe tide turns"})
	shows(t, m, "the tide turns")
	follow(corerounds.ServiceIs{Contender: "joined", Stage: corefooting.Died, Said: "struck a rock"})
	shows(t, m, "joined: died", "struck a rock")
	if strings.Contains(plain(press(t, m, "m")), "struck") {
		t.Error("what it says stays")
	}
}

// everyStop lists the stops of the trail.
func everyStop(m Model) (all []screen.Stop) {
	for _, row := range m.stops {
		all = append(all, row.Stop)
	}
	return all
}

// What cannot be judged, and a fault of ours, are said; what was measured stays in view.
func TestWhatWentWrongIsSaid(t *testing.T) {
	r := threeWay()
	broken := *r
	broken.Heats = slices.Clone(r.Heats)
	broken.Heats[3].Latencies = "tide"
	f := newFollower(newFeed())
	head := *r
	head.Heats = nil
	f.follow(corerounds.Started{Result: &head})
	f.follow(corerounds.Ended{Result: &broken})
	m := started(t, config(t, nil), 142, 42)
	run := f.run
	m.scene.Run, m.at = &run, screen.Verdict
	m = feedAll(m, tea.WindowSizeMsg{Width: 142, Height: 42})
	if text := plain(m); run.Unjudged == nil ||
		!strings.Contains(text, "what was measured cannot be judged: latencies of") {
		t.Errorf("a broken histogram shows as\n%s", text)
	}
	m.at = "why"
	m = feedAll(m, tea.WindowSizeMsg{Width: 142, Height: 42})
	if text := plain(m); !strings.Contains(text, "What was measured cannot be judged") {
		t.Errorf("why shows\n%s", text)
	}

	f = newFollower(newFeed())
	f.follow(corerounds.Started{Result: &head})
	f.follow(corerounds.HeatEnded{Heat: r.Heats[0]})
	f.fell(errors.New("run the duel: a fault of this program"))
	if run := f.run; run.Live || run.Err == nil || len(run.Heats) != 1 || f.feed.last.Load().Err == nil {
		t.Errorf("after a fault: %+v", run)
	}
}

// What was zoomed into of one run is not so of the next.
func TestAnotherRunIsSeenWhole(t *testing.T) {
	m := withRun(started(t, config(t, nil), 142, 42), threeWay())
	m = press(t, m, "r")
	whole := plain(m)
	near := press(t, m, "z", "z", "z")
	if plain(near) == whole {
		t.Fatal("nothing is nearer")
	}
	again := feedAll(near, openedMsg{run: near.scene.Run})
	if got := plain(press(t, again, "r")); got != whole {
		t.Errorf("the next run is seen like the one before:\n%s", got)
	}
}

// Whatever the book holds can be found, and each duel's own past is known, also behind many runs of others.
func TestOldRunsAreFound(t *testing.T) {
	cfg := config(t, map[string]string{"tides.duel.yaml": tides})
	old := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "slow", Latency: sample.Times(0.02, 0.1)}, {Name: "fast", Latency: sample.Times(0.01, 0.1)},
		},
		Rounds: 1, Shots: 2, Seed: 1,
	})
	enter := func(id, name, file string, ending result.Ending, at int) {
		r := *old
		r.ID, r.Plan.Name, r.Plan.File, r.Ending = id, name, file, ending
		r.Started = old.Started.Add(time.Duration(at) * time.Minute)
		if err := cfg.Book.Import(&r, logbook.Summary{Sentence: "fast is faster.", Lead: 2}); err != nil {
			t.Fatal(err)
		}
	}
	enter("0309-old", "Old tides", filepath.Join(cfg.Dir, "tides.duel.yaml"), result.Done, 0)
	enter("0309-bad", "Wrecked", "", result.Failed, 1)
	for i := range maxListed + 20 {
		enter(fmt.Sprintf("0309-%03d", i), "Another", "", result.Done, 2+i)
	}
	m := started(t, cfg, 142, 42)
	// A look that was begun before the folder was read, and ends after one of what stands in it, is passed over.
	for _, late := range drain(readRuns(cfg.Book, screen.Kept, nil, 0)) {
		m = feedAll(m, late)
	}
	shows(t, m, "fast is faster.", "its runs so far", "run 0309-old")
	m = press(t, m, "l")
	shows(t, m, "221 runs, 221 of them to the end; the newest is Another", "1 failed attempt besides.",
		"The newest 200 are listed.")
	shows(t, press(t, m, "t"), "1 failed attempt: nothing came of them.", "Wrecked")
	m = press(t, m, "/", "O", "l", "d")
	shows(t, m, `1 run with "Old" in names`, "Old tides")
	m = press(t, m, "esc", "/", "A", "n", "o")
	shows(t, m, `220 runs with "Ano" in names, folder, verdict, note or tags. The newest 200 are listed.`)
	m = press(t, m, "esc", "b")
	shows(t, m, "2 duels over time", "220 runs, the newest of")
	shows(t, press(t, m, "enter"), "Those are the newest 40 of 220 runs.")
}
