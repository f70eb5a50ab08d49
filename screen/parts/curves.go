package parts

import (
	"strings"

	"charm.land/lipgloss/v2"
)

// Curves is a canvas of braille dots on which several lines are drawn, each in its own style. Where lines share a cell
// its style is that of the last one; marks take a whole cell.
type Curves struct {
	w, h   int
	cells  []rune
	marks  []string
	styles []int  // of each cell, in the order of the styles handed to Lines; -1: faint
	rules  []rune // of each column, behind the curves; 0 without one
}

// NewCurves returns an empty canvas of w by h cells.
func NewCurves(w, h int) *Curves {
	w, h = max(w, 0), max(h, 0)
	c := &Curves{
		w: w, h: h, cells: make([]rune, w*h), marks: make([]string, w*h), styles: make([]int, w*h), rules: make([]rune, w),
	}
	for i := range c.styles {
		c.styles[i] = -1
	}
	return c
}

// Across is how many places a line has.
func (c *Curves) Across() int { return 2 * c.w }

// Rule draws a line through a column, behind the curves.
func (c *Curves) Rule(at float64) { c.RuleOf('│', at) }

// RuleOf draws a line of that rune through a column, behind the curves.
func (c *Curves) RuleOf(r rune, at float64) {
	if c.w > 0 {
		c.rules[min(max(int(at*float64(c.w)), 0), c.w-1)] = r
	}
}

// Draw draws a line through heights of 0 to 1, one for each place across; it is broken where one is below 0.
func (c *Curves) Draw(heights []float64, style int) {
	last := -1
	for x, v := range heights {
		if x >= 2*c.w || v < 0 || v != v {
			last = -1
			continue
		}
		y := 4*c.h - 1 - min(int(v*float64(4*c.h)), 4*c.h-1)
		from, to := y, y
		if last >= 0 { // steps are joined
			if last < y {
				from = min(last+1, y)
			} else if last > y {
				to = max(last-1, y)
			}
		}
		for at := from; at <= to; at++ {
			i := at/4*c.w + x/2
			c.cells[i] |= brailleBits[at%4][x%2]
			c.styles[i] = style
		}
		last = y
	}
}

// Mark puts a glyph at a place, both 0 to 1.
func (c *Curves) Mark(x, y float64, glyph string, style int) {
	if c.w == 0 || c.h == 0 || x < 0 || x > 1 || y < 0 || y > 1 {
		return
	}
	i := (c.h-1-min(int(y*float64(c.h)), c.h-1))*c.w + min(int(x*float64(c.w)), c.w-1)
	c.marks[i], c.styles[i] = glyph, style
}

// Lines renders the canvas.
func (c *Curves) Lines(styles []lipgloss.Style, faint lipgloss.Style) []string {
	lines := make([]string, c.h)
	for row := range lines {
		var out strings.Builder
		for col := range c.w {
			i := row*c.w + col
			style := faint
			if s := c.styles[i]; s >= 0 && s < len(styles) {
				style = styles[s]
			}
			switch {
			case c.marks[i] != "":
				out.WriteString(style.Render(c.marks[i]))
			case c.cells[i] != 0:
				out.WriteString(style.Render(string(0x2800 + c.cells[i])))
			case c.rules[col] != 0:
				out.WriteString(faint.Render(string(c.rules[col])))
			default:
				out.WriteByte(' ')
			}
		}
		lines[row] = out.String()
	}
	return lines
}
