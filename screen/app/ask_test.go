package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"paceduel/core/contender/all"
	"paceduel/core/draft"
	"paceduel/internal/golden"
	"paceduel/screen"
)

// write types text into the line at hand.
func write(t *testing.T, m Model, text string) Model {
	t.Helper()
	for _, r := range text {
		m = press(t, m, string(r))
	}
	return m
}

// real is a configuration with the kinds of the program instead of the stub.
func real(t *testing.T, files map[string]string) Config {
	t.Helper()
	cfg := config(t, files)
	cfg.Kinds = all.Kinds()
	cfg.Options.Kinds = all.PlanKinds()
	return cfg
}

const packing = `duel: Packing
baseline: quick
contenders:
  quick: { command: { run: [gzip, -1, -c, a.txt] } }
  dense: { note: smaller, command: { run: [gzip, -9, -c, a.txt] } }
pace: { repeat: 2 }
`

func plans(t *testing.T, cfg Config) map[string]string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(cfg.Dir, "*.duel.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		out[filepath.Base(f)] = string(text)
	}
	return out
}

func TestANewDuelIsAskedFor(t *testing.T) {
	cfg := real(t, nil)
	m := started(t, cfg, 142, 42)
	m = press(t, m, "n")
	shows(
		t, m, "A new duel in the test harbour: who stands against whom?", "▲ baseline", "● challenger", "runs a heat",
		"write the plan ctrl+s",
	)
	// Letters that are keys elsewhere are text here.
	m = write(t, m, "Quay law")
	m = press(t, m, "tab", "tab", "tab")
	m = write(t, m, "sleep 0.01")
	m = press(t, m, "enter", "enter")
	golden.Check(t, "new-duel", plain(m)+"\n")
	m = press(t, m, "enter")
	shows(t, m, "the challenger is missing")
	m = feedAll(m, tea.KeyPressMsg{Code: tea.KeyTab, Mod: tea.ModShift})
	m = write(t, m, "sleep 0.02")
	m = feedAll(m, tea.KeyPressMsg{Code: 's', Mod: tea.ModCtrl})
	shows(
		t, m, "1 duel in the test harbour. Quay law asks challenger against baseline: 10 rounds, 10 runs a heat", "wrote ",
	)
	if text := plans(t, cfg)["quay-law.duel.yaml"]; !strings.Contains(text, `run: ["sleep", "0.02"]`) {
		t.Errorf("the plan is\n%s", text)
	}

	m = press(t, m, "n", "down", "down")
	m = feedAll(m, tea.KeyPressMsg{Code: tea.KeyRight})
	shows(t, m, "‹ commands or requests or paths or statements or functions ›", "clients", "http://127.0.0.1:8080/berths")
	m = press(t, m, "esc")
	if m.captured() || len(plans(t, cfg)) != 1 {
		t.Error("leaving the form left something behind")
	}
}

func TestCopyAndDelete(t *testing.T) {
	cfg := real(t, map[string]string{"packing.duel.yaml": packing})
	m := started(t, cfg, 142, 42)
	m = press(t, m, "c")
	shows(t, m, "2 duels in the test harbour. Packing copy asks dense against quick")
	if text := plans(t, cfg)["packing-copy.duel.yaml"]; text != strings.Replace(
		packing, "duel: Packing", `duel: "Packing copy"`, 1,
	) {
		t.Errorf("the copy is\n%s", text)
	}
	m = press(t, m, "d")
	shows(t, m, "Delete packing-copy.duel.yaml?", "Its runs stay in the log.")
	m = press(t, m, "esc")
	if len(plans(t, cfg)) != 2 {
		t.Error("esc deleted the file")
	}
	m = press(t, m, "d", "d")
	shows(t, m, "1 duel in the test harbour. Packing asks", "deleted ")
	if left := plans(t, cfg); len(left) != 1 || left["packing.duel.yaml"] == "" {
		t.Errorf("left are %v", left)
	}
}

