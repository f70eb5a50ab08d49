package judge

import (
	"slices"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/plan"
)

// gains compares each contender's warm runs with its cold ones, in latencies alone.
func (f *field) gains() (out []Gain) {
	cold, warm := string(plan.Cold), string(plan.Warm)
	if states := f.r.States(); !slices.Contains(states, cold) || !slices.Contains(states, warm) {
		return nil
	}
	for _, e := range f.r.Entrants {
		g := Gain{Contender: e.Name}
		for _, fig := range []figure.Name{figure.P50, figure.P90, figure.P99, figure.Mean} {
			a := f.assess(fig, cell.Of(e.Name, cold), cell.Of(e.Name, warm))
			a.State, a.Main = "", true
			g.Figures = append(g.Figures, a)
		}
		out = append(out, g)
	}
	return out
}
