package chart_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// two is a run of two heats of 1 s, half a second apart.
func two() *result.Result {
	ms := time.Millisecond
	heat := func(name string, round int, at time.Duration, latency time.Duration) result.Heat {
		h := result.Heat{Cell: cell.Of(name, ""), Round: round, At: at, Wall: time.Second, OK: 10}
		for i := range 10 {
			h.Dots = append(h.Dots, result.Dot{At: at + time.Duration(i)*100*ms, Latency: latency})
			h.Buckets = append(h.Buckets, result.Bucket{int64(i + 1), 0, int64(i+1) * int64(latency), int64(latency) * 2})
		}
		return h
	}
	r := &result.Result{
		Started: sample.Start, Plan: result.Plan{
			Baseline: "slow", Rounds: 1,
		}, Entrants: []result.Entrant{{Name: "slow"}, {Name: "fast"}},
		Heats: []result.Heat{heat("slow", 1, time.Second, 80*ms), heat("fast", 1, 2500*ms, 2*ms)},
	}
	r.Heats[1].Buckets[3][1] = 2
	r.Heats[1].Dots[3].Class = "status"
	return r
}

func TestAStretchOfTimeIsShownByTheClock(t *testing.T) {
	r := two()
	whole := chart.NewTimeline(r, nil, r.Heats, 0, 0, nil)
	if whole.From != time.Second || whole.To != 3500*time.Millisecond || len(whole.Lanes) != 2 ||
		len(whole.Lanes[0].Dots) != 10 {
		t.Fatalf("the whole is %s to %s, %d lanes", whole.From, whole.To, len(whole.Lanes))
	}
	if s := whole.Lanes[1].Heats[0]; s.From != 0.6 || s.To != 1 || s.Round != 1 {
		t.Errorf("the second heat stands at %+v; want 0.6 to 1", s)
	}
	var labels []string
	for _, tick := range whole.Ticks {
		labels = append(labels, tick.Label)
	}
	if got := strings.Join(labels, " "); got != "06:40:01.0 06:40:01.5 06:40:02.0 06:40:02.5 06:40:03.0 06:40:03.5" {
		t.Errorf("ticks %s", got)
	}
	// Zoomed in, only what lies there is shown, and only that gives the scale; so does hiding a lane.
	part := chart.NewTimeline(r, nil, r.Heats, 2600*time.Millisecond, 2850*time.Millisecond, nil)
	if n := len(part.Lanes[0].Dots) + len(part.Lanes[1].Dots); n != 3 || part.Scale.Max > 0.01 ||
		!part.Lanes[1].Dots[2].Failed {
		t.Errorf("%d dots in view, scale to %g", n, part.Scale.Max)
	}
	alone := chart.NewTimeline(r, nil, r.Heats, 0, 0, func(k cell.Cell) bool { return k.Contender == "slow" })
	if !alone.Lanes[0].Hidden || len(alone.Lanes[0].Dots) != 0 || alone.Scale.Max > 0.01 || whole.Scale.Max < 0.08 {
		t.Errorf("with slow hidden the scale goes to %g, with both to %g", alone.Scale.Max, whole.Scale.Max)
	}
	if empty := chart.NewTimeline(r, nil, nil, 0, 0, nil); len(empty.Ticks) != 0 || len(empty.Lanes) != 2 {
		t.Errorf("a run without heats: %+v", empty)
	}
}

func TestATimelineIsReadOff(t *testing.T) {
	r := two()
	whole := chart.NewTimeline(r, nil, r.Heats, 0, 0, nil)
	at := whole.At(0.6 + 0.4*0.25) // 250 ms into the second heat
	if whole.Clock(at) != "06:40:02.7" {
		t.Errorf("the clock says %s", whole.Clock(at))
	}
	got := whole.Read(at, at+100*time.Millisecond) // the third and fourth bucket: 3 and 4 shots, 2 failed
	if got[0].Shots != 0 || got[0].Round != 0 || !math.IsNaN(got[0].Mean) {
		t.Errorf("slow was not on, but reads %+v", got[0])
	}
	f := got[1]
	if f.Round != 1 || f.Shots != 7 || f.Failed != 2 || math.Abs(f.Rate-35) > 1e-9 || math.Abs(f.Mean-0.0028) > 1e-9 ||
		f.Max != 0.004 {
		t.Errorf("fast reads %+v; want 7 shots of 2 buckets, 2 failed", f)
	}
}

