package parts

import (
	"math"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
)

// Lean draws a ratio with its interval over w cells whose middle is 1: the contender's glyph where the ratio lies, a
// line as far as its interval reaches, shaded cells where the baseline differs from itself.
func Lean(l chart.Lean, w int, glyph string, style, faint lipgloss.Style) string {
	if w < 3 {
		return strings.Repeat(" ", max(w, 0))
	}
	place := func(x float64) int { return min(max(int(math.Round(x*float64(w-1))), 0), w-1) }
	cells, styles := make([]string, w), make([]lipgloss.Style, w)
	for i := range cells {
		cells[i], styles[i] = "·", faint
	}
	set := func(i int, cell string, s lipgloss.Style) { cells[i], styles[i] = cell, s }
	if !math.IsNaN(l.NoiseLow) {
		for i := place(l.NoiseLow); i <= place(l.NoiseHigh); i++ {
			set(i, "░", faint)
		}
	}
	set(place(0.5), "│", faint)
	if !math.IsNaN(l.At) {
		if !math.IsNaN(l.Low) {
			for i := place(l.Low); i <= place(l.High); i++ {
				set(i, "━", style)
			}
		}
		set(place(l.At), glyph, style)
	}
	var out strings.Builder
	for i, c := range cells {
		out.WriteString(styles[i].Render(c))
	}
	return out.String()
}
