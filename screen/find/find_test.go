package find

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/chart"
	"paceduel/core/commits"
	corefind "paceduel/core/find"
	"paceduel/core/rounds"
)

// hunt is a search after some looks.
func hunt(t *testing.T) (*corefind.Hunt, *corefind.State) {
	t.Helper()
	at := func(i int) commits.Commit {
		return commits.Commit{Hash: fmt.Sprintf("%040x", 0xabc0000+i), Subject: fmt.Sprintf("step %d", i)}
	}
	var list []commits.Commit
	for i := range 20 {
		list = append(list, at(i+1))
	}
	h, err := corefind.Open("", corefind.Question{Figure: "mean", Worse: 0.05, Anchored: true, Error: 0.05}, at(0), list,
		false)
	if err != nil {
		t.Fatal(err)
	}
	for i, level := range map[int]float64{20: 0.3, 10: 0.29, 5: 0.01} {
		h.Looks = append(h.Looks, corefind.Taken{Commit: at(i).Hash, Diffs: []float64{level, level + 0.02, level - 0.03,
			level}})
	}
	h.Broken = append(h.Broken, corefind.Broken{Commit: at(8).Hash, Why: "exit code 2"})
	return h, h.Search().State()
}

func shown(t *testing.T, w, h int) Model {
	t.Helper()
	search, st := hunt(t)
	var m tea.Model = newModel(Config{Title: "./packer, tools", Most: 15})
	m, _ = m.Update(tea.WindowSizeMsg{Width: w, Height: h})
	m, _ = m.Update(knownMsg{chart.NewHunt(search, st, 6, true, false), true, false})
	m, _ = m.Update(eventMsg{rounds.Building{Revision: strings.Repeat("a", 40)}})
	return m.(Model)
}

func press(m tea.Model, keys ...tea.KeyPressMsg) tea.Model {
	for _, k := range keys {
		m, _ = m.Update(k)
	}
	return m
}

func TestTheCommitsStandAsALine(t *testing.T) {
	text := ansi.Strip(shown(t, 120, 36).draw())
	for _, want := range []string{
		"./packer, tools", "After 3 looks one of ", "commits made the mean worse", "good ◂", "▲", "×", "▼", "●",
		"3 of up to 15 looks",
		"building aaaaaaaaa", "quit and keep", "likely the first bad one",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not show %q:\n%s", want, text)
		}
	}
	m := press(shown(t, 120, 36), tea.KeyPressMsg{Code: tea.KeyLeft}, tea.KeyPressMsg{Code: tea.KeyLeft})
	if other := ansi.Strip(m.(Model).draw()); other == text {
		t.Error("no other commit is chosen")
	}
}

func TestItFitsIntoAnyWindow(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {142, 42}, {300, 90}, {81, 25}, {40, 10}, {1, 1}} {
		lines := strings.Split(shown(t, size[0], size[1]).draw(), "\n")
		if len(lines) != size[1] {
			t.Errorf("%v: %d lines", size, len(lines))
		}
		for _, l := range lines {
			if w := lipgloss.Width(l); w > size[0] {
				t.Errorf("%v: a line of %d cells: %q", size, w, ansi.Strip(l))
				break
			}
		}
	}
}

func TestHowItEnds(t *testing.T) {
	m, _ := shown(t, 100, 30).Update(endedMsg{errors.New("no space left on device")})
	text := ansi.Strip(m.(Model).draw())
	if !strings.Contains(text, "The search ended: no space left on device.") || !strings.Contains(text, "over") ||
		strings.Contains(text, "quit and keep") {
		t.Errorf("it shows\n%s", text)
	}
	if _, cmd := m.Update(tea.KeyPressMsg{Code: 'q', Text: "q"}); cmd == nil || cmd() != tea.Quit() {
		t.Error("q does not leave")
	}
}
