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
	cursor parts.Cursor
	of     logbook.Filter
	typed  *field // what the user is writing; nil: nothing
	input  textinput.Model
	whose  string // the run that it is for, or that is to be deleted
	asked  bool   // whether it is to be deleted

	shows page
	duel  parts.Cursor // among the duels
	run   parts.Cursor // among the runs of one
	first string       // the run that another is to be held to; empty: none
	line  int          // of a pair, that is uppermost
	from  page         // where a pair was asked for

	byDuel, byRun, over, back, hold, again, save, up, down key.Binding

	open, look, failed                key.Binding
	note, tags, call, remove          key.Binding
	done, leave, take, give, yes, not key.Binding
}

// page is what of the logbook is in view.
type page int

const (
	runs  page = iota // one by one, the newest first
	duels             // each with its runs over time
	line              // the runs of one duel over time
	pair              // two runs face to face
)

// field is something that the user may write.
type field struct {
	label, hint string
	value       func(*logbook.Entry) string
	change      func(r *logbook.Remarks, text string) // nil: it says which runs are listed
}

var (
	search = &field{label: "those of", hint: "part of a name, a folder, a verdict, a note, or a tag"}
	noted  = &field{
		label: "note", hint: "what is to be known of this run", value: func(e *logbook.Entry) string { return e.Note },
		change: func(r *logbook.Remarks, text string) { r.Note = text },
	}
	called = &field{
		label: "call it", hint: "empty: by its duel", value: func(e *logbook.Entry) string { return e.Called },
		change: func(r *logbook.Remarks, text string) { r.Called = text },
	}
	tagged = &field{
		label: "tags", hint: "words between spaces",
		value: func(e *logbook.Entry) string { return strings.Join(e.Tags, " ") },
		change: func(r *logbook.Remarks, text string) {
			r.Tags, _ = logbook.SplitTags(text)
			r.Retag(nil, nil)
		},
	}
)

// New returns the view at the newest run.
func New() screen.View {
	bind := func(k, does string) key.Binding { return key.NewBinding(key.WithKeys(k), key.WithHelp(k, does)) }
	return View{
		cursor: parts.NewCursor(), of: screen.Kept, open: bind("enter", "open"),
		look: bind("/", "those of …"), failed: bind("t", "failed attempts"), note: bind("n", "note"), tags: bind("g",
			"tags"),
		call: bind("c", "call it"), remove: bind("d", "delete"), done: bind("enter", "list those"),
		leave: bind("esc", "list all"), take: bind("enter", "keep"), give: bind("esc", "leave it as it was"),
		yes: bind("enter", "delete it"), not: bind("esc", "keep it"),

		duel: parts.NewCursor(), run: parts.NewCursor(), byDuel: bind("b", "by duel"), byRun: bind("b", "run by run"),
		over: bind("enter", "over time"), back: bind("esc", "back"), hold: bind("h", "hold to …"),
		again: bind("e", "again"), save: bind("s", "save picture"), up: key.NewBinding(key.WithKeys("up", "k"),
			key.WithHelp("↑ ↓", "scroll")),
		down: key.NewBinding(key.WithKeys("down", "j")),
	}
}

// Captures implements screen.Capturer.
func (v View) Captures() bool { return v.typed != nil || v.asked }

