package tally

import (
	"cmp"
	"math"
	"slices"
	"time"

	"paceduel/core/quantile"
)

// Add takes in all that another recorder of the same shape holds, as if its shots had been recorded here; the moments
// of these are moved by shift, which brings them to this recorder's clock. Nobody may be recording or watching. The
// other is not changed and shares nothing with this one. Latencies, parts, counts, buckets and steps add up exactly. Of
// shots that are kept one by one each has the same chance afterwards, whichever recorder it came from.
func (r *Recorder) Add(o *Recorder, shift time.Duration) {
	r.addSamples(o, shift) // by the shots that r has so far
	r.addFirst(o, shift)
	r.merge(r.shape, &o.Sums)
	r.latencies.add(&o.latencies)
	r.late.add(&o.late)
	for i := range r.parts {
		r.parts[i].add(&o.parts[i])
	}
	for i := range o.told {
		r.toldLike(&o.told[i]).add(&o.told[i].part)
	}
	for i, s := range o.sortsDone {
		if i == len(r.sortsDone) {
			r.sortsDone = append(r.sortsDone, Sort{Name: s.Name})
		}
		r.sortsDone[i].OK += s.OK
		r.sortsDone[i].Failed += s.Failed
	}
	for _, m := range o.course {
		m.At += shift
		r.course = append(r.course, m)
	}
	for _, p := range o.within {
		p.At += shift
		r.within = append(r.within, p)
	}
	r.addSteps(o)
	r.addBuckets(o)
	r.insides.add(&o.insides, shift)
	r.total.Add(o.Total())
}

// add adds another's values.
func (c *counts) add(o *counts) {
	for octave, from := range o.octave {
		if from == nil {
			continue
		}
		if c.octave[octave] == nil {
			c.octave[octave] = new([slots]uint32)
		}
		for slot, n := range from {
			into := &c.octave[octave][slot]
			*into = uint32(min(uint64(*into)+uint64(n), math.MaxUint32))
		}
	}
}

func (p *part) add(o *part) {
	p.counts.add(&o.counts)
	p.sum += o.sum
}

// toldLike is what is told under the same name, in the same unit; a new one where there is none yet.
func (r *Recorder) toldLike(o *told) *part {
	for i := range r.told {
		if t := &r.told[i]; t.name == o.name && t.unit == o.unit {
			return &t.part
		}
	}
	r.told = append(r.told, told{name: o.name, unit: o.unit, perUnit: o.perUnit})
	return &r.told[len(r.told)-1].part
}

func (r *Recorder) addSteps(o *Recorder) {
	for i := range o.steps {
		if i == len(r.steps) {
			r.steps = append(r.steps, step{})
		}
		into, from := &r.steps[i], &o.steps[i]
		into.shots += from.shots
		into.failed += from.failed
		into.counts.add(&from.counts)
	}
	r.climb = max(r.climb, o.climb)
}

func (r *Recorder) addBuckets(o *Recorder) {
	for i, b := range o.buckets {
		if i == len(r.buckets) {
			r.buckets = append(r.buckets, Bucket{})
		}
		r.buckets[i].add(&b)
	}
}

func (b *Bucket) add(o *Bucket) {
	b.Shots += o.Shots
	b.Failed += o.Failed
	b.Latency += o.Latency
	b.Max = max(b.Max, o.Max)
}

// addFirst puts the first shots of both in order, up to where one of either may be missing.
func (r *Recorder) addFirst(o *Recorder, shift time.Duration) {
	own := slices.Clone(r.early)
	until := min(r.knownUntil(), later(o.knownUntil(), shift))
	for _, e := range o.early {
		e.Start, e.End = e.Start+shift, e.End+shift
		if e.Due > 0 {
			e.Due += shift
		}
		own = append(own, e)
	}
	slices.SortStableFunc(own, func(a, b Early) int { return cmp.Compare(a.End, b.End) })
	r.early = slices.Clip(slices.DeleteFunc(own, func(e Early) bool { return e.End > until }))
}

// knownUntil is when the last of the first shots ended that none is missing before; the end of time where there were no
// more.
func (r *Recorder) knownUntil() time.Duration {
	switch n := len(r.early); {
	case r.Total() <= int64(n):
		return math.MaxInt64
	case n == 0:
		return math.MinInt64
	default:
		return r.early[n-1].End
	}
}

// later is a moment by another clock; both ends of time stay where they are.
func later(at, shift time.Duration) time.Duration {
	if at == math.MaxInt64 || at == math.MinInt64 {
		return at
	}
	return at + shift
}

