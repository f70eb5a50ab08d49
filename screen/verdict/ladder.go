package verdict

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// columns are the widths of the ladder: value and bar on each side of the spine, what is said at the right, and the
// leans.
type columns struct{ value, bar, spine, said, lean int }

func layout(s screen.Scene, w int) columns {
	c := columns{value: 10, spine: 14, said: 40}
	if len(s.Run.Result.States()) > 1 {
		c.spine += 2 // room for the state
	}
	switch {
	case w < 84:
		c.said, c.spine = 22, c.spine-2
	case w < 120:
		c.said = 30
	default:
		c.lean, c.said = 19, 37
		const most = 20
		c.spine = min(max(c.spine, longestLabel(s)+2), most)
	}
	c.bar = max((w-c.said-c.spine-2*c.value-2-c.lean-min(c.lean, 2))/2, 4)
	return c
}

// longestLabel is the width of the longest name on the ladder.
func longestLabel(s screen.Scene) (longest int) {
	if s.Run.Verdict == nil {
		return 0
	}
	for i := range s.Run.Verdict.Faces {
		for _, a := range s.Run.Verdict.Faces[i].Figures {
			if a.Main {
				longest = max(longest, lipgloss.Width(strings.TrimSpace(a.Figure.Label()+" "+a.State)))
			}
		}
	}
	return longest
}

// ladderBody is the ladder of the pair in view, those of others as far as there is room, the scorecard, and what there
// is to say for and against.
func (v View) ladderBody(s screen.Scene, w, h int) []string {
	verdict, face, ok := v.facing(s)
	if !ok {
		return nil
	}
	card := v.scorecard(s, verdict, face, w)
	notes := v.notes(s, w)
	draw := func(face int, airy bool) []string {
		return v.ladder(s, v.newLadder(s, verdict, face), w, airy)
	}
	lines, others := draw(face, false), []string(nil)
	var before, after []string
	if table := standing(s, w); len(table) > 0 {
		// The table of all stands first where that leaves room for the ladder of two.
		if before = append(table, ""); len(before)+len(lines) > h {
			before, after = nil, append([]string{""}, table...)
		}
	}
	room := h - len(lines) - len(card) - len(notes) - len(before) - len(after) - 1
	// The other pairs follow where the window has room for them; what is left then gives the first one air.
	for i := 1; i < len(verdict.Faces) && verdict == s.Run.Verdict; i++ {
		next := append([]string{""}, draw((face+i)%len(verdict.Faces), false)...)
		if len(next) > room {
			break
		}
		others, room = append(others, next...), room-len(next)
	}
	if room >= len(lines) {
		lines = draw(face, true)
	}
	lines = append(append(before, lines...), others...)
	lines = append(append(lines, after...), notes...)
	lines = append(lines, "")
	return append(lines, card...)
}

// notes sum up the reasons in a line or two.
func (v View) notes(s screen.Scene, w int) (lines []string) {
	verdict := s.Run.Verdict
	var text []string
	counts := map[judge.Finding]int{}
	for _, c := range verdict.Claims {
		counts[c.Finding]++
	}
	for _, f := range []judge.Finding{judge.Refuted, judge.Undecided, judge.Upheld} {
		if n := counts[f]; n > 0 {
			style := findingStyle(s, f)
			text = append(text, style.Render(fmt.Sprintf("%s %s", units.Plural(n, "claim"), f)))
		}
	}
	if n := len(verdict.Stakes); n > 0 {
		text = append(text, units.Plural(n, "stake"))
	}
	if n := len(verdict.Cautions); n > 0 {
		text = append(text, s.Theme.Caution.Render(units.Plural(n, "caution")+": "+kinds(verdict.Cautions)))
	}
	if len(text) == 0 {
		return nil
	}
	return []string{"", parts.Cell(" "+strings.Join(text, s.Theme.Faint.Render("  ·  ")), w)}
}

// kinds lists the kinds of cautions, each once.
func kinds(cautions []judge.Caution) string {
	var out []string
	seen := map[judge.CautionKind]bool{}
	for _, c := range cautions {
		if !seen[c.Kind] {
			seen[c.Kind] = true
			out = append(out, string(c.Kind))
		}
	}
	return strings.Join(out, ", ")
}

