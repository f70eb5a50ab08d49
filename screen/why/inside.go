package why

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// insideState is what of the inside is in view.
type insideState struct {
	look   chart.InsideLook
	scroll parts.Scroll
	turn   int // comparisons of steps on from the first
}

func newInsideState() insideState {
	return insideState{look: chart.InsideLook{Depth: chart.AllSteps}, scroll: parts.NewScroll()}
}

func (v View) insides(s screen.Scene) *chart.Inside {
	return screen.Picture(s, v.inside.look, func() *chart.Inside {
		whole := *s.Run.Result
		whole.Heats = s.Run.Heats
		return chart.NewInside(&whole, s.Run.Verdict, v.inside.look)
	})
}

// moves is the comparison of steps in view; nil where there is none.
func (v View) moves(s screen.Scene) *chart.Moves {
	n := len(s.Run.Verdict.Moved)
	if n == 0 {
		return nil
	}
	at := v.inside.turn % n
	type movesKey struct{ at int }
	return screen.Picture(s, movesKey{at}, func() *chart.Moves {
		return chart.NewMoves(s.Run.Result, s.Run.Verdict, at)
	})
}

// pressInside is what a key does to the picture of the inside.
func (v View) pressInside(press tea.KeyPressMsg, s screen.Scene) View {
	in := &v.inside
	switch {
	case key.Matches(press, v.keys.shot):
		at := slices.Index(chart.Whose, in.look.Which)
		in.look.Which = chart.Whose[(max(at, 0)+1)%len(chart.Whose)]
	case key.Matches(press, v.keys.depth):
		deepest := v.insides(s).Deepest
		if in.look.Depth--; in.look.Depth < 0 || in.look.Depth >= deepest && deepest == 0 {
			in.look.Depth = chart.AllSteps
		} else {
			in.look.Depth = min(in.look.Depth, deepest-1)
		}
	case key.Matches(press, v.keys.zoom):
		in.look = in.look.Zoom(true)
	case key.Matches(press, v.keys.wide):
		in.look = in.look.Zoom(false)
	case key.Matches(press, v.keys.left):
		in.look = in.look.Move(-step)
	case key.Matches(press, v.keys.right):
		in.look = in.look.Move(step)
	default:
		w, h := s.Width, s.Height
		in.scroll, _ = in.scroll.Press(press, v.insideLines(s, w), w, h)
	}
	return v
}

// Widths of what stands beside the steps of a shot.
const (
	spansWidth = 18
	pathWidth  = 7
)

// stepWidth is what the names of steps take of a width.
func stepWidth(w int) int {
	if w >= 120 {
		return 28
	}
	return 20
}

// insideBody draws the shot of each contender above one scale.
func (v View) insideBody(s screen.Scene, w, h int) []string {
	p := v.insides(s)
	plot := v.insidePlot(w)
	lines := v.insideLines(s, w)
	foot := []string{
		strings.Repeat(" ", stepWidth(w)+1) + s.Theme.Faint.Render(parts.Axis(p.Ticks, plot, false)), v.insideRead(s, p, w),
	}
	room := max(h-len(foot), 1)
	if len(lines) > room {
		at := min(v.inside.scroll.From(), len(lines)-room)
		lines = lines[at : at+room]
	}
	return append(lines, foot...)
}

func (v View) insidePlot(w int) int {
	plot := w - stepWidth(w) - 1 - tookWidth - 2
	if w >= 100 {
		plot -= spansWidth + pathWidth
	}
	return max(plot, 8)
}

// insideLines are the steps of all contenders.
func (v View) insideLines(s screen.Scene, w int) (lines []string) {
	p := v.insides(s)
	plot := v.insidePlot(w)
	line := int(v.inside.look.Line * float64(plot-1))
	for i := range p.Lanes {
		l := &p.Lanes[i]
		if i > 0 {
			lines = append(lines, "")
		}
		lines = append(lines, v.insideHead(s, p, l, w))
		if len(l.Rows) == 0 {
			lines = append(lines, strings.Repeat(" ", stepWidth(w)+1)+s.Theme.Faint.Render(cmp.Or(l.Lacks,
				"nothing is known of it")))
		}
		for j := range l.Rows {
			r := &l.Rows[j]
			label := strings.Repeat("  ", r.Depth) + r.Label
			if r.Folded > 0 {
				label = parts.Cell(label, stepWidth(w)-4) + fmt.Sprintf(" +%d", r.Folded)
			}
			text := " " + parts.Cell(label, stepWidth(w)) + stretches(s, r, l.Sign, plot, line) + parts.Right(r.Took,
				tookWidth) + " "
			if w >= 100 {
				text += parts.Cell(s.Theme.Faint.Render(r.Count), spansWidth) + parts.Right(r.Path, pathWidth)
			}
			lines = append(lines, parts.Cell(text, w))
		}
	}
	return lines
}

// insideHead is the line above a contender's steps.
func (v View) insideHead(s screen.Scene, p *chart.Inside, l *chart.InsideLane, w int) string {
	text := " " + s.Theme.Sign(l.Sign).Bold(true).Render(l.Sign.Glyph+" "+l.Name)
	if l.Baseline {
		text += s.Theme.Faint.Render(" baseline")
	}
	if l.State != "" {
		text += " " + s.Theme.Strong.Render(l.State)
	}
	which := ""
	if p.Which != chart.Typical {
		which = p.Which + " "
	}
	if l.Took != "" {
		text += "  " + which + s.Theme.Strong.Render(l.Took)
	}
	if len(l.Notes) > 0 {
		text += s.Theme.Faint.Render("  " + strings.Join(l.Notes, ", "))
	}
	if w >= 100 && l.Took != "" {
		const head = "of the path"
		text = parts.Cell(text, w-len(head)-1) + s.Theme.Faint.Render(head)
	}
	return parts.Cell(text, w)
}

