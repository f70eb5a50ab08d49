// Package tally records shots: histograms of the latencies of those that succeeded and of their parts, counts by class
// of those that did not, sums of bytes and CPU, a time line, and each shot by itself up to a limit.
//
// A Recorder belongs to one client, or to a crew, and takes no lock; recording allocates nothing in steady state.
// Watchers may read its latest shots while it records. Recorders of a heat are merged exactly when it is over.
// Percentiles are read elsewhere, from what Merge returns.
package tally

import (
	"cmp"
	"math"
	"math/bits"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/shots"
	"paceduel/core/units"
)

// MaxShots is how many shots of a heat are kept one by one, over all clients; of more, a uniform sample.
const MaxShots = 200_000

// MaxEarly is how many of the first shots of a part of a heat are kept in short, over all clients.
const MaxEarly = 1 << 14

const (
	maxCauses = 3    // failures kept with their own words
	maxFailed = 1000 // failures of a recorder that are kept one by one, whatever the sample holds
)

// Every is the width of a bucket of the time line.
const Every = 100 * time.Millisecond

// Point is one shot as watchers need it.
type Point struct {
	At      time.Duration // when it ended, on the run's clock
	Latency time.Duration
	Class   shots.Class
}

// Raw is one shot as it was, in few bytes. Moments are on the run's clock.
type Raw struct {
	Due, Start, End time.Duration
	Latency         time.Duration
	Sent, Received  int64
	Length          int64
	Parts           [shots.MaxParts]Brief   // by their places in the shape
	Amounts         [shots.MaxAmounts]Brief // likewise
	Row             int32
	Class           shots.Class
	Trace           [16]byte
}

// Early is one of the first shots, as far as a start is told by them. Moments are on the run's clock.
type Early struct {
	Due, Start, End time.Duration // Due is 0 unless it was due at a moment
	Latency         time.Duration
	OK              bool
}

// Brief is a length of time or an amount in four bytes, exact to a ten-millionth.
type Brief float32

// Bucket is what ended within Every of the time line.
type Bucket struct {
	Shots, Failed int64
	Latency, Max  time.Duration // of the successful ones: summed, and the longest
}

// Late is the part of every latency that counts from a moment: until the shot began. It comes before those of the kind.
const Late = "late"

// part is a part's histogram with its exact sum.
type part struct {
	counts
	sum time.Duration
}

func (p *part) record(d time.Duration) {
	p.counts.record(d)
	p.sum += d
}

func (p *part) clear() {
	p.reset()
	p.sum = 0
}

// step is what was recorded of one level of a climb.
type step struct {
	counts
	shots, failed int64
}

// StepAt is the step of a climb of n steps over span that a moment falls into, from 0.
func StepAt(at, span time.Duration, n int) int {
	return int(min(max(int64(at)*int64(n)/max(int64(span), 1), 0), int64(n-1)))
}

// told is an amount by the name that a contender gave it, in steps of its unit.
type told struct {
	name    string
	unit    units.Unit
	perUnit float64
	part
}

// Sort is how many shots of a sort there were.
type Sort struct {
	Name       string
	OK, Failed int64
}

// Recorder records the shots of one client or crew. Record and Reset belong to one goroutine; Recent and Total may be
// called by others.
type Recorder struct {
	Sums
	latencies counts
	shape     *shots.Shape
	late      part
	parts     []part // as many as the shape has
	told      []told
	sorts     shots.Sorts    // of shots, by their rows
	sortsDone []Sort         // shots of each
	course    []shots.Moment // of shots that took long
	within    []Point        // stretches of shots that tell of them
	steps     []step         // of a climb; none without one
	climb     time.Duration
	insides   insides
	buckets   []Bucket
	early     []Early // capacity fixed
	raw       []Raw   // capacity fixed
	takenIn   []sample
	failed    []Raw // the first ones
	slowest   Raw
	rng       *rand.Rand
	pass      int64   // shots that the full sample still passes over
	chance    float64 // of algorithm L: its W

	ring  []atomic.Uint64 // points, see pack; as many as a power of two
	total atomic.Int64
}

// A point in one word, since what costs is each store that others may read: 23 bits of latency, 4 of class and 37 of
// the moment.
const (
	classBits   = 4
	momentBits  = 37
	momentUnit  = 10 * time.Microsecond // the moments wrap around after 15 days
	dropBits    = 8                     // of a float32's fraction, which leaves 15: enough for a picture
	classMask   = 1<<classBits - 1
	momentMask  = 1<<momentBits - 1
	latencyFrom = classBits + momentBits
)

