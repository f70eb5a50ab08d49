package stats

import (
	"math"
	"slices"
	"sync"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// kendallExactUpTo is the length up to which the distribution of Kendall's statistic is computed exactly.
const kendallExactUpTo = 60

// Trend is the two-sided probability that values without any trend fall or rise as clearly as x does, by the test of
// Mann (Econometrica 13, 1945) and Kendall: exact up to 60 values without ties, normal with correction for ties
// otherwise. rises says which way. With fewer than four values it is 1.
func Trend(x []float64) (p float64, rises bool) {
	n := len(x)
	if n < 4 {
		return 1, false
	}
	s, ties := 0, false
	for i := range x {
		for j := i + 1; j < n; j++ {
			switch {
			case x[j] > x[i]:
				s++
			case x[j] < x[i]:
				s--
			default:
				ties = true
			}
		}
	}
	rises = s > 0
	pairs := n * (n - 1) / 2
	if n <= kendallExactUpTo && !ties {
		inversions := (pairs - abs(s)) / 2 // of the rarer direction
		return min(2*inversionTail(n, inversions), 1), rises
	}
	variance := float64(n * (n - 1) * (2*n + 5))
	sorted := slices.Sorted(slices.Values(x))
	for i := 0; i < n; {
		j := i
		for j < n && sorted[j] == sorted[i] {
			j++
		}
		t := j - i
		variance -= float64(t * (t - 1) * (2*t + 5))
		i = j
	}
	if variance <= 0 {
		return 1, rises
	}
	z := float64(max(abs(s)-1, 0)) / math.Sqrt(variance/18)
	return min(2*distuv.UnitNormal.Survival(z), 1), rises
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// inversionTail is the share of all orders of n values that have at most k inversions.
func inversionTail(n, k int) float64 {
	share := make([]float64, k+1) // with exactly so many, of the orders of the first i values
	share[0] = 1
	for i := 2; i <= n; i++ {
		for c := k; c >= 0; c-- {
			sum := 0.0
			for j := max(c-i+1, 0); j <= c; j++ {
				sum += share[j]
			}
			share[c] = sum / float64(i)
		}
	}
	total := 0.0
	for _, p := range share {
		total += p
	}
	return total
}

// rankRatioExactUpTo is the length up to which the distribution of the rank von Neumann ratio is found by going through
// all orders.
const rankRatioExactUpTo = 9

// Dependence is the probability that values that do not depend on each other follow each other as closely as x does:
// the lower tail of the rank version of von Neumann's ratio (R. Bartels, Journal of the American Statistical
// Association 77, 1982), exact up to nine values, by his beta approximation above. Equal values take the middle of
// their ranks. With fewer than six values it is 1, since no order
// of them is rare enough, and so it is for values that are all the same.
func Dependence(x []float64) float64 {
	n := len(x)
	if n < 6 || slices.Min(x) == slices.Max(x) {
		return 1
	}
	sum := successive(ranks(x))
	if n <= rankRatioExactUpTo {
		return rankRatioTail(n, sum)
	}
	k := float64(n)
	ratio := sum / (k * (k*k - 1) / 12)
	shape := 5*k*(k+1)*(k-1)*(k-1)/(2*(k-2)*(5*k*k-2*k-9)) - 0.5
	return distuv.Beta{Alpha: shape, Beta: shape}.CDF(min(ratio/4, 1))
}

// rankRatios keeps the distributions that were asked for.
var rankRatios [rankRatioExactUpTo + 1]struct {
	once  sync.Once
	tails []float64
}

// rankRatioTail is the share of all orders of n ranks whose neighbours differ by no more, in squares, than sum.
func rankRatioTail(n int, sum float64) float64 {
	known := &rankRatios[n]
	known.once.Do(func() {
		known.tails = make([]float64, n*n*n)
		orders := 0.0
		permute(n, func(order []float64) {
			orders++
			known.tails[int(successive(order))]++
		})
		total := 0.0
		for i, k := range known.tails {
			total += k
			known.tails[i] = total / orders
		}
	})
	return known.tails[int(sum+1e-9)]
}

// successive is the sum of the squared differences between neighbours.
func successive(x []float64) (sum float64) {
	for i := 1; i < len(x); i++ {
		sum += (x[i] - x[i-1]) * (x[i] - x[i-1])
	}
	return sum
}

// ranks gives each value its place among all, from 1.
func ranks(x []float64) []float64 {
	out := make([]float64, len(x))
	for i := range x {
		for j := range x {
			switch {
			case x[j] < x[i]:
				out[i]++
			case x[j] == x[i]:
				out[i] += 0.5
			}
		}
		out[i] += 0.5
	}
	return out
}

// permute calls use with every order of 1 to n (B. R. Heap, The Computer Journal 6, 1963). use must not keep it.
func permute(n int, use func([]float64)) {
	order := make([]float64, n)
	for i := range order {
		order[i] = float64(i + 1)
	}
	var swap func(k int)
	swap = func(k int) {
		if k == 1 {
			use(order)
			return
		}
		for i := range k - 1 {
			swap(k - 1)
			if k%2 == 0 {
				order[i], order[k-1] = order[k-1], order[i]
			} else {
				order[0], order[k-1] = order[k-1], order[0]
			}
		}
		swap(k - 1)
	}
	swap(n)
}

// FirstUnlike is the two-sided probability that the first of x, if it came from the normal distribution of the others,
// lies as far from them: Student's t of a prediction. With fewer than five values, or others that do not vary, it is 1.
func FirstUnlike(x []float64) float64 {
	n := len(x) - 1
	if n < 4 {
		return 1
	}
	mean, sd := stat.MeanStdDev(x[1:], nil)
	if !(sd > 0) {
		return 1
	}
	t := math.Abs(x[0]-mean) / (sd * math.Sqrt(1+1/float64(n)))
	return 2 * distuv.StudentsT{Mu: 0, Sigma: 1, Nu: float64(n - 1)}.Survival(t)
}

// Outliers are the places of values that lie further from the median than reach times the median absolute deviation,
// which is scaled to the standard deviation of a normal distribution. None with fewer than six.
func Outliers(x []float64, reach float64) (at []int) {
	if len(x) < 6 {
		return nil
	}
	centre := Median(x)
	away := make([]float64, len(x))
	for i, v := range x {
		away[i] = math.Abs(v - centre)
	}
	const toNormal = 1.4826
	edge := reach * toNormal * Median(away)
	for i := range x {
		if away[i] > edge && edge > 0 {
			at = append(at, i)
		}
	}
	return at
}

// Median is the middle of values, or halfway between the two in the middle; NaN without any. (The quantiles of
// gonum/stat are of other kinds.)
func Median(x []float64) float64 {
	n := len(x)
	if n == 0 {
		return math.NaN()
	}
	sorted := slices.Sorted(slices.Values(x))
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}
