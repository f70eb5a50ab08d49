package why

import (
	"strings"

	"paceduel/core/chart"
	"paceduel/screen"
	"paceduel/screen/parts"
)

func (v View) payload(s screen.Scene) *chart.Payload {
	type payloadKey struct{}
	return screen.Picture(s, payloadKey{}, func() *chart.Payload { return chart.NewPayload(s.Run.Result, s.Run.Verdict) })
}

// payloadBody draws what each contender ships, and beneath it what that is made of.
func (v View) payloadBody(s screen.Scene, w, h int) (lines []string) {
	p := v.payload(s)
	const text = 22
	label := 26
	if w >= 120 {
		label = 36
	}
	bar := max(w-label-text-2, 8)
	for i := range p.Lanes {
		l := &p.Lanes[i]
		name := " " + s.Theme.Sign(l.Sign).Bold(true).Render(parts.Cell(l.Sign.Glyph+" "+l.Name, label-2)) + " "
		size := l.Shipped
		if l.Decoded != "" {
			size += " of " + l.Decoded
		}
		_, shipped := parts.Span(0, l.ShippedTo, bar)
		_, decoded := parts.Span(0, l.DecodedTo, bar)
		drawn := s.Theme.Sign(l.Sign).Render(strings.Repeat("█", shipped) + strings.Repeat("░", max(decoded-shipped, 0)))
		lines = append(lines, name+parts.Cell(drawn, bar)+" "+size)
	}
	axis := strings.Repeat(" ", label) + s.Theme.Faint.Render(parts.Axis(p.Scale.Ticks, bar, false))
	lines = append(lines, axis, "")
	if len(p.Rows) == 0 {
		return append(lines, " "+s.Theme.Faint.Render("What they consist of is not known: no answer is JSON."))
	}
	for i := range p.Rows {
		lines = append(lines, v.payloadRow(s, p, i, label, w)...)
	}
	return lines[:min(len(lines), max(h, 0))]
}

// payloadRow draws a member of answers: its contenders beside each other, or beneath where there is no room for that.
func (v View) payloadRow(s screen.Scene, p *chart.Payload, i, label, w int) (lines []string) {
	const size, least = 10, 14 // of a text, and of a text with a bar
	r := &p.Rows[i]
	each := (w - label - 2) / len(p.Lanes)
	cell := func(j, room int) string {
		own := max(room-size-2, 0)
		end := 0
		if r.Cells[j].To > 0 {
			_, end = parts.Span(0, r.Cells[j].To, own)
		}
		return parts.Right(r.Cells[j].Text, size) + " " +
			parts.Cell(s.Theme.Sign(p.Lanes[j].Sign).Render(strings.Repeat("█", end)), own) + " "
	}
	line := " " + parts.Cell(r.Label, label-2) + " "
	for j := range r.Cells {
		if each >= least {
			line += cell(j, each)
			continue
		}
		lines = append(lines, parts.Cell(line+cell(j, w-label-2), w))
		line = strings.Repeat(" ", label)
	}
	if each >= least {
		lines = append(lines, parts.Cell(line, w))
	}
	return lines
}
