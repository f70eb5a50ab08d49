package curve

import (
	"math"
	"slices"

	"paceduel/core/judge/stats"
)

// Standing is what may be said of who is best at a point.
type Standing int

// The standings.
const (
	Unknown Standing = iota // nobody has a value
	Open                    // nothing is settled
	Even                    // none is better than the leader's equals by more than what is of interest
	Ahead                   // the leader is better than every other line
)

// String names it.
func (s Standing) String() string {
	return map[Standing]string{Unknown: "unknown", Open: "open", Even: "too close to call", Ahead: "ahead"}[s]
}

// Place is who is best at a point.
type Place struct {
	Leader   int    // the line with the best typical value; -1 where none has any
	Next     int    // the line with the next best; -1 without any
	By       Amount // how many times better the leader is than the next one, by itself at 95 %
	Standing Standing
	Equals   []int // the lines that are even with the leader, itself among them; nil unless the standing is Even
}

// Turn is where one line takes over from another.
type Turn struct {
	From, To      int    // lines
	At            Amount // on the axis of the parameter
	Before, After int    // the last point at which From is ahead, and the first from there at which To is
}

// Places finds who is best at each point; lines share their points, whose order does not matter here. interest is the
// smallest difference worth telling apart, a share. Standings hold for all points and lines together at 95 % (Holm).
func Places(lines []*Line, interest float64) []Place {
	if len(lines) == 0 {
		return nil
	}
	places := make([]Place, len(lines[0].Values))
	type pair struct{ point, line int }
	var pairs []pair
	var risks, weights []float64
	sides := map[pair]int{}
	for p := range places {
		at := &places[p]
		*at = Place{Leader: leader(lines, p, -1), Next: -1, By: None}
		if at.Leader < 0 {
			continue
		}
		at.Next, at.Standing = leader(lines, p, at.Leader), Open
		for i := range lines {
			if i == at.Leader || !lines[i].Typical(p).Known() {
				continue
			}
			d := lines[at.Leader].better(lines[i], p)
			if i == at.Next {
				c := centre(d, Level)
				at.By = Amount{math.Exp(c.V), math.Exp(c.Low), math.Exp(c.High)}
			}
			r, side := risk(d, math.Log1p(interest))
			if side < 0 {
				r = 1
			}
			one := pair{p, i}
			if within := levelRisk(d, math.Log1p(interest)); within < r {
				r, side = within, 0
			}
			pairs, risks, weights, sides[one] = append(pairs, one), append(risks, r), append(weights, 1), side
		}
	}
	holds := stats.Together(risks, weights, Level)
	for p := range places {
		some, ahead, settled := false, true, true
		equals := []int{places[p].Leader}
		for i, one := range pairs {
			if one.point != p {
				continue
			}
			some, settled = true, settled && holds[i]
			if sides[one] <= 0 {
				ahead, equals = false, append(equals, one.line)
			}
		}
		switch {
		case !some || !settled:
		case ahead:
			places[p].Standing = Ahead
		default:
			slices.Sort(equals)
			places[p].Standing, places[p].Equals = Even, equals
		}
	}
	return places
}

// Turns finds where one line takes over from another. Places are those of the lines' points, in their order.
//
// A turn is told only between points at which one and then another line surely leads; it lies where the 95 % interval
// of the rounds' differences between the two, read in a straight line between neighbouring points on the axis as drawn,
// holds 0: the pointwise test inverted. Where both lines follow a law, differences are read along the laws' own in
// place of a straight line, which knows how they bend between points that lie far apart. laws are those of the lines;
// nil: none are known.
func Turns(lines []*Line, laws []*Law, places []Place) (turns []Turn) {
	last := -1
	for p := range places {
		if places[p].Standing != Ahead {
			continue
		}
		if last >= 0 && places[last].Leader != places[p].Leader {
			from, to := places[last].Leader, places[p].Leader
			straight := func(float64) float64 { return 0 }
			one := turn(lines[from], lines[to], last, p, straight)
			if laws != nil && laws[from] != nil && laws[to] != nil {
				if bent := turn(lines[from], lines[to], last, p, along(lines[from], laws[from], laws[to])); bent.At.Known() {
					one = bent
				}
			}
			one.From, one.To = from, to
			turns = append(turns, one)
		}
		last = p
	}
	return turns
}

// leader is the line with the best typical value at a point, one of them aside; -1 without any.
func leader(lines []*Line, point, aside int) int {
	best := -1
	for i, l := range lines {
		v := l.Typical(point).V
		if math.IsNaN(v) || i == aside {
			continue
		}
		if best < 0 || l.More && v > lines[best].Typical(point).V || !l.More && v < lines[best].Typical(point).V {
			best = i
		}
	}
	return best
}

