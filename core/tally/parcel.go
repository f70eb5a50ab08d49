package tally

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"paceduel/core/shots"
	"paceduel/core/units"
)

// Parcel is a recorder in a form that travels: encoding it as JSON and back loses nothing. Lists of many small things
// are bytes: numbers of Go's encoding/binary, little end first, histograms as pairs of varints.
type Parcel struct {
	Counts     []int64       `json:"counts"` // shots by class
	Latency    time.Duration `json:"latency_ns"`
	Sent       int64         `json:"sent"`
	Received   int64         `json:"received"`
	Amounts    []int64       `json:"amounts"`
	Grain      int64         `json:"grain,omitempty"`
	LeftBehind int64         `json:"left_behind,omitempty"`
	Elapsed    time.Duration `json:"elapsed_ns"`
	Causes     []string      `json:"causes,omitempty"`
	Lags       lagsParcel    `json:"lags,omitzero"`
	Total      int64         `json:"total"`

	Latencies []byte        `json:"latencies,omitempty"`
	Late      partParcel    `json:"late,omitzero"`
	Parts     []partParcel  `json:"parts,omitempty"`
	Told      []toldParcel  `json:"told,omitempty"`
	Sorts     []Sort        `json:"sorts,omitempty"`
	Steps     []stepParcel  `json:"steps,omitempty"`
	Climb     time.Duration `json:"climb_ns,omitempty"`

	Buckets []byte         `json:"buckets,omitempty"`
	Early   []byte         `json:"early,omitempty"`
	Raw     []byte         `json:"raw,omitempty"`
	Failed  []byte         `json:"failed,omitempty"`
	Slowest []byte         `json:"slowest,omitempty"`
	Within  []byte         `json:"within,omitempty"`
	Course  []shots.Moment `json:"course,omitempty"`

	Insides []Inside `json:"insides,omitempty"`
	Inside  int64    `json:"inside_of,omitempty"` // of how many these are a choice
}

type lagsParcel struct {
	Counts []byte        `json:"counts,omitempty"`
	N      int64         `json:"n"`
	Late   int64         `json:"late"`
	Max    time.Duration `json:"max_ns"`
}

type partParcel struct {
	Counts []byte        `json:"counts,omitempty"`
	Sum    time.Duration `json:"sum"`
}

type toldParcel struct {
	Name string     `json:"name"`
	Unit units.Unit `json:"unit"`
	partParcel
}

type stepParcel struct {
	Shots  int64  `json:"shots"`
	Failed int64  `json:"failed"`
	Counts []byte `json:"counts,omitempty"`
}

// Pack puts all that a recorder holds into a parcel.
func (r *Recorder) Pack() *Parcel {
	var kept []Raw // of all samples, brought to the same share
	r.evenly(r.keptShare(), func(one *Raw) { kept = append(kept, *one) })
	p := &Parcel{
		Counts: r.Counts[:], Latency: r.Latency, Sent: r.Sent, Received: r.Received, Amounts: r.Amounts[:], Grain: r.Grain,
		LeftBehind: r.LeftBehind, Elapsed: r.Elapsed, Causes: r.Causes, Total: r.Total(),
		Lags:      lagsParcel{pairs(r.Lags.counts[:]), r.Lags.N, r.Lags.Late, r.Lags.Max},
		Latencies: r.latencies.pack(), Late: r.late.pack(), Sorts: r.sortsDone, Climb: r.climb,
		Buckets: flat(r.buckets), Early: flat(r.early), Raw: flat(kept), Failed: flat(r.failed), Within: flat(r.within),
		Course: r.course, Insides: r.insides.kept[:r.insides.n], Inside: r.insides.seen,
	}
	if r.slowest.End > 0 {
		p.Slowest = flat([]Raw{r.slowest})
	}
	for i := range r.parts {
		p.Parts = append(p.Parts, r.parts[i].pack())
	}
	for i := range r.told {
		t := &r.told[i]
		p.Told = append(p.Told, toldParcel{t.name, t.unit, t.part.pack()})
	}
	for i := range r.steps {
		s := &r.steps[i]
		p.Steps = append(p.Steps, stepParcel{s.shots, s.failed, s.counts.pack()})
	}
	return p
}

// Bounds of what a parcel may hold, which no recorder goes beyond.
const (
	maxText  = 4 << 10
	maxSteps = 64
)

