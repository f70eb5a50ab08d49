// Package parts holds what several views are made of: fitting text into a rectangle, bars, dots, the trace of a
// history.
//
// Parts draw what they are given and decide nothing. Each states how wide and tall its output is.
package parts

import (
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"paceduel/core/units"
)

// Fit cuts and fills text to exactly h lines of exactly w cells.
func Fit(text string, w, h int) string {
	if w <= 0 || h <= 0 {
		return ""
	}
	lines := strings.Split(text, "\n")
	out := make([]string, h)
	for i := range out {
		line := ""
		if i < len(lines) {
			line = lines[i]
		}
		out[i] = Cell(line, w)
	}
	return strings.Join(out, "\n")
}

// Cell cuts or fills one line to exactly w cells, marking a cut with an ellipsis.
func Cell(line string, w int) string {
	if w <= 0 {
		return ""
	}
	n := lipgloss.Width(line)
	if n > w {
		line = ansi.Truncate(line, w, "…")
		n = lipgloss.Width(line)
	}
	return line + strings.Repeat(" ", max(0, w-n))
}

// Right fills a line from the left, so that it ends at the w-th cell.
func Right(line string, w int) string {
	n := lipgloss.Width(line)
	if n > w {
		return Cell(line, w)
	}
	return strings.Repeat(" ", w-n) + line
}

// Center puts a line in the middle of w cells.
func Center(line string, w int) string {
	n := lipgloss.Width(line)
	if n >= w {
		return Cell(line, w)
	}
	return Cell(strings.Repeat(" ", (w-n)/2)+line, w)
}

// Wrap breaks plain text at spaces into lines of at most w cells; only words longer than a line are broken, and numbers
// stay with their units. Empty text is one empty line.
func Wrap(text string, w int) []string {
	if w <= 0 {
		return nil
	}
	var lines []string
	line := ""
	for _, word := range units.Kept(strings.Fields(text)) {
		for lipgloss.Width(word) > w {
			if line != "" {
				lines, line = append(lines, line), ""
			}
			head := ansi.Truncate(word, w, "")
			lines, word = append(lines, strings.TrimRight(head, " ")), strings.TrimLeft(word[len(head):], " ")
		}
		switch {
		case line == "":
			line = word
		case lipgloss.Width(line)+1+lipgloss.Width(word) > w:
			lines, line = append(lines, line), word
		default:
			line += " " + word
		}
	}
	if line != "" || len(lines) == 0 {
		lines = append(lines, line)
	}
	return lines
}

// Beside joins blocks from left to right, each already fitted, with gap cells between.
func Beside(gap int, blocks ...string) string {
	spaced := make([]string, 0, 2*len(blocks))
	for i, b := range blocks {
		if i > 0 && gap > 0 {
			spaced = append(spaced, strings.Repeat(" ", gap))
		}
		spaced = append(spaced, b)
	}
	return lipgloss.JoinHorizontal(lipgloss.Top, spaced...)
}

// Window returns the part of lines that shows line at when h fit, keeping it away from the edge where it can.
func Window(lines []string, at, h int) []string {
	if h <= 0 {
		return nil
	}
	if len(lines) <= h {
		return lines
	}
	from := min(max(at-h/2, 0), len(lines)-h)
	return lines[from : from+h]
}

// Plain is a line of somebody else's text without what would steer the terminal.
func Plain(line string) string { return units.Printable(ansi.Strip(line)) }