// insideRead says what is under way at the line.
func (v View) insideRead(s screen.Scene, p *chart.Inside, w int) string {
	text := " " + s.Theme.Strong.Render("at "+p.At()) + ":"
	for i := range p.Lanes {
		if l := &p.Lanes[i]; l.Read != "" {
			text += "  " + s.Theme.Sign(l.Sign).Render(l.Sign.Glyph) + " " + l.Read
		}
	}
	return parts.Cell(text, w)
}

// What half a cell of a row shows.
const (
	nothing = iota
	spread
	aside
	onPath
)

// rulers are the signs of two halves of a cell, by what is in them.
var rulers = map[[2]int]string{
	{onPath, onPath}: "━", {aside, aside}: "─", {onPath, nothing}: "╸", {nothing, onPath}: "╺", {aside, nothing}: "╴",
	{nothing, aside}: "╶", {onPath, aside}: "╾", {aside, onPath}: "╼", {spread, spread}: "┈", {spread, nothing}: "┈",
	{nothing, spread}: "┈", {onPath, spread}: "╸", {spread, onPath}: "╺", {aside, spread}: "╴", {spread, aside}: "╶",
}

// stretches draws the row of a step: on the critical path heavy, beside it light, where it varies dotted, and the line
// that is read off.
func stretches(s screen.Scene, r *chart.InsideRow, sign chart.Sign, plot, line int) string {
	halves := make([]int, 2*plot)
	mark := func(from, to float64, what int) {
		first, end := parts.Span(from, to, 2*plot)
		for i := first; i < end; i++ {
			halves[i] = max(halves[i], what)
		}
	}
	if r.Late > r.Early {
		mark(r.Early, r.Late, spread)
	}
	for _, b := range r.Bars {
		switch {
		case b.To <= 0 || b.From >= 1: // beyond what is in view
		case r.Apart:
			mark(b.From, b.To, spread)
		case b.OnPath:
			mark(b.From, b.To, onPath)
		default:
			mark(b.From, b.To, aside)
		}
	}
	var out strings.Builder
	own, rest := s.Theme.Sign(sign), s.Theme.Faint
	for i := range plot {
		cell := [2]int{halves[2*i], halves[2*i+1]}
		switch text, ok := rulers[cell]; {
		case !ok && i == line:
			out.WriteString(rest.Render("│"))
		case !ok:
			out.WriteByte(' ')
		case max(cell[0], cell[1]) == spread:
			out.WriteString(rest.Render(text))
		default:
			style := own
			if max(cell[0], cell[1]) == aside {
				style = style.Faint(true)
			}
			out.WriteString(style.Render(text))
		}
	}
	return out.String()
}

// Widths of what stands beside facing bars of steps.
const (
	moveSpine = 22
	moveSaid  = 28
	wideSpine = 30 // where there is room
)

// movesBody draws the steps of two contenders face to face, by how much of the critical path they are.
func (v View) movesBody(s screen.Scene, w, h int) (lines []string) {
	m := v.moves(s)
	narrow := w < 100
	said, spine := moveSaid, moveSpine
	if narrow {
		said = 12
	}
	if w >= 120 {
		spine = wideSpine
	}
	bar := max((w-spine-said-2*tookWidth-2)/2, 4)
	glyph := func(side chart.Side) string { return s.Theme.Sign(side.Sign).Render(side.Sign.Glyph) }
	name := func(side chart.Side) string { return s.Theme.Sign(side.Sign).Bold(true).Render(side.Name) }
	state := ""
	if m.State != "" {
		state = " " + s.Theme.Strong.Render(m.State)
	}
	side := bar + tookWidth
	lines = append(lines, parts.Right(name(m.Left)+state+" "+glyph(m.Left), side)+strings.Repeat(" ", spine)+
		glyph(m.Right)+" "+name(m.Right)+state, "")
	for i := range m.Rows {
		r := &m.Rows[i]
		label := parts.Cell(strings.Repeat("  ", r.Depth)+r.Label, spine-2)
		if r.Total {
			lines = append(lines, s.Theme.Faint.Render(strings.Repeat("┈", w-1)))
			label = s.Theme.Strong.Render(label)
		}
		left := parts.Right(r.LeftTook+" "+block(s, r.Left, m.Left.Sign, bar), side)
		right := block(s, r.Right, m.Right.Sign, bar) + " " + r.RightTook
		what := s.Theme.Strong.Render(parts.Right(r.By, 10))
		if !narrow {
			what += " " + r.How
		}
		lines = append(lines, parts.Cell(left+" "+label+" "+parts.Cell(right, side)+what, w))
	}
	rule := strings.Repeat(" ", tookWidth) + parts.Axis(m.Scale.Ticks, bar, true) + strings.Repeat(" ", spine) +
		parts.Axis(m.Scale.Ticks, bar, false)
	return append(lines[:min(len(lines), max(h-1, 0))], s.Theme.Faint.Render(rule))
}

// block is a bar from a spine on.
func block(s screen.Scene, long float64, sign chart.Sign, w int) string {
	if long <= 0 {
		return ""
	}
	first, end := parts.Span(0, long, w)
	return s.Theme.Sign(sign).Render(strings.Repeat("█", end-first))
}
