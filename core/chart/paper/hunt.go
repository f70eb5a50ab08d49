package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Hunt is the picture of a search through commits.
func Hunt(h *chart.Hunt) Picture { return hunts{h} }

type hunts struct{ *chart.Hunt }

const (
	huntAbove = 120
	huntBelow = 150
	huntLabel = 52
)

func (s hunts) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, nil} }

func (s hunts) size() (w, h vg.Length) { return width, s.sheet().room() + huntAbove + huntBelow + 60 }

func (s hunts) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	from, plot := vg.Length(edge+huntLabel), vg.Length(width-2*edge-huntLabel)
	at := func(x float64) vg.Length { return from + vg.Length(x)*plot }
	y -= huntAbove
	p.text(s.Most, edge, y+huntAbove-8, noteSize, regular, faint)
	wide := max(plot/vg.Length(len(s.Columns)+1)*0.6, 1.2)
	for i := range s.Columns {
		c := &s.Columns[i]
		p.fill(rectangle(at(c.X)-wide/2, y, wide, vg.Length(c.Likely)*huntAbove), ink)
	}
	y -= 14
	p.stroke(segment(from, y+6, from+plot, y+6), faint, 0.6)
	for i := range s.Columns {
		c := &s.Columns[i]
		glyph := map[chart.HuntMark]string{
			chart.Unseen: "o", chart.Fine: "+", chart.Bad: "v", chart.Between: "?", chart.Barred: "x",
		}[c.Mark]
		p.text(glyph, at(c.X)-2.5, y+3, noteSize, bold, ink)
	}
	p.text("+ fine   v worse   ? not clear   x cannot be looked at   o not looked at", from, y-10, noteSize, regular,
		faint)
	y -= huntBelow + 20
	p.fill(rectangle(from, y, plot, huntBelow), band)
	down := func(x float64) vg.Length { return y + huntBelow - vg.Length(x)*huntBelow }
	for _, t := range s.Ticks {
		p.text(t.Label, edge, down(t.At)-3, noteSize, regular, faint)
	}
	p.stroke(segment(from, down(s.Even), from+plot, down(s.Even)), faint, 0.5)
	p.stroke(segment(from, down(s.Edge), from+plot, down(s.Edge)), ink, 0.8)
	for _, l := range s.Looks {
		p.stroke(segment(at(l.X), down(l.Low), at(l.X), down(l.High)), ink, 1)
		p.fill(rectangle(at(l.X)-2, down(l.Y)-2, 4, 4), ink)
	}
	s.sheet().below(p, w)
}
