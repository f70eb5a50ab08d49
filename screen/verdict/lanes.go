package verdict

import (
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/screen"
	"paceduel/screen/parts"
)

// lanesBody shows every contender's figures from a common start, figure by figure.
func (v View) lanesBody(s screen.Scene, w, h int) (lines []string) {
	t := v.newTracks(s)
	name := 0
	for _, f := range t.Figures {
		for _, l := range f.Lanes {
			name = max(name, lipgloss.Width(l.Name)+2)
		}
	}
	name = min(name, w/4)
	const value, label = 10, 15
	said := 34
	if w < 110 {
		said = 22
	}
	bar := max(w-label-name-value-said-4, 6)
	total := 0
	for _, f := range t.Figures {
		total += len(f.Lanes) + 1
	}
	airy := total+len(t.Figures) <= h
	for _, f := range t.Figures {
		if say, ok := f.TooFew(); ok {
			lines = append(lines, parts.Cell(" "+s.Theme.Strong.Render(f.Label), label)+s.Theme.Faint.Render(say))
			if airy {
				lines = append(lines, "")
			}
			continue
		}
		for i, l := range f.Lanes {
			style := s.Theme.Sign(l.Sign)
			title := ""
			if i == 0 {
				title = s.Theme.Strong.Render(f.Label)
			}
			line := parts.Cell(" "+title, label) + parts.Cell(style.Render(l.Sign.Glyph+" "+l.Name), name) + " " +
				parts.OutwardRight(l.Bar, bar, style) + parts.Right(l.Text, value) + "  " + laneSaid(s, l, said)
			lines = append(lines, line)
		}
		lines = append(lines, s.Theme.Faint.Render(strings.Repeat(" ", label+name+1)+parts.Axis(f.Scale.Ticks, bar, false)))
		if airy {
			lines = append(lines, "")
		}
	}
	return append(lines, v.notes(s, w)...)
}

// laneSaid is what stands at the end of a lane.
func laneSaid(s screen.Scene, l chart.TrackLane, w int) string {
	if l.Baseline {
		return parts.Cell(s.Theme.Faint.Render("  baseline"), w)
	}
	style := wordStyle(s, l.Word)
	text := string(l.Word)
	if l.Word == judge.Better || l.Word == judge.Worse {
		text = l.Say
	}
	out := parts.Right(style.Render(l.Ratio), 5) + " " + style.Render(text)
	if interval := s.Theme.Faint.Render("  " + l.Interval); l.Interval != "" &&
		lipgloss.Width(out)+lipgloss.Width(interval) <= w {
		out += interval
	}
	return parts.Cell(out, w)
}
