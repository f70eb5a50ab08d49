package weighin

import (
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/chart"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/core/weighin"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// face draws two contenders' answers about a spine.
type face struct {
	s           screen.Scene
	left, right lipgloss.Style
	base, own   chart.Side
	side, spine int // widths
}

func newFace(s screen.Scene, i, w int) face {
	r := s.Run.Result
	f := face{s: s, spine: min(max(w/4, 18), 34)}
	f.base = chart.Side{Name: r.Plan.Baseline, Sign: chart.SignFor(r, r.Plan.Baseline)}
	f.own = chart.Side{Name: r.Entrants[i].Name, Sign: chart.SignOf(i)}
	f.left, f.right = s.Theme.Sign(f.base.Sign), s.Theme.Sign(f.own.Sign)
	f.side = (w - f.spine) / 2
	return f
}

// row puts two texts left and right of a word on the spine.
func (f face) row(left, word, right string) string {
	spine := f.s.Theme.Faint.Render("│" +
		ansi.Strip(parts.Center(parts.Cell(word, min(lipgloss.Width(word), f.spine-4)), f.spine-2)) + "│")
	return parts.Right(ansi.Truncate(left, f.side-1, "…")+" ", f.side) + spine + parts.Cell(" "+right, f.side)
}

func (f face) title(text string) []string {
	return []string{f.row("", "", ""), f.row("", text, "")}
}

func (f face) heading() string {
	return f.row(f.left.Bold(true).Render(
		f.base.Name+" "+f.base.Sign.Glyph,
	), "", f.right.Bold(true).Render(f.own.Sign.Glyph+" "+f.own.Name))
}

// facts are what is known of both answers in a word each.
func (f face) facts(base, own *result.Entrant) (lines []string) {
	add := func(word string, of func(*result.Entrant) string) {
		if l, r := of(base), of(own); l != "" || r != "" {
			lines = append(lines, f.row(l, word, r))
		}
	}
	touched := func(of func(*result.Touch) string) func(*result.Entrant) string {
		return func(e *result.Entrant) string { return of(e.Touch) }
	}
	add("outcome", touched(func(t *result.Touch) string { return t.Outcome }))
	add("first touch", touched(func(t *result.Touch) string { return units.Duration(t.Latency) }))
	add("answer", touched(func(t *result.Touch) string { return units.Bytes(float64(t.Bytes)) }))
	add("decoded", touched(func(t *result.Touch) string {
		if t.Decoded == 0 {
			return ""
		}
		return units.Bytes(float64(t.Decoded)) + ", from " + t.Encoding
	}))
	add("on the wire", touched(func(t *result.Touch) string {
		if t.Received == t.Bytes || t.Received == 0 {
			return ""
		}
		return units.Bytes(float64(t.Received))
	}))
	add("type", touched(func(t *result.Touch) string { return t.Type }))
	add("version", func(e *result.Entrant) string { return e.Version })
	add("built", func(e *result.Entrant) string {
		if e.From == nil {
			return ""
		}
		return e.From.Words()
	})
	add("asked twice", touched(func(t *result.Touch) string {
		if t.Steady {
			return "the same bytes"
		}
		return ""
	}))
	add("files", touched(func(t *result.Touch) string {
		if t.Changes == nil {
			return ""
		}
		return chart.ChangesWords(t.Changes)
	}))
	return lines
}

// weights draws what the answers are made of as facing bars to one scale.
func (f face) weights(title string, list []chart.Weight, scale chart.Scale) (lines []string) {
	if len(list) == 0 {
		return nil
	}
	lines = f.title(title)
	value := 10 // with a gap to the bar
	for _, w := range list {
		value = max(value, lipgloss.Width(w.Left.Text)+1, lipgloss.Width(w.Right.Text)+1)
	}
	value = min(value, f.side-4)
	bar := max(f.side-value-1, 1)
	for _, w := range list {
		left := parts.OutwardLeft(w.Left, bar, f.left) + parts.Right(f.text(w.Left.Text, w.Lacks < 0), value)
		right := parts.Cell(f.text(w.Right.Text, w.Lacks > 0), value) + parts.OutwardRight(w.Right, bar, f.right)
		lines = append(lines, f.row(left, units.Printable(w.Path), right))
	}
	gap := strings.Repeat(" ", value)
	return append(lines, f.row(f.s.Theme.Faint.Render(
		parts.Axis(scale.Ticks, bar, true)+gap,
	), "", f.s.Theme.Faint.Render(gap+parts.Axis(scale.Ticks, bar, false))))
}

func (f face) text(text string, lacks bool) string {
	if lacks {
		return f.s.Theme.Caution.Render(text)
	}
	return text
}

// shownDifferences is how many places of a rule are listed.
const shownDifferences = 8

// checks lists the rules that the contender keeps or breaks, with the first places in which it differs, face to face.
func (f face) checks(weighing *result.Weighing, name string) (lines []string) {
	if weighing == nil {
		return nil
	}
	for _, c := range weighing.Checks {
		if c.Contender != name && c.Contender != f.base.Name {
			continue
		}
		rule := c.Rule
		if c.State != "" {
			rule += ", " + c.State
		}
		if c.Contender == f.base.Name {
			rule = c.Contender + ": " + rule
		}
		if c.Same {
			lines = append(lines, f.wide("✓ "+rule))
			continue
		}
		style := f.s.Theme.Caution
		if weighing.Ruled {
			style = f.s.Theme.Trouble
		}
		lines = append(lines, style.Render(f.wide("! not "+rule)))
		for _, d := range c.Differences[:min(len(c.Differences), shownDifferences)] {
			lines = append(lines, f.row(
				f.left.Render(units.Printable(d.Baseline)), units.Printable(d.Where), f.right.Render(units.Printable(d.Contender)),
			))
		}
	}
	if len(lines) > 0 {
		lines = append(f.title("the same work?"), lines...)
	}
	return lines
}

// wide is a line across both sides.
func (f face) wide(text string) string { return parts.Center(text, 2*f.side+f.spine) }

// said puts what both answered and printed beside each other, the lines that both have side by side.
func (f face) said(base, own *result.Touch) (lines []string) {
	for _, part := range []struct {
		name string
		of   func(*result.Touch) string
		by   func(*result.Touch) string // what lines are held to each other by; nil: by themselves
	}{
		{"on standard error", func(t *result.Touch) string { return t.Stderr }, nil},
		{"headers", func(t *result.Touch) string { return strings.Join(t.Headers, "\n") }, nil},
		{"query plan", func(t *result.Touch) string { return t.QueryPlan }, shapeOf},
		{"its answer", func(t *result.Touch) string { return t.Body }, nil},
	} {
		left, right := textLines(part.of(base)), textLines(part.of(own))
		if len(left) == 0 && len(right) == 0 {
			continue
		}
		lines = append(lines, f.title(part.name)...)
		leftBy, rightBy := left, right
		if part.by != nil {
			leftBy, rightBy = textLines(part.by(base)), textLines(part.by(own))
		}
		for _, p := range weighin.Pairs(leftBy, rightBy) {
			l, r := f.folded(at(left, p.Left)), f.folded(at(right, p.Right))
			for i := range max(len(l), len(r)) {
				lines = append(lines, f.pages(at(l, i), p.Same, at(r, i)))
			}
		}
	}
	return lines
}

// shapeOf is what lines of a query plan are held to each other by: what a database estimates differs without its doing
// anything else. A plan that has no line of it for each of its own is held to the other as it is.
func shapeOf(t *result.Touch) string {
	if strings.Count(t.QueryShape, "\n") == strings.Count(t.QueryPlan, "\n") {
		return t.QueryShape
	}
	return t.QueryPlan
}

// pages puts two lines of text beside each other, each read from the left, with a sign between those that differ.
func (f face) pages(left string, same bool, right string) string {
	w := f.side + f.spine/2 - 2
	between := f.s.Theme.Faint.Render(" ┊ ")
	if !same {
		between = f.s.Theme.Strong.Render(" ≠ ")
	}
	return parts.Cell(left, w) + between + parts.Cell(right, w)
}

func at(lines []string, i int) string {
	if i >= 0 && i < len(lines) {
		return lines[i]
	}
	return ""
}

// textLines is a text in lines; none where there is nothing to read.
func textLines(text string) []string {
	if strings.TrimSpace(text) == "" {
		return nil
	}
	return strings.Split(strings.TrimRight(text, "\n"), "\n")
}

// folded breaks a line into pieces that fit one page.
func (f face) folded(line string) (pieces []string) {
	w := max(f.side+f.spine/2-2, 1)
	runes := []rune(units.Printable(line))
	for len(runes) > w {
		pieces, runes = append(pieces, string(runes[:w])), runes[w:]
	}
	return append(pieces, string(runes))
}
