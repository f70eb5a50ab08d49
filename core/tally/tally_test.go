package tally_test

import (
	"errors"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"paceduel/core/contender"
	"paceduel/core/tally"
)

func shot(latency time.Duration, class contender.Class) *contender.Shot {
	s := &contender.Shot{Start: time.Second, End: time.Second + latency, Class: class, Sent: 10, Received: 100, CPU: time.Microsecond}
	if class.Failed() {
		s.Err = errors.New(class.String())
	}
	return s
}

// Percentiles of the histogram are those of the sorted latencies, within a tenth of a per cent.
func TestHistogramIsWithinATenthOfAPerCent(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	shapes := map[string]func() time.Duration{
		"nanoseconds": func() time.Duration { return time.Duration(1 + rng.IntN(3000)) },
		"lognormal":   func() time.Duration { return time.Duration(1e6 * (1 + rng.ExpFloat64()*rng.ExpFloat64())) },
		"minutes":     func() time.Duration { return time.Duration(rng.Int64N(int64(50 * time.Minute))) },
	}
	for name, next := range shapes {
		r := tally.NewRecorder(10)
		var all []time.Duration
		for range 20_000 {
			d := max(next(), 1)
			all = append(all, d)
			r.Record(shot(d, contender.OK), 0)
		}
		slices.Sort(all)
		_, h := tally.Merge([]*tally.Recorder{r})
		for _, q := range []float64{0.5, 0.9, 0.99, 0.999} {
			want := float64(all[int(q*float64(len(all)))-1])
			if got := float64(h.ValueAtQuantile(q * 100)); got < want*0.999 || got > want*1.001 {
				t.Errorf("%s: quantile %g = %g; the sorted latencies have %g", name, q, got, want)
			}
		}
	}
}

func TestFailuresStayOutOfTheLatencies(t *testing.T) {
	r := tally.NewRecorder(10)
	r.Record(shot(time.Millisecond, contender.OK), 0)
	r.Record(shot(time.Hour, contender.Timeout), 0)
	r.Record(shot(time.Nanosecond, contender.Refused), 0)
	r.Record(shot(time.Second, contender.Cut), 0)
	sums, h := tally.Merge([]*tally.Recorder{r})
	if h.TotalCount() != 1 || sums.Latency != time.Millisecond {
		t.Errorf("%d latencies, sum %s; want the one success", h.TotalCount(), sums.Latency)
	}
	if sums.Shots() != 3 || sums.Failures() != 2 || sums.Counts[contender.Timeout] != 1 || sums.Counts[contender.Cut] != 0 {
		t.Errorf("counts = %v; want one success, a timeout and a refusal", sums.Counts)
	}
	if !slices.Equal(sums.Causes, []string{"timeout", "refused"}) {
		t.Errorf("causes = %q", sums.Causes)
	}
	if sums.Sent != 30 || sums.Received != 300 || sums.CPU != 3*time.Microsecond {
		t.Errorf("sums = %+v; want those of three shots", sums)
	}
}

func TestMergeAddsUp(t *testing.T) {
	var rs []*tally.Recorder
	for i := range 4 {
		r := tally.NewRecorder(10)
		for range 10 {
			r.Record(shot(time.Duration(i+1)*time.Millisecond, contender.OK), 0)
		}
		rs = append(rs, r)
	}
	sums, h := tally.Merge(rs)
	if h.TotalCount() != 40 || sums.Latency != 100*time.Millisecond {
		t.Errorf("merged %d shots of %s; want 40 of 100 ms", h.TotalCount(), sums.Latency)
	}
	want := 4*time.Second + 10*time.Millisecond // each client's last end, from 0
	if sums.Elapsed != want {
		t.Errorf("elapsed %s; want %s", sums.Elapsed, want)
	}
	rs[0].Reset()
	if sums, _ := tally.Merge(rs[:1]); sums.Shots() != 0 || len(rs[0].Points()) != 0 || rs[0].Total() != 0 {
		t.Error("Reset left something behind")
	}
}

func TestPointsCanBeReadWhileRecording(t *testing.T) {
	const keep, shots = 1000, 5000
	r := tally.NewRecorder(keep)
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := range shots {
			r.Record(shot(time.Duration(i+1), contender.OK), 0)
		}
	})
	for seen := 0; seen < keep; {
		points := r.Points()
		for i, p := range points[seen:] {
			if p.Latency != time.Duration(seen+i+1) {
				t.Fatalf("point %d has latency %d", seen+i, p.Latency)
			}
		}
		seen = len(points)
	}
	wg.Wait()
	if len(r.Points()) != keep || r.Total() != shots {
		t.Errorf("%d points of %d shots; want %d of %d", len(r.Points()), r.Total(), keep, shots)
	}
}

func TestRecordingAllocatesNothing(t *testing.T) {
	r := tally.NewRecorder(100)
	s := shot(time.Millisecond, contender.OK)
	if n := testing.AllocsPerRun(1000, func() { r.Record(s, 0) }); n != 0 {
		t.Errorf("%g allocations a shot; want none", n)
	}
}

func BenchmarkRecord(b *testing.B) {
	r := tally.NewRecorder(tally.MaxPoints)
	s := shot(time.Millisecond, contender.OK)
	b.ReportAllocs()
	for b.Loop() {
		r.Record(s, 0)
	}
}
