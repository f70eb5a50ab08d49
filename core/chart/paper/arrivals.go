package paper

import (
	"math"

	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Arrivals is the picture of when the effects of deeds are seen.
func Arrivals(p *chart.Arrivals) Picture { return arrivals{p} }

type arrivals struct{ *chart.Arrivals }

const (
	arrivalHead  = 24
	arrivalStrip = 14
	arrivalRow   = arrivalStrip + 22
	arrivalLabel = 110
	arrivalPile  = 26 // how many are under way
)

func (s arrivals) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

func (s arrivals) size() (w, h vg.Length) {
	h = s.sheet().room() + 44
	for _, l := range s.Lanes {
		h += arrivalRow
		if l.First {
			h += arrivalHead
		}
		if len(l.Backlog) > 0 {
			h += arrivalPile + 20
		}
	}
	return width, h
}

func (s arrivals) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	from, plot := vg.Length(edge+arrivalLabel), vg.Length(width-2*edge-arrivalLabel)
	for i := range s.Lanes {
		l := &s.Lanes[i]
		c := colorOf(l.Sign)
		if l.First {
			name := title(l.Name, l.State)
			if l.Baseline {
				name += " (baseline)"
			}
			p.sign(l.Sign, edge+6, y-12, c)
			p.text(name, edge+16, y-16, figureSize, bold, c)
			if l.Counted != "" {
				p.text(l.Counted, edge+26+p.width(name, figureSize, bold), y-16, noteSize, regular, ink)
			}
			y -= arrivalHead
		}
		if len(l.Backlog) > 0 {
			y -= arrivalPile
			s.pile(p, l, from, y, plot)
			y -= 20
		}
		y -= arrivalStrip
		p.text(p.cut(l.Effect, arrivalLabel-12, noteSize, regular), edge+16, y+3, noteSize, regular, ink)
		p.fill(rectangle(from, y, plot, arrivalStrip), band)
		each := plot / vg.Length(len(l.Density))
		for column, share := range l.Density {
			if share > 0 {
				p.fill(rectangle(from+vg.Length(column)*each, y, each, arrivalStrip), toward(c, 0.25+0.75*math.Sqrt(share)))
			}
		}
		if l.Floor > 0 {
			for x := vg.Length(0); x < vg.Length(l.Floor)*plot; x += 4 {
				p.fill(rectangle(from+x, y-3, 1.5, 1.5), ink)
			}
		}
		for _, at := range []float64{l.P50, l.P99} {
			if !math.IsNaN(at) {
				x := from + vg.Length(at)*plot
				p.stroke(segment(x, y-2, x, y+arrivalStrip+2), ink, 1.2)
			}
		}
		p.text(l.Says, from, y-14, noteSize, regular, faint)
		y -= arrivalRow - arrivalStrip
	}
	p.ticks(s.Scale.Ticks, from, y, plot)
	s.sheet().below(p, w)
}

// pile draws how many deeds were under way over time.
func (s arrivals) pile(p *pen, l *chart.ArrivalLane, from, y, plot vg.Length) {
	c := colorOf(l.Sign)
	p.text("under way", edge+16, y+3, noteSize, regular, ink)
	var area vg.Path
	area.Move(vg.Point{X: from + vg.Length(l.Backlog[0].X)*plot, Y: y})
	last := area[0].Pos
	for _, at := range l.Backlog {
		last = vg.Point{X: from + vg.Length(at.X)*plot, Y: y + vg.Length(at.Y)*arrivalPile}
		area.Line(last)
	}
	area.Line(vg.Point{X: last.X, Y: y})
	area.Close()
	p.fill(area, toward(c, 0.35))
	p.stroke(segment(from, y, from+plot, y), faint, 0.6)
	p.text(l.Piled, from, y-13, noteSize, regular, faint)
}
