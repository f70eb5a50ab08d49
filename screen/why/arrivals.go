package why

import (
	"math"
	"strings"

	"paceduel/core/chart"
	"paceduel/screen"
	"paceduel/screen/parts"
)

func (v View) arrivals(s screen.Scene) *chart.Arrivals {
	type arrivalsKey struct{}
	return screen.Picture(s, arrivalsKey{}, func() *chart.Arrivals {
		return chart.NewArrivals(s.Run.Result, s.Run.Verdict)
	})
}

// arrivalsBody draws a lane for each effect, from the deed on.
func (v View) arrivalsBody(s screen.Scene, w, h int) (lines []string) {
	p := v.arrivals(s)
	label := min(max(w/7, 10), 18)
	plot := max(w-label-3, 8)
	pile := pileRows(p, h)
	for i := range p.Lanes {
		l := &p.Lanes[i]
		if l.First {
			if i > 0 {
				lines = append(lines, "")
			}
			head := " " + s.Theme.Sign(l.Sign).Bold(true).Render(l.Sign.Glyph+" "+l.Name)
			if l.Baseline {
				head += s.Theme.Faint.Render(" baseline")
			}
			if l.State != "" {
				head += " " + s.Theme.Strong.Render(l.State)
			}
			if l.Counted != "" {
				head += "  " + s.Theme.Caution.Render(l.Counted)
			}
			lines = append(lines, parts.Cell(head, w))
			if len(l.Backlog) > 0 {
				name := "under way"
				for _, row := range piled(l.Backlog, plot, pile) {
					lines = append(lines, "   "+parts.Cell(name, label)+s.Theme.Sign(l.Sign).Render(row))
					name = ""
				}
				lines = append(lines, parts.Cell(strings.Repeat(" ", label+3)+s.Theme.Faint.Render(l.Piled), w))
			}
		}
		lines = append(lines, "   "+parts.Cell(l.Effect, label)+strip(s, l, plot))
		lines = append(lines, parts.Cell(strings.Repeat(" ", label+3)+s.Theme.Faint.Render(l.Says), w))
	}
	lines = lines[:min(len(lines), max(h-2, 0))]
	return append(lines, "", strings.Repeat(" ", label+3)+s.Theme.Faint.Render(parts.Axis(p.Scale.Ticks, plot, false)))
}

// pileRows is how many rows each contender has for what is under way: as many as there is room for.
func pileRows(p *chart.Arrivals, h int) int {
	const most = 4
	room, piles := h-2, 0
	for i := range p.Lanes {
		l := &p.Lanes[i]
		room -= 2
		if l.First {
			room -= 2
		}
		if len(l.Backlog) > 0 {
			room--
			piles++
		}
	}
	return min(max(room/max(piles, 1), 1), most)
}

// piled draws how many deeds were under way over time, from the top row on: of each column the most.
func piled(backlog []chart.Dot, plot, rows int) (lines []string) {
	heights := []rune(" ▁▂▃▄▅▆▇█")
	full := len(heights) - 1
	columns := make([]float64, plot)
	before := 0
	for _, at := range backlog {
		c := min(int(at.X*float64(plot)), plot-1)
		for i := before + 1; i < c; i++ {
			columns[i] = columns[before] // none began meanwhile
		}
		columns[c], before = max(columns[c], at.Y), c
	}
	for row := rows - 1; row >= 0; row-- {
		var out strings.Builder
		for _, y := range columns {
			eighths := int(math.Ceil(y*float64(rows*full))) - row*full
			out.WriteRune(heights[min(max(eighths, 0), full)])
		}
		lines = append(lines, out.String())
	}
	return lines
}

// strip draws how many arrive when: the darker, the more.
func strip(s screen.Scene, l *chart.ArrivalLane, plot int) string {
	shades := []rune(" ░▒▓█")
	columns := make([]float64, plot)
	for c, share := range l.Density {
		at := min(c*plot/len(l.Density), plot-1)
		columns[at] = max(columns[at], share)
	}
	own := s.Theme.Sign(l.Sign)
	mark := func(at float64) int {
		if math.IsNaN(at) {
			return -1
		}
		return min(int(at*float64(plot)), plot-1)
	}
	p50, p99 := mark(l.P50), mark(l.P99)
	var out strings.Builder
	for i, share := range columns {
		shade := int(math.Ceil(math.Sqrt(share) * float64(len(shades)-1)))
		switch {
		case i == p50 || i == p99:
			out.WriteString(s.Theme.Strong.Render("┃"))
		case shade > 0:
			out.WriteString(own.Render(string(shades[shade])))
		case float64(i) < l.Floor*float64(plot):
			out.WriteString(s.Theme.Faint.Render("·"))
		default:
			out.WriteByte(' ')
		}
	}
	return out.String()
}
