// Package bystander keeps a light probe going while a contender works, and says who waited meanwhile.
//
// A probe is due at set moments, whoever still waits for the one before it, and its wait counts from the moment due: so
// what holds everybody up shows in all that were due meanwhile. Ticks are the same the other way round: lines that a
// program should print by itself at set times, and how late each came.
//
// What is asked is a driver's business, when a heat begins and ends that of package rounds, and what the figures are
// worth that of package judge.
package bystander

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/pace"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Probe is one question, or one tick. Moments are on the run's clock.
type Probe struct {
	Due, End time.Duration
	Class    shots.Class // Cut: it still waited when the watching ended
}

func (p *Probe) wait() time.Duration { return max(p.End-p.Due, 0) }

// Clients is how many probes may be under way at a time. Those that are due beyond them wait to be sent, and their wait
// counts from the moment due all the same. It is so high because of those who let everybody in at once, again and
// again: of a lower one the rest would still wait when the next hold-up begins, and more of them each time. FewClients
// is the same of probes that each cost a process, or a session of a database.
const (
	Clients    = 256
	FewClients = 16
)

// Lazy makes n clients of which each is made when it is first needed, one at a time: most never are.
func Lazy(n int, client func(i int) contender.Client) (out []contender.Client) {
	var making sync.Mutex
	for i := range n {
		out = append(out, &lazy{make: func() contender.Client {
			making.Lock()
			defer making.Unlock()
			return client(i)
		}})
	}
	return out
}

type lazy struct {
	make func() contender.Client
	of   contender.Client // nil: not made yet
}

// Shoot implements contender.Client.
func (l *lazy) Shoot(ctx context.Context, shot *shots.Shot) {
	if l.of == nil {
		l.of = l.make()
	}
	l.of.Shoot(ctx, shot)
}

// Rewind implements contender.Client.
func (l *lazy) Rewind() {
	if l.of != nil {
		l.of.Rewind()
	}
}

// Close implements contender.Client.
func (l *lazy) Close() {
	if l.of != nil {
		l.of.Close()
	}
}

// longest is the longest that a bystander may go on: longer than any heat.
const longest = 4 * time.Hour

// Watch is a bystander at work.
type Watch struct {
	clock    *clock.Clock
	rate     float64
	seen     []*collector
	stop     context.CancelFunc
	finished chan struct{}
	err      error

	mu    sync.Mutex
	first time.Duration              // when the first probe was due
	due   int                        // how many have been
	open  map[time.Duration]struct{} // those that have no answer yet, by when they were due
}

// Begin has probes performed at their moments, from its return until End.
func Begin(ctx context.Context, clk *clock.Clock, b *plan.Bystander, clients []contender.Client) *Watch {
	w := &Watch{
		clock: clk, rate: float64(b.Rate), finished: make(chan struct{}), open: map[time.Duration]struct{}{},
	}
	heat := pace.Heat{
		Clock: clk, Clients: clients, Size: len(clients),
		Pace: plan.Pace{Rate: b.Rate, Most: len(clients), For: plan.Span(longest)},
	}
	nothing := tally.NewRecorder(&shots.Shape{}, 0, 1) // is recorded: collectors keep all
	for range clients {
		c := &collector{of: w}
		w.seen = append(w.seen, c)
		heat.Checkers = append(heat.Checkers, c)
		heat.Judged = append(heat.Judged, nothing)
	}
	began := make(chan struct{})
	heat.OnDue = func(at time.Duration) {
		if w.isDue(at) {
			close(began)
		}
	}
	own, stop := context.WithCancel(ctx)
	w.stop = stop
	go func() {
		defer close(w.finished)
		defer panics.Catch("ask as a bystander", &w.err)
		_, w.err = heat.Drive(own)
	}()
	select {
	case <-began:
	case <-w.finished:
	}
	return w
}

// isDue notes a probe that is due from now on, and reports whether it is the first.
func (w *Watch) isDue(at time.Duration) (first bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if first = w.due == 0; first {
		w.first = at
	}
	w.due++
	w.open[at] = struct{}{}
	return first
}

// isOver notes that a probe has come to its end.
func (w *Watch) isOver(at time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.open, at)
}

// answered reports whether all probes that are due before a moment have come to their end.
func (w *Watch) answered(until time.Duration) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if next := w.first + time.Duration(float64(w.due)/w.rate*1e9); next < until {
		return false
	}
	for at := range w.open {
		if at < until {
			return false
		}
	}
	return true
}

