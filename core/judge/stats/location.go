// Package stats has the methods from the literature that verdicts rest on, over plain numbers: where the centre of a
// few differences lies and how surely, what holds for many figures together, and the tests behind cautions.
//
// It knows no heats, contenders or units; docs/statistics.md says why these methods and not others. Everything here is
// deterministic and free of side effects; nothing keeps or changes what it is given unless it says so.
package stats

import (
	"math"
	"slices"
	"sync"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// MinRounds is how many differences an interval needs; below SignedRankFrom of them it is Student's.
const (
	MinRounds      = 5
	SignedRankFrom = 6
	exactUpTo      = 60 // for which the signed-rank distribution is computed exactly
)

// Sample is the differences of a figure over the rounds, with what intervals of any level need computed once.
type Sample struct {
	d     []float64
	walsh []float64 // means of all pairs, ascending
	tails []float64 // of the signed-rank statistic
	blur  float64   // see Blurred
}

// NewSample takes at least one difference, and keeps them.
func NewSample(d []float64) *Sample {
	s := &Sample{d: d, walsh: walsh(d)}
	if len(d) >= SignedRankFrom {
		s.tails = signedRankTails(len(d))
	}
	return s
}

// Blurred is the sample with an error in every difference that does not even out over rounds, since the measure has a
// grain: its intervals are wider by so much at both ends. s is not changed.
func (s *Sample) Blurred(by float64) *Sample {
	out := *s
	out.blur = by
	return &out
}

// Centre is the pseudo-median of values, as Sample's is, where nothing else is asked of them; NaN without any.
func Centre(x []float64) float64 {
	if len(x) == 0 {
		return math.NaN()
	}
	return (&Sample{walsh: walsh(x)}).Centre()
}

// Len is how many differences there are.
func (s *Sample) Len() int { return len(s.d) }

// Centre is the pseudo-median: the median of all pairwise means (Hodges and Lehmann 1963).
func (s *Sample) Centre() float64 {
	n := len(s.walsh)
	if n%2 == 1 {
		return s.walsh[n/2]
	}
	return (s.walsh[n/2-1] + s.walsh[n/2]) / 2
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

// Interval returns the two-sided interval of the centre at level 1-alpha: Student's for five differences, from six the
// one that inverts the signed-rank test (Hodges and Lehmann 1963), interpolated between its neighbouring levels to
// reach the wanted one. ok is false when so few cannot reach that level.
func (s *Sample) Interval(alpha float64) (low, high float64, ok bool) {
	n := len(s.d)
	if n < MinRounds {
		return 0, 0, false
	}
	if n < SignedRankFrom {
		low, high = studentInterval(s.d, alpha)
		return low - s.blur, high + s.blur, true
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
	return low - s.blur, high + s.blur, true
}

func studentInterval(d []float64, alpha float64) (low, high float64) {
	mean, sd := stat.MeanStdDev(d, nil)
	n := float64(len(d))
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}.Quantile(1 - alpha/2)
	half := t * sd / math.Sqrt(n)
	return mean - half, mean + half
}

// LeastRounds is how many differences are needed before the signed-rank interval reaches level 1-alpha.
func LeastRounds(alpha float64) int {
	for n := SignedRankFrom; ; n++ {
		if 2*math.Pow(0.5, float64(n)) <= alpha {
			return n
		}
	}
}

// exact keeps the distributions that were asked for.
var exact [exactUpTo + 1]struct {
	once  sync.Once
	tails []float64
}

// signedRankTails returns P(T <= c) for c from 0 to half the largest T, where T is the sum of the ranks with a positive
// sign among n when signs are fair. Exact by counting subsets up to exactUpTo, normal with continuity correction above.
func signedRankTails(n int) []float64 {
	if n > exactUpTo {
		top := n * (n + 1) / 2
		tails := make([]float64, top/2+1)
		mean, sd := float64(top)/2, math.Sqrt(float64(n*(n+1)*(2*n+1))/24)
		for c := range tails {
			tails[c] = distuv.UnitNormal.CDF((float64(c) + 0.5 - mean) / sd)
		}
		return tails
	}
	e := &exact[n]
	e.once.Do(func() { e.tails = exactTails(n) })
	return e.tails
}

func exactTails(n int) []float64 {
	top := n * (n + 1) / 2
	tails := make([]float64, top/2+1)
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
