package result

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// filled are histograms of all shapes and sizes, as this program and others make them.
func filled(t testing.TB) (out []*hdrhistogram.Histogram) {
	rng := rand.New(rand.NewPCG(7, 1))
	for _, size := range []struct {
		low, high int64
		digits    int
	}{{1, 3_600_000_000_000, 3}, {1, 1 << 40, 2}, {1000, 3_600_000_000_000, 3}, {1, 10_000, 1}, {64, 1 << 30, 5}} {
		for _, n := range []int{0, 1, 2, 100, 20_000} {
			h := hdrhistogram.New(size.low, size.high, size.digits)
			for range n {
				v := int64(math.Exp(rng.Float64() * math.Log(float64(size.high))))
				if err := h.RecordValues(min(max(v, 1), size.high-1), 1+rng.Int64N(3)); err != nil {
					t.Fatal(err)
				}
			}
			out = append(out, h)
		}
	}
	h := hdrhistogram.New(1, 1000, 3)
	h.RecordValues(0, 5)
	h.RecordValues(1, 1<<40)
	return append(out, h)
}

// What is decoded here is what the library holds.
func TestDistributionsAreWhatTheLibraryHolds(t *testing.T) {
	for i, h := range filled(t) {
		text, err := EncodeHistogram(h)
		if err != nil {
			t.Fatal(err)
		}
		d, err := DecodeDistribution(text)
		if err != nil {
			t.Errorf("histogram %d: %v", i, err)
			continue
		}
		var want []Bar
		for _, b := range h.Distribution() {
			if b.Count > 0 {
				want = append(want, Bar{b.From, b.To, b.Count})
			}
		}
		if !slices.Equal(d.Bars, want) || d.TotalCount() != h.TotalCount() {
			t.Errorf("histogram %d: %d bars of %d values; want %d of %d", i, len(d.Bars), d.Total, len(want), h.TotalCount())
		}
		for _, thousandths := range []int64{1, 500, 900, 990, 999, 1000} {
			var upTo int64
			at := slices.IndexFunc(want, func(b Bar) bool {
				upTo += b.Count
				return upTo*1000 >= thousandths*d.Total
			})
			q := float64(thousandths) / 1000
			if got := d.Quantile(q); at >= 0 && got != float64(want[at].To)/1e9 {
				t.Errorf("histogram %d: quantile %g of %d is %g; want %g", i, q, d.Total, got, float64(want[at].To)/1e9)
			}
		}
	}
	var none *Distribution
	if none.TotalCount() != 0 || !math.IsNaN(none.Quantile(0.5)) {
		t.Error("a distribution that is not there holds something")
	}
}

func TestSumsOfDistributions(t *testing.T) {
	a, b := hdrhistogram.New(1, 1<<40, 3), hdrhistogram.New(1, 1<<40, 3)
	rng := rand.New(rand.NewPCG(7, 2))
	var both []*Distribution
	for _, h := range []*hdrhistogram.Histogram{a, b} {
		for range 3000 {
			h.RecordValue(rng.Int64N(1 << 30))
		}
		text, err := EncodeHistogram(h)
		if err != nil {
			t.Fatal(err)
		}
		d, err := DecodeDistribution(text)
		if err != nil {
			t.Fatal(err)
		}
		both = append(both, d)
	}
	var all Sum
	for _, d := range []*Distribution{nil, both[0], both[1], nil} {
		if !all.Add(d) {
			t.Error("distributions of the same ranges do not fit each other")
		}
	}
	sum := all.Distribution()
	a.Merge(b)
	var want []Bar
	for _, bar := range a.Distribution() {
		if bar.Count > 0 {
			want = append(want, Bar{bar.From, bar.To, bar.Count})
		}
	}
	if sum.Total != 6000 || !slices.Equal(sum.Bars, want) {
		t.Errorf("the sum has %d values in %d bars; want 6000 in %d", sum.Total, len(sum.Bars), len(want))
	}
	var mixed Sum
	if !mixed.Add(both[0]) || mixed.Add(&Distribution{Bars: []Bar{{0, 1 << 40, 1}}, Total: 1}) || mixed.Add(both[1]) ||
		mixed.Distribution() != nil {
		t.Error("distributions of other ranges are added up")
	}
}

func FuzzDecodeDistribution(f *testing.F) {
	for _, h := range filled(f) {
		if text, err := EncodeHistogram(h); err == nil && len(text) < 4<<10 {
			f.Add(text)
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := DecodeDistribution(text)
		if err != nil {
			return
		}
		var total, before int64 = 0, -1
		for _, b := range d.Bars {
			if b.Count <= 0 || b.From <= before || b.To < b.From {
				t.Fatalf("bar %+v after %d", b, before)
			}
			total, before = total+b.Count, b.To
		}
		if total != d.Total {
			t.Fatalf("%d values in bars, %d in all", total, d.Total)
		}
	})
}
