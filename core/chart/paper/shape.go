package paper

import (
	"image/color"
	"math"

	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Distribution is the picture of two sides' latencies as facing histograms; of more, as one beside the other.
func Distribution(s *chart.Shape) Picture { return distribution{s} }

// Tail is the picture of cumulative curves and, below on a logarithmic scale, of what lies beyond.
func Tail(s *chart.Shape) Picture { return tail{s} }

type distribution struct{ *chart.Shape }

type tail struct{ *chart.Shape }

// Rooms of both.
const (
	shapeHeight = 380
	shapeBins   = 76
	markRoom    = 64 // beside the bars, for percentiles
	curveHeight = 210
	curveFrom   = edge + 52
	curveWidth  = width - edge - curveFrom
	curvePoints = 600
)

func sheetOf(s *chart.Shape) sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

func (d distribution) size() (w, h vg.Length) {
	return width, sheetOf(d.Shape).room() + shapeHeight + 50
}

// draw draws each pair about a spine that carries the latencies, the shortest at its foot.
func (d distribution) draw(p *pen, w, h vg.Length) {
	y := sheetOf(d.Shape).above(p, w, h) - 20
	bins := d.Bins(shapeBins)
	pairs := (len(d.Sides) + 1) / 2
	room := (vg.Length(width) - 2*edge) / vg.Length(max(pairs, 1))
	for pair := range pairs {
		middle := edge + room*(vg.Length(pair)+0.5)
		half := room/2 - spineHalf - 8
		foot := y - shapeHeight
		for k, side := range []vg.Length{-1, 1} {
			i := 2*pair + k
			if i >= len(d.Sides) {
				continue
			}
			p.histogram(&d.Sides[i], bins[i], middle+side*spineHalf, foot, half, side)
		}
		p.spine(d.Scale, middle, foot)
	}
	sheetOf(d.Shape).below(p, w)
}

func (p *pen) histogram(s *chart.ShapeSide, bins []float64, x, foot, half, side vg.Length) {
	c := colorOf(s.Sign)
	head := foot + shapeHeight + 10
	name := p.cut(s.Title(), half-24, nameSize, bold)
	if side < 0 {
		p.sign(s.Sign, x-6, head+4, c)
		p.textRight(name, x-18, head, nameSize, bold, c)
	} else {
		p.sign(s.Sign, x+6, head+4, c)
		p.text(name, x+18, head, nameSize, bold, c)
	}
	step := vg.Length(shapeHeight) / vg.Length(len(bins))
	for i, share := range bins {
		if share <= 0 {
			continue
		}
		length := max(vg.Length(share)*max(half-markRoom, half/3), 0.6)
		from := x
		if side < 0 {
			from = x - length
		}
		p.fill(rectangle(from, foot+vg.Length(i)*step, length, step*0.92), c)
	}
	last := vg.Length(-1e9)
	for _, m := range s.Marks {
		if m.At < 0 || m.At > 1 {
			continue
		}
		y := foot + vg.Length(m.At)*shapeHeight
		end := x + side*half
		p.line(x, y, end, y, faint)
		if y-last < noteSize+3 {
			continue
		}
		last = y
		text := m.Label + "  " + m.Text
		if side < 0 {
			p.text(text, end, y+2, noteSize, regular, ink)
		} else {
			p.textRight(text, end, y+2, noteSize, regular, ink)
		}
	}
}

func (p *pen) spine(s chart.Scale, middle, foot vg.Length) {
	for _, side := range []vg.Length{-1, 1} {
		x := middle + side*spineHalf
		p.line(x, foot, x, foot+shapeHeight, rule)
	}
	last := vg.Length(-1e9)
	for _, t := range s.Ticks {
		y := foot + vg.Length(t.At)*shapeHeight
		if y-last > noteSize+3 {
			p.textCentre(t.Label, middle, y-3, noteSize, regular, faint)
			last = y
		}
	}
}

func (t tail) size() (w, h vg.Length) {
	return width, sheetOf(t.Shape).room() + 2*curveHeight + 110
}

func (t tail) draw(p *pen, w, h vg.Length) {
	y := sheetOf(t.Shape).above(p, w, h) - 8
	x := vg.Length(edge)
	for i := range t.Sides { // who is who
		s := &t.Sides[i]
		c := colorOf(s.Sign)
		name := p.cut(s.Title(), (width-2*edge)/vg.Length(len(t.Sides))-30, figureSize, bold)
		p.sign(s.Sign, x+6, y+4, c)
		p.text(name, x+16, y, figureSize, bold, c)
		x += p.width(name, figureSize, bold) + 34
	}
	y -= 26
	share := chart.Scale{Min: 0, Max: 1, Ticks: []chart.Tick{{
		At: 0, Label: "0 %",
	}, {At: 0.25, Label: "25 %"}, {At: 0.5, Label: "50 %"}, {At: 0.75, Label: "75 %"}, {At: 1, Label: "100 %"}}}
	p.panel("share of shots that take at most this long", share.Ticks, y)
	p.panel("share that takes longer (log scale)", t.Shares.Ticks, y-curveHeight-38)
	for i := range t.Sides {
		upTo, beyond := t.Curve(i, curvePoints)
		c := colorOf(t.Sides[i].Sign)
		p.curve(upTo, y-curveHeight, c, &t.Sides[i], func(q float64) float64 { return q })
		p.curve(beyond, y-2*curveHeight-38, c, &t.Sides[i], func(q float64) float64 { return t.Shares.Place(1 - q) })
	}
	p.ticks(t.Scale.Ticks, curveFrom, y-2*curveHeight-42, curveWidth)
	sheetOf(t.Shape).below(p, w)
}

// panel draws the ground of a curve with its ticks at the left.
func (p *pen) panel(title string, ticks []chart.Tick, top vg.Length) {
	foot := top - curveHeight
	p.text(title, curveFrom, top+5, noteSize, regular, faint)
	for _, t := range ticks {
		y := foot + vg.Length(t.At)*curveHeight
		p.line(curveFrom, y, curveFrom+curveWidth, y, rule)
		p.textRight(t.Label, curveFrom-6, y-3, noteSize, regular, faint)
	}
}

// curve draws a line through heights of 0 to 1, which ends where they are below 0, with the side's sign at its
// percentiles.
func (p *pen) curve(
	heights []float64, foot vg.Length, c color.NRGBA, s *chart.ShapeSide, height func(q float64) float64,
) {
	var path vg.Path
	begun := false
	for i, v := range heights {
		if v < 0 || math.IsNaN(v) {
			if begun {
				break
			}
			continue
		}
		pt := vg.Point{
			X: curveFrom + curveWidth*(vg.Length(i)+0.5)/vg.Length(len(heights)), Y: foot + vg.Length(v)*curveHeight,
		}
		if !begun {
			path.Move(pt)
			begun = true
			continue
		}
		path.Line(pt)
	}
	if begun {
		p.stroke(path, c, 1.4)
	}
	for _, m := range s.Marks {
		if v := height(m.Q); m.At >= 0 && m.At <= 1 && v >= 0 && v <= 1 {
			p.sign(s.Sign, curveFrom+vg.Length(m.At)*curveWidth, foot+vg.Length(v)*curveHeight, c)
		}
	}
}