// Unpack makes a recorder of the shape out of a parcel, which may come from anybody: what cannot be a recorder's is an
// error. Nothing is recorded into it, it is for Add.
func (p *Parcel) Unpack(shape *shots.Shape) (*Recorder, error) {
	r := NewRecorder(shape, 0, 1)
	if err := p.checkSums(shape); err != nil {
		return nil, err
	}
	copy(r.Counts[:], p.Counts)
	copy(r.Amounts[:], p.Amounts)
	r.Latency, r.Sent, r.Received, r.Grain, r.LeftBehind, r.Elapsed = p.Latency, p.Sent, p.Received, p.Grain,
		p.LeftBehind, p.Elapsed
	r.Causes, r.climb, r.course = p.Causes, p.Climb, p.Course
	r.Lags.N, r.Lags.Late, r.Lags.Max = p.Lags.N, p.Lags.Late, p.Lags.Max
	r.total.Store(p.Total)
	err := errors.Join(unpair(p.Lags.Counts, len(r.Lags.counts), func(at int, n uint64) { r.Lags.counts[at] = int64(n) }),
		r.latencies.unpack(p.Latencies), r.late.unpack(p.Late))
	for i := range p.Parts {
		err = errors.Join(err, r.parts[i].unpack(p.Parts[i]))
	}
	for i := range p.Told {
		t := told{name: p.Told[i].Name, unit: p.Told[i].Unit, perUnit: p.Told[i].Unit.PerUnit()}
		err = errors.Join(err, t.unpack(p.Told[i].partParcel))
		r.told = append(r.told, t)
	}
	r.sortsDone = p.Sorts
	for _, s := range p.Steps {
		one := step{shots: s.Shots, failed: s.Failed}
		err = errors.Join(err, one.counts.unpack(s.Counts))
		r.steps = append(r.steps, one)
	}
	var slowest []Raw
	err = errors.Join(err, unflat(p.Buckets, maxBuckets, &r.buckets), unflat(p.Early, MaxEarly, &r.early),
		unflat(p.Raw, MaxShots+1, &r.raw), unflat(p.Failed, maxFailed, &r.failed), unflat(p.Slowest, 1, &slowest),
		unflat(p.Within, MaxShots, &r.within))
	if len(slowest) > 0 {
		r.slowest = slowest[0]
	}
	r.insides.kept, r.insides.n, r.insides.seen = p.Insides, len(p.Insides), p.Inside
	if err != nil {
		return nil, fmt.Errorf("shots from elsewhere: %w", err)
	}
	return r, r.check()
}

// checkSums holds what is counted to what can be.
func (p *Parcel) checkSums(shape *shots.Shape) error {
	negative := func(n int64) bool { return n < 0 }
	switch {
	case len(p.Counts) != int(shots.Classes) || len(p.Amounts) != shots.MaxAmounts || len(p.Parts) != len(shape.Parts):
		return errors.New("shots from elsewhere are not of this kind")
	case slices.ContainsFunc(p.Counts, negative) || slices.ContainsFunc(p.Amounts, negative) || p.Latency < 0 ||
		p.Total < 0 || p.Lags.N < 0 || p.Lags.Late < 0 || p.Sent < 0 || p.Received < 0 || p.LeftBehind < 0 ||
		p.Elapsed < 0 || p.Inside < int64(len(p.Insides)) || p.Climb < 0:
		return errors.New("shots from elsewhere have impossible figures")
	case len(p.Causes) > maxCauses || len(p.Told) > shots.MaxMarks || len(p.Steps) > maxSteps ||
		len(p.Sorts) > shots.MaxMarks || len(p.Insides) > MaxInsides+1 || len(p.Course) > 2*maxCourse:
		return errors.New("shots from elsewhere are more than a heat keeps")
	}
	var all int64
	for _, n := range p.Counts {
		all += n
	}
	if all != p.Total || p.Counts[shots.Cut] != 0 {
		return fmt.Errorf("shots from elsewhere: %d by their classes, %d in all", all, p.Total)
	}
	for _, text := range p.Causes {
		if len(text) > maxText {
			return errors.New("shots from elsewhere have a cause that is too long")
		}
	}
	for _, t := range p.Told {
		if t.Name == "" || len(t.Name) > maxText || len(t.Unit) > maxText {
			return errors.New("shots from elsewhere tell of something without a name, or with too long a one")
		}
	}
	for _, s := range p.Sorts {
		if len(s.Name) > maxText || s.OK < 0 || s.Failed < 0 {
			return errors.New("shots from elsewhere are of a sort that cannot be")
		}
	}
	return nil
}

