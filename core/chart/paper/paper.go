// Package paper draws charts as SVG and PDF.
//
// Text is drawn as outlines, so that a picture looks the same everywhere and any sign can be shown; the figures beside it
// are exported as well for those who want to copy them. What a picture shows is decided in package chart.
package paper

import (
	"fmt"
	"image/color"
	"io"
	"os"
	"path/filepath"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// Name is the file name, without its ending, of a verdict's i-th ladder.
func Name(r *result.Result, v *judge.Verdict, i int) string {
	return fmt.Sprintf("%s-%s-%s", plan.Slug(r.Plan.Name), plan.Slug(v.Faces[i].Contender), r.ID)
}

// Save writes a ladder to dir as name.svg and name.pdf, replacing what is there, and returns the two paths.
func Save(l *chart.Ladder, dir, name string) (files []string, err error) {
	for _, format := range []struct {
		ending string
		write  func(*chart.Ladder, io.Writer) error
	}{{".svg", SVG}, {".pdf", PDF}} {
		path := filepath.Join(dir, name+format.ending)
		if err := writeFile(path, func(out io.Writer) error { return format.write(l, out) }); err != nil {
			return files, fmt.Errorf("save the ladder: %w", err)
		}
		files = append(files, path)
	}
	return files, nil
}

func writeFile(path string, write func(io.Writer) error) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if err := write(f); err != nil {
		f.Close()
		return fmt.Errorf("%s: %w", path, err)
	}
	return f.Close()
}

// SVG writes a ladder as SVG.
func SVG(l *chart.Ladder, out io.Writer) error {
	return write(l, out, func(w, h vg.Length) page { return vgsvg.New(w, h) })
}

// PDF writes a ladder as PDF.
func PDF(l *chart.Ladder, out io.Writer) error {
	return write(l, out, func(w, h vg.Length) page { return vgpdf.New(w, h) })
}

// page is a canvas that can be written out once.
type page interface {
	vg.Canvas
	io.WriterTo
}

func write(l *chart.Ladder, out io.Writer, open func(w, h vg.Length) page) error {
	w, h := size(l)
	canvas := open(w, h)
	p, err := newPen(canvas)
	if err != nil {
		return err
	}
	p.draw(l, w, h)
	_, err = canvas.WriteTo(out)
	return err
}

// The page.
const (
	width     = 760
	edge      = 28
	barWidth  = 180
	barHeight = 13
	rungStep  = 24
	axisStep  = 26
	spine     = width/2 - 70
	spineHalf = 34 // room for the rungs' labels
	valueRoom = 58
)

var (
	ink   = color.NRGBA{0x1b, 0x22, 0x28, 0xff}
	faint = color.NRGBA{0x6b, 0x76, 0x80, 0xff}
	rule  = color.NRGBA{0xc9, 0xd0, 0xd6, 0xff}
)

func size(l *chart.Ladder) (w, h vg.Length) {
	lines := len(wrap(l.Sentence, sentenceSize, width-2*edge))
	notes := len(wrap(l.Note, noteSize, width-2*edge)) + len(l.Conditions)
	return width, vg.Length(150 + lines*16 + len(l.Rungs)*rungStep + len(l.Scales)*axisStep + notes*12)
}
