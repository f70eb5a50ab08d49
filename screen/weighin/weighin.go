// Package weighin is the stop before timing: what each contender answered to its one shot, face to face.
package weighin

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/chart"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/core/weighin"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// View has how far the answers are scrolled.
type View struct {
	from     int
	up, down key.Binding
}

// New returns the view at the top.
func New() screen.View {
	return View{
		up:   key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑ ↓", "scroll the answers")),
		down: key.NewBinding(key.WithKeys("down", "j"), key.WithHelp("↓", "scroll down")),
	}
}

// Keys implements screen.View.
func (v View) Keys(screen.Scene) []key.Binding { return []key.Binding{v.up} }

// Update implements screen.View.
func (v View) Update(msg tea.Msg, _ screen.Scene) (screen.View, tea.Cmd) {
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case key.Matches(press, v.up):
			v.from = max(v.from-1, 0)
		case key.Matches(press, v.down):
			v.from = min(v.from+1, 500)
		}
	}
	return v, nil
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	if s.Run == nil {
		return "No contender has been asked yet; start a duel under ask, or open an earlier run under log."
	}
	var failed []string
	asked, bytes, same := 0, int64(-1), true
	for _, e := range s.Run.Result.Entrants {
		if e.Touch == nil {
			continue
		}
		asked++
		if !weighin.Passed(e.Touch) {
			failed = append(failed, e.Name)
			continue
		}
		same = same && (bytes < 0 || bytes == e.Touch.Bytes)
		bytes = e.Touch.Bytes
	}
	switch {
	case len(failed) > 0:
		return fmt.Sprintf("%s did not pass the weigh-in, so nothing was timed; each shows its own words and what to try.", units.List(failed))
	case asked < len(s.Run.Result.Entrants):
		return fmt.Sprintf("Each contender is asked once before any timing: %d of %d so far.", asked, len(s.Run.Result.Entrants))
	case same:
		return fmt.Sprintf("All passed the weigh-in, each with %s.", units.Bytes(float64(bytes)))
	}
	return "All passed the weigh-in, but their answers differ in size; make sure that they do the same work."
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	if s.Run == nil {
		return ""
	}
	entrants := s.Run.Result.Entrants
	const gap = 3
	columns := min(len(entrants), max(w/34, 1))
	rows := (len(entrants) + columns - 1) / columns
	each, tall := (w-gap*(columns-1))/columns, h/rows
	var blocks []string
	for row := range rows {
		var line []string
		for i := row * columns; i < min((row+1)*columns, len(entrants)); i++ {
			line = append(line, parts.Fit(strings.Join(v.entrant(s, i, each), "\n"), each, tall))
		}
		blocks = append(blocks, parts.Beside(gap, line...))
	}
	return strings.Join(blocks, "\n")
}

func (v View) entrant(s screen.Scene, i, w int) (lines []string) {
	e, sign := s.Run.Result.Entrants[i], chart.SignOf(i)
	style := s.Theme.Sign(sign)
	lines = append(lines, parts.Cell(style.Bold(true).Render(sign.Glyph+" "+e.Name), w), style.Render(strings.Repeat("─", w)))
	lines = append(lines, parts.Wrap(e.Does, w)...)
	t := e.Touch
	if t == nil {
		return append(lines, "", s.Theme.Faint.Render("not asked yet"))
	}
	field := func(name, value string) {
		lines = append(lines, s.Theme.Faint.Render(parts.Cell(name, 13))+value)
	}
	lines = append(lines, "")
	if weighin.Passed(t) {
		field("outcome", t.Outcome)
	} else {
		lines = append(lines, s.Theme.Trouble.Render(t.Class))
		for _, l := range parts.Wrap(t.Err, w) {
			lines = append(lines, s.Theme.Trouble.Render(l))
		}
		lines = append(lines, parts.Wrap("→ "+t.Try, w)...)
		lines = append(lines, "")
	}
	if t.Latency == 0 {
		return lines // it never got as far as that
	}
	field("first touch", units.Duration(t.Latency))
	field("answer", units.Bytes(float64(t.Bytes)))
	if t.Type != "" {
		field("type", t.Type)
	}
	return append(lines, v.said(s, t, w)...)
}

// said is what the contender answered and printed, scrolled.
func (v View) said(s screen.Scene, t *result.Touch, w int) (lines []string) {
	for _, part := range []struct{ name, text string }{{"headers", strings.Join(t.Headers, "\n")}, {"on standard error", t.Stderr}, {"its answer begins", t.Body}} {
		if strings.TrimSpace(part.text) == "" {
			continue
		}
		lines = append(lines, "", s.Theme.Faint.Render(part.name))
		for line := range strings.SplitSeq(strings.TrimRight(part.text, "\n"), "\n") {
			lines = append(lines, strings.Split(ansi.Hardwrap(printable(line), w, true), "\n")...)
		}
	}
	return lines[min(v.from, max(len(lines)-1, 0)):]
}

// printable keeps a contender's bytes from moving our cursor.
func printable(line string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0:
			return '·'
		}
		return r
	}, line)
}
