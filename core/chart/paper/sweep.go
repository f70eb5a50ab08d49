package paper

import (
	"cmp"
	"image/color"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/judge/curve"
	"paceduel/core/result"
)

// Swept are the pictures of a sweep as it is looked at: the lines of one stretch, or the maps of two parameters.
func Swept(r *result.Result, s *judge.Sweep, look chart.SweepLook, asMap bool) (out []Named) {
	if asMap {
		for _, m := range chart.NewSweepMaps(s, r, look.Figure) {
			of := strings.TrimSpace(string(look.Figure) + " " + m.State)
			out = append(out, Named{SweepMap(m), Name(r, "map", of), "who wins where"})
		}
		return out
	}
	l := chart.NewSweepLines(s, r, look)
	if l == nil {
		return nil
	}
	of := &s.Slices[look.Slice]
	name := Name(r, "sweep", s.Labelled(of, look.Figure, look.Scale)+" "+s.Where(of))
	return []Named{{SweepLines(l), name, l.FigureLabel + " over " + l.Parameter}}
}

// AllSwept are the pictures of a finished sweep: the figure that decides along every stretch, its map where there are
// two parameters, the other figures that carry a verdict along the first stretch, and what happens inside shots at each
// point where that is known.
func AllSwept(r *result.Result, s *judge.Sweep) (out []Named) {
	look := chart.SweepLook{Figure: s.Decides}
	for i := range s.Slices {
		look.Slice = i
		out = append(out, Swept(r, s, look, false)...)
	}
	out = append(out, Swept(r, s, look, true)...)
	look.Slice = 0
	for _, fig := range s.Figures {
		if look.Figure = fig; fig != s.Decides {
			out = append(out, Swept(r, s, look, false)...)
		}
	}
	for i := range r.Sweep.Points {
		v, err := s.At(i)
		if err != nil { // the document was judged already
			continue
		}
		at := r.AtPoint(i)
		if in := chart.NewInside(at, v, chart.InsideLook{Depth: chart.AllSteps}); in.Any() {
			title := "what happens in a shot, " + r.Sweep.Say(r.Sweep.Points[i].At)
			out = append(out, Named{Inside(in), Name(at, "inside"), title})
		}
	}
	return out
}

// SweepLines is the picture of a figure over a parameter.
func SweepLines(l *chart.SweepLines) Picture { return sweepLines{l} }

// SweepMap is the picture of who wins where over two parameters.
func SweepMap(m *chart.SweepMap) Picture { return sweepMap{m} }

type sweepLines struct{ *chart.SweepLines }

type sweepMap struct{ *chart.SweepMap }

// Rooms of a sweep.
const (
	sweepHeight = 340
	sweepNotes  = 190 // right of the lines: who they are and what they come to
	sweepWidth  = width - edge - curveFrom - sweepNotes
	sweepBelow  = 74
	mapCell     = 34
	mapLabel    = 110
	bandShare   = 0.18 // of a line's colour: lines are read on it
)

func (l sweepLines) sheet() sheet { return sheet{l.Title, l.Sentence, l.Note, l.Conditions} }

func (l sweepLines) size() (w, h vg.Length) {
	return width, l.sheet().room() + sweepHeight + sweepBelow + 24
}

func (l sweepLines) draw(p *pen, w, h vg.Length) {
	y := l.sheet().above(p, w, h) - 4
	p.text(l.FigureLabel, curveFrom, y, noteSize, bold, ink)
	top := y - 8
	foot := top - sweepHeight
	for _, t := range l.Scale.Ticks {
		at := foot + vg.Length(t.At)*sweepHeight
		p.line(curveFrom, at, curveFrom+sweepWidth, at, rule)
		p.textRight(t.Label, curveFrom-6, at-3, noteSize, regular, faint)
	}
	x := func(at float64) vg.Length { return curveFrom + vg.Length(at)*sweepWidth }
	up := func(at float64) vg.Length { return foot + vg.Length(at)*sweepHeight }
	if !math.IsNaN(l.One) {
		p.stroke(segment(curveFrom, up(l.One), curveFrom+sweepWidth, up(l.One)), ink, 0.8)
	}
	l.turns(p, x, top, foot)
	for i := range l.Lines {
		c := colorOf(l.Lines[i].Sign)
		p.band(l.Lines[i].Points, x, up, shaded(c, bandShare))
		p.band(l.Lines[i].Beyond, x, up, shaded(c, bandShare/2))
	}
	for i := range l.Lines {
		l.line(p, &l.Lines[i], x, up)
	}
	l.names(p, up, foot)
	l.leads(p, x, foot-14)
	last := vg.Length(-1e9)
	for _, t := range l.Along {
		if t.At < 0 || t.At > 1 {
			continue
		}
		p.line(x(t.At), foot, x(t.At), foot-3, rule)
		if half := p.width(t.Text, noteSize, regular) / 2; x(t.At)-half > last+4 {
			p.textCentre(t.Text, x(t.At), foot-34, noteSize, regular, faint)
			last = x(t.At) + half
		}
	}
	p.text(l.Parameter, curveFrom+sweepWidth+8, foot-34, noteSize, regular, ink)
	l.sheet().below(p, w)
}