func TestACurlLineBecomesAContender(t *testing.T) {
	block := "duel: Boards\nbaseline: a\ncontenders:\n  a:\n    http: { url: \"http://127.0.0.1:1/\" }\n  b:\n    http: " +
		"{ url: \"http://127.0.0.1:2/\" }\npace: { clients: 2 }\n"
	cfg := real(t, map[string]string{"boards.duel.yaml": block})
	m := started(t, cfg, 142, 42)
	m = press(t, m, "i")
	shows(t, m, "Paste a curl command line; it becomes a contender of Boards.")
	m = feedAll(m, tea.PasteMsg{Content: "curl 'http://127.0.0.1:3/joined' \\\n  -H 'X-Board: joined'\n"})
	m = press(t, m, "enter")
	shows(t, m, "Boards asks b and joined against a", "◆ joined", "changed ")
	m = press(t, m, "i")
	m = write(t, m, "wget x")
	m = press(t, m, "enter")
	shows(t, m, "paste a line that begins with curl")
	m = press(t, m, "esc")

	// Somebody else's change is never written over.
	file := filepath.Join(cfg.Dir, "boards.duel.yaml")
	if err := os.WriteFile(file, []byte(block+"# mine\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	m = press(t, m, "i")
	m = feedAll(m, tea.PasteMsg{Content: "curl http://127.0.0.1:4/x"})
	m = press(t, m, "enter")
	shows(t, m, "it has changed meanwhile; press u and try again")
	if plans(t, cfg)["boards.duel.yaml"] != block+"# mine\n" {
		t.Error("the other change is lost")
	}
}

func TestAContenderIsBuiltOnAnother(t *testing.T) {
	cfg := real(t, map[string]string{"packing.duel.yaml": packing})
	m := started(t, cfg, 142, 42)
	m = press(t, m, "b")
	shows(t, m, "Which of the 2 contenders of Packing does the new one start from?", "▲ quick", "● dense")
	m = press(t, m, "down")
	next, cmd := m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	msgs := drain(cmd)
	change, ok := msgs[0].(screen.ChangePlanMsg)
	if !ok || !change.Edit ||
		!strings.Contains(change.Text, `"dense 2": { note: smaller, command: { run: [gzip, -9, -c, a.txt] } }`) {
		t.Errorf("asks for %+v", msgs)
	}
	if next.(Model).captured() {
		t.Error("the dialog stays open")
	}
	// What cannot be changed says why.
	flow := config(t, map[string]string{
		"f.duel.yaml": "duel: F\nbaseline: a\ncontenders: { a: { stub: {} }, b: { stub: {} } }\npace: { repeat: 1 }\n",
	})
	shows(t, press(t, started(t, flow, 142, 42), "b"), "the contenders are written within braces")
}

func TestTheEditorIsTheUsers(t *testing.T) {
	tests := map[string]string{
		"": "vi f", "nano": "nano f", "code --wait": "code --wait f", "'my editor' -x": "my editor -x f",
	}
	for editor, want := range tests {
		cmd, err := editorCommand(t.Context(), editor, "f")
		if err != nil || strings.Join(cmd.Args, " ") != want {
			t.Errorf("editor %q runs %v, %v; want %s", editor, cmd, err, want)
		}
	}
	if _, err := editorCommand(t.Context(), "'vi", "f"); err == nil {
		t.Error("an editor with an open quote is accepted")
	}
}

// Whoever types faster than frames are drawn is not held up by drawing, and sees all of it in the end.
func TestTypingIsAheadOfDrawing(t *testing.T) {
	m := started(t, config(t, map[string]string{"tides.duel.yaml": tides}), 142, 42)
	var waits []func(time.Time) tea.Msg
	m.later = func(_ time.Duration, then func(time.Time) tea.Msg) tea.Cmd {
		waits = append(waits, then)
		return func() tea.Msg { return nil }
	}
	m = press(t, m, "n")
	frames := 0
	last := m.frame
	for range 2000 {
		m = press(t, m, "x")
		if m.frame != last {
			frames, last = frames+1, m.frame
		}
	}
	if frames > 1 || len(waits) != 1 {
		t.Errorf("%d frames were drawn for 2000 keys, with %d waits; want one of each", frames, len(waits))
	}
	next, _ := m.Update(waits[0](time.Time{}))
	if m = next.(Model); m.frame == last || !strings.Contains(m.frame, "xxxx") {
		t.Error("what was typed is not drawn when a frame has stood for its time")
	}
	next, _ = m.Update(waits[len(waits)-1](time.Time{}))
	if m = next.(Model); m.resting || len(waits) != 2 {
		t.Errorf("with nothing typed it is resting: %t, after %d waits", m.resting, len(waits))
	}
}

// An empty folder is a place to begin: two lines, both tried, and the duel is on.
func TestAnEmptyFolderIsAPlaceToBegin(t *testing.T) {
	cfg := real(t, nil)
	m := newModel(t.Context(), cfg)
	m.later = func(time.Duration, func(time.Time) tea.Msg) tea.Cmd { return nil }
	m = feedAll(m, tea.WindowSizeMsg{Width: 142, Height: 42})
	m = feedAll(m, folderMsg{
		served:  []screen.Offer{{Text: "http://127.0.0.1:4711/", About: "tideserver"}},
		earlier: []screen.Offer{{Text: "echo spring", About: "plain of Tides"}},
	})
	t.Cleanup(func() { m.duels.Wait() })
	shows(
		t, m, "What stands against what?", "listening on this machine http://127.0.0.1:4711/ tideserver", "try both enter",
	)
	m = press(t, m, "ctrl+l")
	shows(t, m, "today http://127.0.0.1:4711/ a URL", "contenders of earlier duels echo spring plain of Tides")
	m = press(t, m, "ctrl+l")
	shows(t, m, "today echo spring a command line")
	m = press(t, m, "ctrl+u")
	m = write(t, m, "echo ebb")
	m = press(t, m, "enter") // the other line is empty still
	m = write(t, m, "no-such-pilot")
	m = press(t, m, "enter")
	shows(t, m, "a command line exit code 0 in ", "no such program on PATH", "install it, or name it with its folder")
	m = press(t, m, "enter")
	if m.scene.Run != nil || m.session != nil {
		t.Error("a duel of a program that is not there has begun")
	}
	m = press(t, m, "ctrl+u")
	m = write(t, m, "echo flow")
	m = press(t, m, "enter")
	shows(t, m, "Both were tried. Enter runs 10 rounds of each", "They do not answer the same", "start the duel enter")
	kept := press(t, m, "ctrl+s")
	for name, text := range plans(t, cfg) {
		if !strings.Contains(text, "echo flow") {
			t.Errorf("%s holds %q", name, text)
		}
	}
	if len(plans(t, cfg)) != 1 {
		t.Errorf("kept %v", plans(t, cfg))
	}
	kept.duels.Wait()
	m = press(t, m, "enter")
	if m.session == nil {
		t.Error("the duel has not begun")
	}
	m.session.halt()
}

// The kinds of questions stand to choose from, and each is a plan that opens in the editor.
func TestPlansForQuestionsStandToChoose(t *testing.T) {
	cfg := real(t, map[string]string{"packing.duel.yaml": packing})
	cfg.Questions = []draft.Question{
		{Key: "commands", Asks: "two commands", Lines: "run", Name: "My packer", Text: "# change run\n" + packing},
	}
	m := started(t, cfg, 142, 42)
	m = press(t, m, "n")
	shows(t, m, "what is to be found out?", "two lines: type or paste", "a form", "two commands", "change run")
	if form := press(t, m, "down", "enter"); !strings.Contains(plain(form), "who stands against whom?") {
		t.Errorf("the form is not shown:\n%s", plain(form))
	}
	if lines := press(t, m, "enter"); !strings.Contains(plain(lines), "What stands against what?") {
		t.Errorf("the two lines are not shown:\n%s", plain(lines))
	}
	_, cmd := press(t, m, "down", "down").Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	found := false
	for _, msg := range drain(cmd) {
		if plan, ok := msg.(screen.NewPlanMsg); ok {
			found = plan.Name == "My packer" && plan.Edit && strings.HasPrefix(plan.Text, "# change run\n")
		}
	}
	if !found {
		t.Error("no plan was asked for")
	}
}
