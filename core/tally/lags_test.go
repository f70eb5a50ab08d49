package tally

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// Quantiles of the lags are those of the sorted lags, at most an eighth too high.
func TestLagsAreWithinAnEighth(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	var l, half Lags
	var all []time.Duration
	for i := range 20_000 {
		d := time.Duration(rng.ExpFloat64() * float64(80*time.Microsecond))
		all = append(all, d)
		if i%2 == 0 {
			l.add(d)
		} else {
			half.add(d)
		}
	}
	l.merge(&half)
	slices.Sort(all)
	for _, q := range []float64{0.01, 0.5, 0.9, 0.99, 0.9999} {
		want := float64(all[int(q*float64(len(all)))-1])
		if got := float64(l.Quantile(q)); got < want || got > want*1.126+1 {
			t.Errorf("quantile %g is %g; the sorted lags have %g", q, got, want)
		}
	}
	if l.N != 20_000 || l.Max != all[len(all)-1] {
		t.Errorf("%d lags, at most %s", l.N, l.Max)
	}
	if (&Lags{}).Quantile(0.5) != 0 {
		t.Error("no lags have a quantile")
	}
	for _, v := range []uint64{0, 1, 7, 8, 9, 15, 16, 1 << 20, 1<<62 + 12345} {
		if b := lagBucket(v); lagLimit(b) < time.Duration(v) || b > 0 && lagLimit(b-1) >= time.Duration(v) {
			t.Errorf("%d falls into bucket %d, up to %d", v, b, lagLimit(b))
		}
	}
}
