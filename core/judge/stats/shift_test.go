package stats

import (
	"math"
	"math/rand/v2"
	"testing"
)

// Held by simulation: intervals of a ratio of ratios cover the truth in 93 to 99 % of pairs of runs, whatever the noise
// and however unlike the two runs are in length and in noise.
func TestShiftsCoverTheTruth(t *testing.T) {
	shapes := map[string]func(*rand.Rand) float64{
		"normal":  (*rand.Rand).NormFloat64,
		"skewed":  func(r *rand.Rand) float64 { return r.ExpFloat64() - 1 },
		"heavy":   func(r *rand.Rand) float64 { return r.NormFloat64() / math.Sqrt(-math.Log(1-r.Float64())) },
		"uniform": func(r *rand.Rand) float64 { return 3 * (r.Float64() - 0.5) },
	}
	pairs := 1500
	if testing.Short() {
		t.Skip("a long computation")
	}
	for name, draw := range shapes {
		truth := centreOfShape(draw)
		for _, rounds := range [][2]int{{5, 5}, {5, 12}, {8, 8}, {10, 30}, {40, 40}} {
			rng := rand.New(rand.NewPCG(20, uint64(rounds[0]*100+rounds[1])))
			covered := 0
			for range pairs {
				then, now := make([]float64, rounds[0]), make([]float64, rounds[1])
				for i := range then {
					then[i] = 0.02 * (draw(rng) - truth)
				}
				for i := range now {
					now[i] = 0.3 + 0.06*(draw(rng)-truth)
				}
				low, high, ok := NewShift(NewSample(then), NewSample(now)).Interval(0.05)
				if !ok {
					t.Fatalf("no interval of %v rounds", rounds)
				}
				if low <= 0.3 && 0.3 <= high {
					covered++
				}
			}
			if share := float64(covered) / float64(pairs); share < 0.93 || share > 0.99 {
				t.Errorf("%s, %v rounds: %.3f covered", name, rounds, share)
			}
		}
	}
}

// centreOfShape is what the centre of many values comes to.
func centreOfShape(draw func(*rand.Rand) float64) float64 {
	rng := rand.New(rand.NewPCG(1, 2))
	sum := 0.0
	const times, values = 40, 400
	for range times {
		x := make([]float64, values)
		for i := range x {
			x[i] = draw(rng)
		}
		sum += Centre(x)
	}
	return sum / times
}

func TestAShiftFromNothingIsTheSampleItself(t *testing.T) {
	s := NewSample([]float64{0.1, 0.2, 0.15, 0.18, 0.11, 0.13})
	shift := NewShift(nil, s)
	low, high, ok := shift.Interval(0.05)
	wantLow, wantHigh, _ := s.Interval(0.05)
	if !ok || math.Abs(low-wantLow) > 1e-12 || math.Abs(high-wantHigh) > 1e-12 || shift.Len() != 6 {
		t.Errorf("%v to %v, %v rounds, want %v to %v", low, high, shift.Len(), wantLow, wantHigh)
	}
	if turned := NewShift(s, nil); turned.Centre() != -shift.Centre() {
		t.Errorf("turned round it is %v, not %v", turned.Centre(), -shift.Centre())
	}
	few := NewSample([]float64{0.1, 0.2})
	if _, _, ok := NewShift(few, s).Interval(0.05); ok {
		t.Error("two rounds have an interval")
	}
}
