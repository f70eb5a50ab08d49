package paper

import (
	"fmt"
	"image/color"
	"math"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
	"paceduel/core/units"
)

type weight int

const (
	regular weight = iota
	bold
)

// faces are the parsed fonts; sfnt fonts are safe to share when each user brings a buffer.
var faces = sync.OnceValues(func() (f [2]*sfnt.Font, err error) {
	for i, data := range [][]byte{goregular.TTF, gobold.TTF} {
		if f[i], err = sfnt.Parse(data); err != nil {
			return f, fmt.Errorf("read the built-in font: %w", err)
		}
	}
	return f, nil
})

// pen draws shapes and outlined text on a canvas.
type pen struct {
	canvas vg.Canvas
	fonts  [2]*sfnt.Font
	buf    sfnt.Buffer
	boxes  []box // the room that each text takes
}

type box struct {
	text           string
	x0, y0, x1, y1 vg.Length
}

func newPen(c vg.Canvas) (*pen, error) {
	fonts, err := faces()
	if err != nil {
		return nil, err
	}
	return &pen{canvas: c, fonts: fonts}, nil
}

func rectangle(x, y, w, h vg.Length) (p vg.Path) {
	p.Move(vg.Point{X: x, Y: y})
	p.Line(vg.Point{X: x + w, Y: y})
	p.Line(vg.Point{X: x + w, Y: y + h})
	p.Line(vg.Point{X: x, Y: y + h})
	p.Close()
	return p
}

func (p *pen) fill(path vg.Path, c color.Color) {
	p.canvas.SetColor(c)
	p.canvas.Fill(path)
}

func (p *pen) stroke(path vg.Path, c color.Color, width vg.Length) {
	p.canvas.SetColor(c)
	p.canvas.SetLineWidth(width)
	p.canvas.Stroke(path)
}

func (p *pen) line(x0, y0, x1, y1 vg.Length, c color.Color) {
	var path vg.Path
	path.Move(vg.Point{X: x0, Y: y0})
	path.Line(vg.Point{X: x1, Y: y1})
	p.stroke(path, c, 0.7)
}

func (p *pen) textRight(s string, x, y vg.Length, size float64, w weight, c color.Color) {
	p.text(s, x-p.width(s, size, w), y, size, w, c)
}

func (p *pen) textCentre(s string, x, y vg.Length, size float64, w weight, c color.Color) {
	p.text(s, x-p.width(s, size, w)/2, y, size, w, c)
}

// text draws a line of text with its baseline at y, as outlines.
func (p *pen) text(s string, x, y vg.Length, size float64, w weight, c color.Color) {
	p.boxes = append(p.boxes, box{s, x, y - vg.Length(size*0.2), x + p.width(s, size, w), y + vg.Length(size*0.75)})
	f := p.fonts[w]
	ppem := fixed.I(int(f.UnitsPerEm()))
	scale := size / float64(f.UnitsPerEm())
	var letters []letter
	along := 0.0
	p.glyphs(s, f, ppem, func(i sfnt.GlyphIndex, advance fixed.Int26_6) {
		letters = append(letters, letter{glyph{w, uint16(i)}, along, func() vg.Path { return p.outline(f, ppem, i) }})
		along += float64(advance) / 64
	})
	p.canvas.SetColor(c)
	if page, ok := p.canvas.(*svgPage); ok {
		page.line(letters, x, y, scale)
		return
	}
	var path vg.Path
	for _, l := range letters {
		at := func(pt vg.Point) vg.Point {
			return vg.Point{X: x + (pt.X+vg.Length(l.at))*vg.Length(scale), Y: y - pt.Y*vg.Length(scale)}
		}
		for _, c := range l.outline() {
			c.Pos = at(c.Pos)
			for i := range c.Control {
				c.Control[i] = at(c.Control[i])
			}
			path = append(path, c)
		}
	}
	if len(path) > 0 {
		p.fill(path, c)
	}
}

// letter is a glyph within a line of text, so many units of the font behind its start.
type letter struct {
	glyph
	at      float64
	outline func() vg.Path // in units of the font, downwards
}

// outline is that of a glyph; one that cannot be drawn leaves its room empty.
func (p *pen) outline(f *sfnt.Font, ppem fixed.Int26_6, i sfnt.GlyphIndex) (path vg.Path) {
	segments, err := f.LoadGlyph(&p.buf, i, ppem, nil)
	if err != nil {
		return nil
	}
	at := func(pt fixed.Point26_6) vg.Point {
		return vg.Point{X: vg.Length(float64(pt.X) / 64), Y: vg.Length(float64(pt.Y) / 64)}
	}
	for n, s := range segments {
		switch s.Op {
		case sfnt.SegmentOpMoveTo:
			if n > 0 {
				path.Close()
			}
			path.Move(at(s.Args[0]))
		case sfnt.SegmentOpLineTo:
			path.Line(at(s.Args[0]))
		case sfnt.SegmentOpQuadTo:
			path.QuadTo(at(s.Args[0]), at(s.Args[1]))
		case sfnt.SegmentOpCubeTo:
			path.CubeTo(at(s.Args[0]), at(s.Args[1]), at(s.Args[2]))
		}
	}
	if len(segments) > 0 {
		path.Close()
	}
	return path
}

