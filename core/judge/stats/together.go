package stats

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// Together says which of several statements hold at once with at most alpha risk that any is wrong, by the step-down of
// Holm (Scandinavian Journal of Statistics 6, 1979) with weights, which are positive: statements are taken in the order
// of p/weight, and each has to stand at alpha times its weight's share of all that have not been taken yet. p is the
// smallest risk at which a statement still stands alone.
func Together(p, weights []float64, alpha float64) (holds []bool) {
	order := make([]int, len(p))
	left := 0.0
	for i := range order {
		order[i] = i
		left += weights[i]
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := p[a]/weights[a], p[b]/weights[b]
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	holds = make([]bool, len(p))
	for _, i := range order {
		if p[i] > alpha*weights[i]/left*(1+1e-12) {
			break
		}
		holds[i] = true
		left -= weights[i]
	}
	return holds
}

// ShareInterval is the exact two-sided interval of a share of which k of n were seen (Clopper and Pearson, Biometrika
// 26, 1934).
func ShareInterval(k, n int64, alpha float64) (low, high float64) {
	low, high = 0, 1
	if k > 0 {
		low = distuv.Beta{Alpha: float64(k), Beta: float64(n - k + 1)}.Quantile(alpha / 2)
	}
	if k < n {
		high = distuv.Beta{Alpha: float64(k + 1), Beta: float64(n - k)}.Quantile(1 - alpha/2)
	}
	return low, high
}

// RoundsFor is about how many rounds bring an interval of a half-width, known after some rounds, to a narrower one:
// widths fall with the root of the rounds.
func RoundsFor(rounds int, half, wanted float64) float64 {
	return float64(rounds) * math.Pow(half/wanted, 2)
}