// turns draws where the order turns: the interval as a ground, the place as a line.
func (l sweepLines) turns(p *pen, x func(float64) vg.Length, top, foot vg.Length) {
	last := vg.Length(-1e9)
	for _, t := range l.Turns {
		if t.At < 0 || t.At > 1 {
			continue
		}
		low, high := x(max(t.Low, 0)), x(min(t.High, 1))
		p.fill(rectangle(low, foot, max(high-low, 0.8), top-foot), band)
		p.stroke(segment(x(t.At), foot, x(t.At), top), ink, 0.9)
		text := "turns at " + t.Text
		if from := max(x(t.At)-p.width(text, noteSize, bold)/2, curveFrom); from > last+6 {
			p.text(text, from, foot-50, noteSize, bold, ink)
			last = from + p.width(text, noteSize, bold)
		}
	}
}

// band draws the interval about a line.
func (p *pen) band(spots []chart.SweepSpot, x, up func(float64) vg.Length, c color.Color) {
	for i := 0; i+1 < len(spots); i++ {
		a, b := spots[i], spots[i+1]
		if a.Y < 0 || b.Y < 0 || a.X < 0 || b.X > 1 {
			continue
		}
		var path vg.Path
		path.Move(vg.Point{X: x(a.X), Y: up(a.Low)})
		path.Line(vg.Point{X: x(a.X), Y: up(a.High)})
		path.Line(vg.Point{X: x(b.X), Y: up(b.High)})
		path.Line(vg.Point{X: x(b.X), Y: up(b.Low)})
		path.Close()
		p.fill(path, c)
	}
}

func (l sweepLines) line(p *pen, line *chart.SweepLine, x, up func(float64) vg.Length) {
	c := colorOf(line.Sign)
	p.through(line.Law, x, up, c, 0.5)
	p.canvas.SetLineDash([]vg.Length{4, 3}, 0)
	p.through(line.Beyond, x, up, c, 0.7)
	p.canvas.SetLineDash(nil, 0)
	p.through(line.Points, x, up, c, 1.5)
	for i, s := range line.Points {
		if s.Y < 0 || s.X < 0 || s.X > 1 {
			continue
		}
		p.sign(line.Sign, x(s.X), up(s.Y), c)
		switch i {
		case line.Best:
			p.textCentre("best", x(s.X), up(s.Y)+8, noteSize, regular, c)
		case line.Knee:
			p.textCentre("knee", x(s.X), up(s.Y)-14, noteSize, regular, c)
		}
	}
}

// through draws a line from spot to spot, broken where there is none.
func (p *pen) through(spots []chart.SweepSpot, x, up func(float64) vg.Length, c color.Color, wide vg.Length) {
	var path vg.Path
	begun := false
	for _, s := range spots {
		if s.Y < 0 || s.X < 0 || s.X > 1 {
			begun = false
			continue
		}
		pt := vg.Point{X: x(s.X), Y: up(s.Y)}
		if begun {
			path.Line(pt)
		} else {
			path.Move(pt)
		}
		begun = true
	}
	if len(path) > 1 {
		p.stroke(path, c, wide)
	}
}