// A window is zoomed about its line and moved within the run, and never leaves it.
func TestWindows(t *testing.T) {
	ms := time.Millisecond
	heats := two().Heats // 1 s to 2 s, 2.5 s to 3.5 s
	whole := chart.Whole(heats)
	if whole.From != 1000*ms || whole.To != 3500*ms || whole.At() != 1500*ms || !whole.Covers(heats) || whole.None() ||
		!(chart.Window{}).None() {
		t.Fatalf("the whole is %+v, its line at %s", whole, whole.At())
	}
	half := whole.Zoom(0.5, heats)
	if half.From != 1000*ms || half.To != 2250*ms || half.At() != 1500*ms || half.Covers(heats) {
		t.Errorf("half of it is %+v, its line at %s; want the first half, and the line where it was", half, half.At())
	}
	quarter := half.Zoom(0.5, heats)
	if quarter.From != 1187500*time.Microsecond || quarter.To != 1812500*time.Microsecond || quarter.At() != 1500*ms {
		t.Errorf("a quarter is %+v, its line at %s; want it about the line", quarter, quarter.At())
	}
	if back := quarter.Zoom(2, heats).Zoom(2, heats).Zoom(2, heats); back.From != whole.From || back.To != whole.To {
		t.Errorf("zoomed out it is %+v", back)
	}
	for w := whole; ; w = w.Zoom(0.5, heats) {
		if next := w.Zoom(0.5, heats); next.To-next.From == w.To-w.From {
			if w.To-w.From != 20*ms {
				t.Errorf("the shortest stretch is %s", w.To-w.From)
			}
			break
		}
	}
	moved := quarter
	for range 500 {
		moved = moved.Move(0.01, heats)
	}
	if moved.To != 3500*ms || moved.Line != 1 || moved.To-moved.From != quarter.To-quarter.From {
		t.Errorf("moved to the end it is %+v", moved)
	}
	for range 500 {
		moved = moved.Move(-0.01, heats)
	}
	if moved.From != 1000*ms || moved.Line != 0 {
		t.Errorf("moved to the start it is %+v", moved)
	}
	if empty := chart.Whole(nil); !empty.None() {
		t.Errorf("the whole of nothing is %+v", empty)
	}
}

func TestConditionsInWords(t *testing.T) {
	r := two()
	h := &r.Heats[0]
	h.Due, h.LagP99 = 100, 40*time.Microsecond
	h.Conditions = result.Conditions{
		OwnFrac: 0.12, OthersFrac: 0.3, StealFrac: 0.05, Collects: 1, Pauses: time.Millisecond, CPUPressure: 0.2, MHz: 2500,
		FreeBytes: 1 << 30, SwapBytes: 1 << 20,
	}
	want := "ours 12 %, collected 1 time, paused 1.00 ms, send lag p99 40.0 µs\nothers 30 %, host took 5 %\nkept " +
		"waiting by processors 20 %, disks 0 %, memory 0 %\n2500 MHz, 1.00 GiB free, 1.00 MiB swapped"
	if got := strings.Join(chart.ConditionLines(r, h), "\n"); got != want {
		t.Errorf("conditions:\n%s\nwant\n%s", got, want)
	}
}

