// Package paper draws charts as SVG and PDF.
//
// Text is drawn as outlines, so that a picture looks the same everywhere and any sign can be shown; the figures beside
// it are exported as well for those who want to copy them. What a picture shows is decided in package chart.
package paper

import (
	"fmt"
	"image/color"
	"io"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgpdf"

	"paceduel/core/files"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// Picture is a chart that can be drawn on a page.
type Picture interface {
	// size is that of the page, in points.
	size() (w, h vg.Length)
	draw(p *pen, w, h vg.Length)
}

// Name is the file name, without its ending, of a picture of a run: of what it shows, and of whom.
func Name(r *result.Result, what ...string) string {
	parts := []string{plan.Slug(r.Plan.Name)}
	for _, w := range what {
		parts = append(parts, plan.Slug(w))
	}
	return strings.Join(append(parts, r.ID), "-")
}

// Save writes a picture to dir as name.svg and name.pdf, replacing what is there, and returns the two paths.
func Save(pic Picture, dir, name string) (saved []string, err error) {
	for _, format := range []struct {
		ending string
		write  func(Picture, io.Writer) error
	}{{".svg", SVG}, {".pdf", PDF}} {
		path := filepath.Join(dir, name+format.ending)
		if err := files.Write(path, func(out io.Writer) error { return format.write(pic, out) }); err != nil {
			return saved, fmt.Errorf("save the picture: %w", err)
		}
		saved = append(saved, path)
	}
	return saved, nil
}

// SVG writes a picture as SVG.
func SVG(pic Picture, out io.Writer) error {
	return write(pic, out, func(w, h vg.Length) page { return newSVGPage(w, h) })
}

// PDF writes a picture as PDF.
func PDF(pic Picture, out io.Writer) error {
	return write(pic, out, func(w, h vg.Length) page { return vgpdf.New(w, h) })
}

// page is a canvas that can be written out once.
type page interface {
	vg.Canvas
	io.WriterTo
}

func write(pic Picture, out io.Writer, open func(w, h vg.Length) page) error {
	w, h := pic.size()
	canvas := open(w, h)
	p, err := newPen(canvas)
	if err != nil {
		return err
	}
	p.fill(rectangle(0, 0, w, h), color.NRGBA{0xff, 0xff, 0xff, 0xff})
	pic.draw(p, w, h)
	_, err = canvas.WriteTo(out)
	return err
}

// The page.
const (
	width     = 840
	edge      = 28
	barWidth  = 150
	barHeight = 13
	rungStep  = 24
	axisStep  = 26
	spine     = width/2 - 120
	spineHalf = 34 // room for the rungs' labels
	valueRoom = 58
)

var (
	ink   = color.NRGBA{0x1b, 0x22, 0x28, 0xff}
	faint = color.NRGBA{0x6b, 0x76, 0x80, 0xff}
	rule  = color.NRGBA{0xc9, 0xd0, 0xd6, 0xff}
	band  = color.NRGBA{0xe9, 0xec, 0xef, 0xff}
)

// sheet is what every picture has around it: a title and a sentence above, notes and conditions below.
type sheet struct {
	title, sentence, note string
	conditions            []string
}

// sheetRoom is the height that the sheet itself takes.
func (s sheet) room() vg.Length {
	lines := len(wrap(s.sentence, sentenceSize, width-2*edge))
	notes := len(wrap(s.note, noteSize, width-2*edge)) + s.conditionLines()
	return vg.Length(2*edge + titleSize + 24 + lines*16 + 20 + notes*12)
}

func (s sheet) conditionLines() (n int) {
	for _, c := range s.conditions {
		n += len(wrap(c, noteSize, width-2*edge))
	}
	return n
}

// above draws title and sentence and returns where they end.
func (s sheet) above(p *pen, w, h vg.Length) (y vg.Length) {
	y = h - edge - titleSize
	p.text(p.cut(s.title, w-2*edge, titleSize, bold), edge, y, titleSize, bold, ink)
	y -= 8
	for _, line := range wrap(s.sentence, sentenceSize, w-2*edge) {
		y -= 16
		p.text(line, edge, y, sentenceSize, regular, ink)
	}
	return y - 16
}

// below draws notes and conditions at the foot of the page.
func (s sheet) below(p *pen, w vg.Length) {
	lines := wrap(s.note, noteSize, w-2*edge)
	for _, c := range s.conditions {
		lines = append(lines, wrap(c, noteSize, w-2*edge)...)
	}
	y := vg.Length(edge + 12*(len(lines)-1))
	for _, line := range lines {
		p.text(line, edge, y, noteSize, regular, faint)
		y -= 12
	}
}