// steps is how finely the stretch between two points is looked at.
const steps = 32

// along is by how much the law of b is better than that of a at a value, in logarithms; NaN where a law has no value.
func along(l *Line, a, b *Law) func(x float64) float64 {
	told := func(l *Law, x float64) float64 {
		params := make([]float64, len(l.Params))
		for i := range params {
			params[i] = l.Params[i].V
		}
		return l.Kind.value(params, x)
	}
	return func(x float64) float64 {
		d := math.Log(told(a, x) / told(b, x))
		if l.More {
			return -d
		}
		return d
	}
}

// turn finds where b takes over from a between two points at which each surely leads. What the rounds are off a curve
// is read in straight lines between points.
func turn(a, b *Line, before, after int, curve func(x float64) float64) Turn {
	t := Turn{Before: before, After: after, At: None}
	var places, centres, lows, highs []float64
	for p := before; p < after; p++ {
		left, right := paired(b.better(a, p), b.better(a, p+1))
		if len(left) == 0 {
			continue
		}
		for s := range steps + 1 {
			if s == steps && p+1 < after {
				continue // the next stretch begins there
			}
			at := float64(s) / steps
			x := between(a.X[p], a.X[p+1], at, a.Log)
			bend := curve(x) - (1-at)*curve(a.X[p]) - at*curve(a.X[p+1])
			mixed := make([]float64, len(left))
			for r := range mixed {
				mixed[r] = (1-at)*left[r] + at*right[r] + bend
			}
			c := centre(mixed, Level)
			places = append(places, x)
			centres = append(centres, c.V)
			lows, highs = append(lows, c.Low), append(highs, c.High)
		}
	}
	cross := slices.IndexFunc(centres, func(c float64) bool { return c >= 0 })
	if cross <= 0 {
		return t
	}
	// within a step all three are as good as straight
	zero := func(of []float64, i int) float64 {
		return between(places[i-1], places[i], -of[i-1]/(of[i]-of[i-1]), a.Log)
	}
	t.At = Amount{zero(centres, cross), places[0], places[len(places)-1]}
	if first := slices.IndexFunc(highs, func(h float64) bool { return h >= 0 }); first > 0 {
		t.At.Low = zero(highs, first)
	}
	for i := len(lows) - 1; i > 0; i-- {
		if lows[i-1] <= 0 {
			if lows[i] > 0 {
				t.At.High = zero(lows, i)
			}
			break
		}
	}
	return t
}

// Best says which point of a line is best.
type Best struct {
	Point int   // with the best value; -1 without any
	Set   []int // all points that can't be told from it, itself among them, rising
}

// Alone reports whether the best point is told from all others.
func (b *Best) Alone() bool { return len(b.Set) == 1 }

// Edge reports whether the best point is the first or last of n: then a better one may lie beyond.
func (b *Best) Edge(n int) bool { return b.Point == 0 || b.Point == n-1 }

// FindBest finds the best point of a line, and those that a one-sided test at 5 %, all points taken together (Holm),
// can't tell from it.
func (l *Line) FindBest() Best {
	out := Best{Point: -1}
	for p := range l.X {
		v := l.Typical(p).V
		if math.IsNaN(v) {
			continue
		}
		if out.Point < 0 || l.More && v > l.Typical(out.Point).V || !l.More && v < l.Typical(out.Point).V {
			out.Point = p
		}
	}
	if out.Point < 0 {
		return out
	}
	var risks, weights []float64
	var of []int
	for p := range l.X {
		if p == out.Point || !l.Typical(p).Known() {
			continue
		}
		two, side := risk(l.step(p, out.Point), 0)
		if side <= 0 {
			two = 2
		}
		risks, weights, of = append(risks, two/2), append(weights, 1), append(of, p)
	}
	out.Set = []int{out.Point}
	for i, worse := range stats.Together(risks, weights, Level) {
		if !worse {
			out.Set = append(out.Set, of[i])
		}
	}
	slices.Sort(out.Set)
	return out
}

// Knee is the first point from which on no step surely brings more than a share, the first of them surely less; ok is
// false where there is none, or where no step before it surely brought more.
func (l *Line) Knee(least float64) (point int, ok bool) {
	brought := false
	for p := 0; p+1 < len(l.X); p++ {
		c := centre(l.step(p, p+1), Level)
		switch {
		case !c.Sure():
		case c.Low > math.Log1p(least):
			brought, ok = true, false // what was flat before was a shelf
		case c.High < math.Log1p(least) && brought && !ok:
			point, ok = p, true
		}
	}
	return point, ok
}
