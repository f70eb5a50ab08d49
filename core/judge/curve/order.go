package curve

import (
	"math"
	"slices"

	"paceduel/core/judge/stats"
)

// Order says who is best at each point, and where that turns.
type Order struct {
	Leads []int  // by point: the line that has the best value; -1 where none has any
	Sure  []bool // by point: whether it is surely better than every other line, all points and lines taken together
	Turns []Turn // in the order of the points
}

// Turn is where one line takes over from another.
type Turn struct {
	From, To int     // lines
	At       Amount  // on the axis of the parameter
	Before   int     // the last point at which From surely leads
	After    int     // the first point from there at which To does
	Stretch  float64 // the share of the axis between these two that At's interval covers
}

// Lead finds who is best where. Lines share their points. interest is the smallest difference worth telling apart, a
// share. Words hold for all points and lines together at 95 % (Holm).
//
// A turn is told only between points at which one and then another line surely leads; it lies where the 95 % interval of
// the rounds' differences between the two, read in a straight line between neighbouring points on the axis as drawn,
// holds 0: the pointwise test inverted.
func Lead(lines []*Line, interest float64) *Order {
	if len(lines) == 0 {
		return &Order{}
	}
	points := len(lines[0].X)
	o := &Order{Leads: make([]int, points), Sure: make([]bool, points)}
	type pair struct{ point, line int }
	var pairs []pair
	var risks, weights []float64
	for p := range points {
		o.Leads[p] = leader(lines, p)
		if o.Leads[p] < 0 {
			continue
		}
		for i := range lines {
			if i == o.Leads[p] || !lines[i].Typical(p).Known() {
				continue
			}
			r, side := risk(lines[o.Leads[p]].better(lines[i], p), math.Log1p(interest))
			if side < 0 {
				r = 1
			}
			pairs, risks, weights = append(pairs, pair{p, i}), append(risks, r), append(weights, 1)
		}
	}
	holds := stats.Together(risks, weights, Level)
	for p := range points {
		some, all := false, true
		for i := range pairs {
			if pairs[i].point == p {
				some, all = true, all && holds[i]
			}
		}
		o.Sure[p] = some && all
	}
	last := -1
	for p := range points {
		if !o.Sure[p] {
			continue
		}
		if last >= 0 && o.Leads[last] != o.Leads[p] {
			o.Turns = append(o.Turns, turn(lines[o.Leads[last]], lines[o.Leads[p]], last, p))
			t := &o.Turns[len(o.Turns)-1]
			t.From, t.To = o.Leads[last], o.Leads[p]
		}
		last = p
	}
	return o
}

// leader is the line with the best typical value at a point; -1 without any.
func leader(lines []*Line, point int) int {
	best := -1
	for i, l := range lines {
		v := l.Typical(point).V
		if math.IsNaN(v) {
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

// turn finds where b takes over from a between two points at which each surely leads.
func turn(a, b *Line, before, after int) Turn {
	t := Turn{Before: before, After: after, At: None}
	var places, centres, lows, highs []float64
	for p := before; p < after; p++ {
		left, right := b.better(a, p), b.better(a, p+1)
		if len(present(left)) == 0 || len(present(right)) == 0 {
			continue
		}
		for s := range steps + 1 {
			if s == steps && p+1 < after {
				continue // the next stretch begins there
			}
			at := float64(s) / steps
			mixed := make([]float64, len(left))
			for r := range mixed {
				mixed[r] = (1-at)*left[r] + at*right[r]
			}
			c := centre(mixed, Level)
			places = append(places, between(a.X[p], a.X[p+1], at, a.Log))
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
	t.Stretch = share(a.X[before], a.X[after], t.At.High, a.Log) - share(a.X[before], a.X[after], t.At.Low, a.Log)
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
		d := make([]float64, l.rounds())
		for r := range d {
			if d[r] = math.Log(l.Values[p][r] / l.Values[out.Point][r]); l.More {
				d[r] = -d[r]
			}
		}
		two, side := risk(d, 0)
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

// Knee is the first point from which one more step surely brings less than a share; ok is false where no step is known
// to bring so little after some that brought more. Gain is how many times better the next point is.
func (l *Line) Knee(least float64) (point int, gain Amount, ok bool) {
	brought := false
	for p := 0; p+1 < len(l.X); p++ {
		d := make([]float64, l.rounds())
		for r := range d {
			if d[r] = math.Log(l.Values[p][r] / l.Values[p+1][r]); l.More {
				d[r] = -d[r]
			}
		}
		c := centre(d, Level)
		switch {
		case !c.Sure():
		case c.High < math.Log1p(least) && brought:
			return p, Amount{math.Exp(c.V), math.Exp(c.Low), math.Exp(c.High)}, true
		case c.Low > math.Log1p(least):
			brought = true
		}
	}
	return 0, None, false
}
