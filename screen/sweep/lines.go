package sweep

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/judge/curve"
	"paceduel/core/units"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// Widths of what stands beside the lines.
const (
	axisWidth = 10
	noteWidth = 34 // where there is room
	noteFrom  = 110
)

// lineBody draws the lines, who leads below them, the axis, and what is read off.
func (v View) lineBody(s screen.Scene, w, h int) (out []string) {
	l := v.drawn(s)
	if l == nil {
		return []string{s.Theme.Faint.Render(" nobody has this figure here")}
	}
	notes := 0
	if w >= noteFrom {
		notes = noteWidth
	}
	plot := max(w-axisWidth-max(notes, len(l.Parameter)+2), 10)
	read := v.readOff(s, l, w)
	table := v.numberBody(s, w)
	const below = 4 // who leads, the axis, its name, a gap
	room := max(h-below-len(read), 4)
	if room-len(table)-1 < 14 { // the lines come first
		table = nil
	}
	if table != nil {
		room -= len(table) + 1
	}
	out = v.plot(s, l, plot, room, notes)
	pad := strings.Repeat(" ", axisWidth)
	out = append(out, parts.Right(s.Theme.Faint.Render("best "), axisWidth)+v.ribbon(s, l, plot))
	ticks := make([]chart.Tick, 0, len(l.Along))
	for _, t := range l.Along {
		if !outOfSight(t.At) {
			ticks = append(ticks, tickAt(t, plot))
		}
	}
	out = append(out, pad+s.Theme.Faint.Render(parts.Axis(ticks, plot, false))+" "+s.Theme.Ink.Render(l.Parameter))
	out = append(append(out, turnLabels(s, l, plot)), read...)
	if table != nil {
		out = append(append(out, ""), table...)
	}
	for i := range out {
		out[i] = parts.Cell(out[i], w)
	}
	return out
}

// tickAt is a point of the axis under the cell that it is drawn in.
func tickAt(t chart.SweepTick, plot int) chart.Tick {
	return chart.Tick{At: float64(min(int(t.At*float64(plot)), plot-1)) / float64(max(plot-1, 1)), Label: t.Text}
}

// mostBands is of how many contenders the intervals are drawn; of more than that, that of the chosen one.
const mostBands = 4

// plot draws the canvas with its axis and what each line comes to.
func (v View) plot(s screen.Scene, l *chart.SweepLines, plot, h, notes int) (out []string) {
	canvas := parts.NewCurves(plot, h)
	if at := l.Along[v.point].At; !outOfSight(at) {
		canvas.RuleOf('┊', at)
	}
	for _, t := range l.Turns {
		if !outOfSight(t.At) {
			canvas.RuleOf('┃', t.At)
		}
	}
	if !math.IsNaN(l.One) {
		canvas.Draw(level(l.One, canvas.Across(), 4), len(l.Lines))
	}
	styles := make([]lipgloss.Style, 0, len(l.Lines)+1)
	for i := range l.Lines {
		styles = append(styles, s.Theme.Sign(l.Lines[i].Sign))
		if len(l.Lines) > mostBands && l.Lines[i].Index != v.chosen {
			continue
		}
		canvas.Draw(edges(l.Lines[i].Points, canvas.Across(), func(p chart.SweepSpot) float64 { return p.Low }), i)
		canvas.Draw(edges(l.Lines[i].Points, canvas.Across(), func(p chart.SweepSpot) float64 { return p.High }), i)
		canvas.Draw(dashed(through(l.Lines[i].Beyond, canvas.Across()), 2), i)
		canvas.Draw(edges(l.Lines[i].Beyond, canvas.Across(), func(p chart.SweepSpot) float64 { return p.Low }), i)
		canvas.Draw(edges(l.Lines[i].Beyond, canvas.Across(), func(p chart.SweepSpot) float64 { return p.High }), i)
		if l.Lines[i].Index == v.chosen { // of all, laws would hide what was measured
			canvas.Draw(dashed(through(l.Lines[i].Law, canvas.Across()), 2), i)
		}
	}
	for i := range l.Lines { // over all bands
		canvas.Draw(through(l.Lines[i].Points, canvas.Across()), i)
	}
	for i := range l.Lines {
		line := &l.Lines[i]
		for j, p := range line.Points {
			if p.Y < 0 {
				continue
			}
			canvas.Mark(p.X, p.Y, line.Sign.Glyph, i)
			if row := 1 / float64(max(h, 1)); j == line.Best {
				canvas.Mark(p.X, p.Y+row, "⌄", i)
			} else if j == line.Knee {
				canvas.Mark(p.X, p.Y-row, "⌃", i)
			}
		}
	}
	rows := canvas.Lines(append(styles, s.Theme.Faint), s.Theme.Faint)
	beside := v.beside(s, l, h, notes)
	for row := range rows {
		label := parts.Right(parts.RowLabel(l.Scale, row, h), axisWidth-2)
		out = append(out, s.Theme.Faint.Render(label+" ┤")+rows[row]+beside[row])
	}
	return out
}

