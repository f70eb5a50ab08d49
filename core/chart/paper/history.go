package paper

import (
	"math"

	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// History is the picture of a duel's runs over time.
func History(h *chart.History) Picture { return histories{h} }

type histories struct{ *chart.History }

const (
	historyHead = 22
	historyLane = 90
	historyGap  = 44
	historyTick = 46
)

func (s histories) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, nil} }

func (s histories) size() (w, h vg.Length) {
	return width, s.sheet().room() + vg.Length(len(s.Lanes))*(historyHead+historyLane+historyGap) + 30
}

func (s histories) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	from, plot := vg.Length(edge+historyTick), vg.Length(width-2*edge-historyTick)
	at := func(run int) vg.Length { return from + vg.Length(s.Runs[run].X)*plot }
	for i := range s.Lanes {
		l := &s.Lanes[i]
		c := colorOf(l.Sign)
		p.sign(l.Sign, edge+6, y-8, c)
		p.text(l.Title, edge+16, y-12, figureSize, bold, c)
		y -= historyHead + historyLane
		p.fill(rectangle(from, y, plot, historyLane), band)
		for _, t := range l.Scale.Ticks {
			p.text(t.Label, edge, y+vg.Length(t.At)*historyLane-3, noteSize, regular, faint)
			p.stroke(segment(from, y+vg.Length(t.At)*historyLane, from+plot, y+vg.Length(t.At)*historyLane), faint, 0.3)
		}
		if l.One > 0 && l.One < 1 {
			one := y + vg.Length(l.One)*historyLane
			p.stroke(segment(from, one, from+plot, one), ink, 0.8)
		}
		var before *chart.HistoryDot
		for j := range l.Dots {
			d := &l.Dots[j]
			x, dy := at(d.Run), y+vg.Length(d.Y)*historyLane
			if !math.IsNaN(d.Low) {
				p.stroke(segment(x, y+vg.Length(d.Low)*historyLane, x, y+vg.Length(d.High)*historyLane), c, 1.2)
			}
			if before != nil && !d.Shifts {
				p.stroke(segment(at(before.Run), y+vg.Length(before.Y)*historyLane, x, dy), c, 0.5)
			}
			p.sign(l.Sign, x, dy, c)
			before = d
		}
		p.text(p.cut(l.Says, plot, noteSize, regular), from, y-32, noteSize, regular, ink)
		free := from // from where on there is room for a day
		for j := range s.Runs {
			p.text(s.Runs[j].Marks, at(j)-3, y-9, noteSize, bold, ink)
			if x := at(j) - 12; s.Runs[j].Day != "" && x >= free {
				p.text(s.Runs[j].Day, x, y-18, noteSize-1, regular, faint)
				free = x + p.width(s.Runs[j].Day, noteSize-1, regular) + 6
			}
		}
		y -= historyGap
	}
	s.sheet().below(p, w)
}
