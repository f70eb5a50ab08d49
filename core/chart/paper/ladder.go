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

// Ladder is the picture of a pair, face to face.
func Ladder(l *chart.Ladder) Picture { return ladder{l} }

type ladder struct{ *chart.Ladder }

func (l ladder) sheet() sheet { return sheet{l.Title, l.Sentence, l.Note, l.Conditions} }

func (l ladder) size() (w, h vg.Length) {
	return width, l.sheet().room() + vg.Length(40+len(l.Rungs)*rungStep+len(l.Scales)*axisStep)
}

// draw draws the ladder from the top down.
func (l ladder) draw(p *pen, w, h vg.Length) {
	y := l.sheet().above(p, w, h) - 18
	p.names(l.Ladder, y)
	y -= 10
	for i, r := range l.Rungs {
		y -= rungStep
		p.rung(r, l.Ladder, y)
		if i == len(l.Rungs)-1 || l.Rungs[i+1].Scale != r.Scale {
			p.axis(l.Scales[r.Scale], y)
			if i == len(l.Rungs)-1 {
				p.leanAxis(l.Leans, y)
			}
			y -= axisStep
		}
	}
	l.sheet().below(p, w)
}

// Where the leans stand: behind the bars and what is said of them.
const (
	leanFrom  = spine + spineHalf + valueRoom + barWidth + 132
	leanWidth = width - edge - leanFrom
)

// lean draws a ratio with its interval about 1, and the machine's own noise as a band.
func (p *pen) lean(l chart.Lean, y vg.Length, c color.NRGBA) {
	at := func(x float64) vg.Length { return leanFrom + vg.Length(x*leanWidth) }
	middle := y + barHeight/2
	if !math.IsNaN(l.NoiseLow) {
		p.fill(rectangle(at(l.NoiseLow), y-4, at(l.NoiseHigh)-at(l.NoiseLow), rungStep-2), band)
	}
	p.line(at(0.5), y-6, at(0.5), y+rungStep-7, rule)
	if math.IsNaN(l.At) {
		return
	}
	if !math.IsNaN(l.Low) {
		p.stroke(segment(at(l.Low), middle, at(l.High), middle), c, 2)
		for _, x := range []float64{l.Low, l.High} {
			p.stroke(segment(at(x), middle-3, at(x), middle+3), c, 1)
		}
	}
	p.fill(rectangle(at(l.At)-2, middle-4, 4, 8), c)
}

func segment(x0, y0, x1, y1 vg.Length) (path vg.Path) {
	path.Move(vg.Point{X: x0, Y: y0})
	path.Line(vg.Point{X: x1, Y: y1})
	return path
}

func (p *pen) leanAxis(s chart.Scale, y vg.Length) {
	y -= 7
	p.line(leanFrom, y, leanFrom+leanWidth, y, rule)
	for _, t := range s.Ticks {
		x := leanFrom + vg.Length(t.At*leanWidth)
		p.line(x, y, x, y-3, faint)
		switch {
		case t.At < 0.1:
			p.text(t.Label, x, y-12, noteSize, regular, faint)
		case t.At > 0.9:
			p.textRight(t.Label, x, y-12, noteSize, regular, faint)
		default:
			p.textCentre(t.Label, x, y-12, noteSize, regular, faint)
		}
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
	p.text(p.cut(l.Right.Name, leanFrom-at-30, nameSize, bold), at+18, y, nameSize, bold, right)
	p.textCentre("baseline better · it is better", leanFrom+leanWidth/2, y, noteSize, regular, faint)
}

func (p *pen) rung(r chart.Rung, l *chart.Ladder, y vg.Length) {
	size := float64(figureSize)
	if p.width(r.Label, size, bold) > 2*spineHalf {
		size = noteSize
	}
	p.textCentre(p.cut(r.Label, 2*spineHalf, size, bold), spine, y+3, size, bold, ink)
	p.textRight(r.Left.Text, spine-spineHalf-4, y+3, figureSize, regular, ink)
	p.text(r.Right.Text, spine+spineHalf+4, y+3, figureSize, regular, ink)
	p.bar(r.Left, colorOf(l.Left.Sign), y, -1)
	p.bar(r.Right, colorOf(l.Right.Sign), y, 1)
	p.lean(r.Lean, y, colorOf(l.Right.Sign))
	at := vg.Length(spine + spineHalf + valueRoom + barWidth + 10)
	style := faint
	if r.Word == judge.Better || r.Word == judge.Worse || r.Word == judge.Alike {
		style = ink
	}
	if r.Ratio != "" {
		p.textRight(r.Ratio, at+22, y+6, figureSize, bold, style)
	}
	p.text(p.cut(short(r), leanFrom-at-34, figureSize, regular), at+28, y+6, figureSize, regular, style)
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

// wideLabel is half the width from which a label at the end of a scale would stand out beyond it.
const wideLabel = 24

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
			switch {
			case t.At == 1 && half > wideLabel && side > 0: // in words, which end where the scale does
				p.textRight(t.Label, x, y-12, noteSize, regular, faint)
			case t.At == 1 && half > wideLabel:
				p.text(t.Label, x, y-12, noteSize, regular, faint)
			case t.At*barWidth-half > last:
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