// beside are the lines' names and what they come to, each as near to the end of its line as there is room.
func (v View) beside(s screen.Scene, l *chart.SweepLines, h, width int) []string {
	out := make([]string, h)
	if width == 0 {
		return out
	}
	type label struct {
		row  int
		text []string
	}
	var labels []label
	all := 0
	for i := range l.Lines {
		line := &l.Lines[i]
		row := h - 1
		for _, p := range line.Points {
			if p.Y >= 0 && p.X <= 1 {
				row = h - 1 - min(int(p.Y*float64(h)), h-1)
			}
		}
		style := s.Theme.Sign(line.Sign)
		if line.Index == v.chosen {
			style = style.Underline(true)
		}
		text := " " + s.Theme.Sign(line.Sign).Render(line.Sign.Glyph) + " " + style.Render(line.Name)
		own := []string{text}
		if line.Note != "" {
			own = append(own, "   "+s.Theme.Faint.Render(line.Note))
		}
		labels = append(labels, label{row, own})
		all += len(own)
	}
	for i := range labels {
		if all > h { // names alone
			labels[i].text = labels[i].text[:1]
		}
	}
	slices.SortStableFunc(labels, func(a, b label) int { return cmp.Compare(a.row, b.row) })
	left := 0
	for _, one := range labels {
		left += len(one.text)
	}
	next := 0
	for _, one := range labels {
		row := min(max(one.row, next), h-left)
		for _, text := range one.text {
			if row >= 0 && row < h {
				out[row] = parts.Cell(text, width)
			}
			row++
		}
		next, left = row, left-len(one.text)
	}
	return out
}

// through are the heights of a line drawn straight from spot to spot, one for each place across; -1 where there is
// none.
func through(spots []chart.SweepSpot, across int) []float64 {
	return along(spots, across, func(p chart.SweepSpot) float64 { return p.Y })
}

// edges are those of an edge of a band, of which every third place is drawn.
func edges(spots []chart.SweepSpot, across int, of func(chart.SweepSpot) float64) []float64 {
	return dashed(along(spots, across, of), 3)
}

func along(spots []chart.SweepSpot, across int, of func(chart.SweepSpot) float64) []float64 {
	out := make([]float64, across)
	for i := range out {
		out[i] = -1
	}
	for i := 0; i+1 < len(spots); i++ {
		a, b := spots[i], spots[i+1]
		if a.Y < 0 || b.Y < 0 || !(b.X > a.X) {
			continue
		}
		from, to := a.X*float64(across-1), b.X*float64(across-1)
		for x := max(int(math.Ceil(from)), 0); x <= int(to) && x < across; x++ {
			share := (float64(x) - from) / (to - from)
			out[x] = of(a) + share*(of(b)-of(a))
		}
	}
	return out
}

