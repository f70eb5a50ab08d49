package ask

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/core/draft"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// dialog is what stands in place of the list while something is asked. Each is a value with its own state.
type dialog interface {
	update(tea.Msg, screen.Scene) (next dialog, cmd tea.Cmd) // next is nil when it is done
	sentence(screen.Scene) string
	body(s screen.Scene, w int) string
	bindings() []key.Binding
}

func leave() key.Binding { return key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "leave it")) }

// newDuel is the form as a dialog.
type newDuel struct{ form form }

func (d newDuel) update(msg tea.Msg, _ screen.Scene) (dialog, tea.Cmd) {
	next, cmd, done := d.form.update(msg)
	if done {
		return nil, cmd
	}
	return newDuel{next}, cmd
}

func (d newDuel) sentence(s screen.Scene) string {
	return "A new duel in " + s.Title +
		": who stands against whom? The plan is written with comments, to be refined later."
}

func (d newDuel) body(s screen.Scene, w int) string { return d.form.body(s, min(w, 110)) }
func (d newDuel) bindings() []key.Binding           { return d.form.bindings() }

// removal asks once before a plan file goes.
type removal struct {
	duel    screen.Duel
	yes, no key.Binding
}

func newRemoval(d screen.Duel) removal {
	return removal{d, key.NewBinding(key.WithKeys("d"), key.WithHelp("d", "delete the file")), leave()}
}

func (d removal) update(msg tea.Msg, _ screen.Scene) (dialog, tea.Cmd) {
	press, ok := msg.(tea.KeyPressMsg)
	switch {
	case !ok:
		return d, nil
	case key.Matches(press, d.yes):
		return nil, screen.Send(screen.RemovePlanMsg{Duel: d.duel})
	}
	return nil, nil
}

func (d removal) sentence(screen.Scene) string {
	return fmt.Sprintf("Delete %s? Its runs stay in the log.", d.duel.Base())
}

func (d removal) body(s screen.Scene, w int) string {
	return s.Theme.Faint.Render("file  ") + parts.Cell(d.duel.File, max(w-6, 0)) + "\n\n" +
		s.Theme.Strong.Render("d") + "    delete the file\n" + s.Theme.Strong.Render("esc") + "  leave it"
}

func (d removal) bindings() []key.Binding { return []key.Binding{d.yes, d.no} }

// importing takes a pasted curl line and adds it as a contender.
type importing struct {
	kinds      []*draft.Kind
	duel       screen.Duel
	input      textinput.Model
	trouble    string
	take, exit key.Binding
}

func newImporting(d screen.Duel, kinds []*draft.Kind) importing {
	in := parts.NewInput("curl http://127.0.0.1:8080/berths -H 'X-Board: joined'", "")
	in.Focus()
	return importing{
		duel: d, kinds: kinds, input: in, exit: leave(),
		take: key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "add it as a contender")),
	}
}

func (d importing) update(msg tea.Msg, _ screen.Scene) (dialog, tea.Cmd) {
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case key.Matches(press, d.exit):
			return nil, nil
		case key.Matches(press, d.take):
			return d.add()
		}
	}
	if paste, ok := msg.(tea.PasteMsg); ok {
		paste.Content = oneLine(paste.Content)
		msg = paste
	}
	var cmd tea.Cmd
	d.input, cmd = d.input.Update(msg)
	return d, cmd
}

func (d importing) add() (dialog, tea.Cmd) {
	got, err := draft.Import(d.kinds, d.input.Value())
	if err == nil {
		var taken []string
		if taken, err = draft.Contenders(d.duel.Source); err == nil {
			var text string
			if text, err = draft.Add(d.duel.Source, draft.Free(got.Name, taken), got.Settings, got.Notes); err == nil {
				return nil, screen.Send(screen.ChangePlanMsg{Duel: d.duel, Text: text})
			}
		}
	}
	d.trouble = err.Error()
	return d, nil
}

func (d importing) sentence(screen.Scene) string {
	return "Paste " + draft.Imports(d.kinds) + "; it becomes a contender of " + d.duel.Name() +
		". What looks secret is left to the environment."
}

func (d importing) body(s screen.Scene, w int) string {
	text := parts.InputLine(d.input, w)
	if d.trouble != "" {
		text += "\n\n" + strings.Join(mark(s.Theme.Trouble.Render, d.trouble, w), "\n")
	}
	return text
}

func (d importing) bindings() []key.Binding { return []key.Binding{d.take, d.exit} }

// building chooses a contender to build another one on.
type building struct {
	duel       screen.Duel
	names      []string
	cursor     parts.Cursor
	take, exit key.Binding
}

func newBuilding(d screen.Duel) (building, error) {
	names, err := draft.Contenders(d.Source)
	return building{
		duel: d, names: names, cursor: parts.NewCursor(), exit: leave(),
		take: key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "build on this one, in your editor")),
	}, err
}

func (d building) update(msg tea.Msg, _ screen.Scene) (dialog, tea.Cmd) {
	press, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return d, nil
	}
	if next, moved := d.cursor.Press(press, len(d.names)); moved {
		d.cursor = next
		return d, nil
	}
	switch {
	case key.Matches(press, d.exit):
		return nil, nil
	case key.Matches(press, d.take):
		like := d.names[d.cursor.At(len(d.names))]
		text, err := draft.AddLike(d.duel.Source, like, draft.Free(like, d.names))
		if err != nil {
			return nil, screen.Send(screen.SayMsg{Text: err.Error(), Trouble: true})
		}
		return nil, screen.Send(screen.ChangePlanMsg{Duel: d.duel, Text: text, Edit: true})
	}
	return d, nil
}

func (d building) sentence(screen.Scene) string {
	return fmt.Sprintf(
		"Which of the %s of %s does the new one start from?", units.Plural(len(d.names), "contender"), d.duel.Name(),
	)
}

func (d building) body(s screen.Scene, w int) string {
	var lines []string
	for i, name := range d.names {
		lead := "  "
		sign := chart.SignOf(i)
		style := s.Theme.Sign(sign)
		if i == d.cursor.At(len(d.names)) {
			lead, style = s.Theme.Strong.Render("▌ "), style.Bold(true)
		}
		lines = append(lines, parts.Cell(lead+style.Render(sign.Glyph+" "+name), w))
	}
	return strings.Join(lines, "\n")
}

func (d building) bindings() []key.Binding { return []key.Binding{d.take, d.cursor.Key(), d.exit} }
