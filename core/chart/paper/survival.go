package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Survival is the picture of what crashes left.
func Survival(p *chart.Survival) Picture { return survival{p} }

type survival struct{ *chart.Survival }

const (
	survivalHead = 24
	survivalKept = 52
	survivalFrom = 74
)

func (s survival) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

// lane is the height of one.
func (s survival) lane() vg.Length { return survivalHead + survivalKept*(1+vg.Length(s.Deepest)) + 26 }

func (s survival) size() (w, h vg.Length) {
	return width, s.sheet().room() + vg.Length(len(s.Lanes))*s.lane() + 24
}

func (s survival) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	from, plot := vg.Length(edge+survivalFrom), vg.Length(width-2*edge-survivalFrom)
	most := 1
	for i := range s.Lanes {
		most = max(most, len(s.Lanes[i].Crashes))
	}
	each := min(plot/vg.Length(most), 40)
	for i := range s.Lanes {
		l := &s.Lanes[i]
		c := colorOf(l.Sign)
		p.sign(l.Sign, edge+6, y-12, c)
		p.text(l.Name, edge+16, y-16, figureSize, bold, c)
		p.text(l.Says, edge+26+p.width(l.Name, figureSize, bold), y-16, noteSize, regular, ink)
		line := y - survivalHead - survivalKept
		for _, t := range s.Scale.Ticks {
			p.textRight(t.Label, from-8, line+vg.Length(t.At)*survivalKept-3, noteSize-1, regular, faint)
		}
		p.line(from, line, from+plot, line, faint)
		for k, b := range l.Crashes {
			x := from + vg.Length(k)*each + 2
			p.fill(rectangle(x, line, each-4, vg.Length(b.Kept)*survivalKept), c)
			p.fill(rectangle(x, line-vg.Length(b.Lost)*survivalKept, each-4, vg.Length(b.Lost)*survivalKept), ink)
			if p.width(b.Label, noteSize-1, regular) < each {
				p.textCentre(b.Label, x+each/2-2, line-vg.Length(b.Lost)*survivalKept-10, noteSize-1, regular, faint)
			}
		}
		y -= s.lane()
	}
	s.sheet().below(p, w)
}
