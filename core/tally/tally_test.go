package tally_test

import (
	"errors"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/core/units"
)

// What shots of these tests are made of.
const (
	connect = iota
	wait
	read
)

const (
	cpu = iota
	memory
)

var shape = shots.Shape{
	Parts: []string{connect: "connect", wait: "wait", read: "read"},
	Amounts: []shots.Amount{
		cpu: {Name: shots.CPU, Unit: units.Second}, memory: {Name: shots.Memory, Unit: units.Byte, Fold: shots.Most},
	},
}

func shot(latency time.Duration, class shots.Class) *shots.Shot {
	s := &shots.Shot{Start: time.Second, End: time.Second + latency, Class: class, Sent: 10, Received: 100}
	s.Count(cpu, 1000)
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
		r := tally.NewRecorder(&shape, 10, 10)
		var all []time.Duration
		for range 20_000 {
			d := max(next(), 1)
			all = append(all, d)
			r.Record(shot(d, shots.OK), 0)
		}
		slices.Sort(all)
		h := tally.Merge([]*tally.Recorder{r}).Latencies
		for _, q := range []float64{0.5, 0.9, 0.99, 0.999} {
			want := float64(all[int(q*float64(len(all)))-1])
			if got := float64(h.ValueAtQuantile(q * 100)); got < want*0.999 || got > want*1.001 {
				t.Errorf("%s: quantile %g = %g; the sorted latencies have %g", name, q, got, want)
			}
		}
	}
}

func TestFailuresStayOutOfTheLatencies(t *testing.T) {
	r := tally.NewRecorder(&shape, 10, 10)
	r.Record(shot(time.Millisecond, shots.OK), 0)
	r.Record(shot(time.Hour, shots.Timeout), 0)
	r.Record(shot(time.Nanosecond, shots.Refused), 0)
	r.Record(shot(time.Second, shots.Cut), 0)
	sums := tally.Merge([]*tally.Recorder{r})
	h := sums.Latencies
	if h.TotalCount() != 1 || sums.Latency != time.Millisecond {
		t.Errorf("%d latencies, sum %s; want the one success", h.TotalCount(), sums.Latency)
	}
	if sums.Shots() != 3 || sums.Failures() != 2 || sums.Counts[shots.Timeout] != 1 || sums.Counts[shots.Cut] != 0 {
		t.Errorf("counts = %v; want one success, a timeout and a refusal", sums.Counts)
	}
	if !slices.Equal(sums.Causes, []string{"timeout", "refused"}) {
		t.Errorf("causes = %q", sums.Causes)
	}
	if sums.Sent != 30 || sums.Received != 300 || sums.Amounts[cpu] != 3000 {
		t.Errorf("sums = %+v; want those of three shots", sums)
	}
}

func TestMergeAddsUp(t *testing.T) {
	var rs []*tally.Recorder
	for i := range 4 {
		r := tally.NewRecorder(&shape, 10, 10)
		for range 10 {
			r.Record(shot(time.Duration(i+1)*time.Millisecond, shots.OK), 0)
		}
		rs = append(rs, r)
	}
	sums := tally.Merge(rs)
	h := sums.Latencies
	if h.TotalCount() != 40 || sums.Latency != 100*time.Millisecond {
		t.Errorf("merged %d shots of %s; want 40 of 100 ms", h.TotalCount(), sums.Latency)
	}
	want := 4*time.Second + 10*time.Millisecond // each client's last end, from 0
	if sums.Elapsed != want {
		t.Errorf("elapsed %s; want %s", sums.Elapsed, want)
	}
	long := shot(2*time.Second, shots.OK)
	long.Told = []shots.Mark{{Name: "load", Unit: units.Second, Value: 1}}
	long.Course = []shots.Moment{{At: time.Second, Resident: 1}, {At: 2 * time.Second, Resident: 2}}
	rs[0].Record(long, 0)
	if m := tally.Merge(rs); len(m.Course) != 2 || len(m.Parts) != 1 {
		t.Errorf("merged %d moments and %d parts", len(m.Course), len(m.Parts))
	}
	rs[0].Reset(1)
	points, _ := rs[0].Recent(0, nil)
	if m := tally.Merge(rs[:1]); m.Shots() != 0 || len(points) != 0 || rs[0].Total() != 0 ||
		m.Latencies.TotalCount() != 0 || len(m.Buckets)+len(m.Parts)+len(m.Course)+len(m.Steps) != 0 {
		t.Errorf("Reset left something behind: %+v", m)
	}
}

