// Package weighin is the stop before timing: what each contender answered to its one shot, face to face.
package weighin

import (
	"fmt"
	"math"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
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
	from           int
	up, down, take key.Binding
}

// New returns the view at the top.
func New() screen.View {
	return View{
		up:   key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑ ↓", "scroll the answers")),
		down: key.NewBinding(key.WithKeys("down", "j"), key.WithHelp("↓", "scroll down")),
		take: key.NewBinding(key.WithKeys("t"), key.WithHelp("t", "time them all the same")),
	}
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) []key.Binding {
	if refused(s) {
		return []key.Binding{v.take, v.up}
	}
	return []key.Binding{v.up}
}

// refused reports whether the run in view ended because of unequal work, which may be accepted.
func refused(s screen.Scene) bool { return s.Run != nil && weighin.IsUnequal(s.Run.Err) }

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case key.Matches(press, v.up):
			v.from = max(v.from-1, 0)
		case key.Matches(press, v.down):
			v.from = min(v.from+1, 500)
		case key.Matches(press, v.take) && refused(s):
			return v, screen.Send(screen.AcceptMsg{})
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
	asked := 0
	for _, e := range s.Run.Result.Entrants {
		if e.Touch == nil {
			continue
		}
		asked++
		if !weighin.Passed(e.Touch) {
			failed = append(failed, e.Name)
		}
	}
	w := s.Run.Result.Weighing
	unequal := w.Unequal()
	switch {
	case len(failed) > 0:
		return fmt.Sprintf("%s did not pass the weigh-in, so nothing was timed; each shows its own words and what to try.", units.List(failed))
	case asked < len(s.Run.Result.Entrants):
		return fmt.Sprintf("Each contender is asked once before any timing: %d of %d so far.", asked, len(s.Run.Result.Entrants))
	case refused(s):
		return fmt.Sprintf("%s broke the plan's rules for the same work, so nothing was timed; where they differ stands below.", units.List(unequal))
	case len(unequal) > 0 && w.Accepted:
		return fmt.Sprintf("%s broke the plan's rules for the same work, and that was accepted.", units.List(unequal))
	case len(unequal) > 0:
		return fmt.Sprintf("All passed the weigh-in, but %s did not answer as %s did; make sure that they do the same work.", units.List(unequal), s.Run.Result.Plan.Baseline)
	case w != nil:
		return "All passed the weigh-in, and all do the same work."
	}
	return "All passed the weigh-in."
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
	if e.Version != "" {
		field("version", e.Version)
	}
	for _, note := range t.Notes {
		for _, l := range parts.Wrap("! "+note, w) {
			lines = append(lines, s.Theme.Caution.Render(l))
		}
	}
	lines = append(lines, v.weights(s, t, style, w)...) // before what differs in length, so that bars face each other
	lines = append(lines, differences(s, e.Name, w)...)
	return append(lines, v.said(s, t, w)...)
}

// shownParts is how many parts of an answer are drawn.
const shownParts = 6

// weights draws what a JSON answer is made of, as bars to one scale for all contenders.
func (v View) weights(s screen.Scene, t *result.Touch, style lipgloss.Style, w int) (lines []string) {
	if len(t.Parts) == 0 {
		return nil
	}
	scale := chart.PartScale(s.Run.Result)
	lines = append(lines, "", s.Theme.Faint.Render("what its bytes are"))
	name, size := min(w/2, 24), 9
	for _, p := range t.Parts[:min(len(t.Parts), shownParts)] {
		path := p.Path
		if path == "" {
			path = "{ }"
		}
		bar := parts.OutwardRight(chart.Bar{Length: scale.At(float64(p.Bytes)), Low: math.NaN(), High: math.NaN()}, max(w-name-size-2, 3), style)
		lines = append(lines, s.Theme.Faint.Render(parts.Cell(printable(path), name))+parts.Right(units.Bytes(float64(p.Bytes)), size)+"  "+bar)
	}
	return lines
}

// shownDifferences is how many places of a rule are listed.
const shownDifferences = 8

// differences lists the rules that the contender keeps or breaks, with the first places in which it differs: the
// baseline's value above its own.
func differences(s screen.Scene, name string, w int) (lines []string) {
	weighing := s.Run.Result.Weighing
	if weighing == nil {
		return nil
	}
	baseSign, ownSign := chart.SignFor(s.Run.Result, s.Run.Result.Plan.Baseline), chart.SignFor(s.Run.Result, name)
	base, own, baseGlyph, ownGlyph := s.Theme.Sign(baseSign), s.Theme.Sign(ownSign), baseSign.Glyph, ownSign.Glyph
	for _, c := range weighing.Checks {
		if c.Contender != name {
			continue
		}
		if c.Same {
			lines = append(lines, parts.Cell("✓ "+c.Rule, w))
			continue
		}
		style := s.Theme.Caution
		if weighing.Ruled {
			style = s.Theme.Trouble
		}
		lines = append(lines, style.Render(parts.Cell("! not "+c.Rule, w)))
		for _, d := range c.Differences[:min(len(c.Differences), shownDifferences)] {
			lines = append(lines, s.Theme.Faint.Render(parts.Cell("  "+d.Where, w)),
				"  "+base.Render(parts.Cell(baseGlyph+" "+printable(d.Baseline), w-2)), "  "+own.Render(parts.Cell(ownGlyph+" "+printable(d.Contender), w-2)))
		}
	}
	if len(lines) > 0 {
		lines = append([]string{"", s.Theme.Faint.Render("against " + s.Run.Result.Plan.Baseline)}, lines...)
	}
	return lines
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
