package parts

import (
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
)

// Cloud is a canvas on which so many dots fall that only how dense they are can be seen: the denser, the darker. Levels
// are drawn over it, and failures stand in its uppermost row.
type Cloud struct {
	w, h   int
	dots   []chart.Dot
	over   []rune // 0: none
	line   int    // a column with a line through it; -1: none
	behind lipgloss.Style
}

// NewCloud returns an empty canvas of w by h cells.
func NewCloud(w, h int) *Cloud {
	w, h = max(w, 0), max(h, 0)
	return &Cloud{w: w, h: h, over: make([]rune, w*h), line: -1}
}

// Line draws a line through a column, behind the dots.
func (c *Cloud) Line(column int, style lipgloss.Style) { c.line, c.behind = column, style }

// Dot adds a dot at x across and y up, both 0 to 1.
func (c *Cloud) Dot(d chart.Dot) { c.dots = append(c.dots, d) }

// Level draws a level y up between two places across, all 0 to 1, where y is known. The first one drawn stays on top.
func (c *Cloud) Level(from, to, y float64, glyph rune) {
	if !(y >= 0) || c.h == 0 {
		return
	}
	row := c.h - 1 - min(int(y*float64(c.h)), c.h-1)
	first, end := Span(from, to, c.w)
	for x := first; x < end; x++ {
		if c.over[row*c.w+x] == 0 {
			c.over[row*c.w+x] = glyph
		}
	}
}

// shades are from few dots to many.
var shades = [chart.Shades + 1]rune{' ', '·', '░', '▒', '▓'}

// Lines renders the canvas: dots, levels and failures in a style each.
func (c *Cloud) Lines(dots, levels, failed lipgloss.Style) []string {
	const (
		isDot = iota
		isLevel
		isFailure
		isLine
	)
	styles := [...]lipgloss.Style{dots, levels, failed, c.behind}
	counts, most := chart.Density(c.dots, c.w, c.h)
	failures := make([]bool, c.w)
	for _, d := range c.dots {
		if d.Failed && c.w > 0 {
			failures[min(int(d.X*float64(c.w)), c.w-1)] = true
		}
	}
	cell := func(row, col int) (kind int, glyph rune) {
		at := row*c.w + col
		switch {
		case row == 0 && failures[col]:
			return isFailure, '×'
		case c.over[at] != 0:
			return isLevel, c.over[at]
		case counts[at] == 0 && col == c.line:
			return isLine, '│'
		}
		return isDot, shades[chart.Shade(counts[at], most)]
	}
	lines := make([]string, c.h)
	for row := range lines {
		var out, run strings.Builder
		kind := isDot
		for col := range c.w {
			own, glyph := cell(row, col)
			if own != kind {
				out.WriteString(styles[kind].Render(run.String()))
				run.Reset()
				kind = own
			}
			run.WriteRune(glyph)
		}
		out.WriteString(styles[kind].Render(run.String()))
		lines[row] = out.String()
	}
	return lines
}