// A watcher sees what was recorded and nothing else, in its order, however fast the recorder writes over it.
func TestTheLatestCanBeReadWhileRecording(t *testing.T) {
	const ring, count = 64, 60_000 // below 2^16, so that a short fraction tells them apart
	r := tally.NewRecorder(&shape, 0, ring)
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := range count {
			r.Record(shot(time.Duration(i+1), shots.OK), 0)
		}
	})
	var points []tally.Point
	seen, last := int64(0), time.Duration(0)
	for seen < count {
		points, seen = r.Recent(seen, points[:0])
		for _, p := range points {
			if p.Latency <= last || p.At < time.Second || p.At > time.Second+p.Latency || p.Latency > count {
				t.Fatalf("after %d comes %+v", last, p)
			}
			last = p.Latency
		}
	}
	wg.Wait()
	if points, n := r.Recent(count-10, nil); n != count || len(points) != 10 || points[9].Latency != count {
		t.Errorf("at the end %d shots, the last ten %v", n, points)
	}
}

// Of more shots than there is room for, each has the same chance to be kept; the slowest and the first failures always
// are.
func TestTheSampleIsUniform(t *testing.T) {
	const keep, count, runs = 50, 1000, 400
	var hits [10]int // by tenth of the heat
	for run := range runs {
		r := tally.NewRecorder(&shape, keep, 1)
		r.Reset(uint64(run))
		for i := range count {
			s := &shots.Shot{Start: time.Duration(i+1) * time.Second, End: time.Duration(i+1)*time.Second + time.Millisecond}
			if i == 333 {
				s.End += time.Millisecond
			}
			if i == 777 {
				s.Class, s.Err = shots.Status, errors.New("no")
			}
			r.Record(s, 0)
		}
		kept, sampled := tally.Kept([]*tally.Recorder{r})
		if !sampled || len(kept) < keep || len(kept) > keep+2 || len(tally.Points([]*tally.Recorder{r})) != len(kept) {
			t.Fatalf("%d kept, sampled %v", len(kept), sampled)
		}
		slowest, failed := false, false
		for i, s := range kept {
			if i > 0 && s.End < kept[i-1].End {
				t.Fatal("out of order")
			}
			hits[int(s.Start/time.Second-1)*10/count]++
			slowest = slowest || s.Latency == 2*time.Millisecond
			failed = failed || s.Class == shots.Status
		}
		if !slowest || !failed {
			t.Fatalf("the slowest is kept: %v, the failure: %v", slowest, failed)
		}
	}
	// 2 000 a tenth are expected, of a binomial with a deviation of 42; the two that are always kept add 400 each.
	for tenth, n := range hits {
		want := keep * runs / 10
		if tenth == 3 || tenth == 7 {
			want += runs
		}
		if n < want-200 || n > want+200 {
			t.Errorf("tenth %d of the heats was kept %d times; want about %d", tenth, n, want)
		}
	}
}

