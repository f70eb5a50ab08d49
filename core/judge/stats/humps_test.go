package stats

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestDipOfKnownShapes(t *testing.T) {
	even := make([]float64, 100)
	for i := range even {
		even[i] = float64(i)
	}
	twins := make([]float64, 100) // two far clusters, each spread a little
	for i := range twins {
		twins[i] = float64(i%50) * 1e-6
		if i >= 50 {
			twins[i]++
		}
	}
	slices.Sort(twins)
	for name, tt := range map[string]struct {
		x         []float64
		low, high float64
	}{
		"evenly spaced, the least that there is": {even, 0.005, 0.005},
		"two clusters, nearly the most":          {twins, 0.24, 0.25},
		"all the same":                           {make([]float64, 50), 0.01, 0.01},
		"one value":                              {[]float64{3}, 0.5, 0.5},
	} {
		if d := Dip(tt.x); d < tt.low-1e-9 || d > tt.high+1e-9 {
			t.Errorf("%s: dip %g, want %g to %g", name, d, tt.low, tt.high)
		}
	}
}

// bruteDip is the dip by its definition, over a grid: the least over all places of the hump, at a value, and over the
// height there, of the distance from a distribution that is convex before and concave after. For each place and height
// the best convex and concave parts are found from the hulls of the bands within which they have to lie.
func bruteDip(x []float64) float64 {
	n := len(x)
	fits := func(d float64) bool {
		for m := range n { // the hump is at x[m]: convex up to it, concave from it
			for step := -20; step <= 20; step++ {
				// Left of the hump the distribution's steps give F from i/n to (i+1)/n at x[i].
				at := (float64(m)+0.5)/float64(n) + float64(step)/20*(d+0.5/float64(n))
				if side(x[:m+1], n, 0, d, at, false) && side(x[m:], n, m, d, at, true) {
					return true
				}
			}
		}
		return false
	}
	low, high := 0.0, 0.5
	for range 40 {
		if mid := (low + high) / 2; fits(mid) {
			high = mid
		} else {
			low = mid
		}
	}
	return high
}

// side reports whether a convex (or concave) function that is at at the hump keeps within d of the steps.
func side(x []float64, n, first int, d, at float64, concave bool) bool {
	// Lower bounds are the right limits minus d, upper bounds the left limits plus d, at each value.
	type bound struct{ x, low, high float64 }
	var b []bound
	for i, v := range x {
		k := float64(first + i)
		b = append(b, bound{v, (k+1)/float64(n) - d, k/float64(n) + d})
	}
	hump := len(b) - 1
	if concave {
		hump = 0
	}
	if at < b[hump].low-1e-12 || at > b[hump].high+1e-12 {
		return false
	}
	b[hump].low, b[hump].high = at, at
	// A convex function within the bounds exists when no lower bound lies above a chord of two upper ones; a concave one
	// when no upper bound lies below a chord of two lower ones.
	for i := range b {
		for j := i + 1; j < len(b); j++ {
			for k := i + 1; k < j; k++ {
				share := (b[k].x - b[i].x) / (b[j].x - b[i].x)
				if !concave && b[i].high+(b[j].high-b[i].high)*share < b[k].low-1e-12 {
					return false
				}
				if concave && b[i].low+(b[j].low-b[i].low)*share > b[k].high+1e-12 {
					return false
				}
			}
		}
	}
	for _, v := range b {
		if v.low > v.high+1e-12 {
			return false
		}
	}
	return true
}

func TestDipAgainstItsDefinition(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for range 12 {
		n := 6 + rng.IntN(6)
		x := make([]float64, n)
		for i := range x {
			x[i] = rng.Float64()
			if i%2 == 0 {
				x[i] += 2 * rng.Float64()
			}
		}
		slices.Sort(x)
		got, want := Dip(x), bruteDip(x)
		if math.Abs(got-want) > 0.012 {
			t.Errorf("dip of %v is %.4f, by definition %.4f", x, got, want)
		}
	}
}

func TestTheEdgeOfTheDip(t *testing.T) {
	rng := rand.New(rand.NewPCG(1985, 13))
	for _, n := range []int{500, 2000} {
		var dips []float64
		for range 3000 {
			x := make([]float64, n)
			for i := range x {
				x[i] = rng.Float64()
			}
			slices.Sort(x)
			dips = append(dips, math.Sqrt(float64(n))*Dip(x))
		}
		slices.Sort(dips)
		edge := dips[len(dips)*99/100]
		t.Logf("n %d: 95 %% %.4f, 99 %% %.4f", n, dips[len(dips)*95/100], edge)
		if edge < dipEdge*0.93 || edge > dipEdge*1.03 {
			t.Errorf("of %d uniform values 1 %% exceed %.4f; the edge is %.4f", n, edge, dipEdge)
		}
	}
}

func TestTwoHumpsAreSeenAndRoundingMakesNone(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1))
	draw := func(n int, f func() float64) []float64 {
		x := make([]float64, n)
		for i := range x {
			x[i] = f()
		}
		slices.Sort(x)
		return x
	}
	two := func() float64 {
		if rng.IntN(3) == 0 {
			return 2 + 0.2*rng.NormFloat64()
		}
		return 1 + 0.2*rng.NormFloat64()
	}
	if !TwoHumps(draw(1000, two)) {
		t.Error("two clear humps are not seen")
	}
	if TwoHumps(draw(499, two)) {
		t.Error("under 500 values something is said")
	}
	if TwoHumps(draw(2000, rng.NormFloat64)) || TwoHumps(draw(2000, rng.ExpFloat64)) {
		t.Error("a single hump is taken for two")
	}
	if TwoHumps(draw(2000, func() float64 { return math.Round(5*rng.NormFloat64()) / 10 })) {
		t.Error("rounded values are taken for humps")
	}
}
