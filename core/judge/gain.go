package judge

import (
	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/plan"
)

// gains compares each contender's warm runs with its cold ones, in latencies alone; and so what is asked from the first
// place with what is asked from each of the others.
func (f *field) gains() (out []Gain) {
	if cold, warm, ok := plan.Pair(f.r.States()); ok {
		return f.gainsOf(cold, warm, false)
	}
	for i, place := range f.r.Places() {
		if i > 0 {
			out = append(out, f.gainsOf(plan.State(place), plan.State(f.r.Places()[0]), true)...)
		}
	}
	return out
}

func (f *field) gainsOf(cold, warm plan.State, places bool) (out []Gain) {
	for _, e := range f.r.Entrants {
		g := Gain{Contender: e.Name, Cold: cold, Warm: warm, Places: places}
		for _, fig := range []figure.Name{figure.P50, figure.P90, figure.P99, figure.Mean} {
			a := f.assess(fig, cell.Of(e.Name, string(cold)), cell.Of(e.Name, string(warm)))
			a.State, a.Main = "", true
			g.Figures = append(g.Figures, a)
		}
		out = append(out, g)
	}
	return out
}
