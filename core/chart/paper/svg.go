package paper

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"io"
	"math"
	"strconv"
	"strings"

	svgo "github.com/ajstarks/svgo/float"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// svgPage is a page of SVG. The canvas of gonum/plot writes the outline of a letter wherever it stands; here each is
// defined once and then used, and paths are written in steps from point to point, which makes files a quarter as large.
type svgPage struct {
	out    *svgo.SVG
	buf    bytes.Buffer
	height vg.Length
	color  string
	width  vg.Length
	dash   []vg.Length
	glyphs map[glyph]string // their names in the file
}

// glyph is a letter of a font.
type glyph struct {
	weight weight
	index  uint16
}

func newSVGPage(w, h vg.Length) *svgPage {
	p := &svgPage{height: h, glyphs: map[glyph]string{}, width: 1, color: "#000"}
	p.out = svgo.New(&p.buf)
	p.out.Decimals = 2
	p.out.StartviewUnit(w.Points(), h.Points(), "pt", 0, 0, w.Points(), h.Points())
	return p
}

// WriteTo implements io.WriterTo, and ends the page.
func (p *svgPage) WriteTo(w io.Writer) (int64, error) {
	p.out.End()
	return p.buf.WriteTo(w)
}

// The parts of vg.Canvas that pictures use.

func (p *svgPage) SetLineWidth(w vg.Length) { p.width = w }
func (p *svgPage) SetColor(c color.Color)   { p.color = webColor(c) }
func (p *svgPage) Fill(path vg.Path)        { p.out.Path(p.steps(path), `fill="`+p.color+`"`) }
func (p *svgPage) Stroke(path vg.Path) {
	style := fmt.Sprintf(`fill="none" stroke="%s" stroke-width="%s"`, p.color, short2(p.width.Points()))
	if len(p.dash) > 0 {
		var parts []string
		for _, d := range p.dash {
			parts = append(parts, short2(d.Points()))
		}
		style += ` stroke-dasharray="` + strings.Join(parts, " ") + `"`
	}
	p.out.Path(p.steps(path), style)
}
func (p *svgPage) SetLineDash(pattern []vg.Length, _ vg.Length) { p.dash = pattern }

// Those that they do not.

func (p *svgPage) Rotate(float64)                                 {}
func (p *svgPage) Translate(vg.Point)                             {}
func (p *svgPage) Scale(x, y float64)                             {}
func (p *svgPage) Push()                                          {}
func (p *svgPage) Pop()                                           {}
func (p *svgPage) FillString(font.Face, vg.Point, string)         {}
func (p *svgPage) DrawImage(rect vg.Rectangle, image image.Image) {}

// line draws letters at x and y, each so many units of the font behind the start, of which one is scale points long.
func (p *svgPage) line(letters []letter, x, y vg.Length, scale float64) {
	var use strings.Builder
	for _, l := range letters {
		name, ok := p.glyphs[l.glyph]
		if !ok {
			path := l.outline()
			if len(path) == 0 {
				continue // a space
			}
			name = "g" + strconv.FormatInt(int64(len(p.glyphs)), 36)
			p.glyphs[l.glyph] = name
			fmt.Fprintf(&p.buf, "<defs><path id=\"%s\" d=\"%s\"/></defs>\n", name, steps(path, 0, 0))
		}
		fmt.Fprintf(&use, "<use href=\"#%s\"", name)
		if l.at != 0 {
			fmt.Fprintf(&use, " x=\"%s\"", short2(l.at))
		}
		use.WriteString("/>")
	}
	if use.Len() > 0 {
		fmt.Fprintf(
			&p.buf, "<g fill=\"%s\" transform=\"translate(%s %s) scale(%s)\">%s</g>\n", p.color, short2(x.Points()),
			short2((p.height - y).Points()), strconv.FormatFloat(scale, 'g', 4, 64), use.String(),
		)
	}
}

// steps are a path in the page's own direction, which is downwards.
func (p *svgPage) steps(path vg.Path) string { return steps(path, p.height, -1) }

// steps write a path as steps from point to point; y is turned about a height where turn is -1, else left. It is long
// since each kind of step is a case.
func steps(path vg.Path, height vg.Length, turn float64) string {
	var out strings.Builder
	var atX, atY float64 // as written, so that what is cut off does not add up
	place := func(pt vg.Point) (x, y float64) {
		y = pt.Y.Points()
		if turn < 0 {
			y = height.Points() - y
		}
		return math.Round(pt.X.Points()*100) / 100, math.Round(y*100) / 100
	}
	pair := func(pt vg.Point) string {
		x, y := place(pt)
		first, second := short2(x-atX), short2(y-atY)
		if strings.HasPrefix(second, "-") {
			return first + second
		}
		return first + " " + second
	}
	moveTo := func(pt vg.Point) { atX, atY = place(pt) }
	for _, c := range path {
		switch c.Type {
		case vg.MoveComp:
			x, y := place(c.Pos)
			out.WriteString("M" + short2(x) + " " + short2(y))
			moveTo(c.Pos)
		case vg.LineComp:
			switch x, y := place(c.Pos); {
			case x == atX && y == atY:
			case x == atX:
				out.WriteString("v" + short2(y-atY))
			case y == atY:
				out.WriteString("h" + short2(x-atX))
			default:
				out.WriteString("l" + pair(c.Pos))
			}
			moveTo(c.Pos)
		case vg.CurveComp:
			letter := "q"
			if len(c.Control) == 2 {
				letter = "c"
			}
			out.WriteString(letter)
			for _, pt := range append(c.Control, c.Pos) {
				if text := pair(pt); out.String()[out.Len()-1:] == letter || text[0] == '-' {
					out.WriteString(text)
				} else {
					out.WriteString(" " + text)
				}
			}
			moveTo(c.Pos)
		case vg.ArcComp:
			halves := arcHalves(&c)
			if x, y := place(halves[0]); x != atX || y != atY {
				verb := "L"
				if out.Len() == 0 {
					verb = "M"
				}
				out.WriteString(verb + short2(x) + " " + short2(y))
				moveTo(halves[0])
			}
			sweep := "0"
			if (c.Angle > 0) != (turn < 0) {
				sweep = "1"
			}
			for _, end := range halves[1:] {
				r := short2(c.Radius.Points())
				out.WriteString("a" + r + " " + r + " 0 0 " + sweep + " " + pair(end))
				moveTo(end)
			}
		case vg.CloseComp:
			out.WriteString("z")
		}
	}
	return out.String()
}

// arcHalves are the start, the middle and the end of an arc: an arc of SVG that ends where it began would be none.
func arcHalves(c *vg.PathComp) (points [3]vg.Point) {
	for i := range points {
		angle := c.Start + c.Angle*float64(i)/2
		points[i] = vg.Point{
			X: c.Pos.X + c.Radius*vg.Length(math.Cos(angle)), Y: c.Pos.Y + c.Radius*vg.Length(math.Sin(angle)),
		}
	}
	return points
}

// short2 is a number with at most two decimals, and no more of them than it has.
func short2(x float64) string {
	text := strconv.FormatFloat(math.Round(x*100)/100, 'f', -1, 64)
	switch {
	case text == "-0":
		return "0"
	case strings.HasPrefix(text, "0."):
		return text[1:]
	case strings.HasPrefix(text, "-0."):
		return "-" + text[2:]
	}
	return text
}

func webColor(c color.Color) string {
	n := color.NRGBAModel.Convert(c).(color.NRGBA)
	return fmt.Sprintf("#%02x%02x%02x", n.R, n.G, n.B)
}