// names writes at the end of each line whose it is and what it comes to.
func (l sweepLines) names(p *pen, up func(float64) vg.Length, foot vg.Length) {
	const step = 25
	free := foot + sweepHeight + step
	order := make([]int, len(l.Lines))
	ends := make([]vg.Length, len(l.Lines))
	for i := range l.Lines {
		order[i] = i
		for _, s := range l.Lines[i].Points {
			if s.Y >= 0 && s.X <= 1 {
				ends[i] = up(s.Y)
			}
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(ends[b], ends[a]) }) // from the top down
	for n, i := range order {
		line := &l.Lines[i]
		y := min(ends[i], free-step)
		y = max(y, foot+vg.Length(len(order)-1-n)*step)
		free = y
		c := colorOf(line.Sign)
		from := vg.Length(curveFrom + sweepWidth + 8)
		p.sign(line.Sign, from+5, y+3, c)
		p.text(p.cut(line.Name, sweepNotes-24, figureSize, bold), from+15, y, figureSize, bold, c)
		p.text(p.cut(line.Note, sweepNotes-24, noteSize, regular), from+15, y-11, noteSize, regular, faint)
	}
}

// leads draws who is best at each point.
func (l sweepLines) leads(p *pen, x func(float64) vg.Length, y vg.Length) {
	p.textRight("best", curveFrom-6, y-3, noteSize, regular, faint)
	for i, lead := range l.Leads {
		if lead.At < 0 || lead.At > 1 {
			continue
		}
		if i+1 < len(l.Leads) && l.Leads[i+1].At <= 1 {
			next := &l.Leads[i+1]
			if lead.Standing == curve.Ahead && next.Standing == curve.Ahead && lead.Signs[0] == next.Signs[0] {
				p.stroke(segment(x(lead.At), y, x(next.At), y), colorOf(lead.Signs[0]), 2)
			}
		}
		p.lead(&lead, x(lead.At), y)
	}
}

// lead draws the mark of who is best.
func (p *pen) lead(lead *chart.SweepLead, x, y vg.Length) {
	switch lead.Standing {
	case curve.Ahead:
		p.sign(lead.Signs[0], x, y, colorOf(lead.Signs[0]))
	case curve.Even:
		p.textCentre("≈", x, y-4, figureSize, regular, ink)
	case curve.Open:
		p.textCentre("?", x, y-4, figureSize, regular, faint)
	}
}

func (m sweepMap) sheet() sheet {
	title := m.Title
	if m.State != "" {
		title += ", " + m.State
	}
	return sheet{title, m.Sentence, m.Note, m.Conditions}
}

func (m sweepMap) size() (w, h vg.Length) {
	return width, m.sheet().room() + vg.Length(len(m.Cells)*mapCell+50)
}

func (m sweepMap) draw(p *pen, w, h vg.Length) {
	y := m.sheet().above(p, w, h) - 6
	from := vg.Length(edge + mapLabel)
	cell := (width - edge - from) / vg.Length(max(len(m.Columns), 1))
	p.textRight(m.Down, from-8, y, noteSize, bold, ink)
	for i, row := range m.Cells {
		foot := y - 6 - vg.Length(i+1)*mapCell
		p.textRight(p.cut(m.Rows[i], mapLabel, noteSize, regular), from-8, foot+mapCell/2-3, noteSize, regular, faint)
		for j := range row {
			c := &row[j]
			x := from + vg.Length(j)*cell
			ground := band
			if c.Standing == curve.Ahead {
				ground = shaded(colorOf(c.Signs[0]), 0.2+0.8*c.Strength)
			}
			p.fill(rectangle(x+1, foot+1, cell-2, mapCell-2), ground)
			p.fill(rectangle(x+cell/2-9, foot+mapCell/2-9, 18, 18), color.NRGBA{0xff, 0xff, 0xff, 0xff})
			p.lead(&c.SweepLead, x+cell/2, foot+mapCell/2)
		}
	}
	foot := y - 6 - vg.Length(len(m.Cells))*mapCell
	for j, text := range m.Columns {
		p.textCentre(p.cut(text, cell-4, noteSize, regular), from+vg.Length(j)*cell+cell/2, foot-14, noteSize, regular, faint)
	}
	p.textCentre(m.Across, from+(width-edge-from)/2, foot-30, noteSize, bold, ink)
	m.sheet().below(p, w)
}

// shaded is a colour that is the stronger, the larger a share is.
func shaded(c color.NRGBA, share float64) color.NRGBA {
	mix := func(v uint8) uint8 { return uint8(255 - share*(255-float64(v))) }
	return color.NRGBA{mix(c.R), mix(c.G), mix(c.B), 0xff}
}
