package judge

import (
	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/plan"
)

// gains compares each contender's warm runs with its cold ones, in latencies alone.
func (f *field) gains() (out []Gain) {
	cold, warm, ok := plan.Pair(f.r.States())
	if !ok {
		return nil
	}
	for _, e := range f.r.Entrants {
		g := Gain{Contender: e.Name, Cold: cold, Warm: warm}
		for _, fig := range []figure.Name{figure.P50, figure.P90, figure.P99, figure.Mean} {
			a := f.assess(fig, cell.Of(e.Name, string(cold)), cell.Of(e.Name, string(warm)))
			a.State, a.Main = "", true
			g.Figures = append(g.Figures, a)
		}
		out = append(out, g)
	}
	return out
}
