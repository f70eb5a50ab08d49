// Package viewtest is what every view of the application owes, as one test: it fits into any window, says what it
// shows, and names its keys. What only one view has is tested beside it.
package viewtest

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/cell"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/internal/golden"
	"paceduel/internal/sample"
	"paceduel/screen"
	"paceduel/screen/look"
	"paceduel/screen/parts"
)

// sizes are windows from one cell to a wall.
var sizes = [][2]int{{1, 1}, {2, 3}, {10, 4}, {40, 12}, {79, 24}, {80, 24}, {100, 30}, {142, 42}, {200, 60}, {400, 120}}

// usable is the narrowest body in which every line has to fit by itself: that of a window of 80.
const usable = 76

// Run holds a stop to it. golden has the body of the scene that it names in two sizes, in testdata of the view's
// folder.
func Run(t *testing.T, row screen.Row, whole string) {
	t.Helper()
	all := Scenes()
	if _, ok := all[whole]; !ok {
		t.Fatalf("no scene is called %q", whole)
	}
	t.Run("it fits into any window", func(t *testing.T) { bounds(t, row, all) })
	t.Run("it says what it shows", func(t *testing.T) { sentences(t, row, all) })
	t.Run("its keys are told and do no harm", func(t *testing.T) { keys(t, row, all) })
	t.Run("it looks as it should", func(t *testing.T) {
		for _, size := range [][2]int{{80, 24}, {142, 42}} {
			s := all[whole]
			text := row.View.Sentence(s) + "\n\n" + parts.Fit(row.View.Body(s, size[0], size[1]), size[0], size[1])
			golden.Check(t, fmt.Sprintf("body-%dx%d", size[0], size[1]), trimmed(ansi.Strip(text)))
		}
	})
	t.Run("its letter is one of its name", func(t *testing.T) {
		if row.Letter < 0 || row.Letter >= len(row.Stop) || row.Key() != string(row.Stop)[row.Letter:row.Letter+1] {
			t.Errorf("letter %d of %s", row.Letter, row.Stop)
		}
		for name, s := range all {
			if row.Progress != nil && s.Run != nil && (row.Progress(s.Run) < screen.Ahead ||
				row.Progress(s.Run) > screen.Trouble) {
				t.Errorf("%s: progress %d", name, row.Progress(s.Run))
			}
		}
	})
}

// trimmed is a text without what fills its lines.
func trimmed(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n") + "\n"
}

func bounds(t *testing.T, row screen.Row, all map[string]screen.Scene) {
	for name, s := range all {
		s.Pictures = &screen.Pictures{} // as in the application
		for _, size := range sizes {
			body := row.View.Body(s, size[0], size[1])
			fitted := strings.Split(parts.Fit(body, size[0], size[1]), "\n")
			if len(fitted) != size[1] {
				t.Errorf("%s at %dx%d: %d lines", name, size[0], size[1], len(fitted))
			}
			for _, line := range strings.Split(body, "\n") {
				if w := lipgloss.Width(line); size[0] >= usable && w > size[0] {
					t.Errorf("%s at %dx%d: a line of %d cells: %q", name, size[0], size[1], w, ansi.Strip(line))
					break
				}
			}
		}
	}
}

func sentences(t *testing.T, row screen.Row, all map[string]screen.Scene) {
	for name, s := range all {
		text := row.View.Sentence(s)
		if text == "" || strings.ContainsAny(text, "\n\t") || !strings.ContainsAny(text[len(text)-1:], ".?:") {
			t.Errorf("%s says %q", name, text)
		}
	}
}

func keys(t *testing.T, row screen.Row, all map[string]screen.Scene) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		s := all[name]
		for _, b := range row.View.Keys(s) {
			if b.Help().Key == "" || b.Help().Desc == "" || len(b.Keys()) == 0 {
				t.Errorf("%s: a key without help: %v", name, b.Keys())
			}
			if !b.Enabled() {
				continue // told, and not to be had just now
			}
			for _, k := range b.Keys() {
				press(t, row.View, s, name, b, k)
			}
		}
	}
}

