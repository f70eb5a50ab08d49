package parts

import (
	"math"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
)

// eighths fill a cell from the left.
var eighths = []string{"", "▏", "▎", "▍", "▌", "▋", "▊", "▉"}

// OutwardRight draws a bar of w cells that grows from the left edge, to an eighth of a cell.
func OutwardRight(b chart.Bar, w int, style lipgloss.Style) string {
	full, rest := split(b.Length, w)
	cells := shade(b, w, full)
	text := strings.Join(cells, "")
	if rest > 0 {
		text += eighths[rest]
	}
	return Cell(style.Render(text), w)
}

// OutwardLeft draws a bar of w cells that grows from the right edge. There are no eighths that fill from the right, so
// the last cell is the left-facing half when the rest is at least a quarter.
func OutwardLeft(b chart.Bar, w int, style lipgloss.Style) string {
	full, rest := split(b.Length, w)
	cells := shade(b, w, full)
	for i, j := 0, len(cells)-1; i < j; i, j = i+1, j-1 {
		cells[i], cells[j] = cells[j], cells[i]
	}
	text := strings.Join(cells, "")
	if rest >= 2 {
		text = "▐" + text
	}
	return Right(style.Render(text), w)
}

// split turns a length into full cells and eighths; something is never nothing.
func split(length float64, w int) (full, rest int) {
	n := int(math.Round(length * float64(w) * 8))
	if n < 2 && length > 0 {
		n = 2
	}
	return min(n/8, w), n % 8
}

// shade lists the full cells of a bar from the spine outward, lighter where the middle half of the heats lies.
func shade(b chart.Bar, w, full int) []string {
	cells := make([]string, full)
	for i := range cells {
		cells[i] = "█"
		if middle := (float64(i) + 0.5) / float64(w); middle >= b.Low && middle <= b.High {
			cells[i] = "▓"
		}
	}
	return cells
}

// axisGap is the least room between two labels of an axis.
const axisGap = 2

// Axis draws the ticks of a scale over w cells that grow to the right, or to the left when mirrored. The ends come
// first; labels that would come too close to another are left out.
func Axis(ticks []chart.Tick, w int, mirrored bool) string {
	line := []rune(strings.Repeat(" ", max(w, 0)))
	put := func(t chart.Tick) {
		label := []rune(t.Label)
		at := int(math.Round(t.At * float64(w-1)))
		from := min(max(at-len(label)/2, 0), w-len(label))
		if mirrored {
			from = w - from - len(label)
		}
		if from < 0 {
			return
		}
		for _, r := range line[max(0, from-axisGap):min(w, from+len(label)+axisGap)] {
			if r != ' ' {
				return
			}
		}
		copy(line[from:], label)
	}
	if n := len(ticks); n > 0 {
		put(ticks[0])
		put(ticks[n-1])
		for _, t := range ticks {
			put(t)
		}
	}
	return string(line)
}

// traceLevels draw a small history, lowest first.
var traceLevels = []rune("▁▂▃▄▅▆▇█")

// Trace draws ratios as a row of small columns on a log scale around 1, the latest w of them. Those that are unknown
// are dots.
func Trace(ratios []float64, w int) string {
	if len(ratios) > w {
		ratios = ratios[len(ratios)-w:]
	}
	most := 0.1
	for _, r := range ratios {
		if r > 0 {
			most = max(most, math.Abs(math.Log(r)))
		}
	}
	var out strings.Builder
	for _, r := range ratios {
		if !(r > 0) {
			out.WriteRune('·')
			continue
		}
		at := (math.Log(r)/most + 1) / 2 * float64(len(traceLevels)-1)
		out.WriteRune(traceLevels[int(math.Round(at))])
	}
	return out.String()
}

// Span is the cells of w that a stretch of 0 to 1 takes, at least one of those that are there.
func Span(from, to float64, w int) (first, end int) {
	if w <= 0 {
		return 0, 0
	}
	first = min(max(int(math.Round(from*float64(w))), 0), w-1)
	return first, min(max(int(math.Round(to*float64(w))), first+1), w)
}

// RowLabel is the tick of an upward scale that falls into a row of a lane of h; empty where none does. Where several
// do, it is the lowest, and in the uppermost row the highest.
func RowLabel(scale chart.Scale, row, h int) (label string) {
	for _, t := range scale.Ticks {
		if h-1-min(int(t.At*float64(h)), h-1) == row && (label == "" || row == 0) {
			label = t.Label
		}
	}
	return label
}
