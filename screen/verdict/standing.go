package verdict

import (
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// standing is how all contenders stand at all rungs, in words; nothing where one line of it would say what the ladder
// says.
func standing(s screen.Scene, w int) (lines []string) {
	table := screen.Picture(s, standingKey{}, func() judge.Standing { return s.Run.Verdict.Standing(s.Run.Result) })
	if len(table.Lines) < 2 || len(table.Rungs) == 0 {
		return nil
	}
	const gap = 3
	name := 0
	widths := make([]int, len(table.Rungs))
	for i, title := range table.Rungs {
		widths[i] = lipgloss.Width(title)
		for _, l := range table.Lines {
			widths[i] = max(widths[i], lipgloss.Width(l.Cells[i].Text))
		}
	}
	for _, l := range table.Lines {
		name = max(name, lipgloss.Width(lineName(l))+2)
	}
	name = min(name, w/3)
	for i, block := range chart.Blocks(widths, name+1, gap, w) {
		if i > 0 {
			lines = append(lines, "")
		}
		head := parts.Cell("", name+1)
		for _, c := range block {
			head += strings.Repeat(" ", gap) + parts.Cell(table.Rungs[c], widths[c])
		}
		lines = append(lines, s.Theme.Faint.Render(strings.TrimRight(head, " ")))
		for _, l := range table.Lines {
			sign := chart.SignFor(s.Run.Result, l.Contender)
			line := " " + parts.Cell(s.Theme.Sign(sign).Render(sign.Glyph+" "+lineName(l)), name)
			for _, c := range block {
				line += strings.Repeat(" ", gap) + parts.Cell(wordStyle(s, l.Cells[c].Word).Render(l.Cells[c].Text), widths[c])
			}
			lines = append(lines, line)
		}
	}
	return lines
}

type standingKey struct{}

func lineName(l judge.StandingLine) string {
	return strings.Join(slices.DeleteFunc([]string{l.Contender, l.State}, func(s string) bool { return s == "" }), " ")
}
