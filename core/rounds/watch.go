package rounds

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"paceduel/core/contender"
	"paceduel/core/pace"
	"paceduel/core/panics"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

const (
	leastDots  = 160 // of a heat, kept for pictures
	leastSwept = 24  // the same of a sweep, which has many heats
	mostDots   = 400
	allDots    = 24_000 // of a run, as far as its heats are few
	maxRecent  = 160    // dots in one glance
	maxSorted  = 2000   // shots that a glance computes its percentiles from
)

// watcher looks at the heat under way now and then. Its cost is bounded whatever the rate: a glance reads at most
// maxSorted shots.
type watcher struct {
	h      *heat
	done   chan struct{}
	wg     sync.WaitGroup
	latest []time.Duration // room for a glance
	points []tally.Point

	mu      sync.Mutex
	current pace.Stage
	began   time.Duration
}

func (h *heat) watch() *watcher {
	w := &watcher{h: h, done: make(chan struct{})}
	if h.r.cfg.Glance > 0 {
		w.wg.Go(w.loop)
	}
	return w
}

// stage is told by the driving goroutine which part begins.
func (w *watcher) stage(s pace.Stage, at time.Duration) {
	w.mu.Lock()
	w.current, w.began = s, at
	w.mu.Unlock()
	w.h.r.offer(StageBegan{Round: w.h.round, Cell: w.h.cell, Stage: s, At: at})
}

// stop ends the watching and waits for it, so that the recorders may be reset.
func (w *watcher) stop() {
	close(w.done)
	w.wg.Wait()
}

func (w *watcher) loop() {
	var fault error // a glance that fails is left out; the heat goes on
	defer panics.Catch("look at the heat", &fault)
	r := w.h.r
	tick := time.NewTicker(r.cfg.Glance)
	defer tick.Stop()
	left, since := r.left(), r.clock.Now()
	seen := make([]int64, len(w.h.judged))
	for {
		select {
		case <-w.done:
			return
		case <-tick.C:
		}
		w.mu.Lock()
		stage, began := w.current, w.began
		w.mu.Unlock()
		now := r.clock.Now()
		p := Progress{Round: w.h.round, Cell: w.h.cell, Stage: stage, At: now, Left: left, Said: w.h.ground.Said()}
		if left >= 0 {
			p.Left = max(0, left-(now-since))
		}
		recorders := w.h.warm
		if stage == pace.Judged {
			recorders = w.h.judged
		}
		w.glance(&p, recorders, seen)
		if d, ok := w.h.entry.Driver.(contender.Waiting); ok {
			p.Waits, p.Longest = d.Waits()
		}
		if took := (now - began).Seconds(); took > 0 {
			p.Rate = float64(p.Shots) / took
		}
		r.offer(p)
	}
}

// glance fills in what the recorders show; seen holds how far the judged ones have been read.
func (w *watcher) glance(p *Progress, recorders []*tally.Recorder, seen []int64) {
	latest, points := w.latest[:0], w.points
	defer func() { w.latest, w.points = latest, points }() // for the next glance
	per := int64(max(1, maxSorted/len(recorders)))
	for i, rec := range recorders {
		total := rec.Total()
		p.Shots += total
		points, _ = rec.Recent(max(0, total-per), points[:0])
		for _, pt := range points {
			if pt.Class == shots.OK {
				latest = append(latest, pt.Latency)
			}
		}
		if p.Stage == pace.Judged {
			points, seen[i] = rec.Recent(seen[i], points[:0])
			p.Recent = append(p.Recent, pick(points, max(1, maxRecent/len(recorders)))...)
		}
	}
	slices.SortFunc(p.Recent, func(a, b result.Dot) int { return cmp.Compare(a.At, b.At) })
	if n := len(latest); n > 0 {
		slices.Sort(latest)
		p.P50, p.P99 = latest[n/2], latest[min(n-1, n*99/100)]
	}
}

// offer hands out an event that may be left out when nobody keeps up.
func (r *runner) offer(e Event) {
	r.texts(&e)
	select {
	case r.out <- e:
	default:
	}
}

// pick chooses up to n points evenly by their number. A failure in the stretch that a point stands for goes before it,
// and the slowest of all is always among them, so that neither is lost from the picture.
func pick(points []tally.Point, n int) []result.Dot {
	if len(points) == 0 {
		return nil
	}
	n = min(n, len(points))
	slowest := 0
	for i, p := range points {
		if p.Latency > points[slowest].Latency {
			slowest = i
		}
	}
	out := make([]result.Dot, 0, n)
	for i := range n {
		from, to := i*len(points)/n, (i+1)*len(points)/n
		chosen := points[from]
		if failed := slices.IndexFunc(points[from:to], func(p tally.Point) bool { return p.Class.Failed() }); failed >= 0 {
			chosen = points[from+failed]
		} else if slowest >= from && slowest < to {
			chosen = points[slowest]
		}
		d := result.Dot{At: chosen.At, Latency: rounded(chosen.Latency)}
		if chosen.Class.Failed() {
			d.Class = chosen.Class.String()
		}
		out = append(out, d)
	}
	return out
}

// rounded is a latency to three digits, which is more than a picture shows.
func rounded(d time.Duration) time.Duration {
	unit := time.Duration(1)
	for d/unit >= 1000 {
		unit *= 10
	}
	return d.Round(unit)
}
