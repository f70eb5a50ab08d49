package tally

import (
	"cmp"
	"slices"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/shots"
	"paceduel/core/spans"
)

// MaxInsides is of how many shots of a heat it is kept what happened inside, over all clients; of more, a uniform
// sample.
const MaxInsides = 1_000

// maxInsideSpans bounds the spans of all of them.
const maxInsideSpans = 200_000

// Inside is what happened inside a shot that succeeded, as far as the client knows it. Moments are on the run's clock,
// those of spans count from when its latency does.
type Inside struct {
	Start, End time.Duration
	Latency    time.Duration
	Spans      []spans.Span
	Known      bool // whether the spans' needs are
	Trace      [16]byte
	no, stride int64 // of a shot that spans are sent of; see shots.Shot
}

// insides is a uniform sample of what happened inside shots. Its memory is used again from heat to heat.
type insides struct {
	most  int // how many are kept
	n     int // of those kept
	seen  int64
	spans int // of those kept
	kept  []Inside
}

// KeepInsides has it kept what happened inside n of a heat's shots, and returns the recorder.
func (r *Recorder) KeepInsides(n int) *Recorder {
	r.insides.most = n
	return r
}

func (s *insides) reset() { s.n, s.seen, s.spans = 0, 0, 0 }

// look takes a shot into the sample with the same chance as any other (J. S. Vitter's algorithm R, ACM TOMS 11 (1985)
// 37).
func (r *Recorder) look(shot *shots.Shot, latency time.Duration) {
	s := &r.insides
	s.seen++
	at := s.n
	switch {
	case s.n < s.most && s.spans+len(shot.Inside) <= maxInsideSpans:
		if s.n++; s.n > len(s.kept) {
			s.kept = append(s.kept, Inside{})
		}
	case s.n == 0:
		return
	default:
		chosen := r.rng.Int64N(s.seen)
		if chosen >= int64(s.n) {
			return
		}
		at = int(chosen)
		s.spans -= len(s.kept[at].Spans)
	}
	k := &s.kept[at]
	k.Start, k.End, k.Latency, k.Known, k.Trace = shot.Start, shot.End, latency, shot.InsideKnown, shot.Trace
	k.no, k.stride = shot.TraceNo, shot.TraceStride
	late := latency - (shot.End - shot.Start - shot.Aside) // until it began, where it counts from when it was due
	k.take(shot.Inside, late)
	s.spans += len(k.Spans)
}

// take copies spans into those that are there, each with its needs.
func (k *Inside) take(from []spans.Span, late time.Duration) {
	k.Spans = slices.Grow(k.Spans[:0], len(from))
	for i, sp := range from {
		var needs []int
		if i < cap(k.Spans) {
			needs = k.Spans[:i+1][i].Needs[:0]
		}
		sp.Needs = append(needs, sp.Needs...)
		sp.Begin, sp.End = sp.Begin+late, sp.End+late
		k.Spans = append(k.Spans, sp)
	}
}

// Insides are those that the recorders of a heat that is over kept, in the order of their ends, and of how many they
// are a choice. They are valid until the recorders are used again. Of shots that spans are sent of, only those belong
// to an even choice that would have been chosen all along.
func Insides(rs []*Recorder) (out []Inside, of int64) {
	for _, r := range rs {
		kept := r.insides.kept[:r.insides.n]
		stride := int64(1)
		for i := range kept {
			stride = max(stride, kept[i].stride)
		}
		for i := range kept {
			if kept[i].no%stride == 0 {
				out = append(out, kept[i])
			}
		}
		if stride > 1 || len(kept) > 0 && kept[0].stride > 0 {
			of += r.Counts[shots.OK]
		} else {
			of += r.insides.seen
		}
	}
	slices.SortFunc(out, func(a, b Inside) int { return cmp.Compare(a.End, b.End) })
	return out, of
}

// Amounts are values of several shots, recorded as parts of latencies are. The zero value is empty.
type Amounts struct {
	counts
	Sum int64
}

// Add adds a value.
func (a *Amounts) Add(v int64) {
	a.record(time.Duration(v))
	a.Sum += v
}

// Histogram is a histogram of them, which is the caller's own.
func (a *Amounts) Histogram() *hdrhistogram.Histogram {
	h := NewHistogram()
	a.addTo(h)
	return h
}