// ladder draws the rungs of one face, with a gap between them when airy.
func (v View) ladder(s screen.Scene, l *chart.Ladder, w int, airy bool) (lines []string) {
	c := layout(s, w)
	left, right := s.Theme.Sign(l.Left.Sign), s.Theme.Sign(l.Right.Sign)
	side := c.bar + c.value
	lean := func(text string) string {
		if c.lean == 0 {
			return ""
		}
		return "  " + text
	}
	head := parts.Right(left.Bold(true).Render(l.Left.Name+" "+l.Left.Sign.Glyph), side) + parts.Center("", c.spine) +
		parts.Cell(right.Bold(true).Render(l.Right.Sign.Glyph+" "+l.Right.Name), side) + "  " +
		parts.Cell(s.Theme.Faint.Render(l.Right.Name+" is"+scaleNote(l)), c.said) +
		lean(s.Theme.Faint.Render(parts.Center("ratio", c.lean)))
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
		spine := s.Theme.Faint.Render("│") + parts.Center(s.Theme.Strong.Render(r.Label), c.spine-2) +
			s.Theme.Faint.Render("│")
		line := parts.OutwardLeft(r.Left, c.bar, left) + parts.Right(r.Left.Text+" ", c.value) + spine +
			parts.Cell(" "+r.Right.Text, c.value) + parts.OutwardRight(r.Right, c.bar, right) + "  " + said(s, r, c.said) +
			lean(parts.Lean(r.Lean, c.lean, l.Right.Sign.Glyph, right, s.Theme.Faint))
		lines = append(lines, line)
		if i == len(l.Rungs)-1 {
			lines = append(lines, v.axis(s, l, scale, c)+strings.Repeat(" ", c.said+2)+lean(
				s.Theme.Faint.Render(parts.Axis(l.Leans.Ticks, c.lean, false)),
			))
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
	return s.Theme.Faint.Render(parts.Axis(ticks, c.bar, true) + gap + "│" + strings.Repeat(" ", c.spine-2) + "│" + gap +
		parts.Axis(ticks, c.bar, false))
}

// briefBelow is the width under which a rung is commented with its word alone.
const briefBelow = 30

// wordStyle is how a word is written.
func wordStyle(s screen.Scene, w judge.Word) lipgloss.Style {
	switch w {
	case judge.Better:
		return s.Theme.Lead
	case judge.Open, judge.TooFew, judge.NoWord:
		return s.Theme.Faint
	}
	return s.Theme.Ink
}

// said is what stands at the end of a rung.
func said(s screen.Scene, r chart.Rung, w int) string {
	style := wordStyle(s, r.Word)
	say := r.Say
	if w < briefBelow {
		say = strings.TrimRight(say[:max(strings.IndexAny(say+":", ":,("), 0)], " ")
	}
	const ratio = 6                     // cells before what is said
	for lipgloss.Width(say) > w-ratio { // a part that does not fit is left out whole
		at := strings.LastIndexAny(say, ",;")
		if at <= 0 {
			break
		}
		say = say[:at]
	}
	text := style.Render(say)
	if r.Ratio != "" {
		text = parts.Right(style.Render(r.Ratio), 5) + " " + text
		settled := r.Word == judge.Better || r.Word == judge.Worse || r.Word == judge.Alike
		if interval := s.Theme.Faint.Render("  " + r.Interval); settled &&
			lipgloss.Width(text)+lipgloss.Width(interval) <= w {
			text += interval
		}
		apart, _, _ := strings.Cut(r.Apart, " (")
		if apart = s.Theme.Faint.Render("  " + apart); settled && r.Apart != "" &&
			lipgloss.Width(text)+lipgloss.Width(apart) <= w {
			text += apart
		}
	}
	return parts.Cell(text, w)
}

// scorecard lists what is counted, face to face about its name: in two columns where there is room, each as wide as it
// has to be, or else in line with the ladder.
func (v View) scorecard(s screen.Scene, verdict *judge.Verdict, face, w int) (lines []string) {
	li, ri := indexOf(s, verdict.Baseline), indexOf(s, verdict.Faces[face].Contender)
	middle, value, more := 0, 0, 0
	rest := make([]string, len(verdict.Scorecard))
	for i, row := range verdict.Scorecard {
		rest[i] = others(s, row, li, ri)
		middle = max(middle, lipgloss.Width(row.Name)+2)
		value = max(value, lipgloss.Width(row.Values[li])+3, lipgloss.Width(row.Values[ri])+3)
		more = max(more, lipgloss.Width(rest[i])+2)
	}
	const gap = 3
	if one := 2*value + middle + more; len(verdict.Scorecard) > 1 && 2*one+gap <= w {
		half := (len(verdict.Scorecard) + 1) / 2
		for i := range half {
			line := parts.Cell(scoreLine(s, verdict.Scorecard[i], li, ri, value, middle)+"  "+rest[i], one)
			if j := i + half; j < len(verdict.Scorecard) {
				line += strings.Repeat(" ", gap) + scoreLine(s, verdict.Scorecard[j], li, ri, value, middle) + "  " + rest[j]
			}
			lines = append(lines, line)
		}
		return lines
	}
	c := layout(s, w)
	middle = max(c.spine, middle)
	side := c.bar + c.value - (middle-c.spine)/2
	for i, row := range verdict.Scorecard {
		lines = append(lines, scoreLine(s, row, li, ri, side, middle)+"  "+rest[i])
	}
	return lines
}

// scoreLine is one row face to face, with a sign at the better side.
func scoreLine(s screen.Scene, row judge.Row, li, ri, side, middle int) string {
	left, right := row.Values[li], row.Values[ri]
	l, r := " ", " "
	switch lean := row.Lean(li, ri); {
	case lean < 0:
		l, left = s.Theme.Lead.Render("◂"), s.Theme.Lead.Render(left)
	case lean > 0:
		r, right = s.Theme.Lead.Render("▸"), s.Theme.Lead.Render(right)
	}
	return parts.Right(left+" "+l, side) + parts.Center(s.Theme.Faint.Render(row.Name), middle) +
		parts.Cell(r+" "+right, side)
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