// listed are the runs that the view has; while the logbook is still asked for them, those of them that are at hand.
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
	case v.typed == search:
		return []key.Binding{v.done, v.leave}
	case v.typed != nil:
		return []key.Binding{v.take, v.give}
	case v.asked:
		return []key.Binding{v.yes, v.not}
	case s.Book.Runs == 0:
		return nil
	}
	if v.shows != runs {
		return v.pageKeys(s)
	}
	open, failed := v.open, v.failed
	open.SetEnabled((s.Run == nil || !s.Run.Live) && len(v.listed(s)) > 0)
	if v.of.Attempts == logbook.Failing {
		failed.SetHelp("t", "those that did not fail")
	}
	keys := []key.Binding{open, v.cursor.Key(), v.byDuel}
	if len(v.listed(s)) > 0 {
		again := v.again
		again.SetEnabled(s.Run == nil || !s.Run.Live)
		keys = append(keys, v.holding(), again, v.note, v.tags, v.call, v.remove)
	}
	return append(keys, v.look, failed)
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if v.typed != nil {
		return v.write(msg)
	}
	if _, ok := msg.(screen.PairedMsg); ok && s.Pair != nil {
		v.from, v.shows, v.line, v.first = v.shows, pair, 0, ""
		if v.from == pair {
			v.from = runs
		}
		return v, nil
	}
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || s.Book.Runs == 0 {
		return v, nil
	}
	if v.shows != runs {
		return v.turn(press, s)
	}
	if v.asked {
		switch {
		case key.Matches(press, v.yes):
			v.asked = false
			return v, screen.Send(screen.DeleteRunMsg{ID: v.whose})
		case key.Matches(press, v.not):
			v.asked = false
		}
		return v, nil
	}
	listed := v.listed(s)
	if next, moved := v.cursor.Press(press, len(listed)); moved {
		v.cursor = next
		return v, nil
	}
	switch {
	case key.Matches(press, v.byDuel):
		v.shows = duels
		return v, screen.Send(screen.LinesMsg{})
	case key.Matches(press, v.look):
		return v.begin(search, v.of.Text)
	case key.Matches(press, v.failed) && v.of.Attempts == logbook.Failing:
		v.of.Attempts = logbook.Kept
		return v.list()
	case key.Matches(press, v.failed):
		v.of.Attempts = logbook.Failing
		return v.list()
	case key.Matches(press, v.open) && len(listed) > 0 && (s.Run == nil || !s.Run.Live):
		return v, screen.Send(screen.OpenMsg{ID: listed[v.cursor.At(len(listed))].ID})
	}
	if len(listed) == 0 {
		return v, nil
	}
	here := &listed[v.cursor.At(len(listed))]
	v.whose = here.ID
	switch {
	case key.Matches(press, v.hold):
		return v.holdTo(here.ID)
	case key.Matches(press, v.again) && (s.Run == nil || !s.Run.Live):
		return v, screen.Send(screen.AgainMsg{ID: here.ID})
	}
	for _, w := range []struct {
		key   key.Binding
		field *field
	}{{v.note, noted}, {v.tags, tagged}, {v.call, called}} {
		if key.Matches(press, w.key) {
			return v.begin(w.field, w.field.value(here))
		}
	}
	v.asked = key.Matches(press, v.remove) && here.Ending != result.Running
	return v, nil
}

// list asks for the runs that are to be listed.
func (v View) list() (View, tea.Cmd) {
	v.cursor = v.cursor.Set(0)
	return v, screen.Send(screen.ListMsg{Of: v.of})
}

// begin has the user write something.
func (v View) begin(f *field, value string) (screen.View, tea.Cmd) {
	v.typed, v.input = f, parts.NewInput(f.hint, value)
	return v, v.input.Focus()
}

