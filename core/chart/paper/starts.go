package paper

import (
	"gonum.org/v1/plot/vg"

	"paceduel/core/chart"
)

// Starts is the picture of how contenders come up: two of them face to face, more below each other.
func Starts(s *chart.Starts) Picture { return starts{s} }

type starts struct{ *chart.Starts }

const (
	stepRoom  = 17
	stepBar   = 10
	tookRoom  = 56
	stepLabel = 100
	sideHead  = 24
)

func (s starts) sheet() sheet { return sheet{s.Title, s.Sentence, s.Note, s.Conditions} }

// facing reports whether there are two, who then share a spine.
func (s starts) facing() bool { return len(s.Groups) > 0 && len(s.Groups[0].Sides) == 2 }

// half is the room of one side, bars, figures and labels together.
func (s starts) half() vg.Length {
	if s.facing() {
		return width/2 - edge
	}
	return width - 2*edge
}

// sideHeight is what one side takes.
func (s starts) sideHeight(side *chart.StartSide) (h vg.Length) {
	h = sideHead + vg.Length(max(len(side.Steps), 1))*stepRoom + 4
	for _, text := range side.Beside {
		h += vg.Length(12 * len(wrap(text, noteSize, s.half()-20)))
	}
	return h
}

// groupHeight is what a state of caches takes.
func (s starts) groupHeight(g *chart.StartGroup) (h vg.Length) {
	for i := range g.Sides {
		if one := s.sideHeight(&g.Sides[i]); s.facing() {
			h = max(h, one)
		} else {
			h += one
		}
	}
	return h + 10
}

func (s starts) size() (w, h vg.Length) {
	h = s.sheet().room() + 40
	for i := range s.Groups {
		h += s.groupHeight(&s.Groups[i])
	}
	return width, h
}

func (s starts) draw(p *pen, w, h vg.Length) {
	y := s.sheet().above(p, w, h)
	bar := s.half() - tookRoom - stepLabel
	for i := range s.Groups {
		g := &s.Groups[i]
		at := y
		for j := range g.Sides {
			switch {
			case !s.facing():
				s.side(p, &g.Sides[j], g.State, edge, 1, bar, at)
				at -= s.sideHeight(&g.Sides[j])
			case j == 0:
				s.side(p, &g.Sides[j], g.State, width/2-2, -1, bar, at)
			default:
				s.side(p, &g.Sides[j], g.State, width/2+2, 1, bar, at)
			}
		}
		y -= s.groupHeight(g)
	}
	if s.facing() {
		p.ticks(flipped(s.Scale.Ticks), width/2-2-bar, y, bar)
		p.ticks(s.Scale.Ticks[min(1, len(s.Scale.Ticks)):], width/2+2, y, bar)
	} else {
		p.ticks(s.Scale.Ticks, edge, y, bar)
	}
	s.sheet().below(p, w)
}

// flipped are ticks of a scale that grows to the left, without its zero, which the other side has room for as little.
func flipped(ticks []chart.Tick) (out []chart.Tick) {
	for i := len(ticks) - 1; i > 0; i-- {
		out = append(out, chart.Tick{At: 1 - ticks[i].At, Label: ticks[i].Label})
	}
	return out
}

// side draws one contender's steps from zero on in a direction, 1 or -1, below y.
func (s starts) side(p *pen, side *chart.StartSide, state string, zero vg.Length, direction, bar, y vg.Length) {
	c := colorOf(side.Sign)
	y -= sideHead - 6
	name := title(side.Name, state)
	if side.Baseline {
		name += " (baseline)"
	}
	p.sign(side.Sign, zero+direction*8, y+4, c)
	if direction > 0 {
		p.text(p.cut(name, s.half()-24, figureSize, bold), zero+18, y, figureSize, bold, c)
	} else {
		p.textRight(p.cut(name, s.half()-24, figureSize, bold), zero-18, y, figureSize, bold, c)
	}
	y -= 6
	if len(side.Steps) == 0 {
		y -= stepRoom
		s.words(p, "nothing is known", zero+direction*12, y+3, direction, s.half()-20)
	}
	for i := range side.Steps {
		t := &side.Steps[i]
		y -= stepRoom
		from, to := zero+direction*vg.Length(t.From)*bar, zero+direction*vg.Length(t.To)*bar
		p.line(zero, y+stepBar/2, from, y+stepBar/2, rule)
		long := max(max(from, to)-min(from, to), 1)
		fill := c
		if t.Apart {
			fill = lighter(c)
		}
		p.fill(rectangle(min(from, to), y, long, stepBar), fill)
		at := zero + direction*(bar+6)
		label := p.cut(t.Label, stepLabel-8, figureSize, regular)
		if direction > 0 {
			p.text(t.Took, at, y+1, figureSize, bold, ink)
			p.text(label, at+tookRoom, y+1, figureSize, regular, ink)
		} else {
			p.textRight(t.Took, at, y+1, figureSize, bold, ink)
			p.textRight(label, at-tookRoom, y+1, figureSize, regular, ink)
		}
	}
	y -= 2
	for _, text := range side.Beside {
		for _, line := range wrap(text, noteSize, s.half()-20) {
			y -= 12
			s.words(p, line, zero+direction*12, y, direction, s.half()-20)
		}
	}
}

func (s starts) words(p *pen, text string, x, y, direction, room vg.Length) {
	text = p.cut(text, room, noteSize, regular)
	if direction > 0 {
		p.text(text, x, y, noteSize, regular, faint)
		return
	}
	p.textRight(text, x, y, noteSize, regular, faint)
}

func title(name, state string) string {
	if state == "" {
		return name
	}
	return name + " " + state
}
