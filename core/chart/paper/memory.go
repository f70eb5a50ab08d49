package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Memory is the picture of what services held over the rounds: a lane each, all to one scale of bytes.
func Memory(m *chart.Memory, title string) Picture {
	return memory{m, sheet{title, m.Sentence, m.Note, m.Conditions}}
}

type memory struct {
	*chart.Memory
	around sheet
}

const (
	memoryLane = 84
	memoryGap  = 40
)

func (m memory) size() (w, h vg.Length) {
	return width, m.around.room() + vg.Length(len(m.Lanes)*(memoryLane+memoryGap)+64)
}

func (m memory) draw(p *pen, w, h vg.Length) {
	y := m.around.above(p, w, h) - 6
	for i := range m.Lanes {
		l := &m.Lanes[i]
		c := colorOf(l.Sign)
		y -= memoryGap - 24
		p.sign(l.Sign, curveFrom+6, y+4, c)
		p.text(p.cut(title(l.Name, l.State), curveWidth-20, figureSize, bold), curveFrom+16, y, figureSize, bold, c)
		y -= 13
		said := ""
		for j, r := range l.Read {
			if j > 0 {
				said += "   "
			}
			said += r.Name + " " + r.Text
		}
		if said == "" {
			said = "nothing is known"
		}
		p.text(p.cut(said, curveWidth-20, noteSize, regular), curveFrom+16, y, noteSize, regular, faint)
		foot := y - 8 - memoryLane
		for _, s := range l.Heats {
			p.fill(rectangle(
				curveFrom+vg.Length(s.From)*curveWidth, foot, max(vg.Length(s.To-s.From)*curveWidth, 0.5), memoryLane,
			), band)
		}
		last := vg.Length(-1e9)
		for _, tick := range m.Scale.Ticks {
			at := foot + vg.Length(tick.At)*memoryLane
			p.line(curveFrom, at, curveFrom+curveWidth, at, rule)
			if at-last > noteSize+2 {
				p.textRight(tick.Label, curveFrom-6, at-3, noteSize, regular, faint)
				last = at
			}
		}
		at := func(d chart.Dot) vg.Point {
			return vg.Point{X: curveFrom + vg.Length(d.X)*curveWidth, Y: foot + vg.Length(d.Y)*memoryLane}
		}
		for _, line := range l.Lines {
			var path vg.Path
			path.Move(at(line[0]))
			for _, d := range line[1:] {
				path.Line(at(d))
			}
			p.stroke(path, c, 1.2)
		}
		for _, line := range l.Growth {
			from, to := at(line[0]), at(line[len(line)-1])
			p.stroke(segment(from.X, from.Y, to.X, to.Y), ink, 0.7)
		}
		for _, d := range l.Peaks {
			pt := at(d)
			p.fill(rectangle(pt.X-1.6, pt.Y-1.6, 3.2, 3.2), c)
		}
		y = foot - 2
	}
	p.ticks(m.Ticks, curveFrom, y-8, curveWidth)
	m.around.below(p, w)
}
