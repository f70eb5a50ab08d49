// Package curve says what values measured over a parameter bear out: where the order of contenders turns, how a figure
// grows, which value is best, and from which on one more step brings little. docs/statistics.md gives the methods and
// their sources.
//
// Every round holds a value of every point, so that each round is a small repetition of the whole curve: whatever is
// read off a curve is read off each round by itself, and what stands is the centre of these with its interval. Nothing
// is fitted to points pooled over rounds. It knows numbers only: no heats, figures or words for people.
package curve

import (
	"math"
	"slices"

	"paceduel/core/judge/stats"
)

// Level is one minus the confidence of intervals: they are of 95 %.
const Level = 0.05

// Line is a figure of one contender over the points of a parameter.
type Line struct {
	X      []float64   // the points, rising
	Log    bool        // whether the axis is logarithmic: what lies between points is read in a straight line on it
	Values [][]float64 // by point, then by round: all points have the same rounds; NaN where a round has no value
	More   bool        // whether more is better
}

// Amount is an estimate with its interval; all NaN where there is none.
type Amount struct{ V, Low, High float64 }

// None is no amount.
var None = Amount{math.NaN(), math.NaN(), math.NaN()}

// Known reports whether there is an estimate.
func (a Amount) Known() bool { return !math.IsNaN(a.V) }

// Sure reports whether there is an interval, too.
func (a Amount) Sure() bool { return !math.IsNaN(a.Low) && !math.IsNaN(a.High) }

// centre is the pseudo-median of what was read off rounds, with its interval. Rounds without it are NaN.
func centre(x []float64, alpha float64) Amount {
	x = present(x)
	if len(x) == 0 {
		return None
	}
	s := stats.NewSample(x)
	out := Amount{s.Centre(), math.NaN(), math.NaN()}
	if low, high, ok := s.Interval(alpha); ok {
		out.Low, out.High = low, high
	}
	return out
}

// present are the values that are there.
func present(x []float64) []float64 {
	return slices.DeleteFunc(slices.Clone(x), func(v float64) bool { return math.IsNaN(v) || math.IsInf(v, 0) })
}

// Typical is the value of the typical round at a point, by the logarithms.
func (l *Line) Typical(point int) Amount {
	logs := make([]float64, len(l.Values[point]))
	for i, v := range l.Values[point] {
		logs[i] = math.Log(v)
	}
	c := centre(logs, Level)
	return Amount{math.Exp(c.V), math.Exp(c.Low), math.Exp(c.High)}
}

// rounds is how many there are.
func (l *Line) rounds() int {
	if len(l.Values) == 0 {
		return 0
	}
	return len(l.Values[0])
}

// better are the logarithms of how many times better l is than o at a point, round by round.
func (l *Line) better(o *Line, point int) []float64 {
	out := make([]float64, len(l.Values[point]))
	for i, v := range l.Values[point] {
		if out[i] = math.Log(o.Values[point][i] / v); l.More {
			out[i] = -out[i]
		}
	}
	return out
}

// Better is how many times better l is than o at a point, in the typical round.
func (l *Line) Better(o *Line, point int) Amount {
	c := centre(l.better(o, point), Level)
	return Amount{math.Exp(c.V), math.Exp(c.Low), math.Exp(c.High)}
}

// Surely reports whether l is better than o at a point at a risk of alpha.
func (l *Line) Surely(o *Line, point int, alpha float64) bool {
	r, side := risk(l.better(o, point), 0)
	return side > 0 && r <= alpha
}

// Step is how many times better a line is at one point than at another.
func (l *Line) Step(from, to int) Amount {
	c := centre(l.step(from, to), Level)
	return Amount{math.Exp(c.V), math.Exp(c.Low), math.Exp(c.High)}
}

// paired are the values that two series have of the same rounds. Points that were added later have rounds of their own:
// where too few are common to both, the first value of the one goes with the first of the other, and so on. Rounds are
// repetitions, so that this costs what rounds have in common and nothing else.
func paired(a, b []float64) (x, y []float64) {
	for i := range a {
		if !math.IsNaN(a[i]) && !math.IsNaN(b[i]) {
			x, y = append(x, a[i]), append(y, b[i])
		}
	}
	if len(x) >= stats.SignedRankFrom {
		return x, y
	}
	x, y = present(a), present(b)
	n := min(len(x), len(y))
	return x[:n], y[:n]
}

// step is by how many times a line is better at one point than at another, in logarithms, from round to round.
func (l *Line) step(from, to int) []float64 {
	before, after := paired(l.Values[from], l.Values[to])
	d := make([]float64, len(before))
	for i := range d {
		if d[i] = math.Log(before[i] / after[i]); l.More {
			d[i] = -d[i]
		}
	}
	return d
}

// risk is the smallest risk at which the centre of differences surely lies beyond an edge on either side, and on which
// side; 1 where it does not at any.
func risk(d []float64, edge float64) (p float64, side int) {
	d = present(d)
	if len(d) < stats.SignedRankFrom {
		return 1, 0
	}
	s := stats.NewSample(d)
	beyond := func(alpha float64) int {
		switch low, high, ok := s.Interval(alpha); {
		case ok && low > edge:
			return 1
		case ok && high < -edge:
			return -1
		}
		return 0
	}
	const loosest = 0.5
	if side = beyond(loosest); side == 0 {
		return 1, 0
	}
	low, high := 0.0, loosest
	for range 30 {
		if mid := (low + high) / 2; beyond(mid) == side {
			high = mid
		} else {
			low = mid
		}
	}
	return high, side
}

// levelRisk is the smallest risk at which the centre of differences surely lies within an edge on both sides; 1 where
// it does not at any.
func levelRisk(d []float64, edge float64) float64 {
	d = present(d)
	if len(d) < stats.SignedRankFrom || edge <= 0 {
		return 1
	}
	s := stats.NewSample(d)
	within := func(alpha float64) bool {
		low, high, ok := s.Interval(alpha)
		return ok && low >= -edge && high <= edge
	}
	const loosest = 0.5
	if !within(loosest) {
		return 1
	}
	low, high := 0.0, loosest
	for range 30 {
		if mid := (low + high) / 2; within(mid) {
			high = mid
		} else {
			low = mid
		}
	}
	return high
}

// between is the value at a share of the way from one point to another, on the axis as drawn.
func between(a, b, share float64, log bool) float64 {
	if log {
		return a * math.Pow(b/a, share)
	}
	return a + (b-a)*share
}