// patience is for how long those that still wait when the watching ends are waited for: what held them up is over, and
// how long they waited is what is wanted of them.
const patience = 10 * time.Second

// End ends it once those that were due before a moment have their answers, or have waited for long enough: then they
// are cut. It returns all probes by the moments at which they were due. The error is a fault of ours.
func (w *Watch) End(ctx context.Context, until time.Duration) ([]Probe, error) {
	const look = 2 * time.Millisecond
	for limit := until + patience; ctx.Err() == nil && w.clock.Now() < limit && !w.answered(until); {
		select {
		case <-time.After(look):
		case <-w.finished:
			limit = 0
		}
	}
	w.stop()
	<-w.finished
	var all []Probe
	for _, c := range w.seen {
		all = append(all, c.probes...)
	}
	slices.SortFunc(all, func(a, b Probe) int { return cmp.Compare(a.Due, b.Due) })
	var fault *panics.Error
	if errors.As(w.err, &fault) {
		return all, w.err
	}
	return all, nil
}

// collector keeps what one client's probes waited.
type collector struct {
	of     *Watch
	probes []Probe
}

// mostProbes bounds what is kept of one client.
const mostProbes = 1 << 20

// Ask implements pace.Checker.
func (c *collector) Ask(*shots.Shot) {}

// Take implements pace.Checker: nobody else records the shot.
func (c *collector) Take(s *shots.Shot) bool {
	if len(c.probes) < mostProbes {
		c.probes = append(c.probes, Probe{s.Due, s.End, s.Class})
	}
	c.of.isOver(s.Due)
	return false
}

// Silence is a stretch in which a probe that was due had no answer. Times count from the beginning of the watching.
type Silence struct{ At, Lasted time.Duration }

// Account is what became of the probes of a stretch.
type Account struct {
	Span            time.Duration
	Due, OK, Failed int64
	// Waiting are those that never had an answer; what they had waited until they were cut is part of all that follows
	// but the waits.
	Waiting int64
	Waits   *hdrhistogram.Histogram // of those that were answered, from the moment due
	WaitSum time.Duration
	Longest time.Duration // that anybody waited, at least
	HeldUp  time.Duration // in which somebody waited who was to wait for longer than the limit
	// Silences are the longest stretches of these, in their order, and Dots an even choice of all waits, by when they
	// were due.
	Silences []Silence
	Dots     []Silence
}

// Limits of what is kept for pictures.
const (
	maxSilences = 50
	maxDots     = 400
)

// Look says what became of the probes that were due from one moment to another; within is for how long one may wait
// without being held up.
func Look(probes []Probe, from, to, within time.Duration) *Account {
	a := &Account{Span: to - from, Waits: tally.NewHistogram()}
	var own []Probe
	for _, p := range probes {
		if p.Due >= from && p.Due < to {
			own = append(own, p)
		}
	}
	a.Due = int64(len(own))
	var held Silence
	add := func() {
		if held.Lasted > 0 {
			a.HeldUp += held.Lasted
			a.Silences = append(a.Silences, held)
		}
		held = Silence{}
	}
	for i := range own {
		p := &own[i]
		switch {
		case p.Class == shots.Cut:
			a.Waiting++
		case p.Class == shots.OK:
			a.OK++
			a.Waits.RecordValue(int64(p.wait()))
			a.WaitSum += p.wait()
		default:
			a.Failed++
		}
		a.Longest = max(a.Longest, p.wait())
		if p.wait() <= within {
			continue
		}
		end := min(p.End, to) - from // whoever still waits when it is over is held up no longer by what is watched
		if begin := p.Due - from; held.Lasted == 0 || begin > held.At+held.Lasted {
			add()
			held = Silence{begin, end - begin}
		} else {
			held.Lasted = max(held.Lasted, end-held.At)
		}
	}
	add()
	slices.SortFunc(a.Silences, func(a, b Silence) int { return cmp.Compare(b.Lasted, a.Lasted) })
	a.Silences = a.Silences[:min(len(a.Silences), maxSilences)]
	slices.SortFunc(a.Silences, func(a, b Silence) int { return cmp.Compare(a.At, b.At) })
	for i := range min(len(own), maxDots) {
		p := &own[i*len(own)/min(len(own), maxDots)]
		a.Dots = append(a.Dots, Silence{p.Due - from, p.wait()})
	}
	return a
}
