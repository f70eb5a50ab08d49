package sweep_test

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/internal/sample"
	"paceduel/internal/viewtest"
	"paceduel/screen"
	"paceduel/screen/look"
	"paceduel/screen/sweep"
)

func TestTheView(t *testing.T) { viewtest.Run(t, sweep.Stop(), "swept") }

// BenchmarkFrame draws a frame of eight contenders over twelve points, as it is drawn again and again while keys move
// about in it.
func BenchmarkFrame(b *testing.B) {
	d := sample.Swept{
		Duel: sample.Duel{Rounds: 20, Shots: 20, Seed: 9}, Spread: 0.2, Heats: 0.02,
		Parameters: []result.Parameter{
			sample.Numbers("writers", plan.Threads, 1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64),
		},
		Takes: func(way int, at ...float64) float64 {
			return 0.001 * (1 + 0.1*float64(way) + 0.05*float64(8-way)*at[0])
		},
	}
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: name, Bytes: 100})
	}
	r := sample.MakeSwept(d)
	s, err := judge.JudgeSweep(r)
	if err != nil {
		b.Fatal(err)
	}
	run := (&screen.Run{Result: r, Heats: r.Heats, Judged: s}).AtPoint(0)
	scene := screen.Scene{Theme: look.New(true), Run: run, Pictures: &screen.Pictures{}, Width: 138, Height: 34}
	view := sweep.New()
	for b.Loop() {
		view.Body(scene, scene.Width, scene.Height)
	}
}

// Keys change what is in view as they say: a part of the axis follows the point that is read off, a hidden contender
// leaves its line, and the scale turns.
func TestKeysOfTheLines(t *testing.T) {
	scene := viewtest.Scenes()["swept"]
	scene.Width, scene.Height, scene.Pictures = 138, 34, &screen.Pictures{}
	press := func(v screen.View, keys ...tea.KeyPressMsg) (screen.View, tea.Cmd) {
		var cmd tea.Cmd
		for _, k := range keys {
			v, cmd = v.Update(k, scene)
		}
		return v, cmd
	}
	body := func(v screen.View) string { return ansi.Strip(v.Body(scene, scene.Width, scene.Height)) }
	letter := func(r rune) tea.KeyPressMsg { return tea.KeyPressMsg{Code: r, Text: string(r)} }
	right, enter := tea.KeyPressMsg{Code: tea.KeyRight}, tea.KeyPressMsg{Code: tea.KeyEnter}

	v := sweep.New()
	if text := body(v); !strings.Contains(text, "at writers 1 ") || !strings.Contains(text, "3 writers (2 to 4)") {
		t.Errorf("at first:\n%s", text)
	}
	near, _ := press(v, letter('z'), letter('z'), letter('z'))
	if text := body(near); strings.Contains(axis(text), "12") || !strings.Contains(axis(text), "1") {
		t.Errorf("zoomed in, the axis is %q", axis(text))
	}
	far, _ := press(near, right, right, right, right, right)
	if text := body(far); !strings.Contains(axis(text), "12") || !strings.Contains(text, "at writers 12 ") {
		t.Errorf("read off at the end, the axis is %q", axis(text))
	}
	hidden, _ := press(v, letter('I'))
	if text := body(hidden); strings.Count(text, "▲ buffered") != 0 || !strings.Contains(text, "● mapped") {
		t.Errorf("with one hidden:\n%s", text)
	}
	against, _ := press(v, letter('C'), letter('C'))
	if text := body(against); !strings.Contains(text, "times better than buffered") {
		t.Errorf("against the baseline:\n%s", text)
	}
	if _, cmd := press(far, enter); cmd == nil {
		t.Error("enter leads nowhere")
	} else if msg, ok := cmd().(screen.PointMsg); !ok || msg.Point != 5 || !msg.Open {
		t.Errorf("enter asks for %+v", cmd())
	}
	if _, cmd := press(v, letter('x'), letter('s')); cmd == nil {
		t.Error("nothing is saved")
	} else if msg, ok := cmd().(screen.SaveMsg); !ok || len(msg.Tables) != 1 || len(msg.Tables[0].Rows) != 7 {
		t.Errorf("saved %+v", cmd())
	}
}

// axis is the line of a body that names the parameter.
func axis(body string) string {
	for line := range strings.SplitSeq(body, "\n") {
		if line = strings.TrimRight(line, " "); strings.HasSuffix(line, " writers") && !strings.Contains(line, "mean") {
			return line
		}
	}
	return ""
}
