package verdict

import (
	"fmt"
	"math"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// distributionBody draws facing histograms about a spine that carries the latencies, the shortest at its foot.
func (v View) distributionBody(s screen.Scene, w, h int) (lines []string) {
	shape := v.shape(s)
	if len(shape.Sides) == 0 {
		return nil
	}
	groups := (len(shape.Sides) + 1) / 2 // cold and warm stand beside each other
	rows := max(h-4, 4)
	bins := shape.Bins(rows)
	width := w / groups
	at := rows - 1 - min(int(v.line*float64(rows)), rows-1)
	blocks := make([]string, groups)
	for g := range groups {
		blocks[g] = parts.Fit(strings.Join(v.faced(s, shape, bins, 2*g, width, rows, at), "\n"), width, rows+1)
	}
	lines = strings.Split(parts.Beside(0, blocks...), "\n")
	return append(append(lines, ""), v.readOff(s, shape, w)...)
}

const shapeSpine, shapeMark = 12, 16

// faced draws two sides of a shape, from the i-th on.
func (v View) faced(s screen.Scene, shape *chart.Shape, bins [][]float64, i, w, rows, at int) (lines []string) {
	mark := shapeMark
	if w < 90 {
		mark = 7
	}
	bar := max((w-shapeSpine-2*mark)/2, 4)
	left := &shape.Sides[i]
	var right *chart.ShapeSide
	if i+1 < len(shape.Sides) {
		right = &shape.Sides[i+1]
	}
	name := func(side *chart.ShapeSide) string {
		return s.Theme.Sign(side.Sign).Bold(true).Render(side.Title())
	}
	head := parts.Right(name(left)+" "+s.Theme.Sign(left.Sign).Render(left.Sign.Glyph), bar+mark) +
		strings.Repeat(" ", shapeSpine)
	if right != nil {
		head += s.Theme.Sign(right.Sign).Render(right.Sign.Glyph) + " " + name(right)
	}
	lines = append(lines, head)
	ticks := make([]string, rows)
	for _, t := range shape.Scale.Ticks {
		ticks[rows-1-min(int(t.At*float64(rows)), rows-1)] = t.Label
	}
	for row := range rows {
		bin := rows - 1 - row
		spine := s.Theme.Faint.Render("│") + parts.Center(s.Theme.Faint.Render(ticks[row]), shapeSpine-2) +
			s.Theme.Faint.Render("│")
		if row == at {
			latency, _ := shape.ReadOff(v.line)
			spine = s.Theme.Here.Render(parts.Center(latency, shapeSpine))
		}
		line := parts.Right(marks(s, left, row, rows, mark), mark) +
			parts.OutwardLeft(binBar(bins[i][bin]), bar, s.Theme.Sign(left.Sign)) + spine
		if right != nil {
			line += parts.OutwardRight(binBar(bins[i+1][bin]), bar, s.Theme.Sign(right.Sign)) +
				parts.Cell(marks(s, right, row, rows, mark), mark)
		}
		lines = append(lines, line)
	}
	return lines
}

func binBar(share float64) chart.Bar {
	return chart.Bar{Length: share, Low: math.NaN(), High: math.NaN()}
}

// marks names the percentiles that lie in a row.
func marks(s screen.Scene, side *chart.ShapeSide, row, rows, w int) string {
	var out []string
	for _, m := range side.Marks {
		if m.At < 0 || m.At > 1 || rows-1-min(int(m.At*float64(rows)), rows-1) != row {
			continue
		}
		text := m.Label
		if w >= shapeMark && len(out) == 0 {
			text += " " + m.Text
		}
		out = append(out, text)
	}
	if len(out) == 0 {
		return ""
	}
	return s.Theme.Faint.Render(" " + strings.Join(out, " ") + " ")
}

// tailBody draws the cumulative curves and, below on a logarithmic scale, the share of shots that take longer.
func (v View) tailBody(s screen.Scene, w, h int) (lines []string) {
	shape := v.shape(s)
	if len(shape.Sides) == 0 {
		return nil
	}
	const label = 12
	room := max(h-6-len(shape.Sides)/3, 6)
	upper, lower := room/2, room-room/2
	across := max(w-label-1, 4)
	top, bottom := parts.NewCurves(across, upper), parts.NewCurves(across, lower)
	var styles []lipgloss.Style
	for i := range shape.Sides {
		side := &shape.Sides[i]
		styles = append(styles, s.Theme.Sign(side.Sign))
		upTo, beyond := shape.Curve(i, top.Across())
		top.Draw(upTo, i)
		bottom.Draw(beyond, i)
	}
	for i := range shape.Sides { // signs lie upon all lines
		for _, m := range shape.Sides[i].Marks {
			top.Mark(m.At, m.Q, shape.Sides[i].Sign.Glyph, i)
			bottom.Mark(m.At, shape.Shares.Place(1-m.Q), shape.Sides[i].Sign.Glyph, i)
		}
	}
	top.Rule(v.line)
	bottom.Rule(v.line)
	panel := func(c *parts.Curves, ticks []chart.Tick, rows int) {
		labels := make([]string, rows)
		for _, t := range ticks {
			labels[rows-1-min(int(t.At*float64(rows)), rows-1)] = t.Label
		}
		for row, line := range c.Lines(styles, s.Theme.Faint) {
			lines = append(lines, s.Theme.Faint.Render(parts.Right(labels[row]+" ", label))+s.Theme.Faint.Render("│")+line)
		}
	}
	lines = append(lines, s.Theme.Faint.Render(strings.Repeat(" ", label)+"share of shots that take at most this long"))
	panel(top, []chart.Tick{{At: 0, Label: "0 %"}, {At: 0.5, Label: "50 %"}, {At: 1, Label: "100 %"}}, upper)
	lines = append(lines, s.Theme.Faint.Render(strings.Repeat(" ", label)+"share that takes longer, log scale"))
	panel(bottom, shape.Shares.Ticks, lower)
	lines = append(lines, s.Theme.Faint.Render(strings.Repeat(" ", label+1)+parts.Axis(shape.Scale.Ticks, across, false)))
	return append(lines, v.readOff(s, shape, w)...)
}

// readOff says what lies at the line.
func (v View) readOff(s screen.Scene, shape *chart.Shape, w int) []string {
	latency, each := shape.ReadOff(v.line)
	var text []string
	for i, said := range each {
		side := &shape.Sides[i]
		text = append(text, s.Theme.Sign(side.Sign).Render(side.Sign.Glyph+" "+side.Title())+" "+said)
	}
	if v.part != (chart.Stretched{}) {
		text = append(text, s.Theme.Faint.Render(fmt.Sprintf("(%.0f %% of the scale in view)", 100*(v.part.To-v.part.From))))
	}
	var lines []string
	line := " " + s.Theme.Strong.Render(latency) + ": "
	for i, t := range text {
		if i > 0 && lipgloss.Width(line)+lipgloss.Width(t)+3 > w {
			lines = append(lines, parts.Cell(line, w))
			line = strings.Repeat(" ", 4)
		} else if i > 0 {
			line += "   "
		}
		line += t
	}
	lines = append(lines, parts.Cell(line, w))
	return lines
}