func pack(at, latency time.Duration, class shots.Class) uint64 {
	short := uint64(math.Float32bits(float32(max(latency, 0))) >> dropBits)
	return short<<latencyFrom | uint64(class&classMask)<<momentBits | uint64(at/momentUnit)&momentMask
}

func unpack(word uint64) Point {
	return Point{
		At:      time.Duration(word&momentMask) * momentUnit,
		Latency: time.Duration(math.Float32frombits(uint32(word>>latencyFrom) << dropBits)),
		Class:   shots.Class(word >> momentBits & classMask),
	}
}

// Sums are what is added up over shots. Cut shots are in none of them.
type Sums struct {
	Counts         [shots.Classes]int64 // shots by class
	Latency        time.Duration        // of the successful ones, summed
	Sent, Received int64
	Amounts        [shots.MaxAmounts]int64 // by their places in the shape: added up, or the most
	Grain          int64                   // by how much the most memory may be off
	LeftBehind     int64                   // processes that outlived their shot and were ended
	Lags           Lags                    // of shots that were due at a moment: how late they started
	// from the start of the judged part to the end of the last shot, summed over clients
	Elapsed time.Duration
	Causes  []string // the first failures in their own words
}

// Shots is how many there were.
func (s *Sums) Shots() (n int64) {
	for _, c := range s.Counts {
		n += c
	}
	return n
}

// count takes an amount in, as its fold says.
func (s *Sums) count(at int, fold shots.Fold, n, grain int64) {
	switch {
	case fold == shots.Sum:
		s.Amounts[at] += n
	case n > s.Amounts[at]:
		s.Amounts[at], s.Grain = n, grain
	}
}

// Failures is how many failed.
func (s *Sums) Failures() int64 { return s.Shots() - s.Counts[shots.OK] }

// NewRecorder returns a recorder of shots of a shape that keeps up to keep of them one by one and shows watchers the
// latest ones, up to recent.
func NewRecorder(shape *shots.Shape, keep, recent int) *Recorder {
	r := &Recorder{
		shape: shape, parts: make([]part, len(shape.Parts)), raw: make([]Raw, 0, keep),
		ring: make([]atomic.Uint64, 1<<bits.Len(uint(max(recent, 2)-1))),
	}
	r.Reset(0)
	return r
}

// Reset empties the recorder for the next heat; its sample is drawn from seed. Nobody may be watching.
func (r *Recorder) Reset(seed uint64) {
	r.Sums = Sums{}
	r.latencies.reset()
	r.late.clear()
	for i := range r.parts {
		r.parts[i].clear()
	}
	r.sorts, r.sortsDone = shots.Sorts{}, nil
	r.told, r.course, r.within = r.told[:0], r.course[:0], r.within[:0]
	r.steps = nil
	r.insides.reset()
	r.buckets = r.buckets[:0]
	r.early, r.raw, r.failed, r.slowest = r.early[:0], r.raw[:0], r.failed[:0], Raw{}
	r.takenIn = nil
	r.rng, r.pass, r.chance = rand.New(rand.NewPCG(seed, 0x73616d70)), 0, 1
	r.total.Store(0)
}

// Sort has the latencies of each sort of shots recorded by themselves, too, until the next Reset.
func (r *Recorder) Sort(sorts shots.Sorts) {
	r.sorts, r.sortsDone = sorts, nil
	for _, name := range sorts.Names {
		r.sortsDone = append(r.sortsDone, Sort{Name: name})
	}
}

// sort adds a shot to those of its sort.
func (r *Recorder) sort(shot *shots.Shot, latency time.Duration) {
	of := &r.sortsDone[r.sorts.Of[shot.Row%len(r.sorts.Of)]]
	if shot.Class != shots.OK {
		of.Failed++
		return
	}
	of.OK++
	r.tell(&shots.Mark{Name: of.Name, Unit: units.Second, Value: latency.Seconds()})
}

// KeepFirst has the first n shots of each heat kept in short, and returns the recorder.
func (r *Recorder) KeepFirst(n int) *Recorder {
	r.early = make([]Early, 0, n)
	return r
}

// Climb has shots recorded by the step of a climb in which they were due, or else begun.
func (r *Recorder) Climb(steps int, span time.Duration) {
	r.steps, r.climb = make([]step, steps), span
}

