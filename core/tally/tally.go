// Package tally records shots: a histogram of the latencies of those that succeeded, counts by class of those that did
// not, sums of bytes and CPU, and each shot as a point in time up to a limit.
//
// A Recorder belongs to one client and takes no lock; recording allocates nothing. Watchers may read its points while
// it records. Recorders of a heat are merged exactly when it is over. Percentiles are read elsewhere, from what Merge
// returns.
package tally

import (
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/contender"
)

// MaxPoints is how many shots of a heat are kept one by one, over all clients.
const MaxPoints = 200_000

const (
	maxLatency = time.Hour // longer ones are recorded as this
	digits     = 3         // significant digits of the histogram: a value error of at most 0.1 %
	maxCauses  = 3         // failures kept with their own words
)

// NewHistogram returns an empty histogram of nanoseconds with at most 0.1 % value error, from 1 ns to 1 h.
func NewHistogram() *hdrhistogram.Histogram {
	return hdrhistogram.New(1, int64(maxLatency), digits)
}

// Point is one shot as watchers and time lines need it.
type Point struct {
	At      time.Duration // when it ended, on the run's clock
	Latency time.Duration
	Class   contender.Class
}

// Recorder records the shots of one client. Record and Reset belong to one goroutine; Points may be called by others.
type Recorder struct {
	Sums
	histogram *hdrhistogram.Histogram
	points    []Point // capacity fixed; [0, published) is never written again until Reset
	published atomic.Int64
	total     atomic.Int64
}

// Sums are what is added up over shots. Cut shots are in none of them.
type Sums struct {
	Counts         [contender.Classes]int64 // shots by class
	Latency        time.Duration            // of the successful ones, summed
	Sent, Received int64
	CPU            time.Duration
	Resources      contender.Resources
	Peak           int64 // the most memory of a shot
	Connections    int64 // shots that had to open one
	Connect        time.Duration
	FirstByte      time.Duration // from the start to the first byte of the answer, summed over successful shots that have one
	Lags           Lags          // of shots that were due at a moment: how late they started
	Elapsed        time.Duration // from the start of the judged part to the end of the last shot, summed over clients
	Causes         []string      // the first failures in their own words
}

// Shots is how many there were.
func (s *Sums) Shots() (n int64) {
	for _, c := range s.Counts {
		n += c
	}
	return n
}

// Failures is how many failed.
func (s *Sums) Failures() int64 { return s.Shots() - s.Counts[contender.OK] }

// NewRecorder returns a recorder that keeps up to points shots one by one.
func NewRecorder(points int) *Recorder {
	return &Recorder{histogram: NewHistogram(), points: make([]Point, points)}
}

// Reset empties the recorder for the next heat. Nobody may be reading points.
func (r *Recorder) Reset() {
	r.Sums = Sums{}
	r.histogram.Reset()
	r.published.Store(0)
	r.total.Store(0)
}

// Record adds a shot; start is when the judged part of the heat began. Shots that were cut are not counted.
func (r *Recorder) Record(shot *contender.Shot, start time.Duration) {
	if shot.Class == contender.Cut {
		return
	}
	latency := shot.Latency()
	r.Counts[shot.Class]++
	if shot.Class == contender.OK {
		r.Latency += latency
		r.FirstByte += shot.FirstByte
		r.histogram.RecordValue(int64(min(max(latency, 1), maxLatency)))
	} else if len(r.Causes) < maxCauses && shot.Err != nil {
		r.Causes = append(r.Causes, shot.Err.Error())
	}
	if shot.Due > 0 {
		r.Lags.add(shot.Start - shot.Due)
	}
	r.Sent += shot.Sent
	r.Received += shot.Received
	r.CPU += shot.CPU
	r.Resources.Add(shot.Resources)
	r.Peak = max(r.Peak, shot.Peak)
	if shot.Connect > 0 {
		r.Connections++
		r.Connect += shot.Connect
	}
	r.Elapsed = max(r.Elapsed, shot.End-start) // what was sampled is recorded later
	n := r.published.Load()
	if n < int64(len(r.points)) {
		r.points[n] = Point{At: shot.End, Latency: latency, Class: shot.Class}
		r.published.Store(n + 1)
	}
	r.total.Store(r.total.Load() + 1)
}

// Points returns the shots kept so far, oldest first; the caller must not write to it. It may be called while the
// recorder records.
func (r *Recorder) Points() []Point { return r.points[:r.published.Load()] }

// Total is how many shots were recorded so far, kept one by one or not. It may be called while the recorder records.
func (r *Recorder) Total() int64 { return r.total.Load() }

// Merge adds up the recorders of a heat that is over. The histogram is a new one.
func Merge(rs []*Recorder) (Sums, *hdrhistogram.Histogram) {
	var sums Sums
	h := NewHistogram()
	for _, r := range rs {
		for class, n := range r.Counts {
			sums.Counts[class] += n
		}
		sums.Latency += r.Latency
		sums.Sent += r.Sent
		sums.Received += r.Received
		sums.CPU += r.CPU
		sums.Resources.Add(r.Resources)
		sums.Peak = max(sums.Peak, r.Peak)
		sums.Connections += r.Connections
		sums.Connect += r.Connect
		sums.FirstByte += r.FirstByte
		sums.Elapsed += r.Elapsed
		sums.Lags.merge(&r.Lags)
		for _, cause := range r.Causes {
			if len(sums.Causes) < maxCauses {
				sums.Causes = append(sums.Causes, cause)
			}
		}
		h.Merge(r.histogram) // same range, so nothing is dropped
	}
	return sums, h
}
