package ask

import (
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/core/draft"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// The lines of the form for a new duel, in the order in which one moves through them. Which of the last ones are asked
// for depends on the kind.
const (
	lineName = iota
	lineQuestion
	lineKind
	lineBaseline
	lineChallenger
	lineAsked // from here on: what the kind asks for
	lineCount = lineAsked + mostAsked
)

// mostAsked is how many more lines a kind may ask for.
const mostAsked = 3

type formKeys struct{ next, back, change, write, cancel key.Binding }

// form asks for a new duel, baseline and challenger face to face.
type form struct {
	keys    formKeys
	inputs  [lineCount]textinput.Model // that of lineKind is not used
	kinds   []*draft.Kind
	kind    int
	at      int
	trouble string
}

func newForm(kinds []*draft.Kind) form {
	f := form{kinds: kinds, keys: formKeys{
		next:   key.NewBinding(key.WithKeys("tab", "down", "enter"), key.WithHelp("tab", "next line")),
		back:   key.NewBinding(key.WithKeys("shift+tab", "up"), key.WithHelp("shift+tab", "line before")),
		change: key.NewBinding(key.WithKeys("left", "right", "space"), key.WithHelp("← →", "another kind")),
		write:  key.NewBinding(key.WithKeys("ctrl+s"), key.WithHelp("ctrl+s", "write the plan")),
		cancel: key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "leave it")),
	}}
	for i, hint := range [lineCount]string{"Manifest packing", "what is to be decided, in a sentence"} {
		f.inputs[i] = parts.NewInput(hint, "")
	}
	f.hints()
	f.inputs[f.at].Focus()
	return f
}

// hints puts the kind's examples and answers in place.
func (f *form) hints() {
	k := f.kinds[f.kind]
	f.inputs[lineBaseline].Placeholder, f.inputs[lineChallenger].Placeholder = k.Hints[0], k.Hints[1]
	for i, ask := range k.Asks {
		f.inputs[lineAsked+i].SetValue(ask.Default)
	}
}

// asked says whether a line is asked for just now.
func (f form) asked(line int) bool { return line < lineAsked+len(f.kinds[f.kind].Asks) }

func (f form) bindings() []key.Binding {
	return []key.Binding{f.keys.write, f.keys.next, f.keys.cancel}
}

// update moves through the form; done says that it is to be closed.
func (f form) update(msg tea.Msg) (next form, cmd tea.Cmd, done bool) {
	press, isKey := msg.(tea.KeyPressMsg)
	switch {
	case isKey && key.Matches(press, f.keys.cancel):
		return f, nil, true
	case isKey && (key.Matches(press, f.keys.write) || key.Matches(press, f.keys.next) &&
		press.Code == tea.KeyEnter && f.last()):
		return f.write()
	case isKey && key.Matches(press, f.keys.next):
		return f.move(1), nil, false
	case isKey && key.Matches(press, f.keys.back):
		return f.move(-1), nil, false
	case f.at == lineKind:
		if isKey && key.Matches(press, f.keys.change) {
			by := 1
			if press.Code == tea.KeyLeft {
				by = len(f.kinds) - 1
			}
			f.kind = (f.kind + by) % len(f.kinds)
			f.hints()
		}
		return f, nil, false
	}
	f.inputs[f.at], cmd = f.inputs[f.at].Update(msg)
	return f, cmd, false
}

func (f form) last() bool { return f.at == lineAsked+len(f.kinds[f.kind].Asks)-1 }

func (f form) move(by int) form {
	f.inputs[f.at].Blur()
	for {
		f.at = (f.at + by + lineCount) % lineCount
		if f.asked(f.at) {
			break
		}
	}
	f.inputs[f.at].Focus()
	return f
}

func (f form) write() (form, tea.Cmd, bool) {
	answers := draft.Answers{
		Name: f.inputs[lineName].Value(), Question: f.inputs[lineQuestion].Value(), Kind: f.kinds[f.kind], Others: f.kinds,
		Baseline: f.inputs[lineBaseline].Value(), Challenger: f.inputs[lineChallenger].Value(),
	}
	for i := range answers.Kind.Asks {
		answers.Asked = append(answers.Asked, f.inputs[lineAsked+i].Value())
	}
	text, err := answers.Plan()
	if err != nil {
		f.trouble = err.Error()
		return f, nil, false
	}
	return f, screen.Send(screen.NewPlanMsg{Name: answers.Name, Text: text}), true
}

// body draws the form: what is asked above, who is asked face to face below.
func (f form) body(s screen.Scene, w int) string {
	const label = 14
	t := s.Theme
	row := func(line int, name string, width int) string {
		style := t.Faint
		if f.at == line {
			style = t.Strong
		}
		return style.Render(parts.Cell(name, label)) + parts.InputLine(f.inputs[line], width)
	}
	var names []string
	for i, k := range f.kinds {
		style := t.Faint
		if i == f.kind {
			style = t.Strong
		}
		names = append(names, style.Render(k.Plural))
	}
	kind := strings.Join(names, t.Faint.Render("  or  "))
	kindStyle := t.Faint
	if f.at == lineKind {
		kindStyle = t.Strong
		kind = t.Strong.Render("‹ ") + kind + t.Strong.Render(" ›")
	}
	lines := []string{
		row(lineName, "name", w-label), row(lineQuestion, "question", w-label),
		kindStyle.Render(parts.Cell("kind", label)) + kind, "",
	}
	lines = append(lines, strings.Split(f.faces(s, w), "\n")...)
	lines = append(lines, "")
	for i, ask := range f.kinds[f.kind].Asks {
		lines = append(lines, row(lineAsked+i, ask.Name, 10))
	}
	if f.trouble != "" {
		lines = append(lines, "", t.Trouble.Render(f.trouble))
	}
	return strings.Join(lines, "\n")
}

// faces draws baseline and challenger left and right.
func (f form) faces(s screen.Scene, w int) string {
	const gap = 3
	each := (w - gap) / 2
	side := func(i, line int, name string) string {
		sign := chart.SignOf(i)
		style := s.Theme.Sign(sign)
		title := style.Render(sign.Glyph + " " + name)
		if f.at == line {
			title = style.Bold(true).Underline(true).Render(sign.Glyph + " " + name)
		}
		return parts.Cell(title, each) + "\n" + style.Render(strings.Repeat("─", each)) + "\n" +
			parts.InputLine(f.inputs[line], each)
	}
	return parts.Beside(gap, side(0, lineBaseline, "baseline"), side(1, lineChallenger, "challenger"))
}