// moved is the shot by another clock.
func (s Raw) moved(shift time.Duration) Raw {
	s.Start, s.End = s.Start+shift, s.End+shift
	if s.Due > 0 {
		s.Due += shift
	}
	return s
}

// sample is a choice of shots that were kept one by one, among so many.
type sample struct {
	kept []Raw
	of   int64
}

// samples are those that a recorder holds: of its own shots, and of those that it took in.
func (r *Recorder) samples() []sample {
	own := sample{r.raw, r.Total()}
	for _, s := range r.takenIn {
		own.of -= s.of
	}
	return append([]sample{own}, r.takenIn...)
}

// addSamples takes in the other's choices of shots. They are brought to the same share of their shots when they are
// read.
func (r *Recorder) addSamples(o *Recorder, shift time.Duration) {
	for _, s := range o.samples() {
		if s.of == 0 {
			continue
		}
		kept := make([]Raw, len(s.kept))
		for i := range s.kept {
			kept[i] = s.kept[i].moved(shift)
		}
		r.takenIn = append(r.takenIn, sample{kept, s.of})
	}
	for _, f := range o.failed {
		if len(r.failed) < maxFailed {
			r.failed = append(r.failed, f.moved(shift))
		}
	}
	if o.slowest.Latency > r.slowest.Latency {
		r.slowest = o.slowest.moved(shift)
	}
}

// keptShare is the least share of its shots that any of a recorder's samples kept one by one.
func (r *Recorder) keptShare() float64 {
	least := 1.0
	for _, s := range r.samples() {
		if s.of > int64(len(s.kept)) {
			least = min(least, float64(len(s.kept))/float64(s.of))
		}
	}
	return least
}

// evenly calls visit for a share of all shots among those that were kept: of each sample every k-th place, since a
// place holds what came first as long as nothing took it.
func (r *Recorder) evenly(share float64, visit func(*Raw)) {
	for _, s := range r.samples() {
		n := len(s.kept)
		if share < 1 {
			n = min(n, int(share*float64(s.of)+0.5))
		}
		for i := range n {
			visit(&s.kept[i*len(s.kept)/n])
		}
	}
}

// add puts two choices of insides together, each with the same share of those it was chosen from.
func (s *insides) add(o *insides, shift time.Duration) {
	own, theirs := s.kept[:s.n], o.kept[:o.n]
	if s.seen > 0 && o.seen > 0 {
		share := min(float64(s.n)/float64(s.seen), float64(o.n)/float64(o.seen))
		own = own[:min(len(own), int(share*float64(s.seen)+0.5))]
		theirs = theirs[:min(len(theirs), int(share*float64(o.seen)+0.5))]
	}
	kept := slices.Clone(own)
	for _, k := range theirs {
		k.Start, k.End = k.Start+shift, k.End+shift
		spans := k.Spans
		k.Spans = nil
		k.take(spans, 0)
		kept = append(kept, k)
	}
	s.kept, s.n = kept, len(kept)
	s.seen += o.seen
	s.spans = 0
	for i := range kept {
		s.spans += len(kept[i].Spans)
	}
}

// Together is a new recorder with all that those of a heat hold, at least one of them.
func Together(rs []*Recorder) *Recorder {
	out := NewRecorder(rs[0].shape, 0, 1)
	for _, r := range rs {
		out.Add(r, 0)
	}
	return out
}

// Quantile is the latency that a share q of the successful shots did not exceed, within 0.1 %; 0 without any. Nobody
// may be recording.
func (r *Recorder) Quantile(q float64) time.Duration { return r.latencies.quantile(q) }

// quantile is the value that a share q of all did not exceed; 0 without any.
func (c *counts) quantile(q float64) time.Duration {
	n := c.count()
	if n == 0 {
		return 0
	}
	want, seen := uint64(quantile.Rank(q, int64(n))), uint64(0)
	for octave, o := range c.octave {
		if o == nil {
			continue
		}
		for slot, k := range o {
			if seen += uint64(k); seen >= want {
				if octave == 0 {
					return time.Duration(slot)
				}
				return time.Duration((uint64(slot)+slots)<<(octave-1)) + time.Duration(1)<<(octave-1)/2
			}
		}
	}
	return 0
}

// PartMedians are the medians of the parts of latencies, by their names, as far as shots have them. Nobody may be
// recording.
func (r *Recorder) PartMedians() map[string]time.Duration {
	out := map[string]time.Duration{}
	if r.late.any() {
		out[Late] = r.late.quantile(0.5)
	}
	for i, name := range r.shape.Parts {
		if r.parts[i].any() {
			out[name] = r.parts[i].quantile(0.5)
		}
	}
	return out
}
