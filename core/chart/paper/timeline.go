package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Timeline is the picture of a run by the clock: a lane each, all to one scale of latency.
func Timeline(t *chart.Timeline, title, sentence string, conditions []string) Picture {
	return timeline{t, sheet{
		title, sentence,
		"every dot a shot, an even choice of them; crosses failed; tinted: the judged part of each heat; latency on a log " +
			"scale",
		conditions,
	}}
}

type timeline struct {
	*chart.Timeline
	around sheet
}

const (
	timeLane = 110
	timeGap  = 26
)

func (t timeline) size() (w, h vg.Length) {
	lanes := 0
	for i := range t.Lanes {
		if !t.Lanes[i].Hidden {
			lanes++
		}
	}
	return width, t.around.room() + vg.Length(lanes*(timeLane+timeGap)+72)
}

func (t timeline) draw(p *pen, w, h vg.Length) {
	y := t.around.above(p, w, h) - 6
	const dot = 1.1
	for i := range t.Lanes {
		l := &t.Lanes[i]
		if l.Hidden {
			continue
		}
		c := colorOf(l.Sign)
		y -= timeGap - 10
		name := l.Name
		if l.State != "" {
			name += " " + l.State
		}
		p.sign(l.Sign, curveFrom+6, y+4, c)
		p.text(p.cut(name, curveWidth-20, figureSize, bold), curveFrom+16, y, figureSize, bold, c)
		foot := y - 8 - timeLane
		for _, s := range l.Heats {
			p.fill(rectangle(curveFrom+vg.Length(s.From)*curveWidth, foot, vg.Length(s.To-s.From)*curveWidth, timeLane), band)
		}
		last := vg.Length(-1e9)
		for _, tick := range t.Scale.Ticks {
			at := foot + vg.Length(tick.At)*timeLane
			p.line(curveFrom, at, curveFrom+curveWidth, at, rule)
			if at-last > noteSize+2 {
				p.textRight(tick.Label, curveFrom-6, at-3, noteSize, regular, faint)
				last = at
			}
		}
		for _, d := range l.Dots {
			at := vg.Point{X: curveFrom + vg.Length(d.X)*curveWidth, Y: foot + vg.Length(d.Y)*timeLane}
			if d.Failed {
				p.line(at.X-3, at.Y-3, at.X+3, at.Y+3, ink)
				p.line(at.X-3, at.Y+3, at.X+3, at.Y-3, ink)
				continue
			}
			p.fill(rectangle(at.X-dot, at.Y-dot, 2*dot, 2*dot), c)
		}
		y = foot - 10
	}
	p.ticks(t.Ticks, curveFrom, y, curveWidth)
	t.around.below(p, w)
}
