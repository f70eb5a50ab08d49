package paper

import (
	"cmp"
	"image/color"
	"strings"

	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Inside is the picture of what happens in a shot of each contender.
func Inside(p *chart.Inside) Picture { return inside{p} }

type inside struct{ *chart.Inside }

const (
	insideRow   = 15
	insideHead  = 22
	insideLabel = 128
	insideSide  = 190 // what stands beside the bars
	pathBar     = 9   // on the critical path
	asideBar    = 4
	indent      = 9
)

func (s inside) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

func (s inside) laneHeight(l *chart.InsideLane) vg.Length {
	return insideHead + vg.Length(max(len(l.Rows), 1))*insideRow + 14
}

func (s inside) size() (w, h vg.Length) {
	h = s.sheet().room() + 44
	for i := range s.Lanes {
		h += s.laneHeight(&s.Lanes[i])
	}
	return width, h
}

func (s inside) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	plot := vg.Length(width - 2*edge - insideLabel - insideSide)
	for i := range s.Lanes {
		s.lane(p, &s.Lanes[i], y, plot)
		y -= s.laneHeight(&s.Lanes[i])
	}
	p.ticks(s.Ticks, edge+insideLabel, y, plot)
	s.sheet().below(p, w)
}

// lane draws one contender's shot below y.
func (s inside) lane(p *pen, l *chart.InsideLane, y, plot vg.Length) {
	c := colorOf(l.Sign)
	y -= insideHead - 8
	name := title(l.Name, l.State)
	if l.Baseline {
		name += " (baseline)"
	}
	p.sign(l.Sign, edge+6, y+4, c)
	p.text(p.cut(name, 260, figureSize, bold), edge+16, y, figureSize, bold, c)
	told := l.Took
	if len(l.Notes) > 0 {
		told += ": " + strings.Join(l.Notes, ", ")
	}
	if s.Which != chart.Typical {
		told = s.Which + " " + told
	}
	p.textRight(p.cut(told, 520, noteSize, regular), width-edge, y, noteSize, regular, faint)
	zero := vg.Length(edge + insideLabel)
	if len(l.Rows) == 0 {
		p.text(cmp.Or(l.Lacks, "nothing is known"), zero, y-insideRow, noteSize, regular, faint)
		return
	}
	p.line(zero, y-3, zero, y-3-vg.Length(len(l.Rows))*insideRow, rule)
	for i := range l.Rows {
		r := &l.Rows[i]
		y -= insideRow
		label := p.cut(r.Label, insideLabel-8-vg.Length(r.Depth)*indent, noteSize, regular)
		p.text(label, edge+vg.Length(r.Depth)*indent, y, noteSize, regular, ink)
		p.line(zero+vg.Length(r.Early)*plot, y+4, zero+vg.Length(r.Late)*plot, y+4, lighter(c))
		for _, b := range r.Bars {
			s.bar(p, b, zero, y, plot, c)
		}
		at := zero + plot + 8
		p.text(r.Took, at, y, noteSize, bold, ink)
		p.text(p.cut(r.Count, 72, noteSize, regular), at+50, y, noteSize, regular, faint)
		if r.Path != "" {
			p.textRight(r.Path, width-edge, y, noteSize, regular, ink)
		}
	}
}

func (s inside) bar(p *pen, b chart.InsideBar, zero, y, plot vg.Length, c color.NRGBA) {
	if b.To <= 0 || b.From >= 1 { // beyond what is in view
		return
	}
	from, long := zero+vg.Length(b.From)*plot, max(vg.Length(b.To-b.From)*plot, 0.6)
	if b.OnPath {
		p.fill(rectangle(from, y, long, pathBar), c)
		return
	}
	p.fill(rectangle(from, y+(pathBar-asideBar)/2, long, asideBar), lighter(c))
}

// Moves is the picture of what became of the baseline's steps in another contender.
func Moves(m *chart.Moves) Picture { return moves{m} }

type moves struct{ *chart.Moves }

const (
	moveRow   = 20
	moveBar   = 11
	moveSpine = 150 // room for the names of steps
	moveSide  = 170 // what is said of each
	moveTook  = 54
)

func (s moves) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

func (s moves) size() (w, h vg.Length) {
	return width, s.sheet().room() + 56 + vg.Length(len(s.Rows))*moveRow + 10
}

func (s moves) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h) - 16
	bar := vg.Length(width-2*edge-moveSpine-moveSide-2*moveTook) / 2
	left := vg.Length(edge + moveTook + bar)
	right := left + moveSpine
	names := []struct {
		side chart.Side
		x    vg.Length
	}{{s.Left, left}, {s.Right, right}}
	for i, n := range names {
		c := colorOf(n.side.Sign)
		text := title(n.side.Name, s.State)
		if i == 0 {
			p.sign(n.side.Sign, n.x-6, y+4, c)
			p.textRight(text, n.x-18, y, figureSize, bold, c)
			continue
		}
		p.sign(n.side.Sign, n.x+6, y+4, c)
		p.text(text, n.x+18, y, figureSize, bold, c)
	}
	for i := range s.Rows {
		r := &s.Rows[i]
		y -= moveRow
		if r.Total {
			p.line(edge, y+moveRow-5, width-edge, y+moveRow-5, rule)
		}
		l, o := vg.Length(r.Left)*bar, vg.Length(r.Right)*bar
		p.fill(rectangle(left-l, y, l, moveBar), colorOf(s.Left.Sign))
		p.fill(rectangle(right, y, o, moveBar), colorOf(s.Right.Sign))
		p.textRight(r.LeftTook, left-l-5, y+2, figureSize, regular, ink)
		p.text(r.RightTook, right+o+5, y+2, figureSize, regular, ink)
		weight := regular
		if r.Total {
			weight = bold
		}
		p.textCentre(p.cut(r.Label, moveSpine-12, figureSize, weight), left+moveSpine/2, y+2, figureSize, weight, ink)
		at := right + bar + moveTook + 8
		p.text(r.By, at, y+2, figureSize, bold, ink)
		p.text(r.How, at+68, y+2, figureSize, regular, faint)
	}
	p.ticks(flipped(s.Scale.Ticks), left-bar, y-8, bar)
	p.ticks(s.Scale.Ticks[min(1, len(s.Scale.Ticks)):], right, y-8, bar)
	s.sheet().below(p, w)
}
