package why

import (
	"math"
	"strings"

	"paceduel/core/chart"
	"paceduel/screen"
	"paceduel/screen/parts"
)

func (v View) survival(s screen.Scene) *chart.Survival {
	type survivalKey struct{}
	return screen.Picture(s, survivalKey{}, func() *chart.Survival {
		return chart.NewSurvival(s.Run.Result, s.Run.Verdict)
	})
}

// survivalBody draws a lane for each contender: a column for each crash, what was kept above the line, what was lost
// below it.
func (v View) survivalBody(s screen.Scene, w, h int) (lines []string) {
	p := v.survival(s)
	const label, around, most = 11, 3, 10
	rows := min(max(h/max(len(p.Lanes), 1)-around, 2), most)
	lost := max(int(math.Ceil(float64(rows)*p.Deepest/(1+p.Deepest))), 1)
	kept := rows - lost
	room := max(w-label-2, 8)
	for i := range p.Lanes {
		l := &p.Lanes[i]
		own := s.Theme.Sign(l.Sign)
		head := " " + own.Bold(true).Render(l.Sign.Glyph+" "+l.Name)
		if l.Baseline {
			head += s.Theme.Faint.Render(" baseline")
		}
		lines = append(lines, parts.Cell(head+s.Theme.Faint.Render("  "+l.Says), w))
		wide := max(min(room/max(len(l.Crashes), 1), 7), 1)
		shown := l.Crashes[:min(len(l.Crashes), room/wide)]
		for row := range kept {
			text := columns(shown, wide, kept, func(b chart.SurvivalBar) float64 { return b.Kept }, kept-1-row, false)
			name := parts.Right(parts.RowLabel(p.Scale, row, kept), label)
			lines = append(lines, s.Theme.Faint.Render(name)+" "+own.Render(text))
		}
		for row := range lost {
			text := columns(shown, wide, kept, func(b chart.SurvivalBar) float64 { return b.Lost }, row, true)
			name := ""
			if row == 0 {
				name = "lost"
			}
			lines = append(lines, s.Theme.Faint.Render(parts.Right(name, label))+" "+s.Theme.Caution.Render(text))
		}
		lines = append(lines, "")
	}
	return lines[:min(len(lines), max(h, 0))]
}

// columns draws one row of bars, counted from the line outwards: upwards in eighths, downwards in halves, for which
// there are signs.
func columns(
	bars []chart.SurvivalBar, wide, rows int, of func(chart.SurvivalBar) float64, row int, down bool,
) string {
	up := []rune(" ▁▂▃▄▅▆▇█")
	var out strings.Builder
	for _, b := range bars {
		length := of(b)*float64(rows) - float64(row)
		sign := ' '
		switch {
		case down && length >= 0.75:
			sign = '█'
		case down && length >= 0.25:
			sign = '▀'
		case down && length > 0:
			sign = '▔'
		case !down && length > 0:
			sign = up[min(max(int(length*8+0.5), 1), 8)]
		}
		out.WriteString(strings.Repeat(string(sign), max(wide-1, 1)))
		if wide > 1 {
			out.WriteByte(' ')
		}
	}
	return out.String()
}
