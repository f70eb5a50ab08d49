package sweep

import (
	"fmt"
	"strings"

	"paceduel/core/chart"
	"paceduel/core/judge/curve"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// shades say how far the best is ahead, of what is the most in the map.
var shades = []rune(" ░▒▓█")

// mapBody draws who wins where over two parameters.
func (v View) mapBody(s screen.Scene, w, h int) (out []string) {
	sweep := s.Run.Swept.Judged
	fig := sweep.Figures[v.at(sweep)]
	type mapsKey struct{ figure string }
	maps := screen.Picture(s, mapsKey{string(fig)}, func() []*chart.SweepMap {
		return chart.NewSweepMaps(sweep, s.Run.Swept.Result, fig)
	})
	row := 0
	for _, m := range maps {
		if m.State != "" {
			out = append(out, " "+s.Theme.Strong.Render(m.State))
		}
		out = append(out, v.oneMap(s, m, w, (h-6)/max(len(maps), 1), row)...)
		row += len(m.Cells)
	}
	const about = " signs: who is ahead; the fuller, the further; ? still open; ≈ too close to call"
	return append(out, "", parts.Cell(v.mapRead(s, maps), w), "", parts.Cell(s.Theme.Faint.Render(about), w))
}

// oneMap draws a map; first is the slice of its first row.
func (v View) oneMap(s screen.Scene, m *chart.SweepMap, w, h, first int) (out []string) {
	label := len([]rune(m.Down)) + 1
	for _, r := range m.Rows {
		label = max(label, len([]rune(r))+1)
	}
	label = min(label+1, 24)
	const least, most = 5, 14
	cell := min(max((w-label-len([]rune(m.Across))-2)/max(len(m.Columns), 1), least), most)
	tall := min(max((h-2)/max(len(m.Cells), 1), 1), 3)
	head := parts.Right(s.Theme.Faint.Render(m.Down+" "), label)
	for _, c := range m.Columns {
		head += s.Theme.Faint.Render(parts.Center(c, cell))
	}
	for i, row := range m.Cells {
		for line := range tall {
			text := strings.Repeat(" ", label)
			if line == (tall-1)/2 {
				text = parts.Right(s.Theme.Faint.Render(m.Rows[i]+" "), label)
			}
			for j := range row {
				here := first+i == v.slice && j == v.point
				text += mapCell(s, &row[j], cell, line == (tall-1)/2, here)
			}
			out = append(out, parts.Cell(text, w))
		}
	}
	return append(out, parts.Cell(head+" "+s.Theme.Ink.Render(m.Across), w))
}

func mapCell(s screen.Scene, c *chart.SweepCell, width int, middle, here bool) string {
	mark, style, shade := "?", s.Theme.Faint, ' '
	switch c.Standing {
	case curve.Ahead:
		mark, style = c.Signs[0].Glyph, s.Theme.Sign(c.Signs[0])
		shade = shades[min(1+int(c.Strength*float64(len(shades)-1)), len(shades)-1)]
	case curve.Even:
		mark, style = "≈", s.Theme.Ink
	case curve.Unknown:
		mark = "·"
	}
	fill := strings.Repeat(string(shade), max(width-2, 1))
	if !middle {
		return " " + style.Render(fill) + " "
	}
	half := (len([]rune(fill)) - 3) / 2
	text := fill
	if half >= 0 {
		rest := len([]rune(fill)) - 3 - half
		text = strings.Repeat(string(shade), half) + " " + mark + " " + strings.Repeat(string(shade), rest)
	} else {
		text = parts.Center(mark, max(width-2, 1))
	}
	if here {
		return s.Theme.Strong.Render("▸") + style.Render(text) + s.Theme.Strong.Render("◂")
	}
	return " " + style.Render(text) + " "
}

// mapRead says who is best at the chosen cell.
func (v View) mapRead(s screen.Scene, maps []*chart.SweepMap) string {
	row := v.slice
	for _, m := range maps {
		if row >= len(m.Cells) {
			row -= len(m.Cells)
			continue
		}
		c := &m.Cells[row][v.point]
		where := fmt.Sprintf("%s %s, %s %s", m.Across, m.Columns[v.point], m.Down, m.Rows[row])
		if m.State != "" {
			where += ", " + m.State
		}
		return " " + s.Theme.Strong.Render("at "+where) + "   " + c.Text
	}
	return ""
}

// multipleBody draws the lines of every slice side by side, to one scale where that is given by the figure.
func (v View) multipleBody(s screen.Scene, w, h int) (out []string) {
	sweep := s.Run.Swept.Judged
	n := len(sweep.Slices)
	across := min(max(w/46, 1), n)
	down := (n + across - 1) / across
	const least, words = 5, 3 // lines of a picture, and of what stands around it
	width, tall := w/across-1, max(h/max(down, 1)-words, least)
	fits := max(h/(tall+words), 1)
	first := v.slice / across / fits * fits // the page that the chosen one is on
	for row := first; row < min(first+fits, down); row++ {
		var blocks []string
		for col := range across {
			i := row*across + col
			if i >= n {
				break
			}
			own := v
			own.slice, own.part = i, chart.Stretched{}
			blocks = append(blocks, own.small(s, width, tall, i == v.slice))
		}
		out = append(out, strings.Split(parts.Beside(1, blocks...), "\n")...)
	}
	for i := range out {
		out[i] = parts.Cell(out[i], w)
	}
	return out[:min(len(out), max(h, 0))]
}

// small is one slice's lines in little room.
func (v View) small(s screen.Scene, w, h int, here bool) string {
	sweep := s.Run.Swept.Judged
	of := &sweep.Slices[v.slice]
	style := s.Theme.Ink
	if here {
		style = s.Theme.Strong.Underline(true)
	}
	out := []string{parts.Cell(strings.Repeat(" ", axisWidth)+style.Render(sweep.Where(of)), w)}
	l := v.drawn(s)
	if l == nil {
		return parts.Fit(strings.Join(out, "\n"), w, h+3)
	}
	v.point = l.Nearest(-1)
	plot := max(w-axisWidth, 4)
	out = append(out, v.plot(s, l, plot, h, 0)...)
	out = append(out, strings.Repeat(" ", axisWidth)+v.ribbon(s, l, plot))
	var ticks []chart.Tick
	for _, t := range l.Along {
		ticks = append(ticks, tickAt(t, plot))
	}
	out = append(out, strings.Repeat(" ", axisWidth)+s.Theme.Faint.Render(parts.Axis(ticks, plot, false)))
	return parts.Fit(strings.Join(out, "\n"), w, h+3)
}
