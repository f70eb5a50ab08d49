// Package log is the stop where earlier runs are kept: what was asked, when, and what was found.
package log

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/logbook"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// View is where in the list the user is.
type View struct {
	cursor parts.Cursor
	open   key.Binding
}

// New returns the view at the newest run.
func New() screen.View {
	return View{cursor: parts.NewCursor(), open: key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "open the run"))}
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) []key.Binding {
	if len(s.Runs) == 0 {
		return nil
	}
	open := v.open
	open.SetEnabled(s.Run == nil || !s.Run.Live)
	return []key.Binding{open, v.cursor.Key()}
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || len(s.Runs) == 0 {
		return v, nil
	}
	if next, moved := v.cursor.Press(press, len(s.Runs)); moved {
		v.cursor = next
		return v, nil
	}
	if key.Matches(press, v.open) && (s.Run == nil || !s.Run.Live) {
		return v, screen.Send(screen.OpenMsg{ID: s.Runs[v.cursor.At(len(s.Runs))].ID})
	}
	return v, nil
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	switch {
	case s.BookTrouble != nil:
		return "There is no logbook: " + s.BookTrouble.Error() + "."
	case len(s.Runs) == 0:
		return "The logbook is empty; every run is kept here, the finished ones and the interrupted ones."
	}
	text := fmt.Sprintf("%s, %s of them to the end; the newest is %s of %s.", units.Plural(s.Book.Runs, "run"), units.Count(int64(s.Book.Done)), s.Runs[0].Name, when(s.Runs[0]))
	if len(s.Runs) < s.Book.Runs {
		text += fmt.Sprintf(" The newest %d are listed.", len(s.Runs))
	}
	return text
}

func when(e logbook.Entry) string { return e.Started.Format("2 Jan 15:04") }

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	var lines []string
	const each = 3
	for i, e := range s.Runs {
		lines = append(lines, v.entry(s, e, i == v.cursor.At(len(s.Runs)), w)...)
	}
	return strings.Join(parts.Window(lines, v.cursor.At(len(s.Runs))*each, h), "\n")
}

// entry takes three lines: what and when, what was found, a gap.
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
	const id, date = 15, 14
	title := max(w-2-id-date-34, 16)
	head := mark + parts.Cell(name.Render(e.Name), title) + s.Theme.Faint.Render(parts.Cell(when(e), date)+parts.Cell(e.ID, id)) + ending
	said := e.Sentence
	if said == "" {
		said = "no verdict"
	}
	return []string{parts.Cell(head, w), mark + s.Theme.Faint.Render(parts.Cell(said, w-2)), ""}
}