// Record adds a shot; start is when the judged part of the heat began. Shots that were cut are not counted.
func (r *Recorder) Record(shot *shots.Shot, start time.Duration) {
	if shot.Class == shots.Cut {
		return
	}
	latency := shot.Latency()
	r.Counts[shot.Class]++
	if shot.Class == shots.OK {
		r.Latency += latency
		r.latencies.record(latency)
		r.recordParts(shot)
		if (len(shot.Inside) > 0 || shot.TraceStride > 0) && r.insides.most > 0 {
			r.look(shot, latency)
		}
	} else if len(r.Causes) < maxCauses && shot.Err != nil {
		r.Causes = append(r.Causes, shot.Err.Error())
	}
	if len(r.sortsDone) > 0 {
		r.sort(shot, latency)
	}
	if shot.Due > 0 {
		r.Lags.add(shot.Start - shot.Due)
	}
	if len(shot.Course) > 0 && len(r.course) < maxCourse {
		r.course = append(r.course, shot.Course...)
	}
	if len(shot.Within) > 0 && len(r.within) < maxWithin {
		for _, s := range shot.Within {
			r.within = append(r.within, Point{At: s.At, Latency: s.Latency})
		}
	}
	r.Sent += shot.Sent
	r.Received += shot.Received
	r.LeftBehind += int64(shot.LeftBehind)
	for m := shot.AmountsCounted(); m != 0; m &= m - 1 {
		at := bits.TrailingZeros16(m)
		r.count(at, r.shape.Amounts[at].Fold, shot.Amounts[at], shot.Grain)
	}
	r.Elapsed = max(r.Elapsed, shot.End-start) // what was sampled is recorded later
	r.enter(shot.End-start, latency, shot.Class)
	if r.steps != nil {
		r.ascend(shot, start, latency)
	}
	if len(r.early) < cap(r.early) {
		r.early = append(r.early, Early{shot.Due, shot.Start, shot.End, latency, shot.Class == shots.OK})
	}
	if r.pass--; r.pass < 0 || shot.Class != shots.OK || latency > r.slowest.Latency || len(r.raw) < cap(r.raw) {
		r.keep(shot, latency)
	}
	n := r.total.Load()
	r.ring[n&int64(len(r.ring)-1)].Store(pack(shot.End, latency, shot.Class))
	r.total.Store(n + 1)
}

// maxCourse is how many moments of long shots are kept at least before no more are.
const maxCourse = 20_000

// maxWithin is how many stretches of shots are kept at least before no more are.
const maxWithin = 20_000

// ascend adds a shot to its step.
func (r *Recorder) ascend(shot *shots.Shot, start, latency time.Duration) {
	at := cmp.Or(shot.Due, shot.Start) - start
	s := &r.steps[StepAt(at, r.climb, len(r.steps))]
	s.shots++
	if shot.Class != shots.OK {
		s.failed++
		return
	}
	s.record(latency)
}

// recordParts takes a latency to pieces, as the driver did.
func (r *Recorder) recordParts(shot *shots.Shot) {
	if shot.Due > 0 {
		r.late.record(shot.Start - shot.Due)
	}
	for m := shot.PartsTaken(); m != 0; m &= m - 1 {
		at := bits.TrailingZeros16(m)
		r.parts[at].record(shot.Parts[at])
	}
	for i := range shot.Told {
		r.tell(&shot.Told[i])
	}
}

// mostTold bounds what is recorded of an amount that is told, in steps: of times, a day.
const mostTold = float64(24 * time.Hour)

// tell adds an amount by its name.
func (r *Recorder) tell(m *shots.Mark) {
	for i := range r.told {
		if t := &r.told[i]; t.name == m.Name && t.unit == m.Unit {
			t.record(time.Duration(min(m.Value*t.perUnit+0.5, mostTold)))
			return
		}
	}
	if len(r.told) >= shots.MaxMarks {
		return
	}
	r.told = append(r.told, told{name: m.Name, unit: m.Unit, perUnit: m.Unit.PerUnit()})
	r.tell(m)
}

// maxBuckets bounds a time line: an hour and what was under way then.
const maxBuckets = int(2 * time.Hour / Every)

// enter adds a shot to the time line.
func (r *Recorder) enter(since, latency time.Duration, class shots.Class) {
	at := min(int(max(since, 0)/Every), maxBuckets-1)
	for len(r.buckets) <= at {
		r.buckets = append(r.buckets, Bucket{})
	}
	b := &r.buckets[at]
	b.Shots++
	if class != shots.OK {
		b.Failed++
		return
	}
	b.Latency += latency
	b.Max = max(b.Max, latency)
}

