package rounds_test

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/internal/viewtest"
	"paceduel/screen/rounds"
)

func TestTheView(t *testing.T) { viewtest.Run(t, rounds.Stop(), "finished") }

func TestAgentsAreToldApart(t *testing.T) {
	s := viewtest.Scenes()["driven from elsewhere"]
	s.Width, s.Height = 142, 42
	v := rounds.Stop().View
	text := func() string { return ansi.Strip(v.Body(s, 142, 42)) }
	if got := text(); strings.Contains(got, "near-2") || !strings.Contains(got, "round 2 is done again at the end") {
		t.Errorf("before they are asked for:\n%s", got)
	}
	v, _ = v.Update(tea.KeyPressMsg{Code: 'b', Text: "b"}, s)
	for _, want := range []string{"near-1   120", "near-2   110", "nothing heard for 2.00 s"} {
		if got := text(); !strings.Contains(got, want) {
			t.Errorf("while it is on, %q is missing:\n%s", want, got)
		}
	}
	s.Run.Now = nil
	if got := text(); !strings.Contains(got, "lag at p99") || !strings.Contains(got, "near-2") {
		t.Errorf("afterwards:\n%s", got)
	}
}
