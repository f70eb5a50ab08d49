package paper

import (
	"image/color"
	"math"
	"strconv"

	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
	"paceduel/core/judge"
)

// Sizes of type, in points.
const (
	titleSize    = 18
	sentenceSize = 11.5
	nameSize     = 12
	figureSize   = 10
	noteSize     = 8
)

// draw draws the ladder from the top down.
func (p *pen) draw(l *chart.Ladder, w, h vg.Length) {
	p.fill(rectangle(0, 0, w, h), color.NRGBA{0xff, 0xff, 0xff, 0xff})
	y := h - edge - titleSize
	p.text(l.Title, edge, y, titleSize, bold, ink)
	y -= 8
	for _, line := range wrap(l.Sentence, sentenceSize, w-2*edge) {
		y -= 16
		p.text(line, edge, y, sentenceSize, regular, ink)
	}
	y -= 34
	p.names(l, y)
	y -= 10
	for i, r := range l.Rungs {
		y -= rungStep
		p.rung(r, l, y)
		if i == len(l.Rungs)-1 || l.Rungs[i+1].Scale != r.Scale {
			p.axis(l.Scales[r.Scale], y)
			y -= axisStep
		}
	}
	y -= 10
	for _, line := range append(wrap(l.Note, noteSize, w-2*edge), l.Conditions...) {
		y -= 12
		p.text(line, edge, y, noteSize, regular, faint)
	}
}

// names puts the contenders' signs and names at the two sides of the spine.
func (p *pen) names(l *chart.Ladder, y vg.Length) {
	left, right := colorOf(l.Left.Sign), colorOf(l.Right.Sign)
	label := l.Left.Name
	if l.Left.Baseline {
		label += " (baseline)"
	}
	at := vg.Length(spine - spineHalf)
	p.sign(l.Left.Sign, at-6, y+4, left)
	p.textRight(p.cut(label, at-18-edge, nameSize, bold), at-18, y, nameSize, bold, left)
	at = spine + spineHalf
	p.sign(l.Right.Sign, at+6, y+4, right)
	p.text(p.cut(l.Right.Name, width-edge-at-18, nameSize, bold), at+18, y, nameSize, bold, right)
}

func (p *pen) rung(r chart.Rung, l *chart.Ladder, y vg.Length) {
	p.textCentre(r.Label, spine, y+3, figureSize, bold, ink)
	p.textRight(r.Left.Text, spine-spineHalf-4, y+3, figureSize, regular, ink)
	p.text(r.Right.Text, spine+spineHalf+4, y+3, figureSize, regular, ink)
	p.bar(r.Left, colorOf(l.Left.Sign), y, -1)
	p.bar(r.Right, colorOf(l.Right.Sign), y, 1)
	at := vg.Length(spine + spineHalf + valueRoom + barWidth + 10)
	style := faint
	if r.Word == judge.Better || r.Word == judge.Worse || r.Word == judge.Alike {
		style = ink
	}
	if r.Ratio != "" {
		p.textRight(r.Ratio, at+22, y+6, figureSize, bold, style)
	}
	p.text(short(r), at+28, y+6, figureSize, regular, style)
	if r.Interval != "" {
		p.text(r.Interval, at+28, y-4, noteSize, regular, faint)
	}
}

// short is what is said of a rung in little room.
func short(r chart.Rung) string {
	switch r.Word {
	case judge.TooFew, judge.Open, judge.Alike:
		return string(r.Word)
	}
	return r.Say
}

// bar draws a bar outward from the spine, lighter where the middle half of the heats lies; side is -1 or 1.
func (p *pen) bar(b chart.Bar, c color.NRGBA, y vg.Length, side float64) {
	from := vg.Length(spine) + vg.Length(side)*(spineHalf+valueRoom)
	span := func(a, b float64) vg.Path {
		x0, x1 := from+vg.Length(side*a*barWidth), from+vg.Length(side*b*barWidth)
		return rectangle(min(x0, x1), y, max(x0, x1)-min(x0, x1), barHeight)
	}
	if b.Length <= 0 {
		return
	}
	p.fill(span(0, b.Length), c)
	if !math.IsNaN(b.Low) {
		p.fill(span(min(b.Low, b.Length), min(b.High, b.Length)), lighter(c))
		// The half beyond the bar's end is only outlined.
		if b.High > b.Length {
			p.stroke(span(b.Length, b.High), c, 0.7)
		}
	}
}

// axis draws a scale below its rungs on both sides of the spine.
func (p *pen) axis(s chart.Scale, y vg.Length) {
	y -= 7
	for _, side := range []float64{-1, 1} {
		from := vg.Length(spine) + vg.Length(side)*(spineHalf+valueRoom)
		p.line(from, y, from+vg.Length(side)*barWidth, y, rule)
		last := math.Inf(-1)
		for _, t := range s.Ticks {
			x := from + vg.Length(side*t.At*barWidth)
			p.line(x, y, x, y-3, faint)
			half := float64(p.width(t.Label, noteSize, regular)) / 2
			if t.At*barWidth-half > last {
				p.textCentre(t.Label, x, y-12, noteSize, regular, faint)
				last = t.At*barWidth + half + 4
			}
		}
	}
}

func colorOf(s chart.Sign) color.NRGBA {
	v, err := strconv.ParseUint(s.Light[1:], 16, 32)
	if err != nil {
		return ink
	}
	return color.NRGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 0xff}
}

func lighter(c color.NRGBA) color.NRGBA {
	mix := func(x uint8) uint8 { return uint8((int(x) + 0xff) / 2) }
	return color.NRGBA{mix(c.R), mix(c.G), mix(c.B), 0xff}
}