// keep takes a shot into the sample: all of them as long as there is room, then each with the same chance (Li's
// algorithm L, ACM TOMS 20 (1994) 481, which draws how many to pass over). The slowest, and the first that failed, are
// kept beside it.
func (r *Recorder) keep(shot *shots.Shot, latency time.Duration) {
	failed := shot.Class != shots.OK && len(r.failed) < maxFailed
	slowest := latency > r.slowest.Latency
	room, chosen := len(r.raw) < cap(r.raw), false
	if !room {
		chosen = r.pass < 0
	}
	raw := Raw{
		Due: shot.Due, Start: shot.Start, End: shot.End, Latency: latency, Sent: shot.Sent, Received: shot.Received,
		Length: shot.Length, Row: int32(shot.Row), Class: shot.Class, Trace: shot.Trace,
	}
	for i := range r.shape.Parts {
		raw.Parts[i] = Brief(shot.Parts[i])
	}
	for i := range r.shape.Amounts {
		raw.Amounts[i] = Brief(shot.Amounts[i])
	}
	switch {
	case room:
		r.raw = append(r.raw, raw)
	case chosen && len(r.raw) > 0:
		r.raw[r.rng.IntN(len(r.raw))] = raw
	}
	if chosen || room && len(r.raw) == cap(r.raw) {
		r.passOver()
	}
	if failed {
		r.failed = append(r.failed, raw)
	}
	if slowest {
		r.slowest = raw
	}
}

// passOver draws how many shots the full sample passes over.
func (r *Recorder) passOver() {
	r.chance *= math.Exp(math.Log(1-r.rng.Float64()) / float64(max(cap(r.raw), 1)))
	over := math.Floor(math.Log(1-r.rng.Float64()) / math.Log1p(-r.chance))
	r.pass = int64(min(over, math.MaxInt64/2))
}

// Total is how many shots were recorded so far. It may be called while the recorder records.
func (r *Recorder) Total() int64 { return r.total.Load() }

// Recent appends the shots from the from-th on to into, oldest first, as far as they are still there, and returns how
// many there were in all. Their moments are exact to 10 µs, their latencies to a ten-thousandth. It may be called while
// the recorder records.
func (r *Recorder) Recent(from int64, into []Point) ([]Point, int64) {
	end, size := r.total.Load(), int64(len(r.ring))
	from = max(from, end-size+1)
	kept := len(into)
	for i := from; i < end; i++ {
		into = append(into, unpack(r.ring[i&(size-1)].Load()))
	}
	// What was written over meanwhile, or may be just now, is no shot.
	if gone := r.total.Load() - size + 1 - from; gone > 0 {
		into = slices.Delete(into, kept, kept+int(min(gone, int64(len(into)-kept))))
	}
	return into, end
}

// Part is one part of the latencies of a heat, or an amount that was told.
type Part struct {
	Name      string
	Told      bool // by the contender, not seen by us
	Unit      units.Unit
	PerUnit   float64 // how many of the recorded values make one of the unit
	Sum       int64   // of the recorded values
	Histogram *hdrhistogram.Histogram
}

// Step is one level of a climb.
type Step struct {
	Shots, Failed int64
	Histogram     *hdrhistogram.Histogram // of the successful shots
}

// Merged is what the recorders of a heat hold together.
type Merged struct {
	Sums
	Latencies *hdrhistogram.Histogram
	Parts     []Part         // those that any shot has
	Buckets   []Bucket       // of the time line, from the start of the judged part
	Steps     []Step         // of a climb, the lowest first
	Course    []shots.Moment // of shots that took long
	Sorts     []Sort         // of shots, where rows name them
}

