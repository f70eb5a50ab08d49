package judge

import (
	"math"

	"paceduel/core/figure"
	"paceduel/core/judge/stats"
)

// Beginning says how much longer a contender's first shots take than its later ones: the first run of a command in each
// heat, or the first answer of a service that was started for it.
type Beginning struct {
	Contender, State string
	First, Later     float64 // seconds, of the middle heat
	Ratio, Low, High float64 // how many times as long, by heats; Low and High are NaN with too few
}

// beginnings are those that the run knows.
func (f *field) beginnings() (out []Beginning) {
	for _, s := range f.sides() {
		var firsts, laters, d []float64
		for _, h := range f.inOrder[s] {
			first, later := h.beginning(), h.figure(figure.P50)
			if h.OK < medianFrom {
				later = h.figure(figure.Mean)
			}
			if first > 0 && later > 0 {
				firsts, laters, d = append(firsts, first), append(laters, later), append(d, math.Log(first/later))
			}
		}
		if len(d) == 0 {
			continue
		}
		sample := stats.NewSample(d)
		b := Beginning{
			Contender: s.Contender, State: s.State, First: stats.Median(firsts), Later: stats.Median(laters),
			Ratio: math.Exp(sample.Centre()), Low: math.NaN(), High: math.NaN(),
		}
		if low, high, ok := sample.Interval(f.alpha); ok {
			b.Low, b.High = math.Exp(low), math.Exp(high)
		}
		out = append(out, b)
	}
	return out
}
