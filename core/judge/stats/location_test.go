package stats

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// The tails of the signed-rank distribution, as printed in tables of it: the largest c with P(T <= c) at most the
// level.
func TestSignedRankTailsMatchTheTables(t *testing.T) {
	tests := []struct {
		n     int
		level float64
		want  int
	}{
		{6, 0.025, 0}, {7, 0.025, 2}, {8, 0.025, 3}, {9, 0.025, 5}, {10, 0.025, 8}, {12, 0.025, 13}, {15, 0.025, 25},
		{20, 0.025, 52}, {25, 0.025, 89}, {30, 0.025, 137},
		{8, 0.005, 0}, {10, 0.005, 3}, {20, 0.005, 37}, {10, 0.05, 10}, {20, 0.05, 60},
	}
	for _, tt := range tests {
		c := -1
		for _, p := range signedRankTails(tt.n) {
			if p > tt.level {
				break
			}
			c++
		}
		if c != tt.want {
			t.Errorf("n %d, level %g: critical value %d; the table has %d", tt.n, tt.level, c, tt.want)
		}
	}
}

func TestTailsAgreeWhereExactMeetsNormal(t *testing.T) {
	exact, normal := signedRankTails(exactUpTo), signedRankTails(exactUpTo+1)
	quantile := func(tails []float64) float64 {
		i, _ := slices.BinarySearch(tails, 0.025)
		return float64(i) / float64(2*len(tails))
	}
	if a, b := quantile(exact), quantile(normal); math.Abs(a-b) > 0.005 {
		t.Errorf("2.5 %% lies at %g of the range exactly, at %g by the normal one", a, b)
	}
}

func TestCentreIsThePseudoMedian(t *testing.T) {
	tests := []struct {
		d    []float64
		want float64
	}{
		{[]float64{3}, 3},
		{[]float64{1, 2}, 1.5},
		{[]float64{1, 2, 9}, 3.5}, // means: 1 1.5 2 5 5.5 9
		{[]float64{-1, 0, 1}, 0},
	}
	for _, tt := range tests {
		if got := NewSample(tt.d).Centre(); math.Abs(got-tt.want) > 1e-12 {
			t.Errorf("Centre of %v = %g; want %g", tt.d, got, tt.want)
		}
	}
}

func TestIntervalsNeedRounds(t *testing.T) {
	for n, want := range map[int]bool{1: false, 4: false, 5: true, 6: true, 20: true, 100: true} {
		d := make([]float64, n)
		for i := range d {
			d[i] = float64(i)
		}
		low, high, ok := NewSample(d).Interval(0.05)
		if ok != want || ok && !(low < high) {
			t.Errorf("%d rounds: interval %g to %g, %v; want one %v", n, low, high, ok, want)
		}
	}
	// Six rounds cannot be 99 % sure, whatever they show.
	if _, _, ok := NewSample([]float64{1, 1, 1, 1, 1, 1}).Interval(0.01); ok {
		t.Error("six rounds gave a 99 % interval")
	}
}

func TestStudentInterval(t *testing.T) {
	// Mean 3, standard error sqrt(2.5/5), t(0.975, 4) = 2.776.
	low, high := studentInterval([]float64{1, 2, 3, 4, 5}, 0.05)
	if math.Abs(low-(3-2.7764*math.Sqrt(0.5))) > 1e-3 || math.Abs(high-(3+2.7764*math.Sqrt(0.5))) > 1e-3 {
		t.Errorf("interval %g to %g", low, high)
	}
}

// Turning the comparison round turns the interval round, exactly.
func TestIntervalsAreMirrored(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for _, n := range []int{5, 6, 9, 14, 40} {
		d, back := make([]float64, n), make([]float64, n)
		for i := range d {
			d[i] = rng.NormFloat64()
			back[i] = -d[i]
		}
		low, high, _ := NewSample(d).Interval(0.05)
		bLow, bHigh, _ := NewSample(back).Interval(0.05)
		if math.Abs(low+bHigh) > 1e-12 || math.Abs(high+bLow) > 1e-12 ||
			math.Abs(NewSample(d).Centre()+NewSample(back).Centre()) > 1e-12 {
			t.Errorf("%d rounds: %g to %g one way, %g to %g the other", n, low, high, bLow, bHigh)
		}
	}
}

// Held by simulation: the 95 % interval covers the truth in 93 to 97.5 % of duels, over shapes of noise. Some 2 000
// duels a cell leave a standard error of half a per cent.
func TestCoverage(t *testing.T) {
	duels := 2000
	if testing.Short() {
		duels = 400
	}
	shapes := map[string]func(*rand.Rand) float64{
		"normal":     func(r *rand.Rand) float64 { return r.NormFloat64() },
		"uniform":    func(r *rand.Rand) float64 { return r.Float64() - 0.5 },
		"two-humped": func(r *rand.Rand) float64 { return r.NormFloat64()*0.3 + float64(r.IntN(2)*2-1) },
		"disturbed": func(r *rand.Rand) float64 {
			if r.IntN(10) == 0 {
				return r.NormFloat64() * 8
			}
			return r.NormFloat64()
		},
		"difference of skewed": func(r *rand.Rand) float64 { return r.ExpFloat64() - r.ExpFloat64() },
	}
	for name, draw := range shapes {
		for _, n := range []int{5, 6, 8, 10, 20} {
			rng := rand.New(rand.NewPCG(uint64(n), 77))
			covered := 0
			for range duels {
				d := make([]float64, n)
				for i := range d {
					d[i] = 0.3 + draw(rng)
				}
				if low, high, _ := NewSample(d).Interval(0.05); low <= 0.3 && 0.3 <= high {
					covered++
				}
			}
			share := float64(covered) / float64(duels)
			slack := 2.5 * math.Sqrt(0.05*0.95/float64(duels))
			low, high := 0.938-slack, 0.965+slack
			if n == 5 { // Student's is cautious where heats are disturbed
				low, high = 0.92-slack, 0.99+slack
			}
			if share < low || share > high {
				t.Errorf("%s, %d rounds: covered in %.1f %% of duels; want %.1f to %.1f", name, n, share*100, low*100, high*100)
			}
		}
	}
}
