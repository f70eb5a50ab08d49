package parts

import (
	"strings"

	"charm.land/lipgloss/v2"
)

// tableGap is between columns.
const tableGap = 3

// Table writes rows beneath a head, columns as wide as their widest cell, and no line wider than w; head draws the
// first row.
func Table(head func(...string) string, rows [][]string, w int) (lines []string) {
	var widths []int
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], lipgloss.Width(Plain(cell)))
		}
	}
	for at, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			line.WriteString(Cell(Plain(cell), widths[i]) + strings.Repeat(" ", tableGap))
		}
		text := Cell(line.String(), w)
		if at == 0 {
			text = head(text)
		}
		lines = append(lines, text)
	}
	return lines
}
