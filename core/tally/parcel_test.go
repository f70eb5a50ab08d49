package tally_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"paceduel/core/shots"
	"paceduel/core/spans"
	"paceduel/core/tally"
	"paceduel/core/units"
)

// recorded is what n shots of a client leave in a recorder that keeps so many of them, by a clock ahead by skew.
func recorded(seed uint64, n, keep int, skew time.Duration) *tally.Recorder {
	rng := rand.New(rand.NewPCG(seed, 7))
	r := tally.NewRecorder(&shape, keep, 16).KeepFirst(40).KeepInsides(20)
	r.Reset(seed)
	r.Sort(shots.Sorts{Names: []string{"ping", "report"}, Of: []uint8{0, 0, 1}})
	r.Climb(3, time.Second)
	at := skew
	for i := range n {
		at += time.Duration(rng.IntN(int(time.Millisecond)))
		s := &shots.Shot{
			Due: at, Start: at + time.Duration(rng.IntN(3_000_000)), Row: i % 3, Sent: 10, Received: 100 + int64(i),
			Told: []shots.Mark{{Name: "rows", Unit: units.Unit("rows"), Value: float64(i % 7)}},
		}
		s.End = s.Start + time.Duration(1e5*(1+rng.ExpFloat64()))
		s.Took(connect, 1000)
		s.Took(wait, s.End-s.Start-1000)
		s.Count(memory, rng.Int64N(1<<20))
		s.Within = []shots.Stretch{{At: s.End, Latency: time.Duration(i)}}
		s.Course = []shots.Moment{{At: s.End, Resident: int64(i)}}
		s.Inside = []spans.Span{{Name: "read", End: 100, Parent: spans.None}}
		if i%11 == 5 {
			s.Class, s.Err = shots.Timeout, fmt.Errorf("shot %d took too long", i)
		}
		r.Record(s, skew)
	}
	return r
}

