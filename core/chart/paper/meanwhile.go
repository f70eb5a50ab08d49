package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Meanwhile is the picture of who waits while contenders work.
func Meanwhile(p *chart.Meanwhile) Picture { return meanwhile{p} }

type meanwhile struct{ *chart.Meanwhile }

const (
	meanwhileHead  = 24
	meanwhileBar   = 10
	meanwhileWaits = 54
	meanwhileMarks = 18
	meanwhileLane  = meanwhileHead + meanwhileBar + meanwhileWaits + meanwhileMarks + 18
	waitsLabel     = 62
)

func (s meanwhile) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

func (s meanwhile) size() (w, h vg.Length) {
	return width, s.sheet().room() + vg.Length(len(s.Lanes))*meanwhileLane + 44
}

func (s meanwhile) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	from, plot := vg.Length(edge+waitsLabel), vg.Length(width-2*edge-waitsLabel)
	for i := range s.Lanes {
		s.lane(p, &s.Lanes[i], y, from, plot)
		y -= meanwhileLane
	}
	p.ticks(s.Scale.Ticks, from, y, plot)
	s.sheet().below(p, w)
}

// lane draws one contender's heat below y.
func (s meanwhile) lane(p *pen, l *chart.MeanwhileLane, y, from, plot vg.Length) {
	c := colorOf(l.Sign)
	y -= meanwhileHead - 8
	name := title(l.Name, l.State)
	if l.Baseline {
		name += " (baseline)"
	}
	p.sign(l.Sign, edge+6, y+4, c)
	p.text(name, edge+16, y, figureSize, bold, c)
	p.text("takes "+l.Took+"; "+l.Says, edge+24+p.width(name, figureSize, bold), y, noteSize, regular, ink)
	y -= meanwhileBar + 6
	for _, w := range l.Work {
		p.fill(rectangle(from+vg.Length(w.From)*plot, y, max(vg.Length(w.To-w.From)*plot-0.6, 0.4), meanwhileBar), c)
	}
	foot := y - 4 - meanwhileWaits
	last := vg.Length(-1e9)
	for _, t := range s.Waits.Ticks {
		at := foot + vg.Length(t.At)*meanwhileWaits
		p.line(from, at, from+plot, at, rule)
		if at-last > noteSize+1 {
			p.textRight(t.Label, from-6, at-3, noteSize, regular, faint)
			last = at
		}
	}
	limit := foot + vg.Length(l.Limit)*meanwhileWaits
	p.stroke(segment(from, limit, from+plot, limit), ink, 0.6)
	var dots vg.Path
	for _, d := range l.Dots {
		dots = append(dots, rectangle(from+vg.Length(d.X)*plot-0.9, foot+vg.Length(d.Y)*meanwhileWaits-0.9, 1.8, 1.8)...)
	}
	if len(dots) > 0 {
		p.fill(dots, ink)
	}
	y = foot - 8
	for _, q := range l.Silences {
		a, b := from+vg.Length(q.From)*plot, from+vg.Length(q.To)*plot
		p.stroke(segment(a, y, b, y), ink, 1.4)
		p.stroke(segment(a, y-3, a, y+3), ink, 1)
		p.stroke(segment(b, y-3, b, y+3), ink, 1)
		if p.width(q.Label, noteSize, regular) < b-a {
			p.textCentre(q.Label, (a+b)/2, y-11, noteSize, regular, faint)
		}
	}
}