// dashed leaves out all but one of so many places.
func dashed(heights []float64, each int) []float64 {
	for x := range heights {
		if x%each != 0 {
			heights[x] = -1
		}
	}
	return heights
}

// level is a line at one height, dashed.
func level(at float64, across, each int) []float64 {
	out := make([]float64, across)
	for i := range out {
		out[i] = at
	}
	return dashed(out, each)
}

// ribbon says below the lines who leads where: a sign where somebody is ahead, ≈ where some are even, ? where it is
// open, and between points what lies on both sides.
func (v View) ribbon(s screen.Scene, l *chart.SweepLines, plot int) string {
	cells := make([]string, plot)
	for i := range cells {
		cells[i] = " "
	}
	column := func(at float64) int { return min(max(int(at*float64(plot)), 0), plot-1) }
	for i, lead := range l.Leads {
		if i+1 < len(l.Leads) {
			next := &l.Leads[i+1]
			if lead.Standing == curve.Ahead && next.Standing == curve.Ahead && lead.Signs[0] == next.Signs[0] {
				for x := column(lead.At); x < column(next.At); x++ {
					cells[x] = s.Theme.Sign(lead.Signs[0]).Render("━")
				}
			}
		}
	}
	for i, lead := range l.Leads {
		if outOfSight(lead.At) {
			continue
		}
		mark := s.Theme.Faint.Render("?")
		switch lead.Standing {
		case curve.Ahead:
			mark = s.Theme.Sign(lead.Signs[0]).Render(lead.Signs[0].Glyph)
		case curve.Even:
			mark = s.Theme.Ink.Render("≈")
		case curve.Unknown:
			mark = s.Theme.Faint.Render("·")
		}
		if i == v.point {
			mark = s.Theme.Here.Render(lipgloss.NewStyle().Render(stripped(lead)))
		}
		cells[column(lead.At)] = mark
	}
	return strings.Join(cells, "")
}

// stripped is the mark of a point without colour.
func stripped(lead chart.SweepLead) string {
	switch lead.Standing {
	case curve.Ahead:
		return lead.Signs[0].Glyph
	case curve.Even:
		return "≈"
	case curve.Open:
		return "?"
	}
	return "·"
}

// turnLabels says below the axis where the order turns.
func turnLabels(s screen.Scene, l *chart.SweepLines, plot int) string {
	line := []rune(strings.Repeat(" ", plot))
	for _, t := range l.Turns {
		if outOfSight(t.At) {
			continue
		}
		text := []rune("┃ " + t.Text)
		at := min(max(int(t.At*float64(plot)), 0), max(plot-len(text), 0))
		free := !slices.ContainsFunc(line[at:min(at+len(text)+1, plot)], func(r rune) bool { return r != ' ' })
		if free {
			copy(line[at:], text)
		}
	}
	return strings.Repeat(" ", axisWidth) + s.Theme.Strong.Render(strings.TrimRight(string(line), " "))
}

// readOff says what all contenders have at the chosen point, and who is best there.
func (v View) readOff(s screen.Scene, l *chart.SweepLines, w int) (out []string) {
	at := l.Along[v.point]
	line := " " + s.Theme.Strong.Render(fmt.Sprintf("at %s %s", l.Parameter, at.Text)) + " "
	used := lipgloss.Width(line)
	add := func(text string) {
		n := lipgloss.Width(text)
		if used+n+2 > w {
			out = append(out, line)
			line, used = "    ", 4
		}
		line += "  " + text
		used += n + 2
	}
	for i := range l.Lines {
		own := &l.Lines[i]
		style := s.Theme.Sign(own.Sign)
		text := own.Points[v.point].Text
		if text == "" {
			text = units.None
		}
		add(style.Render(own.Sign.Glyph+" "+own.Name) + " " + text)
	}
	if best := l.Leads[v.point]; best.Standing != curve.Unknown {
		add(s.Theme.Faint.Render("best: ") + best.Text)
	}
	return append(out, line)
}
