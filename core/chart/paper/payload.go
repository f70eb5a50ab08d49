package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Payload is the picture of what answers ship and what that consists of.
func Payload(p *chart.Payload) Picture { return payload{p} }

type payload struct{ *chart.Payload }

const (
	payloadRow   = 18
	payloadLabel = 190
	payloadText  = 120
)

func (s payload) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

func (s payload) size() (w, h vg.Length) {
	rows := len(s.Lanes)*2 + len(s.Rows)*max(len(s.Lanes), 1)
	return width, s.sheet().room() + 90 + vg.Length(rows)*payloadRow + vg.Length(len(s.Rows))*6
}

func (s payload) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	zero, bar := vg.Length(edge+payloadLabel), vg.Length(width-2*edge-payloadLabel-payloadText)
	for i := range s.Lanes {
		l := &s.Lanes[i]
		c := colorOf(l.Sign)
		y -= payloadRow
		p.sign(l.Sign, edge+6, y+5, c)
		p.text(p.cut(l.Name, payloadLabel-24, figureSize, bold), edge+16, y+1, figureSize, bold, c)
		p.fill(rectangle(zero, y+3, max(vg.Length(l.DecodedTo)*bar, 1), 4), lighter(c))
		p.fill(rectangle(zero, y, max(vg.Length(l.ShippedTo)*bar, 1), 11), c)
		text := l.Shipped
		if l.Decoded != "" {
			text += " of " + l.Decoded
		}
		p.text(text, zero+bar+8, y+1, figureSize, regular, ink)
	}
	y -= 8
	p.ticks(s.Scale.Ticks, zero, y, bar)
	y -= 40
	for i := range s.Rows {
		r := &s.Rows[i]
		for j, cell := range r.Cells {
			if j == 0 {
				p.text(p.cut(r.Label, payloadLabel-10, noteSize, regular), edge, y+1, noteSize, regular, ink)
			}
			p.fill(rectangle(zero, y, vg.Length(cell.To)*bar, 9), colorOf(s.Lanes[j].Sign))
			p.text(cell.Text, zero+bar+8, y+1, noteSize, regular, ink)
			y -= payloadRow
		}
		y -= 6
	}
	if len(s.Rows) > 0 {
		p.ticks(s.Cells.Ticks, zero, y+8, bar)
	}
	s.sheet().below(p, w)
}