// check holds what was unpacked together: as many latencies as successes, shots in order, spans in their shots.
func (r *Recorder) check() error {
	if n := r.latencies.count(); n != uint64(r.Counts[shots.OK]) {
		return fmt.Errorf("shots from elsewhere: %d latencies of %d successful shots", n, r.Counts[shots.OK])
	}
	if int64(len(r.raw)) > r.Total() || int64(len(r.early)) > r.Total() {
		return errors.New("shots from elsewhere: more are kept than there were")
	}
	ordered := slices.IsSortedFunc(r.early, func(a, b Early) int { return int(min(max(a.End-b.End, -1), 1)) })
	if !ordered {
		return errors.New("shots from elsewhere: the first ones are not in order")
	}
	for _, list := range [][]Raw{r.raw, r.failed} {
		for i := range list {
			if list[i].Class >= shots.Classes || list[i].Row < 0 || list[i].Latency < 0 {
				return errors.New("shots from elsewhere: one of them cannot be")
			}
		}
	}
	for i := range r.insides.kept {
		spans := r.insides.kept[i].Spans
		r.insides.spans += len(spans)
		for at := range spans {
			wrong := func(n int) bool { return n < 0 || n >= len(spans) }
			if spans[at].Parent >= at || spans[at].Parent < -1 || slices.ContainsFunc(spans[at].Needs, wrong) ||
				len(spans[at].Name) > maxText {
				return errors.New("shots from elsewhere: a span has no place in its shot")
			}
		}
	}
	if r.insides.spans > maxInsideSpans {
		return errors.New("shots from elsewhere: more spans than a heat keeps")
	}
	return nil
}

// pairs writes what is not nothing of a list: for each how many places are passed over before it, and how much it is.
func pairs(list []int64) (out []byte) {
	last := -1
	for at, n := range list {
		if n > 0 {
			out = binary.AppendUvarint(out, uint64(at-last-1))
			out = binary.AppendUvarint(out, uint64(n))
			last = at
		}
	}
	return out
}

// unpair reads pairs for a list of a length.
func unpair(text []byte, length int, put func(at int, n uint64)) error {
	at := -1
	for len(text) > 0 {
		over, a := binary.Uvarint(text)
		if a <= 0 {
			return errors.New("a histogram is cut off")
		}
		n, b := binary.Uvarint(text[a:])
		if b <= 0 || over >= uint64(length) || at+1+int(over) >= length || n == 0 || n > math.MaxInt64 {
			return errors.New("a histogram has a place that cannot be")
		}
		at += 1 + int(over)
		put(at, n)
		text = text[a+b:]
	}
	return nil
}

func (c *counts) pack() (out []byte) {
	last := -1
	for octave, o := range c.octave {
		if o == nil {
			continue
		}
		for slot, n := range o {
			if n > 0 {
				at := octave*slots + slot
				out = binary.AppendUvarint(out, uint64(at-last-1))
				out = binary.AppendUvarint(out, uint64(n))
				last = at
			}
		}
	}
	return out
}

func (c *counts) unpack(text []byte) (err error) {
	tooMany := false
	err = unpair(text, octaves*slots, func(at int, n uint64) {
		octave, slot := at/slots, at%slots
		if c.octave[octave] == nil {
			c.octave[octave] = new([slots]uint32)
		}
		tooMany = tooMany || n > math.MaxUint32
		c.octave[octave][slot] = uint32(n)
	})
	if err == nil && tooMany {
		err = errors.New("a histogram holds too many")
	}
	return err
}

// count is how many values there are.
func (c *counts) count() (n uint64) {
	for _, o := range c.octave {
		if o == nil {
			continue
		}
		for _, k := range o {
			n += uint64(k)
		}
	}
	return n
}

func (p *part) pack() partParcel { return partParcel{p.counts.pack(), p.sum} }

func (p *part) unpack(from partParcel) error {
	if p.sum = from.Sum; p.sum < 0 {
		return errors.New("a part of latencies is negative")
	}
	return p.counts.unpack(from.Counts)
}

// flat writes a list of values of a fixed size.
func flat[T any](list []T) []byte {
	if len(list) == 0 {
		return nil
	}
	out, err := binary.Append(nil, binary.LittleEndian, list)
	if err != nil {
		panic(err) // a type that has no fixed size, which any test would meet
	}
	return out
}

// unflat reads up to most of them.
func unflat[T any](text []byte, most int, out *[]T) error {
	var one T
	size := binary.Size(one)
	if len(text)%size != 0 || len(text)/size > most {
		return fmt.Errorf("%d bytes are no list of up to %d", len(text), most)
	}
	if len(text) == 0 {
		return nil
	}
	*out = make([]T, len(text)/size)
	return binary.Read(bytes.NewReader(text), binary.LittleEndian, *out)
}
