package footing_test

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"paceduel/internal/viewtest"
	"paceduel/screen/footing"
)

func TestTheView(t *testing.T) { viewtest.Run(t, footing.Stop(), "finished") }

func TestAgentsStandOnTheFooting(t *testing.T) {
	scenes := viewtest.Scenes()
	v := footing.Stop().View
	driven := ansi.Strip(v.Body(scenes["driven from elsewhere"], 142, 42))
	for _, want := range []string{"driven by 2 agents at each of near and far", "far-2    far", "within 60.0 µs"} {
		if !strings.Contains(driven, want) {
			t.Errorf("%q is missing:\n%s", want, driven)
		}
	}
	awaited := scenes["waiting for agents"]
	if text := v.Sentence(awaited) + ansi.Strip(v.Body(awaited, 142, 42)); !strings.Contains(text, "1 free agent of 2") ||
		!strings.Contains(text, "when its agents are there") {
		t.Errorf("while agents are waited for:\n%s", text)
	}
}
