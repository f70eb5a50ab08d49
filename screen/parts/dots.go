package parts

import (
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
)

// brailleBits holds the bit of each dot of a braille cell, by row and column.
var brailleBits = [4][2]rune{{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}}

// Plot is a canvas of braille dots, two across and four up in each cell, with marks that take a whole cell.
type Plot struct {
	w, h  int
	cells []rune
	marks []rune // 0: none
	line  int    // a column with a line through it; -1: none
	drawn lipgloss.Style
}

// NewPlot returns an empty canvas of w by h cells.
func NewPlot(w, h int) *Plot {
	w, h = max(w, 0), max(h, 0)
	return &Plot{w: w, h: h, cells: make([]rune, w*h), marks: make([]rune, w*h), line: -1}
}

// Line draws a line through a column, behind the dots.
func (p *Plot) Line(column int, style lipgloss.Style) { p.line, p.drawn = column, style }

// Dot sets the dot at x across and y up, both 0 to 1. A failure is marked with a cross.
func (p *Plot) Dot(d chart.Dot) {
	if p.w == 0 || p.h == 0 {
		return
	}
	x := min(int(d.X*float64(2*p.w)), 2*p.w-1)
	y := 4*p.h - 1 - min(int(d.Y*float64(4*p.h)), 4*p.h-1)
	at := (y/4)*p.w + x/2
	if d.Failed {
		p.marks[at] = '×'
		return
	}
	p.cells[at] |= brailleBits[y%4][x%2]
}

// Lines renders the canvas, dots in one style and failures in another.
func (p *Plot) Lines(dots, failed lipgloss.Style) []string {
	const (
		isDot = iota
		isMark
		isLine
	)
	styles := [...]lipgloss.Style{dots, failed, p.drawn}
	lines := make([]string, p.h)
	for row := range lines {
		var out, run strings.Builder
		kind := isDot
		flush := func() {
			if run.Len() > 0 {
				out.WriteString(styles[kind].Render(run.String()))
				run.Reset()
			}
		}
		for col := range p.w {
			at := row*p.w + col
			own := isDot
			switch {
			case p.marks[at] != 0:
				own = isMark
			case p.cells[at] == 0 && col == p.line:
				own = isLine
			}
			if own != kind {
				flush()
				kind = own
			}
			switch {
			case own == isLine:
				run.WriteRune('│')
			case own == isMark:
				run.WriteRune(p.marks[at])
			case p.cells[at] != 0:
				run.WriteRune(0x2800 + p.cells[at])
			default:
				run.WriteByte(' ')
			}
		}
		flush()
		lines[row] = out.String()
	}
	return lines
}
