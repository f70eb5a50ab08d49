package paper

import (
	"image/color"

	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Timeline is the picture of a run by the clock: a lane each, all to one scale of latency.
func Timeline(t *chart.Timeline, title, sentence string, conditions []string) Picture {
	what := "shots, an even choice of them"
	if t.Batches {
		what = "batches of shots, each where its shot would stand had all of it been like that"
	}
	return timeline{t, sheet{
		title, sentence,
		"each square holds " + what + ": the darker, the more; crosses above failed. Lines: p50 of each heat, and thinner " +
			"p99; tinted: its judged part. Latency on a log scale.",
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
		p.cloud(l.Dots, foot, c)
		for _, s := range l.Heats {
			from, to := s.Middle()
			p.level(from, to, s.P50, foot, 1.6)
			p.level(from, to, s.P99, foot, 0.8)
		}
		y = foot - 10
	}
	p.ticks(t.Ticks, curveFrom, y, curveWidth)
	t.around.below(p, w)
}

// square is the side of what dots are counted in.
const square = 2

// cloud draws dots by how dense they are, and failures above them.
func (p *pen) cloud(dots []chart.Dot, foot vg.Length, c color.NRGBA) {
	w, h := int(curveWidth/square), int(timeLane/square)
	counts, most := chart.Density(dots, w, h)
	var shades [chart.Shades + 1]vg.Path
	for at, n := range counts {
		if shade := chart.Shade(n, most); shade > 0 {
			x, y := curveFrom+vg.Length(at%w)*square, foot+vg.Length(h-1-at/w)*square
			shades[shade] = append(shades[shade], rectangle(x, y, square, square)...)
		}
	}
	for shade, path := range shades {
		if len(path) > 0 {
			p.fill(path, toward(c, float64(shade)/chart.Shades))
		}
	}
	var crosses vg.Path
	known := map[int]bool{}
	for _, d := range dots {
		column := int(d.X * float64(w))
		if !d.Failed || known[column] {
			continue
		}
		known[column] = true
		x, y := curveFrom+vg.Length(d.X)*curveWidth, foot+timeLane-4
		crosses = append(crosses, segment(x-3, y-3, x+3, y+3)...)
		crosses = append(crosses, segment(x-3, y+3, x+3, y-3)...)
	}
	if len(crosses) > 0 {
		p.stroke(crosses, ink, 0.7)
	}
}

// level draws what a share of a heat's shots took at most, where that is known.
func (p *pen) level(from, to, y float64, foot, thick vg.Length) {
	if !(y >= 0) {
		return
	}
	at := foot + vg.Length(y)*timeLane
	p.stroke(segment(curveFrom+vg.Length(from)*curveWidth, at, curveFrom+vg.Length(to)*curveWidth, at), ink, thick)
}

// toward is a colour as strong as share says, on white.
func toward(c color.NRGBA, share float64) color.NRGBA {
	mix := func(x uint8) uint8 { return uint8(255 - share*float64(255-x) + 0.5) }
	return color.NRGBA{mix(c.R), mix(c.G), mix(c.B), 0xff}
}