// press presses a key and draws what comes of it.
func press(t *testing.T, v screen.View, s screen.Scene, name string, b key.Binding, k string) {
	t.Helper()
	msg := tea.KeyPressMsg{Text: k}
	if runes := []rune(k); len(runes) == 1 {
		msg.Code = runes[0]
	} else if code, ok := codes[k]; ok {
		msg = tea.KeyPressMsg{Code: code}
	} else {
		return
	}
	if !key.Matches(msg, b) {
		t.Errorf("%s: %q is not what %s is bound to", name, k, b.Help().Key)
		return
	}
	s.Width, s.Height, s.Pictures = 100, 30, &screen.Pictures{}
	next, _ := v.Update(msg, s)
	if next == nil {
		t.Fatalf("%s: after %q there is no view", name, k)
	}
	next.Body(s, 100, 30)
	next.Sentence(s)
}

var codes = map[string]rune{
	"enter": tea.KeyEnter, "space": tea.KeySpace, "left": tea.KeyLeft, "right": tea.KeyRight, "up": tea.KeyUp,
	"down": tea.KeyDown, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "home": tea.KeyHome, "end": tea.KeyEnd,
	"esc": tea.KeyEscape,
}

// Scenes are what a view may have to show, by name.
func Scenes() map[string]screen.Scene {
	blank := screen.Scene{Theme: look.New(true), Title: "the test harbour"}
	duels := blank
	berths, err := read.Plan("/srv/harbour/berths.duel.yaml", []byte(source), read.Options{
		Kinds: []plan.Kind{sample.Stub().Kind},
	})
	if err != nil {
		panic(err) // it is a good plan
	}
	duels.Duels = []screen.Duel{{File: berths.File, Plan: berths, Source: source}, {
		File: "/srv/harbour/odd.duel.yaml", Problems: errors.New("odd.duel.yaml:1:1: this is not YAML"), Source: "}",
	}}
	duels.Chosen = &duels.Duels[0]
	duels.Runs = []logbook.Entry{{
		ID: "0309-0640abc", Started: sample.Start, Name: "Berths", File: "/srv/harbour/berths.duel.yaml",
		Ending:  result.Done,
		Planned: 30, Heats: 30, Summary: logbook.Summary{
			Sentence: "joined is 3.4x faster than per-vessel at p50.", Lead: 3.4,
		},
	}}
	duels.Book, duels.Found, duels.Listed = logbook.Totals{Runs: 1, Done: 1}, 1, screen.Kept
	duels.Past = map[string]logbook.Past{berths.File: {Runs: 1, Newest: duels.Runs}}
	with := func(run *screen.Run) screen.Scene {
		s := duels
		s.Run = run
		return s
	}
	three := judged(sample.Make(threeWay))
	live := *three
	head := *three.Result
	head.Heats, head.Ending = nil, result.Running
	live.Result, live.Live, live.Heats, live.Left = &head, true, three.Heats[:14], 90*time.Second
	live.Now = &screen.Now{
		Round: 5, Cell: cell.Of("snapshot", ""), Stage: pace.Judged, Shots: 120, Rate: 900, P50: time.Millisecond,
		P99: 2 * time.Millisecond, Heat: three.Heats[14],
	}
	unjudged, failed := *three, *three
	unjudged.Verdict, unjudged.Unjudged = nil, errors.New("latencies of joined in round 2: this is not a HDR histogram")
	failed.Verdict, failed.Heats, failed.Err = nil, nil, errors.New("joined did not pass the weigh-in: no such program")
	served := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "at-start", Latency: sample.Times(0.002, 0.3), Bytes: 700},
			{Name: "prepared", Latency: sample.Times(0.002, 0.3), Bytes: 700},
		},
		Rounds: 10, Shots: 300, Clients: 1, Seed: 4127,
	})
	sample.Serve(served)
	driven, awaited := *judged(sample.Places(sample.Make(threeWay), sample.Make(threeWay))), screen.Run{}
	away := *driven.Result
	away.Heats, away.Ending = nil, result.Running
	driven.Result, driven.Live, driven.Heats = &away, true, driven.Heats[:20]
	driven.Again = "round 2 is done again at the end: agent far-2 has not answered for 5.00 s"
	driven.Now = &screen.Now{
		Round: 4, Cell: cell.Of("per-vessel", "near"), Stage: pace.Judged, Heat: three.Heats[14], Agents: []screen.Driving{
			{Agent: "near-1", Shots: 120, P50: time.Millisecond, P99: 2 * time.Millisecond},
			{Agent: "near-2", Shots: 110, P50: time.Millisecond, P99: 2 * time.Millisecond, Silent: 2 * time.Second},
		},
	}
	awaited.Result, awaited.Live, awaited.Awaits = &head, true, "waiting for agents: 1 free agent of 2"
	return map[string]screen.Scene{
		"driven from elsewhere": with(&driven), "waiting for agents": with(&awaited),
		"nothing": blank, "duels": duels, "finished": with(three), "under way": with(&live), "unjudged": with(&unjudged),
		"failed": with(&failed), "served": with(judged(served)),
		"inside": with(judged(sample.Make(insides))), "meanwhile": with(judged(waiting())),
		"arrivals": with(judged(arriving())), "survival": with(judged(crashed())),
		"swept":            with(swept(sample.MakeSwept(overWriters), 3)),
		"swept over two":   with(swept(sample.MakeSwept(overTwo), 0)),
		"swept over words": with(swept(sample.MakeSwept(overWords), 1)), "swept, under way": with(underWay()),
	}
}

