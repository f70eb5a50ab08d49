package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
	"paceduel/core/judge"
)

// Tracks is the picture of more than two contenders, figure by figure.
func Tracks(t *chart.Tracks) Picture { return tracks{t} }

type tracks struct{ *chart.Tracks }

// Rooms of the lanes.
const (
	laneStep  = 17
	trackGap  = 34
	laneName  = 150
	laneFrom  = edge + laneName
	laneWidth = 330
	fewRoom   = 26 // of a figure that nobody has
	fewIndent = 90
)

func (t tracks) sheet() sheet { return sheet{t.Title, t.Sentence, t.Note, t.Conditions} }

func (t tracks) size() (w, h vg.Length) {
	h = t.sheet().room() + 10
	for _, f := range t.Figures {
		if _, ok := f.TooFew(); ok {
			h += fewRoom
		} else {
			h += vg.Length(14 + len(f.Lanes)*laneStep + trackGap)
		}
	}
	return width, h
}

func (t tracks) draw(p *pen, w, h vg.Length) {
	y := t.sheet().above(p, w, h)
	for _, f := range t.Figures {
		if say, ok := f.TooFew(); ok {
			p.text(f.Label, laneFrom, y-14, figureSize, bold, ink)
			p.text(say, laneFrom+fewIndent, y-14, figureSize, regular, faint)
			y -= fewRoom
			continue
		}
		y -= 14
		p.text(f.Label, laneFrom, y, figureSize, bold, ink)
		for _, l := range f.Lanes {
			y -= laneStep
			p.lane(l, y)
		}
		p.ticks(f.Scale.Ticks, laneFrom, y-5, laneWidth)
		y -= trackGap
	}
	t.sheet().below(p, w)
}

func (p *pen) lane(l chart.TrackLane, y vg.Length) {
	c := colorOf(l.Sign)
	p.sign(l.Sign, laneFrom-10, y+4, c)
	p.textRight(p.cut(l.Name, laneName-24, figureSize, regular), laneFrom-20, y, figureSize, regular, ink)
	if l.Length > 0 {
		p.fill(rectangle(laneFrom, y-1, vg.Length(l.Length*laneWidth), barHeight-2), c)
		if l.Low == l.Low && l.High > l.Low {
			p.fill(rectangle(laneFrom+vg.Length(
				min(l.Low, l.Length)*laneWidth,
			), y-1, vg.Length((min(l.High, l.Length)-min(l.Low, l.Length))*laneWidth), barHeight-2), lighter(c))
		}
	}
	x := vg.Length(laneFrom + laneWidth + 12)
	p.text(l.Text, x, y, figureSize, regular, ink)
	if l.Ratio == "" {
		return
	}
	style := faint
	if l.Word == judge.Better || l.Word == judge.Worse || l.Word == judge.Alike {
		style = ink
	}
	p.textRight(l.Ratio, x+100, y, figureSize, bold, style)
	said := string(l.Word)
	if l.Word == judge.Better || l.Word == judge.Worse {
		said = l.Say
	}
	if l.Interval != "" {
		said += "  " + l.Interval
	}
	p.text(p.cut(said, width-edge-x-108, figureSize, regular), x+108, y, figureSize, regular, style)
}

// ticks draws a scale to the right, its labels below and never upon each other.
func (p *pen) ticks(ticks []chart.Tick, x, y, w vg.Length) {
	p.line(x, y, x+w, y, rule)
	last := vg.Length(-1e9)
	for _, t := range ticks {
		at := x + vg.Length(t.At)*w
		p.line(at, y, at, y-3, faint)
		if half := p.width(t.Label, noteSize, regular) / 2; at-half > last {
			p.textCentre(t.Label, at, y-12, noteSize, regular, faint)
			last = at + half + 4
		}
	}
}