// Parts add up as drivers took them; what contenders tell stands beside them; time lines know when.
func TestPartsAndTheTimeLine(t *testing.T) {
	ms := time.Millisecond
	of := func(due, start, end time.Duration, class shots.Class, took ...time.Duration) *shots.Shot {
		s := &shots.Shot{Due: due * ms, Start: start * ms, End: end * ms, Class: class}
		for part, d := range took {
			if d >= 0 {
				s.Took(part, d*ms)
			}
		}
		return s
	}
	var rs []*tally.Recorder
	for i := range 2 {
		r := tally.NewRecorder(&shape, 10, 10)
		first := of(1000, 1003, 1020, shots.OK, 6, 6, 5)
		first.Told = []shots.Mark{{Name: "db", Unit: units.Second, Value: 0.004}, {Name: "rows", Unit: "rows", Value: 2.5}}
		first.Count(memory, int64(7+i))
		first.Grain = int64(10 - i)
		r.Record(first, 1000*ms)
		r.Record(of(0, 1210, 1250, shots.OK, -1, 8, 32), 1000*ms)
		r.Record(of(0, 1210, 1251, shots.Status, 1, 1, 1), 1000*ms)
		if i == 1 {
			r.Record(of(0, 1000, 1299, shots.OK), 1000*ms) // nothing is known of it
		}
		rs = append(rs, r)
	}
	m := tally.Merge(rs)
	got := map[string]float64{}
	sum := int64(0)
	for _, p := range m.Parts {
		got[p.Name] = float64(p.Sum) / p.PerUnit
		if !p.Told {
			sum += p.Sum
		}
		if mean := int64(p.Histogram.Mean()) * p.Histogram.TotalCount(); mean < p.Sum*99/100 || mean > p.Sum*101/100 {
			t.Errorf("%s: the histogram holds %d, the sum is %d", p.Name, mean, p.Sum)
		}
	}
	want := map[string]float64{"late": 0.006, "connect": 0.012, "wait": 0.028, "read": 0.074, "db": 0.008, "rows": 5}
	if !maps.Equal(got, want) || time.Duration(sum) != m.Latency-299*ms {
		t.Errorf("parts %v of %s; want %v", got, m.Latency, want)
	}
	if m.Amounts[memory] != 8 || m.Grain != 9 {
		t.Errorf("the most memory is %d to within %d; want 8 to within 9", m.Amounts[memory], m.Grain)
	}
	buckets := []tally.Bucket{
		{Shots: 2, Latency: 40 * ms, Max: 20 * ms}, {}, {Shots: 5, Failed: 2, Latency: 379 * ms, Max: 299 * ms},
	}
	if !slices.Equal(m.Buckets, buckets) {
		t.Errorf("time line %+v; want %+v", m.Buckets, buckets)
	}
}

func TestRecordingAllocatesNothing(t *testing.T) {
	r := tally.NewRecorder(&shape, 100, 100)
	s := request()
	if n := testing.AllocsPerRun(1000, func() { r.Record(s, 0) }); n != 0 {
		t.Errorf("%g allocations a shot; want none", n)
	}
}

// request is a shot with all that a service may tell of it.
func request() *shots.Shot {
	s := shot(time.Millisecond, shots.OK)
	s.Due = s.Start - 1000
	s.Took(connect, 20*time.Microsecond)
	s.Took(wait, 880*time.Microsecond)
	s.Took(read, 100*time.Microsecond)
	s.Told = []shots.Mark{{Name: "db", Unit: units.Second, Value: 0.001}}
	return s
}

// BenchmarkRecord records shots of latencies like those of a service, once the sample is full.
func BenchmarkRecord(b *testing.B) {
	plain := request()
	plain.Due, plain.Told = 0, nil
	for name, s := range map[string]*shots.Shot{
		"command": shot(time.Millisecond, shots.OK), "request": plain, "request at a rate that tells a time": request(),
	} {
		b.Run(name, func(b *testing.B) {
			r := tally.NewRecorder(&shape, tally.MaxShots, 1<<14)
			rng := rand.New(rand.NewPCG(1, 2))
			latencies := make([]time.Duration, 4096)
			for i := range latencies {
				latencies[i] = time.Duration(1e6 * (1 + rng.ExpFloat64()))
			}
			for range 2 * tally.MaxShots {
				r.Record(s, 0)
			}
			b.ReportAllocs()
			i := 0
			for b.Loop() {
				s.End = s.Start + latencies[i&4095]
				i++
				r.Record(s, 0)
			}
		})
	}
}