// write takes keys while the user writes; of what is to be listed the list follows.
func (v View) write(msg tea.Msg) (screen.View, tea.Cmd) {
	f := v.typed
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case key.Matches(press, v.done):
			v.typed = nil
			if f.change == nil {
				return v, nil
			}
			text := strings.TrimSpace(v.input.Value())
			return v, screen.Send(screen.RemarkMsg{ID: v.whose, Change: func(r *logbook.Remarks) { f.change(r, text) }})
		case key.Matches(press, v.leave):
			v.typed = nil
			if f == search {
				v.of.Text = ""
				return v.list()
			}
			return v, nil
		}
	}
	var cmd tea.Cmd
	v.input, cmd = v.input.Update(msg)
	if f == search && v.of.Text != v.input.Value() {
		v.of.Text = v.input.Value()
		next, list := v.list()
		return next, tea.Batch(cmd, list)
	}
	return v, cmd
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	switch {
	case s.BookTrouble != nil:
		return "There is no logbook: " + s.BookTrouble.Error() + "."
	case s.Book.Runs == 0:
		return "The logbook is empty; every run is kept here, the finished ones and the interrupted ones."
	}
	if v.shows != runs {
		return v.pageSentence(s)
	}
	listed := v.listed(s)
	what := "run"
	if v.of.Attempts == logbook.Failing {
		what = "failed attempt"
	}
	if v.asked {
		for i := range listed {
			if e := &listed[i]; e.ID == v.whose {
				return fmt.Sprintf("Delete %s, %s of %s, with its %s?", e.ID, e.Title(), s.When(e.Started),
					units.Plural(e.Heats, "heat"))
			}
		}
	}
	newest := ""
	if len(s.Runs) < s.Found {
		newest = fmt.Sprintf(" The newest %d are listed.", len(s.Runs))
	}
	switch {
	case v.of != s.Listed && v.of.Text != "":
		return fmt.Sprintf("Looking for %ss with %q …", what, v.of.Text)
	case v.of != s.Listed:
		return fmt.Sprintf("Looking for %ss …", what)
	case v.of.Text != "":
		return fmt.Sprintf("%s with %q in names, folder, verdict, note or tags.%s", units.Plural(s.Found, what),
			v.of.Text, newest)
	case what != "run":
		return units.Plural(s.Book.Failed, what) + ": nothing came of them." + newest
	}
	text := fmt.Sprintf(
		"%s, %s of them to the end", units.Plural(s.Book.Runs-s.Book.Failed, "run"), units.Count(int64(s.Book.Done)),
	)
	if len(listed) > 0 {
		text += fmt.Sprintf("; the newest is %s of %s", listed[0].Name, s.When(listed[0].Started))
	}
	text += "."
	if s.Book.Failed > 0 {
		text += " " + units.Plural(s.Book.Failed, "failed attempt") + " besides."
	}
	return text + newest
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	switch {
	case v.shows == duels:
		return v.duelsBody(s, w, h)
	case v.shows == line && v.lineAt(s) != nil:
		return v.lineBody(s, v.lineAt(s), w, h)
	case v.shows == pair && s.Pair != nil:
		return v.pairBody(s, w, h)
	}
	var lines []string
	if f := v.typed; f != nil {
		label := f.label + "  "
		lines = append(lines, s.Theme.Strong.Render(label)+parts.InputLine(v.input, max(w-len(label), 1)), "")
		h -= len(lines)
	}
	var list []string
	at := 0
	listed := v.listed(s)
	for i, e := range listed {
		here := i == v.cursor.At(len(listed))
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
	head := mark + parts.Cell(name.Render(e.Title()), title) + space +
		s.Theme.Faint.Render(parts.Cell(s.When(e.Started), date)+space+parts.Cell(e.ID, id)+space)
	said := e.Sentence
	if said == "" {
		said = "no verdict"
	}
	if v.first == e.ID {
		ending += s.Theme.Caution.Render("  to be held to another")
	}
	head += ending
	lines := []string{parts.Cell(head, w)}
	var remarks []string
	if e.Called != "" {
		remarks = append(remarks, "of "+e.Name)
	}
	if len(e.Tags) > 0 {
		remarks = append(remarks, strings.Join(e.Tags, " · "))
	}
	if len(remarks) > 0 {
		lines = append(lines, mark+parts.Cell(s.Theme.Ink.Render(strings.Join(remarks, "   ")), w-2))
	}
	if e.Note != "" {
		for _, part := range parts.Wrap(e.Note, max(w-2, 1)) {
			lines = append(lines, mark+s.Theme.Ink.Render(parts.Cell(part, w-2)))
		}
	}
	if filepath.IsAbs(e.File) { // else, of a run that was imported, it says nothing of where that is
		lines = append(lines, mark+s.Theme.Faint.Render(parts.Cell("in "+filepath.Dir(e.File), w-2)))
	}
	for _, part := range parts.Wrap(said, max(w-2, 1)) {
		lines = append(lines, mark+s.Theme.Faint.Render(parts.Cell(part, w-2)))
	}
	return append(lines, "")
}
