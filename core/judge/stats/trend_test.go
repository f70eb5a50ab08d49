package stats

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// Probabilities of Kendall's statistic as printed in tables of it: P(S >= s) without ties.
func TestTrendMatchesTheTables(t *testing.T) {
	tests := []struct {
		x     []float64
		p     float64 // two-sided
		rises bool
	}{
		{[]float64{1, 2, 3, 4}, 2 * 0.0417, true},
		{[]float64{4, 3, 2, 1}, 2 * 0.0417, false},
		{[]float64{1, 2, 3, 4, 5}, 2 * 0.0083, true},
		{[]float64{1, 2, 3, 5, 4}, 2 * 0.0417, true}, // S = 8 of 5
		{[]float64{2, 1, 3, 4, 6, 5}, 2 * 0.0278, true},
		{[]float64{1, 2}, 1, false},
	}
	for _, tt := range tests {
		p, rises := Trend(tt.x)
		if math.Abs(p-tt.p) > 0.0006 || rises != tt.rises {
			t.Errorf("Trend(%v) = %.4f, rises %v; want %.4f, %v", tt.x, p, rises, tt.p, tt.rises)
		}
	}
	if p, _ := Trend([]float64{1, 1, 1, 1, 1, 1}); p != 1 {
		t.Errorf("values that are all the same have a trend of p %g", p)
	}
	long := make([]float64, 80)
	for i := range long {
		long[i] = float64(i)
	}
	if p, rises := Trend(long); p > 1e-12 || !rises {
		t.Errorf("80 rising values: p %g, rises %v", p, rises)
	}
}

// The shares of orders are counted by going through all of them elsewhere.
func TestDependenceOfKnownOrders(t *testing.T) {
	for _, tt := range []struct {
		x    []float64
		p, e float64
	}{
		{[]float64{1, 2, 3, 4, 5, 6}, 2.0 / 720, 1e-9},
		{[]float64{70, 60, 50, 40, 30, 20, 10}, 2.0 / 5040, 1e-9},
		{[]float64{1, 6, 2, 5, 3, 4.5}, 694.0 / 720, 1e-9},
		{[]float64{1, 3, 2, 4, 5, 7, 6, 8, 9}, 110.0 / 362880, 1e-9},
		{[]float64{1, 3, 2, 4, 5, 7, 6, 8, 9, 10}, 0.0001, 0.00008}, // the first by approximation
		{[]float64{3, 3, 3, 3, 3, 3}, 1, 0},
		{[]float64{1, 2, 3}, 1, 0},
	} {
		if p := Dependence(tt.x); math.Abs(p-tt.p) > tt.e {
			t.Errorf("Dependence(%v) = %.6f, want %.6f", tt.x, p, tt.p)
		}
	}
}

// Alarms at 1 % come about as often as said when there is nothing to find.
func TestAlarmsAreAsRareAsSaid(t *testing.T) {
	rng := rand.New(rand.NewPCG(45, 1))
	const tries = 4000
	for _, n := range []int{6, 10, 20, 70} {
		var trends, firsts, dependents int
		for range tries {
			x := make([]float64, n)
			for i := range x {
				x[i] = rng.NormFloat64()
			}
			if p, _ := Trend(x); p < 0.01 {
				trends++
			}
			if FirstUnlike(x) < 0.01 {
				firsts++
			}
			if Dependence(x) < 0.01 {
				dependents++
			}
		}
		for name, k := range map[string]int{"trend": trends, "first": firsts, "dependence": dependents} {
			if share := float64(k) / tries; share > 0.015 || name == "first" && share < 0.006 {
				t.Errorf("%d values: %s alarms in %.2f %%", n, name, share*100)
			}
		}
	}
}

func TestFirstUnlike(t *testing.T) {
	if p := FirstUnlike([]float64{9, 1, 1.1, 0.9, 1, 1.05}); p > 0.001 {
		t.Errorf("a first value far off has p %g", p)
	}
	if p := FirstUnlike([]float64{1, 9, 1.1, 0.9, 1, 1.05}); p < 0.5 {
		t.Errorf("a first value like most has p %g", p)
	}
	if p := FirstUnlike([]float64{5, 1, 1, 1}); p != 1 {
		t.Errorf("four values give p %g", p)
	}
	if p := FirstUnlike([]float64{5, 1, 1, 1, 1, 1}); p != 1 {
		t.Errorf("others that do not vary give p %g", p)
	}
}

func TestOutliers(t *testing.T) {
	if at := Outliers([]float64{1, 1.1, 0.9, 1, 7, 1.05, 0.95, -6}, 5); !slices.Equal(at, []int{4, 7}) {
		t.Errorf("outliers at %v", at)
	}
	if at := Outliers([]float64{1, 1.1, 0.9, 7, 1}, 5); at != nil {
		t.Errorf("of five values, %v are outliers", at)
	}
	if at := Outliers([]float64{1, 1, 1, 1, 1, 1, 2}, 5); at != nil {
		t.Errorf("where most are equal, %v are outliers", at)
	}
}

func TestTogether(t *testing.T) {
	ones := []float64{1, 1, 1, 1}
	tests := []struct {
		p, weights []float64
		want       []bool
	}{
		{[]float64{0.01, 0.02, 0.03, 0.04}, ones, []bool{true, false, false, false}}, // .0125, .0167
		{[]float64{0.012, 0.016, 0.02, 0.04}, ones, []bool{true, true, true, true}},
		{[]float64{0.04, 0.001, 0.9, 0.02}, ones, []bool{false, true, false, false}},
		{[]float64{0.03, 0.03}, []float64{3, 1}, []bool{true, true}}, // .0375, then .05
		{[]float64{0.03, 0.03}, []float64{1, 1}, []bool{false, false}},
		{nil, nil, []bool{}},
	}
	for _, tt := range tests {
		if got := Together(tt.p, tt.weights, 0.05); !slices.Equal(got, tt.want) {
			t.Errorf("Together(%v, %v) = %v; want %v", tt.p, tt.weights, got, tt.want)
		}
	}
}

func TestShareInterval(t *testing.T) {
	tests := []struct {
		k, n      int64
		low, high float64
	}{
		{0, 100, 0, 0.0362}, {100, 100, 0.9638, 1}, {5, 100, 0.0164, 0.1128}, {1, 10, 0.0025, 0.4450},
	}
	for _, tt := range tests {
		if low, high := ShareInterval(tt.k, tt.n, 0.05); math.Abs(low-tt.low) > 1e-4 || math.Abs(high-tt.high) > 1e-4 {
			t.Errorf("%d of %d: %.4f to %.4f; want %.4f to %.4f", tt.k, tt.n, low, high, tt.low, tt.high)
		}
	}
}
