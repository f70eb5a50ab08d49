package why

import (
	"strings"

	"paceduel/core/chart"
	"paceduel/screen"
	"paceduel/screen/parts"
)

func (v View) meanwhile(s screen.Scene) *chart.Meanwhile {
	type meanwhileKey struct{}
	return screen.Picture(s, meanwhileKey{}, func() *chart.Meanwhile {
		whole := *s.Run.Result
		whole.Heats = s.Run.Heats
		return chart.NewMeanwhile(&whole, s.Run.Verdict)
	})
}

const (
	fewWaitRows = 4
	waitLabel   = 9
)

// waitRows is how many rows the waits of a lane have where there is room for so many: each tick has a row of its own,
// as labels that stand one above the other read as evenly spaced.
func waitRows(waits chart.Scale, room int) int {
	return max(min(room, max(fewWaitRows, len(waits.Ticks))), 1)
}

// meanwhileBody draws a lane for each contender: its work, the waits of its bystander, and the silences.
func (v View) meanwhileBody(s screen.Scene, w, h int) (lines []string) {
	p := v.meanwhile(s)
	const around = 4 // head, work, silences, a gap
	rows := waitRows(p.Waits, (h-2)/max(len(p.Lanes), 1)-around)
	plot := max(w-waitLabel-2, 8)
	for i := range p.Lanes {
		lines = append(lines, meanwhileLane(s, p, &p.Lanes[i], w, plot, rows)...)
	}
	axis := strings.Repeat(" ", waitLabel+1) + s.Theme.Faint.Render(parts.Axis(p.Scale.Ticks, plot, false))
	lines = lines[:min(len(lines), max(h-2, 0))]
	return append(lines, axis)
}

func meanwhileLane(s screen.Scene, p *chart.Meanwhile, l *chart.MeanwhileLane, w, plot, rows int) (lines []string) {
	own := s.Theme.Sign(l.Sign)
	head := " " + own.Bold(true).Render(l.Sign.Glyph+" "+l.Name)
	if l.Baseline {
		head += s.Theme.Faint.Render(" baseline")
	}
	if l.State != "" {
		head += " " + s.Theme.Strong.Render(l.State)
	}
	head += "  " + s.Theme.Strong.Render(l.Took) + s.Theme.Faint.Render("  "+l.Says)
	lines = append(lines, parts.Cell(head, w))
	label := func(text string) string { return s.Theme.Faint.Render(parts.Right(text, waitLabel)) + " " }
	lines = append(lines, label("work")+own.Render(bars(l.Work, plot)))
	cloud := parts.NewPlot(plot, rows)
	for _, d := range l.Dots {
		cloud.Dot(d)
	}
	for row, text := range cloud.Lines(s.Theme.Strong, s.Theme.Trouble) {
		lines = append(lines, label(parts.RowLabel(p.Waits, row, rows))+text)
	}
	if len(l.Silences) > 0 {
		lines = append(lines, label("held up")+s.Theme.Caution.Render(silences(l.Silences, plot)))
	} else {
		lines = append(lines, label("held up")+s.Theme.Faint.Render("nobody"))
	}
	return append(lines, "")
}

// bars draws stretches of work: neighbours stand apart where there is room for it.
func bars(work []chart.Period, plot int) string {
	cells := make([]rune, plot)
	for i := range cells {
		cells[i] = ' '
	}
	for i, st := range work {
		first, end := parts.Span(st.From, st.To, plot)
		for at := first; at < end; at++ {
			cells[at] = '█'
		}
		if i > 0 && first > 0 && end-first > 2 && cells[first-1] == '█' {
			cells[first] = '▐'
		}
	}
	return string(cells)
}

// silences draws stretches between bounds, with how long each lasted where that has room.
func silences(all []chart.Period, plot int) string {
	cells := []rune(strings.Repeat(" ", plot))
	for _, st := range all {
		first, end := parts.Span(st.From, st.To, plot)
		for at := first; at < end; at++ {
			cells[at] = '─'
		}
		if end-first < 2 {
			continue
		}
		cells[first], cells[end-1] = '├', '┤'
		text := []rune(" " + st.Label + " ")
		if at := first + (end-first-len(text))/2; end-first >= len(text)+4 {
			copy(cells[at:], text)
		}
	}
	return string(cells)
}
