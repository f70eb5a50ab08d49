// Package log is the stop where earlier runs are kept: what was asked, when, and what was found.
package log

import (
	"fmt"
	"path/filepath"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/logbook"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// View is where in the list the user is, and which of the runs it has.
type View struct {
	cursor                   parts.Cursor
	of                       logbook.Filter
	find                     textinput.Model
	typed                    bool // the user is writing what to look for
	open, look, failed, done key.Binding
	leave                    key.Binding
}

// New returns the view at the newest run.
func New() screen.View {
	bind := func(k, does string) key.Binding { return key.NewBinding(key.WithKeys(k), key.WithHelp(k, does)) }
	return View{
		cursor: parts.NewCursor(), find: parts.NewInput("part of the name of a duel or a folder", ""),
		of: logbook.Filter{Attempts: logbook.Kept}, open: bind("enter", "open the run"), look: bind("/", "those of …"),
		failed: bind("t", "failed attempts"), done: bind("enter", "list those"), leave: bind("esc", "list all"),
	}
}

// Captures implements screen.Capturer.
func (v View) Captures() bool { return v.typed }

// listed are the runs that the view has.
func (v View) listed(s screen.Scene) (out []logbook.Entry) {
	for i := range s.Runs {
		if v.of.Takes(&s.Runs[i]) {
			out = append(out, s.Runs[i])
		}
	}
	return out
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) []key.Binding {
	switch {
	case v.typed:
		return []key.Binding{v.done, v.leave}
	case len(s.Runs) == 0:
		return nil
	}
	open, failed := v.open, v.failed
	open.SetEnabled((s.Run == nil || !s.Run.Live) && len(v.listed(s)) > 0)
	if v.of.Attempts == logbook.Failing {
		failed.SetHelp("t", "those that did not fail")
	}
	return []key.Binding{open, v.cursor.Key(), v.look, failed}
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if v.typed {
		return v.write(msg)
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || len(s.Runs) == 0 {
		return v, nil
	}
	runs := v.listed(s)
	if next, moved := v.cursor.Press(press, len(runs)); moved {
		v.cursor = next
		return v, nil
	}
	switch {
	case key.Matches(press, v.look):
		v.typed = true
		v.find.SetValue(v.of.Text)
		return v, v.find.Focus()
	case key.Matches(press, v.failed) && v.of.Attempts == logbook.Failing:
		v.of.Attempts, v.cursor = logbook.Kept, v.cursor.Set(0)
	case key.Matches(press, v.failed):
		v.of.Attempts, v.cursor = logbook.Failing, v.cursor.Set(0)
	case key.Matches(press, v.open) && len(runs) > 0 && (s.Run == nil || !s.Run.Live):
		return v, screen.Send(screen.OpenMsg{ID: runs[v.cursor.At(len(runs))].ID})
	}
	return v, nil
}

// write takes keys while the user writes what to look for; the list follows.
func (v View) write(msg tea.Msg) (screen.View, tea.Cmd) {
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case key.Matches(press, v.done):
			v.typed = false
			return v, nil
		case key.Matches(press, v.leave):
			v.typed, v.of.Text = false, ""
			return v, nil
		}
	}
	var cmd tea.Cmd
	v.find, cmd = v.find.Update(msg)
	v.of.Text, v.cursor = v.find.Value(), v.cursor.Set(0)
	return v, cmd
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	switch {
	case s.BookTrouble != nil:
		return "There is no logbook: " + s.BookTrouble.Error() + "."
	case len(s.Runs) == 0:
		return "The logbook is empty; every run is kept here, the finished ones and the interrupted ones."
	}
	runs := v.listed(s)
	what := "run"
	if v.of.Attempts == logbook.Failing {
		what = "failed attempt"
	}
	if v.of.Text != "" {
		return fmt.Sprintf("%s of duels or folders with %q in their names.", units.Plural(len(runs), what), v.of.Text)
	}
	if what != "run" {
		return units.Plural(s.Book.Failed, what) + ": nothing came of them."
	}
	text := fmt.Sprintf(
		"%s, %s of them to the end", units.Plural(s.Book.Runs-s.Book.Failed, "run"), units.Count(int64(s.Book.Done)),
	)
	if len(runs) > 0 {
		text += fmt.Sprintf("; the newest is %s of %s", runs[0].Name, when(runs[0]))
	}
	text += "."
	if s.Book.Failed > 0 {
		text += " " + units.Plural(s.Book.Failed, "failed attempt") + " besides."
	}
	if len(s.Runs) < s.Book.Runs {
		text += fmt.Sprintf(" The newest %d are listed.", len(s.Runs))
	}
	return text
}

func when(e logbook.Entry) string { return e.Started.Format("2 Jan 15:04") }

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	var lines []string
	if v.typed {
		lines = append(lines, s.Theme.Strong.Render("those of  ")+parts.InputLine(v.find, max(w-10, 1)), "")
		h -= len(lines)
	}
	var list []string
	at := 0
	runs := v.listed(s)
	for i, e := range runs {
		here := i == v.cursor.At(len(runs))
		if here {
			at = len(list)
		}
		list = append(list, v.entry(s, e, here, w)...)
	}
	return strings.Join(append(lines, parts.Window(list, at, h)...), "\n")
}

// entry is what and when, in which folder, what was found, and a gap.
func (v View) entry(s screen.Scene, e logbook.Entry, here bool, w int) []string {
	mark, name := "  ", s.Theme.Ink
	if here {
		mark, name = s.Theme.Strong.Render("▌ "), s.Theme.Strong
	}
	ending := ""
	switch e.Ending {
	case result.Done:
	case result.Running:
		ending = s.Theme.Strong.Render(fmt.Sprintf("running, %d of %d heats", e.Heats, e.Planned))
	case result.Failed:
		ending = s.Theme.Trouble.Render("failed")
	default:
		ending = s.Theme.Caution.Render(fmt.Sprintf("%s, %d of %d heats kept", e.Ending, e.Heats, e.Planned))
	}
	const id, date, gap = 14, 13, 2
	title := max(w-2-id-date-2*gap-34, 16)
	space := strings.Repeat(" ", gap)
	head := mark + parts.Cell(name.Render(e.Name), title) + space +
		s.Theme.Faint.Render(parts.Cell(when(e), date)+space+parts.Cell(e.ID, id)+space) + ending
	said := e.Sentence
	if said == "" {
		said = "no verdict"
	}
	lines := []string{parts.Cell(head, w)}
	if e.File != "" {
		lines = append(lines, mark+s.Theme.Faint.Render(parts.Cell("in "+filepath.Dir(e.File), w-2)))
	}
	for _, part := range parts.Wrap(said, max(w-2, 1)) {
		lines = append(lines, mark+s.Theme.Faint.Render(parts.Cell(part, w-2)))
	}
	return append(lines, "")
}
