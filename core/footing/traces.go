package footing

import (
	"cmp"
	"io"
	"math/rand/v2"

	"paceduel/core/bystander"
	"paceduel/core/contender"
	"paceduel/core/marks"
	"paceduel/core/traces"
)

// listen starts the receiver of spans where any contender's service sends some.
func (f *Footing) listen() (err error) {
	address, any := "", false
	for i := range f.plan.Contenders {
		if t := f.plan.Contenders[i].Ground.Traces; t != nil {
			address, any = cmp.Or(address, t.Listen), true
		}
	}
	if !any {
		return nil
	}
	if f.traces, err = traces.Listen(f.clock, address); err != nil {
		return err
	}
	for i := range f.plan.Contenders {
		c := &f.plan.Contenders[i]
		if t := c.Ground.Traces; t != nil {
			own := &contender.Tracing{Of: t.Of, Share: float64(t.Share)}
			for j := range own.Prefix {
				own.Prefix[j] = byte(rand.Uint32())
			}
			f.traces.Expect(own.Prefix)
			g := f.grounds[c.Name]
			g.tracing = own
			if steps := marks.NewSteps(t.Lines); steps != nil {
				g.lines = f.traces.LinesOf(steps)
			}
		}
	}
	return nil
}

// Traces is who takes in spans of the contender's shots, and how their traces begin; nil where it sends none.
func (g *Ground) Traces() (*traces.Receiver, traces.Prefix) {
	if g.tracing == nil {
		return nil, traces.Prefix{}
	}
	return g.f.traces, g.tracing.Prefix
}

// listener takes what the contender's service prints besides; nil for nobody.
func (g *Ground) listener() io.Writer {
	switch {
	case g.lines != nil && g.ticks != nil:
		return io.MultiWriter(g.lines, g.ticks)
	case g.lines != nil:
		return g.lines
	case g.ticks != nil:
		return g.ticks
	}
	return nil
}

// Ticks are the lines that the contender's service prints by itself, as its bystander waits for them; nil for none.
func (g *Ground) Ticks() *bystander.Ticks { return g.ticks }

// Pings are those that the contender's bystander sends its workers; nil for none.
func (g *Ground) Pings() *bystander.Pings { return g.pings }

// tracingVariables tell a service where to send its spans.
func (g *Ground) tracingVariables() []string {
	if g.tracing == nil {
		return nil
	}
	return g.f.traces.Environment()
}
