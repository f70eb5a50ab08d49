package judge

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// minRounds is how many rounds an interval needs; below signedRankFrom of them it is Student's.
const (
	minRounds      = 5
	signedRankFrom = 6
	exactUpTo      = 60 // rounds for which the signed-rank distribution is computed exactly
)

// pseudoMedian is the median of all pairwise means of d (Hodges and Lehmann 1963). d has at least one value.
func pseudoMedian(d []float64) float64 {
	w := walsh(d)
	n := len(w)
	if n%2 == 1 {
		return w[n/2]
	}
	return (w[n/2-1] + w[n/2]) / 2
}

// walsh returns the means of all pairs of d, each value with itself included, in ascending order.
func walsh(d []float64) []float64 {
	w := make([]float64, 0, len(d)*(len(d)+1)/2)
	for i := range d {
		for j := i; j < len(d); j++ {
			w = append(w, (d[i]+d[j])/2)
		}
	}
	slices.Sort(w)
	return w
}

// sample is the differences of a figure over the rounds, with what intervals of any level need computed once.
type sample struct {
	d     []float64
	walsh []float64
	tails []float64 // tails[c] = P(T <= c) of the signed-rank statistic
}

func newSample(d []float64) *sample {
	s := &sample{d: d}
	if len(d) >= signedRankFrom {
		s.walsh, s.tails = walsh(d), signedRankTails(len(d))
	}
	return s
}

// interval returns the two-sided interval of the centre of d at level 1-alpha: Student's for five rounds, from six the
// one that inverts the signed-rank test (Hodges and Lehmann 1963), interpolated between its neighbouring levels to
// reach the wanted one. ok is false when so few rounds cannot reach that level.
func (s *sample) interval(alpha float64) (low, high float64, ok bool) {
	n := len(s.d)
	if n < minRounds {
		return 0, 0, false
	}
	if n < signedRankFrom {
		low, high = studentInterval(s.d, alpha)
		return low, high, true
	}
	c := -1
	for c+1 < len(s.tails) && s.tails[c+1] <= alpha/2 {
		c++
	}
	if c < 0 {
		return 0, 0, false
	}
	last := len(s.walsh) - 1
	c = min(c, last/2)
	next := min(c+1, last/2)
	share := 0.0
	if next > c && next < len(s.tails) {
		share = (alpha/2 - s.tails[c]) / (s.tails[next] - s.tails[c])
	}
	low = s.walsh[c] + share*(s.walsh[next]-s.walsh[c])
	high = s.walsh[last-c] - share*(s.walsh[last-c]-s.walsh[last-next])
	return low, high, true
}

func studentInterval(d []float64, alpha float64) (low, high float64) {
	n := float64(len(d))
	var mean, square float64
	for _, x := range d {
		mean += x / n
	}
	for _, x := range d {
		square += (x - mean) * (x - mean)
	}
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}.Quantile(1 - alpha/2)
	half := t * math.Sqrt(square/(n-1)/n)
	return mean - half, mean + half
}

// signedRankTails returns P(T <= c) for c from 0 to half the largest T, where T is the sum of the ranks with a positive
// sign among n when signs are fair. Exact by counting subsets up to exactUpTo, normal with continuity correction above.
func signedRankTails(n int) []float64 {
	top := n * (n + 1) / 2
	tails := make([]float64, top/2+1)
	if n > exactUpTo {
		mean, sd := float64(top)/2, math.Sqrt(float64(n*(n+1)*(2*n+1))/24)
		for c := range tails {
			tails[c] = distuv.UnitNormal.CDF((float64(c) + 0.5 - mean) / sd)
		}
		return tails
	}
	ways := make([]float64, len(tails)) // of a sum of c, as a share of all 2^n
	ways[0] = 1
	for rank := 1; rank <= n; rank++ {
		for c := len(ways) - 1; c >= 0; c-- {
			ways[c] /= 2
			if c >= rank {
				ways[c] += ways[c-rank] / 2
			}
		}
	}
	sum := 0.0
	for c, p := range ways {
		sum += p
		tails[c] = sum
	}
	return tails
}