const source = `duel: Berths
question: Is the table worth its memory?
baseline: per-vessel
contenders:
  per-vessel: { note: what runs today, stub: { takes: 20ms } }
  joined: { avoid: memory is short, stub: { takes: 1ms } }
pace: { repeat: 3 }
`

var threeWay = sample.Duel{
	Entrants: []sample.Entrant{
		{Name: "per-vessel", Latency: sample.Times(0.0124, 0.3), Bytes: 8443},
		{Name: "joined", Latency: sample.Times(0.00365, 0.3), Bytes: 8443},
		{Name: "snapshot", Latency: sample.Times(0.0009, 0.3), Bytes: 8443, FailFrac: 0.02},
	},
	Rounds: 10, Shots: 700, Clients: 8, Seed: 4127,
}

// insides is a duel of which it is known what happens in its shots, of legs and of traces.
var insides = sample.Duel{
	Entrants: []sample.Entrant{
		{Name: "in-turn", Latency: sample.Times(0.142, 0.05), Inside: sample.Legs(false, 0.041, 0.052, 0.049)},
		{Name: "together", Latency: sample.Times(0.053, 0.05), Inside: sample.Legs(true, 0.041, 0.052, 0.049)},
		{Name: "board", Latency: sample.Times(0.040, 0.05), Inside: sample.Traces(40, 0.0009, 0.002)},
	},
	Rounds: 10, Shots: 25, Seed: 4127,
}

// waiting is a duel of contenders that hold a bystander up for a long while, hardly, and not at all.
func waiting() *result.Result {
	d := sample.Duel{Rounds: 10, Shots: 25, Seed: 4127}
	for _, name := range []string{"one-go", "slices", "helper"} {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: name, Latency: sample.Times(0.12, 0.02)})
	}
	r := sample.Make(d)
	for i := range r.Heats {
		h := &r.Heats[i]
		sample.HeldUp(h, map[string]time.Duration{"one-go": 1900, "slices": 70, "helper": 3}[h.Contender]*time.Millisecond)
	}
	return r
}

// arriving is a duel of two boards whose notices are seen as events, and asked for.
func arriving() *result.Result {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 600, Seed: 4127, Entrants: []sample.Entrant{
		{Name: "polls", Latency: sample.Times(0.08, 0.1)}, {Name: "pushes", Latency: sample.Times(0.002, 0.1)},
	}})
	sample.Arriving(r, "polls", "event", 80*time.Millisecond, 0)
	sample.Arriving(r, "polls", "asked", 100*time.Millisecond, 50*time.Millisecond)
	sample.Arriving(r, "pushes", "event", 2*time.Millisecond, 0)
	sample.Arriving(r, "pushes", "asked", 52*time.Millisecond, 50*time.Millisecond)
	return r
}