// Merge adds up the recorders of a heat that is over. What it returns is the caller's own.
func Merge(rs []*Recorder) *Merged {
	m := &Merged{Latencies: NewHistogram()}
	if len(rs) == 0 {
		return m
	}
	shape := rs[0].shape
	add := func(name string, t *told, p *part) {
		at := slices.IndexFunc(m.Parts, func(o Part) bool {
			return o.Name == name && o.Told == (t != nil) && (t == nil || o.Unit == t.unit)
		})
		if at < 0 {
			one := Part{Name: name, Unit: units.Second, PerUnit: units.Second.PerUnit(), Histogram: NewHistogram()}
			if t != nil {
				one.Told, one.Unit, one.PerUnit = true, t.unit, t.perUnit
			}
			m.Parts = append(m.Parts, one)
			at = len(m.Parts) - 1
		}
		p.addTo(m.Parts[at].Histogram)
		m.Parts[at].Sum += int64(p.sum)
	}
	for _, r := range rs {
		if r.late.any() {
			add(Late, nil, &r.late)
		}
	}
	for i, name := range shape.Parts {
		for _, r := range rs {
			if r.parts[i].any() {
				add(name, nil, &r.parts[i])
			}
		}
	}
	for _, r := range rs {
		for i, s := range r.sortsDone {
			if i == len(m.Sorts) {
				m.Sorts = append(m.Sorts, Sort{Name: s.Name})
			}
			m.Sorts[i].OK += s.OK
			m.Sorts[i].Failed += s.Failed
		}
		m.Course = append(m.Course, r.course...)
		m.merge(shape, &r.Sums)
		r.latencies.addTo(m.Latencies)
		for i := range r.told {
			add(r.told[i].name, &r.told[i], &r.told[i].part)
		}
		for i := range r.steps {
			if i == len(m.Steps) {
				m.Steps = append(m.Steps, Step{Histogram: NewHistogram()})
			}
			m.Steps[i].Shots += r.steps[i].shots
			m.Steps[i].Failed += r.steps[i].failed
			r.steps[i].addTo(m.Steps[i].Histogram)
		}
		for i, b := range r.buckets {
			if i == len(m.Buckets) {
				m.Buckets = append(m.Buckets, Bucket{})
			}
			m.Buckets[i].add(&b)
		}
	}
	return m
}

// Points are the shots that Kept gives, as points; those that succeeded by their stretches where they tell of these.
func Points(rs []*Recorder) []Point {
	var out []Point
	for _, r := range rs {
		out = append(out, r.within...)
	}
	byStretch := len(out) > 0
	each(rs, func(r *Raw) {
		if !byStretch || r.Class.Failed() {
			out = append(out, Point{At: r.End, Latency: r.Latency, Class: r.Class})
		}
	})
	slices.SortFunc(out, func(a, b Point) int { return cmp.Compare(a.At, b.At) })
	return out
}

// First are the first shots of a part of a heat that is over, in the order in which they ended, as far as none is
// missing between them; all says that there were no more.
func First(rs []*Recorder) (out []Early, all bool) {
	all = true
	until := time.Duration(math.MaxInt64) // from there on one may be missing
	for _, r := range rs {
		out = append(out, r.early...)
		if n := len(r.early); r.Total() > int64(n) {
			all = false
			if n == 0 {
				return nil, false
			}
			until = min(until, r.early[n-1].End)
		}
	}
	slices.SortStableFunc(out, func(a, b Early) int { return cmp.Compare(a.End, b.End) })
	if !all {
		n, _ := slices.BinarySearchFunc(out, until, func(e Early, t time.Duration) int { return cmp.Compare(e.End, t) })
		out = out[:n]
	}
	return out, all
}

// Kept are the shots that were kept one by one in a heat that is over, in the order in which they ended: all of them,
// or with sampled a uniform choice and, beside it, the slowest and the first that failed.
func Kept(rs []*Recorder) (out []Raw, sampled bool) {
	sampled = each(rs, func(r *Raw) { out = append(out, *r) })
	slices.SortFunc(out, func(a, b Raw) int { return cmp.Compare(a.End, b.End) })
	return out, sampled
}

// each visits the shots of all recorders. Where some left shots out, every recorder gives the same share of its shots,
// so that each shot of the heat has the same chance.
func each(rs []*Recorder, visit func(*Raw)) (sampled bool) {
	share := 1.0
	for _, r := range rs {
		if own := r.keptShare(); own < 1 {
			sampled = true
			share = min(share, own)
		}
	}
	for _, r := range rs {
		extra := map[Raw]bool{}
		if sampled && r.slowest.End > 0 {
			extra[r.slowest] = true
			for _, f := range r.failed {
				extra[f] = true
			}
		}
		r.evenly(share, func(chosen *Raw) {
			visit(chosen)
			delete(extra, *chosen)
		})
		for one := range extra {
			visit(&one)
		}
	}
	return sampled
}

// merge adds another's sums.
func (s *Sums) merge(shape *shots.Shape, o *Sums) {
	for class, n := range o.Counts {
		s.Counts[class] += n
	}
	s.Latency += o.Latency
	s.Sent += o.Sent
	s.Received += o.Received
	for i := range shape.Amounts {
		s.count(i, shape.Amounts[i].Fold, o.Amounts[i], o.Grain)
	}
	s.LeftBehind += o.LeftBehind
	s.Elapsed += o.Elapsed
	s.Lags.merge(&o.Lags)
	for _, cause := range o.Causes {
		if len(s.Causes) < maxCauses {
			s.Causes = append(s.Causes, cause)
		}
	}
}