// What lies between heats is folded away: each round is as wide as any other, and zooming keeps the line's place.
func TestMemoryIsFoldedToRounds(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 4, Shots: 300, Seed: 3, Entrants: []sample.Entrant{
		{Name: "slow", Latency: sample.Times(0.010, 0.05)}, {Name: "fast", Latency: sample.Times(0.001, 0.05)},
	}})
	sample.Serve(r)
	for i := range r.Heats {
		r.Heats[i].At += time.Duration(i*i) * time.Minute // of which nothing is seen
		for j := range r.Heats[i].Service.Moments {
			r.Heats[i].Service.Moments[j].At += time.Duration(i*i) * time.Minute
		}
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	m := chart.NewMemory(r, v, r.Heats, chart.RoundWindow{}, chart.HeldMemory)
	if len(m.Ticks) != 4 || m.Ticks[0].Label != "round 1" || m.Ticks[3].At != 0.75 {
		t.Errorf("ticks %v", m.Ticks)
	}
	for _, l := range m.Lanes {
		if len(l.Heats) != 4 || len(l.Lines) != 4 || len(l.Growth) != 4 {
			t.Fatalf("%s has %d heats, %d lines, %d of growth", l.Name, len(l.Heats), len(l.Lines), len(l.Growth))
		}
		for i, h := range l.Heats {
			if h.From < float64(i)/4 || h.To > float64(i+1)/4 || h.To-h.From < 0.1 {
				t.Errorf("%s: round %d lies from %.3f to %.3f", l.Name, i+1, h.From, h.To)
			}
		}
	}
	whole := m.View
	near := whole.Zoom(0.5, r.Heats)
	if math.Abs(near.At()-whole.At()) > 1e-9 || near.To-near.From != 2 {
		t.Errorf("zoomed from %+v to %+v", whole, near)
	}
	if back := near.Zoom(2, r.Heats); back.To-back.From != 4 {
		t.Errorf("zoomed out to %+v", back)
	}
	for range 300 {
		near = near.Move(0.01, r.Heats)
	}
	if near.To != 4 || near.At() < 3 {
		t.Errorf("moved to %+v", near)
	}
	for _, said := range m.ReadHeld() {
		if !strings.Contains(said, "MiB") || !strings.Contains(said, "threads") {
			t.Errorf("at the line it says %q", said)
		}
	}
	empty := chart.NewMemory(r, v, nil, chart.RoundWindow{}, chart.HeldMemory)
	if len(empty.Lanes) != 2 || len(empty.Ticks) != 0 {
		t.Errorf("without heats: %d lanes, ticks %v", len(empty.Lanes), empty.Ticks)
	}
}

// Processors and bytes are told a second, from moment to moment; what falls is of another process.
func TestWhatIsUsedOverTime(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 1, Shots: 2, Seed: 3, Entrants: []sample.Entrant{
		{Name: "one", Latency: sample.Times(2, 0)}, {Name: "two", Latency: sample.Times(2, 0)},
	}})
	h := &r.Heats[0]
	for i, m := range []result.Moment{
		{}, {CPU: time.Second, Read: 1 << 20}, {CPU: 3 * time.Second, Read: 3 << 20}, {CPU: time.Second},
		{CPU: 2 * time.Second},
	} {
		m.At, m.Resident = h.At+time.Duration(i)*time.Second, 1<<20
		h.Course = append(h.Course, m)
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	for what, want := range map[chart.Quantity]string{
		chart.UsedProcessors: "median 1.00; at most 2.00", chart.ReadBytes: "median 1.00 MiB/s; at most 2.00 MiB/s",
		chart.HeldMemory: "at most 1.00 MiB, looked at",
	} {
		m := chart.NewMemory(r, v, r.Heats, chart.RoundWindow{}, what)
		var said []string
		for _, read := range m.Lanes[0].Read {
			said = append(said, read.Name+" "+read.Text)
		}
		if got := strings.Join(said, "; "); got != want {
			t.Errorf("quantity %d: %q; want %q", what, got, want)
		}
		if len(m.Lanes[0].Lines) != 1 {
			t.Errorf("quantity %d has %d lines", what, len(m.Lanes[0].Lines))
		}
		if what != chart.HeldMemory && len(m.Lanes[1].Read) > 0 {
			t.Errorf("quantity %d is known of who has none", what)
		}
	}
}

// Heats with more dots than shots are drawn by the batches that these are made of.
func TestBatchesAreToldFromShots(t *testing.T) {
	r := two()
	if chart.NewTimeline(r, nil, r.Heats, 0, 0, nil).Batches {
		t.Error("ten dots of ten shots are taken for batches")
	}
	r.Heats[1].OK = 2
	if !chart.NewTimeline(r, nil, r.Heats, 0, 0, nil).Batches {
		t.Error("ten dots of two shots are taken for shots")
	}
}