// The first shots of several recorders come in the order in which they ended, up to where one may be missing.
func TestFirstShots(t *testing.T) {
	record := func(r *tally.Recorder, ends ...int) {
		for _, end := range ends {
			s := shot(time.Millisecond, shots.OK)
			s.Start, s.End = time.Duration(end-1)*time.Millisecond, time.Duration(end)*time.Millisecond
			r.Record(s, 0)
		}
	}
	a, b := tally.NewRecorder(&shape, 0, 1).KeepFirst(3), tally.NewRecorder(&shape, 0, 1).KeepFirst(3)
	record(a, 2, 5, 9)
	record(b, 1, 6)
	ends := func(early []tally.Early) (out []int) {
		for _, e := range early {
			out = append(out, int(e.End/time.Millisecond))
		}
		return out
	}
	early, all := tally.First([]*tally.Recorder{a, b})
	if got := ends(early); !slices.Equal(got, []int{1, 2, 5, 6, 9}) || !all {
		t.Errorf("all: %v, %v", got, all)
	}
	record(a, 12) // which a has no room for
	record(b, 10, 13)
	early, all = tally.First([]*tally.Recorder{a, b})
	if got := ends(early); !slices.Equal(got, []int{1, 2, 5, 6}) || all {
		t.Errorf("with some missing: %v, %v", got, all)
	}
	a.Reset(0)
	b.Reset(0)
	if early, all := tally.First([]*tally.Recorder{a, b}); len(early) != 0 || !all {
		t.Errorf("after a reset: %v, %v", early, all)
	}
}

// A shot that tells of its stretches is drawn as these; one that failed is drawn as itself.
func TestStretchesStandForTheirShots(t *testing.T) {
	r := tally.NewRecorder(&shape, 10, 10)
	good, bad := shot(30*time.Millisecond, shots.OK), shot(5*time.Millisecond, shots.Timeout)
	for i := range time.Duration(3) {
		at := time.Second + i*10*time.Millisecond
		good.Within = append(good.Within, shots.Stretch{At: at, Latency: (i + 1) * time.Millisecond})
	}
	r.Record(good, time.Second)
	r.Record(bad, time.Second)
	got := tally.Points([]*tally.Recorder{r})
	want := []tally.Point{
		{At: time.Second, Latency: time.Millisecond},
		{At: time.Second + 5*time.Millisecond, Latency: 5 * time.Millisecond, Class: shots.Timeout},
		{At: time.Second + 10*time.Millisecond, Latency: 2 * time.Millisecond},
		{At: time.Second + 20*time.Millisecond, Latency: 3 * time.Millisecond},
	}
	if !slices.Equal(got, want) {
		t.Errorf("points %v; want %v", got, want)
	}
	if r.Reset(0); len(tally.Points([]*tally.Recorder{r})) != 0 {
		t.Error("stretches of an earlier heat are drawn")
	}
}

// Sorts of shots are recorded by themselves beside all of them, failures with none of their latencies.
func TestSortsOfShots(t *testing.T) {
	sorts := shots.Sorts{Names: []string{"ping", "report"}, Of: []uint8{0, 0, 1}}
	var rs []*tally.Recorder
	for range 2 {
		r := tally.NewRecorder(&shots.Shape{}, 0, 1)
		r.Sort(sorts)
		for row := range 6 {
			s := shots.Shot{Row: row, Start: time.Second, End: time.Second + time.Duration(1+row%3)*time.Millisecond}
			if row == 5 {
				s.Class = shots.Status
			}
			r.Record(&s, time.Second)
		}
		rs = append(rs, r)
	}
	m := tally.Merge(rs)
	if want := []tally.Sort{{"ping", 8, 0}, {"report", 2, 2}}; !slices.Equal(m.Sorts, want) {
		t.Errorf("%v; want %v", m.Sorts, want)
	}
	if p := m.Parts[0]; p.Name != "ping" || p.Histogram.TotalCount() != 8 || p.Sum != int64(12*time.Millisecond) {
		t.Errorf("%+v", p)
	}
	if p := m.Parts[1]; p.Name != "report" || p.Histogram.TotalCount() != 2 || p.Sum != int64(6*time.Millisecond) {
		t.Errorf("%+v", p)
	}
	rs[0].Reset(0)
	rs[0].Record(&shots.Shot{Start: time.Second, End: 2 * time.Second}, time.Second)
	if m := tally.Merge(rs[:1]); len(m.Sorts) > 0 || len(m.Parts) > 0 {
		t.Errorf("the next heat has %v", m.Sorts)
	}
}
