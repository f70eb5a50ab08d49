package tally_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"paceduel/core/shots"
	"paceduel/core/spans"
	"paceduel/core/tally"
)

// told is the n-th shot, with two spans, of which the second needs the first.
func told(n int, into []spans.Span) *shots.Shot {
	s := shot(10*time.Millisecond, shots.OK)
	s.End += time.Duration(n) // so that they can be told apart
	s.Inside, s.InsideKnown = append(into[:0],
		spans.Span{Name: "vessel", End: time.Millisecond, Parent: spans.None},
		spans.Span{Name: fmt.Sprint("berth ", n), Begin: time.Millisecond, End: 9 * time.Millisecond, Parent: spans.None,
			Needs: []int{0}},
	), true
	return s
}

// What happened inside shots is kept of a choice in which each shot has the same chance, and nothing of it is the
// client's any more.
func TestInsidesAreAnEvenChoice(t *testing.T) {
	const shotsOfEach, most, heats = 400, 20, 200
	var chosen [shotsOfEach]int
	r := tally.NewRecorder(&shape, 0, 1).KeepInsides(most)
	var spansOfClient []spans.Span
	for heat := range heats {
		r.Reset(uint64(heat))
		for n := range shotsOfEach {
			s := told(n, spansOfClient)
			spansOfClient = s.Inside
			r.Record(s, 0)
		}
		r.Record(shot(time.Second, shots.Status), 0)
		kept, of := tally.Insides([]*tally.Recorder{r})
		if len(kept) != most || of != shotsOfEach {
			t.Fatalf("%d of %d kept", len(kept), of)
		}
		for _, k := range kept {
			n := int(k.Latency - 10*time.Millisecond)
			chosen[n]++
			if len(k.Spans) != 2 || k.Spans[1].Name != fmt.Sprint("berth ", n) || !slices.Equal(k.Spans[1].Needs, []int{0}) ||
				!k.Known {
				t.Fatalf("shot %d: %+v", n, k)
			}
		}
	}
	for quarter := range 4 { // 1000 chosen of each are to be expected, give or take 31
		sum := 0
		for _, n := range chosen[quarter*shotsOfEach/4 : (quarter+1)*shotsOfEach/4] {
			sum += n
		}
		if sum < 880 || sum > 1120 {
			t.Errorf("%d of quarter %d", sum, quarter)
		}
	}
}

// A latency that counts from when a shot was due begins before its first span does.
func TestSpansOfALateShot(t *testing.T) {
	r := tally.NewRecorder(&shape, 0, 1).KeepInsides(5)
	r.Reset(1)
	s := told(0, nil)
	s.Due = s.Start - 3*time.Millisecond
	r.Record(s, 0)
	kept, _ := tally.Insides([]*tally.Recorder{r})
	if k := kept[0]; k.Latency != 13*time.Millisecond || k.Spans[0].Begin != 3*time.Millisecond ||
		k.Spans[1].End != 12*time.Millisecond {
		t.Errorf("%+v", k)
	}
}

func TestRecordingInsidesAllocatesNothing(t *testing.T) {
	r := tally.NewRecorder(&shape, 0, 1).KeepInsides(50)
	s := told(0, nil)
	record := func() {
		r.Reset(7)
		for range 200 {
			r.Record(s, 0)
		}
	}
	record()
	if n := testing.AllocsPerRun(10, record); n > 2 { // of the reset
		t.Errorf("%g allocations for 200 shots", n)
	}
}
