package rounds

import (
	"math"
	"slices"
	"time"

	"paceduel/core/contender"
	"paceduel/core/footing"
	"paceduel/core/meter"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// ServiceIs says what becomes of a contender's service, as its heat is prepared and ended.
type ServiceIs footing.News

func (ServiceIs) event() {}

// mostMoments is how many moments of a service a heat keeps.
const mostMoments = 200

// serviceWatch watches the service of a heat from its first shot on. The zero value watches nothing.
type serviceWatch struct {
	watch  *meter.Watch
	began  time.Duration
	of     contender.Resident
	killed int64 // before the heat
	passed bool
	whole  time.Duration // CPU time that it used; known when the watch has ended
}

func (r *runner) watchService(of contender.Resident) *serviceWatch {
	if of.PID == 0 {
		return &serviceWatch{}
	}
	w := &serviceWatch{began: r.clock.Now(), watch: meter.StartWatch(of.PID, of.Every, of.CPU), of: of}
	w.killed = w.killedNow()
	return w
}

// killedNow is how many processes the kernel has killed for wanting more memory than they may have.
func (w *serviceWatch) killedNow() int64 {
	if w.of.Killed == nil {
		return 0
	}
	return w.of.Killed()
}

// mark has CPU time and peak memory count from now on, pass up to now.
func (w *serviceWatch) mark() {
	if w.watch != nil {
		w.watch.Mark()
	}
}

func (w *serviceWatch) pass() {
	if w.watch != nil && !w.passed {
		w.passed = true
		w.watch.Pass()
	}
}

// end ends the watch; nil where nothing was watched.
func (w *serviceWatch) end() *result.Service {
	if w.watch == nil {
		return nil
	}
	seen := w.watch.Stop()
	w.whole = seen.Whole
	s := &result.Service{
		CPU: seen.CPU, CPUExact: w.of.CPU != nil, Peak: seen.Peak, Exact: seen.Exact, Proportional: seen.Proportional,
		Limits: w.of.Limits,
	}
	s.Killed = max(w.killedNow()-w.killed, 0)
	s.Moments = thinned(len(seen.Moments), func(i int) result.Moment {
		m := &seen.Moments[i]
		return result.Moment{
			At: w.began + m.At, Resident: m.Resident, Swapped: m.Swapped, Threads: m.Threads, Processes: m.Processes,
			CPU: m.CPU, Read: m.Read, Written: m.Written,
		}
	})
	return s
}

// thinned is an even choice of n moments, the last one among them.
func thinned(n int, moment func(i int) result.Moment) (out []result.Moment) {
	step := max((n-1+mostMoments)/mostMoments, 1)
	for i := range n {
		if i%step == 0 || i == n-1 {
			out = append(out, moment(i))
		}
	}
	return out
}

// inARow is how many shots have to take no longer than the judged ones for a start to have settled, and likeJudged the
// share of those that may be longer.
const (
	inARow      = 3
	likeJudged  = 0.95
	settledFrom = 20 // judged shots, to have something to go by
)

// firsts are the shots of the heat that is over in the order in which they ended, as far as they are known without a
// gap.
func (h *heat) firsts() []tally.Early {
	early, all := tally.First(h.warm)
	if !all {
		return early
	}
	judged, _ := tally.First(h.judged)
	return append(early, judged...)
}

// follow tells how a start went on, from the first shots of its heat.
func (h *heat) follow(doc *result.Heat, start *result.Start) {
	firsts := h.firsts()
	if h.at.plan.Pace.Rush {
		start.Rush = rushed(firsts, start.At+start.Ready)
	}
	answered := slices.DeleteFunc(slices.Clone(firsts), func(e tally.Early) bool { return !e.OK })
	if len(answered) > 0 {
		first := answered[0]
		start.Asked, start.First, start.FirstTook = first.Start-start.At, first.End-start.At, first.Latency
	}
	if len(answered) > 1 {
		second := answered[1]
		start.Second, start.SecondTook = second.End-start.At, second.Latency
	}
	if doc.OK < settledFrom {
		return
	}
	histogram, err := doc.Histogram()
	if err != nil {
		return // it was encoded a moment ago
	}
	usual := time.Duration(math.Round(histogram.Quantile(likeJudged) * float64(time.Second)))
	for i, run := 0, 0; i < len(firsts); i++ {
		if run++; !firsts[i].OK || firsts[i].Latency > usual {
			run = 0
		}
		if run == inARow {
			at := i - inARow + 1
			start.Settled, start.Shot = firsts[at].End-start.At, int64(at+1)
			return
		}
	}
}

// rushed counts what became of the shots that were due before a service was ready.
func rushed(firsts []tally.Early, ready time.Duration) *result.Rush {
	out := &result.Rush{}
	for _, s := range firsts {
		if s.Due == 0 || s.Due >= ready {
			continue
		}
		out.Due++
		switch {
		case !s.OK:
			out.Failed++
		case s.End > ready:
			out.Waited++
			out.Longest = max(out.Longest, s.Latency)
		}
	}
	return out
}

// beginnings are the latencies of a heat's first shot and of the one after its silence, where they succeeded.
func (h *heat) beginnings(doc *result.Heat) {
	if firsts := h.firsts(); len(firsts) > 0 && firsts[0].OK {
		doc.First = firsts[0].Latency
	}
	if h.at.plan.Pace.Wake == 0 || h.woken.Total() == 0 {
		return
	}
	m := tally.Merge([]*tally.Recorder{h.woken})
	if doc.Wake = m.Latency; m.Counts[shots.OK] > 0 {
		return
	}
	for class := shots.Cut + 1; class < shots.Classes; class++ {
		if m.Counts[class] > 0 {
			doc.WakeFailed = class.String()
		}
	}
}
