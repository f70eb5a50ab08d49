// Package verdict is the stop where the figures are weighed: the sentence, the ladder mirrored about its spine, the
// scorecard with a lean towards the better side, the cautions.
package verdict

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

type keys struct{ face, magnitudes, save, keep, up, down key.Binding }

// View has which pair is face to face, the kind of scale, and how far it is scrolled.
type View struct {
	turn int // faces on from the one to look at first
	log  bool
	from int
	keys keys
}

// New returns the view of the first pair on a linear scale.
func New() screen.View {
	return View{keys: keys{
		face:       key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "other pair")),
		magnitudes: key.NewBinding(key.WithKeys("m"), key.WithHelp("m", "magnitudes (log scale)")),
		save:       key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "save to files")),
		keep:       key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "plan to a file")),
		up:         key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑ ↓", "scroll")),
		down:       key.NewBinding(key.WithKeys("down", "j"), key.WithHelp("↓", "scroll down")),
	}}
}

func judged(s screen.Scene) bool {
	return s.Run != nil && s.Run.Verdict != nil && s.Run.Verdict.Rounds > 0
}

// Keys implements screen.View.
func (v View) Keys(s screen.Scene) []key.Binding {
	if !judged(s) {
		return nil
	}
	out := []key.Binding{v.keys.save, v.keys.magnitudes}
	if len(s.Run.Verdict.Faces) > 1 {
		out = append(out, v.keys.face)
	}
	return append(out, v.keys.up, v.keys.keep)
}

// Update implements screen.View.
func (v View) Update(msg tea.Msg, s screen.Scene) (screen.View, tea.Cmd) {
	press, ok := msg.(tea.KeyPressMsg)
	if !ok || !judged(s) {
		return v, nil
	}
	switch {
	case key.Matches(press, v.keys.face):
		v.turn++
	case key.Matches(press, v.keys.magnitudes):
		v.log = !v.log
	case key.Matches(press, v.keys.save):
		return v, screen.Send(screen.SaveMsg{Face: v.at(s), Log: v.log})
	case key.Matches(press, v.keys.keep):
		return v, screen.Send(screen.KeepPlanMsg{})
	case key.Matches(press, v.keys.up):
		v.from = max(v.from-1, 0)
	case key.Matches(press, v.keys.down):
		v.from = min(v.from+1, 200)
	}
	return v, nil
}

// at is the pair in view.
func (v View) at(s screen.Scene) int {
	return (s.Run.Verdict.Best + v.turn) % len(s.Run.Verdict.Faces)
}

// Sentence implements screen.View.
func (v View) Sentence(s screen.Scene) string {
	switch {
	case s.Run == nil:
		return "There is no verdict yet; start a duel under ask, or open an earlier run under log."
	case s.Run.Err != nil && !judged(s):
		return "There is no verdict: " + s.Run.Err.Error() + "."
	case s.Run.Live && !judged(s):
		return "There is nothing to weigh before the first round is complete."
	case !judged(s):
		return "No round was finished, so there is nothing to compare."
	case s.Run.Live:
		return "So far: " + s.Run.Verdict.Sentence
	}
	return s.Run.Verdict.Sentence
}

// Body implements screen.View.
func (v View) Body(s screen.Scene, w, h int) string {
	if !judged(s) {
		return ""
	}
	verdict := s.Run.Verdict
	first := v.at(s)
	card := v.scorecard(s, w)
	notes := append(claims(s, verdict.Claims, w), cautions(s, verdict.Cautions, w)...)
	draw := func(face int, airy bool) []string {
		return v.ladder(s, chart.NewLadder(s.Run.Result, verdict, face, chart.Look{Log: v.log}), w, airy)
	}
	lines, others := draw(first, false), []string(nil)
	room := h - len(lines) - len(card) - len(notes) - 1
	// The other pairs follow where the window has room for them; what is left then gives the first one air.
	for i := 1; i < len(verdict.Faces); i++ {
		next := append([]string{""}, draw((first+i)%len(verdict.Faces), false)...)
		if len(next) > room {
			break
		}
		others, room = append(others, next...), room-len(next)
	}
	if room >= len(verdict.Faces[first].Figures) {
		lines = draw(first, true)
	}
	lines = append(lines, others...)
	lines = append(lines, "")
	lines = append(append(lines, card...), notes...)
	from := min(v.from, max(len(lines)-h, 0))
	return strings.Join(lines[from:], "\n")
}

// claims are the plan's statements with what came of them.
func claims(s screen.Scene, list []judge.Claim, w int) (lines []string) {
	if len(list) == 0 {
		return nil
	}
	lines = append(lines, "", s.Theme.Faint.Render(units.Plural(len(list), "claim")))
	for _, c := range list {
		style := s.Theme.Lead
		switch c.Finding {
		case judge.Refuted:
			style = s.Theme.Trouble
		case judge.Undecided:
			style = s.Theme.Caution
		}
		finding := parts.Cell(string(c.Finding), len(judge.Undecided)+1)
		lines = append(lines, parts.Cell("  "+style.Render(finding)+c.Text+s.Theme.Faint.Render("  "+c.Why), w))
	}
	return lines
}

// columns are the widths of the ladder: value and bar on each side of the spine, and what is said at the right.
type columns struct{ value, bar, spine, said int }

func layout(s screen.Scene, w int) columns {
	c := columns{value: 10, spine: 14, said: 40}
	if len(s.Run.Result.States()) > 1 {
		c.spine += 2 // room for the state
	}
	switch {
	case w < 84:
		c.said, c.spine, c.value = 22, c.spine-2, 9
	case w < 120:
		c.said = 30
	}
	c.bar = max((w-c.said-c.spine-2*c.value-2)/2, 4)
	return c
}

