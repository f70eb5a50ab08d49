package judge

import (
	"math"
	"slices"

	"paceduel/core/quantile"
	"paceduel/core/result"
)

// Latencies are the distribution of a side's successful shots, in seconds. It is not modified once made.
type Latencies struct {
	values []float64 // ascending; the highest of each bucket, at most 0.1 % too high
	upTo   []int64   // how many shots are at or below each
}

// newLatencies takes what a histogram holds.
func newLatencies(h *result.Distribution) *Latencies {
	l := &Latencies{}
	if h == nil {
		return l
	}
	var sum int64
	for _, bar := range h.Bars {
		if bar.Count > 0 {
			sum += bar.Count
			l.values, l.upTo = append(l.values, float64(bar.To)/1e9), append(l.upTo, sum)
		}
	}
	return l
}

// Shots is how many there are.
func (l *Latencies) Shots() int64 {
	if l == nil || len(l.upTo) == 0 {
		return 0
	}
	return l.upTo[len(l.upTo)-1]
}

// UpTo is the share of shots that took at most x seconds; NaN without shots.
func (l *Latencies) UpTo(x float64) float64 {
	if l.Shots() == 0 {
		return math.NaN()
	}
	i, _ := slices.BinarySearchFunc(l.values, x, func(v, x float64) int {
		if v <= x*(1+1e-12) {
			return -1
		}
		return 1
	})
	if i == 0 {
		return 0
	}
	return float64(l.upTo[i-1]) / float64(l.Shots())
}

// Quantile is the smallest latency at or below which a share q of the shots lies; NaN without shots.
func (l *Latencies) Quantile(q float64) float64 {
	if l.Shots() == 0 {
		return math.NaN()
	}
	i, _ := slices.BinarySearch(l.upTo, quantile.Rank(q, l.Shots()))
	return l.values[i]
}

// Ends are the shortest and the longest latency; NaN without shots.
func (l *Latencies) Ends() (shortest, longest float64) {
	if l.Shots() == 0 {
		return math.NaN(), math.NaN()
	}
	return l.values[0], l.values[len(l.values)-1]
}