// travelled is a recorder as it comes out of a parcel that was sent.
func travelled(t *testing.T, r *tally.Recorder) *tally.Recorder {
	t.Helper()
	text, err := json.Marshal(r.Pack())
	if err != nil {
		t.Fatal(err)
	}
	var p tally.Parcel
	if err := json.Unmarshal(text, &p); err != nil {
		t.Fatal(err)
	}
	out, err := p.Unpack(&shape)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// What recorders of several machines hold together is what one that saw all their shots would, to the last count,
// whichever clocks they went by.
func TestRecordersAddUpAcrossMachines(t *testing.T) {
	const n = 600
	var here []*tally.Recorder
	sum := tally.NewRecorder(&shape, 0, 1)
	for i := range 3 {
		here = append(here, recorded(uint64(i), n, n, 0))
		skew := time.Duration(i) * time.Hour
		sum.Add(travelled(t, tally.Together([]*tally.Recorder{recorded(uint64(i), n, n, skew)})), -skew)
	}
	want, got := tally.Merge(here), tally.Merge([]*tally.Recorder{sum})
	for i := range want.Course { // they come in no order
		want.Course[i], got.Course[i] = shots.Moment{}, shots.Moment{}
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("merged %+v\nwant %+v", got, want)
	}
	for _, q := range []float64{0.5, 0.9, 0.99, 0.999} {
		if a, b := got.Latencies.ValueAtQuantile(q*100), want.Latencies.ValueAtQuantile(q*100); a != b {
			t.Errorf("quantile %g = %d; want %d", q, a, b)
		}
	}
	if got, want := tally.Points([]*tally.Recorder{sum}), tally.Points(here); !sameButOrder(got, want) {
		t.Errorf("%d points; want %d", len(got), len(want))
	}
	gotKept, gotSampled := tally.Kept([]*tally.Recorder{sum})
	wantKept, _ := tally.Kept(here)
	if gotSampled || !sameButOrder(gotKept, wantKept) {
		t.Errorf("%d shots one by one, a sample: %v; want all %d", len(gotKept), gotSampled, len(wantKept))
	}
	gotFirst, gotAll := tally.First([]*tally.Recorder{sum})
	wantFirst, wantAll := tally.First(here)
	if gotAll != wantAll || !reflect.DeepEqual(gotFirst, wantFirst) {
		t.Errorf("first %d (all: %v); want %d (%v)", len(gotFirst), gotAll, len(wantFirst), wantAll)
	}
	gotIn, gotOf := tally.Insides([]*tally.Recorder{sum})
	_, wantOf := tally.Insides(here)
	if gotOf != wantOf || len(gotIn) != 60 {
		t.Errorf("%d insides of %d; want 60 of %d", len(gotIn), gotOf, wantOf)
	}
}

// sameButOrder reports whether two lists hold the same.
func sameButOrder[T comparable](a, b []T) bool {
	n := map[T]int{}
	for _, v := range a {
		n[v]++
	}
	for _, v := range b {
		n[v]--
	}
	for _, k := range n {
		if k != 0 {
			return false
		}
	}
	return len(a) == len(b)
}

// Where one machine had many more shots than it keeps, all shots have the same chance to be among those that are kept.
func TestSamplesOfUnequalMachinesAreEven(t *testing.T) {
	sum := tally.NewRecorder(&shape, 0, 1)
	sum.Add(recorded(1, 8000, 100, 0), 0)
	sum.Add(recorded(2, 400, 400, time.Hour), 0)
	kept, sampled := tally.Kept([]*tally.Recorder{sum})
	var first, second int
	for _, k := range kept {
		switch {
		case k.Class.Failed(): // kept besides
		case k.Start < time.Hour:
			first++
		default:
			second++
		}
	}
	if !sampled || first < 80 || first > 105 || second < 2 || second > 7 {
		t.Errorf("kept %d of 8 000 and %d of 400, a sample: %v; want about 91 and 5", first, second, sampled)
	}
	if sum.Total() != 8400 {
		t.Errorf("%d in all; want 8400", sum.Total())
	}
}

func TestParcelsThatCannotBeAreRefused(t *testing.T) {
	tests := map[string]func(*tally.Parcel){
		"another kind":       func(p *tally.Parcel) { p.Parts = p.Parts[:1] },
		"a negative count":   func(p *tally.Parcel) { p.Counts[0] = -1 },
		"a class too many":   func(p *tally.Parcel) { p.Counts = append(p.Counts, 1) },
		"shots from nowhere": func(p *tally.Parcel) { p.Total++ },
		"latencies missing":  func(p *tally.Parcel) { p.Latencies = nil },
		"a cut histogram":    func(p *tally.Parcel) { p.Latencies = p.Latencies[:len(p.Latencies)-1] },
		"half a shot":        func(p *tally.Parcel) { p.Raw = p.Raw[:len(p.Raw)-1] },
		"shots upside down":  func(p *tally.Parcel) { p.Early = append(p.Early[len(p.Early)/2/41*41:], p.Early...) },
		"a span of nobody":   func(p *tally.Parcel) { p.Insides[0].Spans[0].Needs = []int{9} },
		"a long cause":       func(p *tally.Parcel) { p.Causes = []string{string(make([]byte, 1<<20))} },
	}
	for name, spoil := range tests {
		p := recorded(3, 200, 50, 0).Pack()
		spoil(p)
		if r, err := p.Unpack(&shape); err == nil {
			t.Errorf("%s: taken for a recorder of %d shots", name, r.Total())
		}
	}
}

func FuzzParcel(f *testing.F) {
	for _, n := range []int{0, 1, 50} {
		text, err := json.Marshal(recorded(1, n, 10, 0).Pack())
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var p tally.Parcel
		if json.Unmarshal(text, &p) != nil {
			return
		}
		r, err := p.Unpack(&shape)
		if err != nil {
			return
		}
		sum := tally.Together([]*tally.Recorder{recorded(1, 3, 10, 0), r})
		tally.Merge([]*tally.Recorder{sum})
		tally.Points([]*tally.Recorder{sum})
		if _, err := sum.Pack().Unpack(&shape); err != nil {
			t.Errorf("what was taken in is refused when handed on: %v", err)
		}
	})
}