// ladder draws the rungs of one face, with a gap between them when airy.
func (v View) ladder(s screen.Scene, l *chart.Ladder, w int, airy bool) (lines []string) {
	c := layout(s, w)
	left, right := s.Theme.Sign(l.Left.Sign), s.Theme.Sign(l.Right.Sign)
	side := c.bar + c.value
	head := parts.Right(left.Bold(true).Render(l.Left.Name+" "+l.Left.Sign.Glyph), side) + parts.Center("", c.spine) +
		parts.Cell(right.Bold(true).Render(l.Right.Sign.Glyph+" "+l.Right.Name), side) + "  " + s.Theme.Faint.Render(l.Right.Name+" is"+scaleNote(l))
	lines = append(lines, head)
	scale := -1
	for i, r := range l.Rungs {
		if r.Scale != scale {
			if scale >= 0 {
				lines = append(lines, v.axis(s, l, scale, c))
			}
			scale = r.Scale
		} else if airy {
			lines = append(lines, strings.Repeat(" ", side)+s.Theme.Faint.Render("│"+strings.Repeat(" ", c.spine-2)+"│"))
		}
		spine := s.Theme.Faint.Render("│") + parts.Center(s.Theme.Strong.Render(r.Label), c.spine-2) + s.Theme.Faint.Render("│")
		line := parts.OutwardLeft(r.Left, c.bar, left) + parts.Right(r.Left.Text+" ", c.value) + spine +
			parts.Cell(" "+r.Right.Text, c.value) + parts.OutwardRight(r.Right, c.bar, right) + "  " + said(s, r, c.said)
		lines = append(lines, line)
		if i == len(l.Rungs)-1 {
			lines = append(lines, v.axis(s, l, scale, c))
		}
	}
	return lines
}

func scaleNote(l *chart.Ladder) string {
	if l.Log {
		return "     bars: log scale"
	}
	return ""
}

// axis draws the scale below its rungs, mirrored about the spine.
func (v View) axis(s screen.Scene, l *chart.Ladder, scale int, c columns) string {
	ticks := l.Scales[scale].Ticks
	gap := strings.Repeat(" ", c.value)
	return s.Theme.Faint.Render(parts.Axis(ticks, c.bar, true) + gap + "│" + strings.Repeat(" ", c.spine-2) + "│" + gap + parts.Axis(ticks, c.bar, false))
}

// briefBelow is the width under which a rung is commented with its word alone.
const briefBelow = 30

// said is what stands at the end of a rung.
func said(s screen.Scene, r chart.Rung, w int) string {
	style := s.Theme.Ink
	switch r.Word {
	case judge.Better:
		style = s.Theme.Lead
	case judge.Open, judge.TooFew, judge.NoWord:
		style = s.Theme.Faint
	}
	say := r.Say
	if w < briefBelow {
		say = strings.TrimRight(say[:max(strings.IndexAny(say+":", ":,("), 0)], " ")
	}
	text := style.Render(say)
	if r.Ratio != "" {
		text = parts.Right(style.Render(r.Ratio), 5) + " " + text
		settled := r.Word == judge.Better || r.Word == judge.Worse || r.Word == judge.Alike
		if interval := s.Theme.Faint.Render("  " + r.Interval); settled && lipgloss.Width(text)+lipgloss.Width(interval) <= w {
			text += interval
		}
	}
	return parts.Cell(text, w)
}

// scorecard draws what is counted, face to face, with an arrow at the better side.
func (v View) scorecard(s screen.Scene, w int) (lines []string) {
	c := layout(s, w)
	verdict := s.Run.Verdict
	li, ri := indexOf(s, verdict.Baseline), indexOf(s, verdict.Faces[v.at(s)].Contender)
	side := c.bar + c.value
	middle := max(c.spine, 24)
	side -= (middle - c.spine) / 2
	for _, row := range verdict.Scorecard {
		left, right := row.Values[li], row.Values[ri]
		l, r := " ", " "
		switch lean := row.Lean(li, ri); {
		case lean < 0:
			l, left = s.Theme.Lead.Render("◂"), s.Theme.Lead.Render(left)
		case lean > 0:
			r, right = s.Theme.Lead.Render("▸"), s.Theme.Lead.Render(right)
		}
		lines = append(lines, parts.Right(left+" "+l, side)+parts.Center(s.Theme.Faint.Render(row.Name), middle)+parts.Cell(r+" "+right, side)+"  "+others(s, row, li, ri))
	}
	return lines
}

// others lists the values of contenders that are not face to face just now.
func others(s screen.Scene, row judge.Row, li, ri int) string {
	var out []string
	for i, value := range row.Values {
		if i != li && i != ri {
			sign := chart.SignOf(i)
			out = append(out, s.Theme.Sign(sign).Render(sign.Glyph)+s.Theme.Faint.Render(" "+value))
		}
	}
	return strings.Join(out, "  ")
}

func indexOf(s screen.Scene, name string) int {
	for i, e := range s.Run.Result.Entrants {
		if e.Name == name {
			return i
		}
	}
	return 0
}

func cautions(s screen.Scene, list []judge.Caution, w int) (lines []string) {
	if len(list) == 0 {
		return nil
	}
	lines = append(lines, "", s.Theme.Caution.Render(units.Plural(len(list), "caution")))
	for _, c := range list {
		for i, l := range parts.Wrap(c.What, w-4) {
			lead := "    "
			if i == 0 {
				lead = s.Theme.Caution.Render("  ! ")
			}
			lines = append(lines, lead+l)
		}
		for _, l := range parts.Wrap(c.Try, w-4) {
			lines = append(lines, "    "+s.Theme.Faint.Render(l))
		}
	}
	return lines
}
