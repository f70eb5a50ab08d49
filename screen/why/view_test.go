package why_test

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/judge"
	"paceduel/internal/golden"
	"paceduel/internal/viewtest"
	"paceduel/screen"
	"paceduel/screen/parts"
	"paceduel/screen/why"
)

func TestTheView(t *testing.T) { viewtest.Run(t, why.Stop(), "served") }

// at is the view with a picture in view, after some keys.
func at(s screen.Scene, picture judge.Evidence, keys ...string) screen.View {
	v, _ := why.New().Update(screen.GoMsg{To: picture}, s)
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
		switch k {
		case "right":
			msg = tea.KeyPressMsg{Code: tea.KeyRight}
		case "down":
			msg = tea.KeyPressMsg{Code: tea.KeyDown}
		}
		v, _ = v.Update(msg, s)
	}
	return v
}

func TestTheInsideAndWhatMoved(t *testing.T) {
	s := viewtest.Scenes()["inside"]
	s.Pictures, s.Width, s.Height = &screen.Pictures{}, 142, 36
	for _, tt := range []struct {
		name    string
		picture judge.Evidence
		keys    []string
	}{
		{"inside", "inside", nil}, {"moved", "moved", nil}, {"moved-other-pair", "moved", []string{"o"}},
		{"folded", "inside", []string{"D", "D"}}, {"p90", "inside", strings.Split("NN", "")},
		{"zoomed", "inside", []string{"z", "right", "right", "z"}},
	} {
		v := at(s, tt.picture, tt.keys...)
		for _, size := range [][2]int{{80, 20}, {142, 36}} {
			body := v.Body(s, size[0], size[1])
			for line := range strings.SplitSeq(body, "\n") {
				if w := lipgloss.Width(line); w > size[0] {
					t.Errorf("%s: a line of %d cells: %q", tt.name, w, ansi.Strip(line))
				}
			}
			text := v.Sentence(s) + "\n\n" + ansi.Strip(parts.Fit(body, size[0], size[1]))
			var lines []string
			for line := range strings.SplitSeq(text, "\n") {
				lines = append(lines, strings.TrimRight(line, " "))
			}
			golden.Check(t, fmt.Sprintf("%s-%dx%d", tt.name, size[0], size[1]), strings.Join(lines, "\n")+"\n")
		}
	}
}

// Who waits meanwhile is what is looked at first where somebody asked, what crashes left, when effects are seen.
func TestWhatIsLookedAtFirst(t *testing.T) {
	for _, scene := range []string{"meanwhile", "arrivals", "survival"} {
		firstView(t, scene)
	}
}

func firstView(t *testing.T, scene string) {
	t.Helper()
	s := viewtest.Scenes()[scene]
	s.Pictures, s.Width, s.Height = &screen.Pictures{}, 142, 36
	for _, size := range [][2]int{{80, 20}, {142, 36}} {
		v := why.New()
		text := v.Sentence(s) + "\n\n" + ansi.Strip(parts.Fit(v.Body(s, size[0], size[1]), size[0], size[1]))
		var lines []string
		for line := range strings.SplitSeq(text, "\n") {
			lines = append(lines, strings.TrimRight(line, " "))
			if w := lipgloss.Width(line); w > size[0] && line != v.Sentence(s) {
				t.Errorf("a line of %d cells: %q", w, line)
			}
		}
		golden.Check(t, fmt.Sprintf("%s-%dx%d", scene, size[0], size[1]), strings.Join(lines, "\n")+"\n")
	}
}

// A shot that no contender has leads on to the next one.
func TestShotsThatThereAreNone(t *testing.T) {
	s := viewtest.Scenes()["inside"]
	s.Pictures, s.Width, s.Height = &screen.Pictures{}, 142, 36
	none := ansi.Strip(at(s, "inside", "N", "N", "N").Body(s, 142, 36))
	if strings.Count(none, "too few of its shots are known inside for one at p99") != 3 {
		t.Errorf("%s", none)
	}
	if next := ansi.Strip(at(s, "inside", "N", "N", "N", "N").Body(s, 142, 36)); !strings.Contains(next, "slowest") {
		t.Errorf("%s", next)
	}
}

// Steps that there is no room for are scrolled to, and what is read off follows the line.
func TestMovingThroughTheInside(t *testing.T) {
	s := viewtest.Scenes()["inside"]
	s.Pictures, s.Width, s.Height = &screen.Pictures{}, 100, 12
	top := ansi.Strip(at(s, "inside").Body(s, 100, 12))
	below := ansi.Strip(at(s, "inside", "down", "down", "down").Body(s, 100, 12))
	if strings.Contains(top, "render") || top == below || !strings.Contains(top, "at 0 s:  ▲ vessel  ● vessel") {
		t.Errorf("%s\n%s", top, below)
	}
	var rights []string
	for range 40 {
		rights = append(rights, "right")
	}
	if text := ansi.Strip(at(s, "inside", rights...).Body(s, 100, 12)); !strings.Contains(text, "▲ berth  ● done") {
		t.Errorf("%s", text)
	}
}