// crashed is a duel of logs of which one keeps back what it has acknowledged.
func crashed() *result.Result {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 600, Seed: 4127, Entrants: []sample.Entrant{
		{Name: "written", Latency: sample.Times(0.002, 0.1)}, {Name: "buffered", Latency: sample.Times(0.001, 0.1)},
	}})
	for no := 1; no <= 8; no++ {
		n := int64(4_000 + 500*no)
		again := time.Duration(18+no) * time.Millisecond
		r.Crashes = append(r.Crashes,
			result.Crash{Contender: "written", No: no, Acknowledged: n, Unknown: 4, Records: n + 1, Again: again},
			result.Crash{
				Contender: "buffered", No: no, Acknowledged: 2 * n, Records: 2*n - int64(300*no), Torn: 1, Again: again,
			})
	}
	return r
}

// writers is what three ways of keeping positions take in the typical shot with so many writers, in seconds: the second
// takes over from the first at 3.
func writers(way int, at ...float64) float64 {
	return []float64{0.001 * (1 + at[0]), 0.001 * (3.4 + 0.2*at[0]), 0.004 * at[0]}[way]
}

var (
	ways = sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "buffered", CPU: time.Millisecond, Bytes: 900}, {Name: "mapped", CPU: time.Millisecond, Bytes: 900},
			{Name: "locked", CPU: time.Millisecond, Bytes: 900},
		},
		Rounds: 14, Shots: 20, Seed: 4127,
	}
	overWriters = sample.Swept{
		Duel: ways, Spread: 0.1, Heats: 0.02, Takes: writers,
		Parameters: []result.Parameter{sample.Numbers("writers", plan.Threads, 1, 2, 4, 6, 8, 12)},
	}
	overTwo = sample.Swept{
		Duel: ways, Spread: 0.1, Heats: 0.02,
		Parameters: []result.Parameter{
			sample.Numbers("writers", plan.Threads, 1, 2, 4, 8), sample.Numbers("rows", plan.Items, 20, 400, 4000),
		},
		Takes: func(way int, at ...float64) float64 { return writers(way, at[0]) * (1 + at[1]/float64(200*(3-way))) },
	}
	overWords = sample.Swept{
		Duel: ways, Spread: 0.1, Heats: 0.02,
		Parameters: []result.Parameter{{
			Name: "size", Counts: string(plan.Words),
			Values: []result.Value{{Text: "small"}, {Text: "big", Called: "as at sea"}},
		}},
		Takes: func(way int, _ ...float64) float64 { return 0.001 * float64(1+way) },
	}
)

// swept is a run with a sweep, one of its points in view.
func swept(r *result.Result, point int) *screen.Run {
	s, err := judge.JudgeSweep(r)
	if err != nil {
		panic(err) // what sample makes can be judged
	}
	run := (&screen.Run{Result: r, Heats: r.Heats, Judged: s}).AtPoint(point)
	run.Verdict = s.Ready(point)
	return run
}

// underWay is a sweep in its fifth round.
func underWay() *screen.Run {
	r := sample.MakeSwept(overWriters)
	const heats = 4*18 + 7
	so := *r
	so.Ending, so.Heats = result.Running, r.Heats[:heats]
	s, err := judge.JudgeSweep(&so)
	if err != nil {
		panic(err)
	}
	head := so
	head.Heats = nil
	now := &screen.Now{Round: 5, Cell: r.Heats[heats].Cell, Stage: pace.Judged, Heat: r.Heats[heats]}
	whole := &screen.Run{Result: &head, Heats: so.Heats, Judged: s, Live: true, Left: time.Minute, Now: now}
	return whole.AtPoint(r.Sweep.Find(now.Point))
}

func judged(r *result.Result) *screen.Run {
	v, err := judge.Judge(r)
	if err != nil {
		panic(err) // what sample makes can be judged
	}
	return &screen.Run{Result: r, Heats: r.Heats, Verdict: v}
}