// cut shortens a line of text to fit into room, marking the cut.
func (p *pen) cut(s string, room vg.Length, size float64, w weight) string {
	runes := []rune(s)
	for n := len(runes); n > 0 && p.width(s, size, w) > room; n-- {
		s = string(runes[:n-1]) + "…"
	}
	return s
}

// width is how long a line of text is.
func (p *pen) width(s string, size float64, w weight) vg.Length {
	return textWidth(p.fonts[w], &p.buf, s, size)
}

func textWidth(f *sfnt.Font, buf *sfnt.Buffer, s string, size float64) vg.Length {
	q := pen{buf: *buf}
	var total fixed.Int26_6
	ppem := fixed.I(int(f.UnitsPerEm()))
	q.glyphs(s, f, ppem, func(_ sfnt.GlyphIndex, advance fixed.Int26_6) { total += advance })
	return vg.Length(float64(total) / 64 * size / float64(f.UnitsPerEm()))
}

// glyphs walks through a line's glyphs with how far each moves on, kerning included.
func (p *pen) glyphs(s string, f *sfnt.Font, ppem fixed.Int26_6, visit func(sfnt.GlyphIndex, fixed.Int26_6)) {
	s = units.Printable(s)
	runes := []rune(s)
	indices := make([]sfnt.GlyphIndex, len(runes))
	for i, r := range runes {
		indices[i], _ = f.GlyphIndex(&p.buf, r) // 0, the empty box, where there is none
	}
	for i, index := range indices {
		advance, err := f.GlyphAdvance(&p.buf, index, ppem, font.HintingNone)
		if err != nil {
			continue
		}
		if i+1 < len(indices) {
			if kern, err := f.Kern(&p.buf, index, indices[i+1], ppem, font.HintingNone); err == nil {
				advance += kern
			}
		}
		visit(index, advance)
	}
}

// wrap breaks text into lines of at most room.
func wrap(text string, size float64, room vg.Length) (lines []string) {
	fonts, err := faces()
	if err != nil {
		return []string{text}
	}
	var buf sfnt.Buffer
	line := ""
	for _, word := range units.Kept(strings.Fields(text)) {
		longer := strings.TrimSpace(line + " " + word)
		if line != "" && textWidth(fonts[regular], &buf, longer, size) > room {
			lines = append(lines, line)
			longer = word
		}
		line = longer
	}
	if line != "" {
		lines = append(lines, line)
	}
	return lines
}

// sign draws a contender's shape around (x, y).
func (p *pen) sign(s chart.Sign, x, y vg.Length, c color.Color) {
	const r = 5
	polygon := func(points ...float64) {
		var path vg.Path
		for i := 0; i < len(points); i += 2 {
			pt := vg.Point{X: x + vg.Length(points[i]*r), Y: y + vg.Length(points[i+1]*r)}
			if i == 0 {
				path.Move(pt)
				continue
			}
			path.Line(pt)
		}
		path.Close()
		p.fill(path, c)
	}
	switch s.Glyph {
	case "▲":
		polygon(-1, -0.8, 1, -0.8, 0, 1)
	case "▼":
		polygon(-1, 0.8, 1, 0.8, 0, -1)
	case "◆":
		polygon(0, -1.1, 1.1, 0, 0, 1.1, -1.1, 0)
	case "■":
		polygon(-0.85, -0.85, 0.85, -0.85, 0.85, 0.85, -0.85, 0.85)
	case "✚":
		polygon(
			-0.35, -1, 0.35, -1, 0.35, -0.35, 1, -0.35, 1, 0.35, 0.35, 0.35, 0.35, 1, -0.35, 1, -0.35, 0.35, -1, 0.35, -1, -0.35,
			-0.35, -0.35,
		)
	case "★":
		polygon(star()...)
	default: // round ones
		from, turn := 0.0, 2*math.Pi
		if s.Glyph == "◗" {
			from, turn = -math.Pi/2, math.Pi
		}
		var path vg.Path
		path.Move(vg.Point{X: x + vg.Length(r*math.Cos(from)), Y: y + vg.Length(r*math.Sin(from))})
		path.Arc(vg.Point{X: x, Y: y}, r, from, turn)
		path.Close()
		p.fill(path, c)
	}
}

func star() (points []float64) {
	for i := range 10 {
		r := 1.1
		if i%2 == 1 {
			r = 0.45
		}
		angle := math.Pi/2 + float64(i)*math.Pi/5
		points = append(points, r*math.Cos(angle), r*math.Sin(angle))
	}
	return points
}
