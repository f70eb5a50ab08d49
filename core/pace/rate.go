package pace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Schedule gives the moments at which the shots of an open model are due, as offsets from the start of a part. It is
// the same each time for the same pace and seed.
type Schedule struct {
	moment func(n float64) float64 // in seconds, when n shots have become due
	rng    *rand.Rand
	n      float64
}

// NewSchedule spaces shots evenly, or at random gaps (a Poisson process) drawn from seed, at the pace's rate or along
// its climb.
func NewSchedule(p plan.Pace, seed uint64) *Schedule {
	s := &Schedule{moment: func(n float64) float64 { return n / float64(p.Rate) }}
	if p.Climb != nil {
		s.moment = climbing(p.Climb, p.For.D().Seconds())
	}
	if p.Spread == plan.Poisson {
		s.rng = rand.New(rand.NewPCG(seed, 0x706f6973))
	}
	return s
}

// climbing is the inverse of how many shots have become due by a moment of a climb that lasts span seconds.
func climbing(c *plan.Climb, span float64) func(n float64) float64 {
	if c.Steps == 0 {
		from, growth := c.From.Value(), math.Log(c.To.Value()/c.From.Value())
		// The rate at t is from·exp(growth·t/span); its integral is solved for t.
		return func(n float64) float64 { return span / growth * math.Log1p(growth*n/(from*span)) }
	}
	levels := c.Levels()
	each := span / float64(len(levels))
	return func(n float64) float64 {
		for i, rate := range levels {
			if due := rate * each; n >= due && i < len(levels)-1 {
				n -= due
			} else {
				return float64(i)*each + n/rate
			}
		}
		return span
	}
}

// dueTimes are when the shots of a stage are due that this heat performs, as offsets from its start, each with its
// number among those of the whole.
func (h *Heat) dueTimes(stage Stage) func() (at time.Duration, k int) {
	schedule, k := NewSchedule(h.pace(stage), h.Seed), -1
	return func() (time.Duration, int) {
		for {
			at := schedule.Next()
			if k++; h.Part.Has(k) {
				return at, k
			}
		}
	}
}

// Next is when the next shot is due.
func (s *Schedule) Next() time.Duration {
	if s.rng != nil {
		s.n += s.rng.ExpFloat64() // gaps of a unit of the climb, stretched to its rate
	}
	at := s.moment(s.n)
	if s.rng == nil {
		s.n++ // the moments are not added up, so that nothing drifts
	}
	return time.Duration(math.Round(at * 1e9))
}

// open has shots performed at the moments when they are due, whoever is still waiting for an answer: each by a client
// that is free, or by a further one up to their number. A shot whose moment finds none free waits, and its latency
// counts from that moment. What has not been sent when the part is over is dropped and counted.
func (h *Heat) open(ctx context.Context, stage Stage, recorders []*tally.Recorder, q quota, span *Span) error {
	var start time.Duration
	miss := h.misses(stage, span)
	var wg sync.WaitGroup
	due := make(chan time.Duration, queueOf(h.Pace, q))
	var free atomic.Int64 // clients that wait for work
	started := 0
	work := func(i int) {
		c, r, check := h.Clients[i], recorders[i], h.checker(stage, i)
		var shot shots.Shot
		for at := range due {
			free.Add(-1)
			shot = shots.Shot{Due: at}
			if check != nil {
				check.Ask(&shot)
			}
			c.Shoot(ctx, &shot)
			if check == nil || check.Take(&shot) {
				r.Record(&shot, start)
			}
			if shot.Class == shots.Limits {
				h.tryLess(ctx)
			}
			free.Add(1)
		}
	}
	faults := make([]error, len(h.Clients))
	next := h.dueTimes(stage)
	sleep := h.Sleep
	if sleep == nil {
		precise := newSleeper()
		defer precise.release()
		sleep = precise.sleep
	}
	start = h.Clock.Now()
	span.Start = start
	for {
		at, k := next()
		if q.shots > 0 && k >= q.shots || q.span > 0 && at >= q.span {
			break
		}
		if !h.until(ctx, start+at, sleep) {
			break
		}
		if free.Load() <= int64(len(due)) && started < len(h.Clients) {
			free.Add(1)
			i := started
			wg.Go(func() {
				defer panics.Catch(fmt.Sprintf("drive client %d", i+1), &faults[i])
				work(i)
			})
			started++
		}
		if h.OnDue != nil {
			h.OnDue(start + at)
		}
		select {
		case due <- start + at:
		default:
			miss(at) // more are waiting than anybody could wish to wait for
		}
	}
	if q.span > 0 || ctx.Err() != nil { // the time is over: what nobody has taken up by now was not sent in time
		empty(due, func(at time.Duration) { miss(at - start) })
	}
	close(due)
	wg.Wait()
	return cmp.Or(errors.Join(faults...), ctx.Err())
}

// empty takes what waits in a channel just now.
func empty(due <-chan time.Duration, take func(time.Duration)) {
	for {
		select {
		case at := <-due:
			take(at)
		default:
			return
		}
	}
}

// misses returns what counts a shot that was not sent, by the moment when it was due.
func (h *Heat) misses(stage Stage, span *Span) func(at time.Duration) {
	if stage == Judged && h.Pace.Climb != nil {
		span.UnsentAt = make([]int64, len(h.Pace.Climb.Levels()))
	}
	return func(at time.Duration) {
		span.Unsent++
		if n := len(span.UnsentAt); n > 0 {
			span.UnsentAt[tally.StepAt(at, h.Pace.For.D(), n)]++
		}
	}
}

// pace is what a stage goes by: the warm-up of a climb stays at its foot.
func (h *Heat) pace(stage Stage) plan.Pace {
	p := h.Pace
	if c := p.Climb; c != nil && stage == WarmingUp {
		p.Climb, p.Rate, p.Clients = nil, c.From.Rate, c.From.Clients
	}
	return p
}

// clientPace is when the clients of a closed model may shoot. Each entry belongs to one client.
type clientPace struct {
	think  time.Duration
	random []*rand.Rand
	next   []time.Duration // on the clock
}

// clientPace prepares for n clients from start on; nil when they all shoot whenever they can.
func (h *Heat) clientPace(stage Stage, n int, start time.Duration) *clientPace {
	climb := h.pace(stage).Climb
	foot := 0
	if stage == WarmingUp && h.Pace.Climb != nil {
		foot = h.Pace.Climb.From.Clients
	}
	if h.Pace.Think == 0 && h.Pace.Stagger == 0 && climb == nil && foot == 0 {
		return nil
	}
	c := &clientPace{think: h.Pace.Think.D(), next: make([]time.Duration, n), random: make([]*rand.Rand, n)}
	for i := range c.next {
		number := h.Part.Number(i) // among the clients of the whole
		c.next[i] = start + h.Pace.Stagger.D()*time.Duration(number)/time.Duration(h.whole())
		if climb != nil {
			c.next[i] = start + joins(climb, number, h.Pace.For.D())
		}
		if foot > 0 && number >= foot {
			c.next[i] = never
		}
		if h.Pace.Spread == plan.Poisson {
			c.random[i] = rand.New(rand.NewPCG(h.Seed, uint64(number)))
		}
	}
	return c
}

// never is when a client joins that has no part in a stage.
const never = time.Duration(math.MaxInt64)

// joins is when the i-th client of a climb joins in.
func joins(c *plan.Climb, i int, span time.Duration) time.Duration {
	if i < c.From.Clients {
		return 0
	}
	if c.Steps == 0 {
		share := math.Log(float64(i+1)/c.From.Value()) / math.Log(c.To.Value()/c.From.Value())
		return time.Duration(share * float64(span))
	}
	for k, level := range c.Levels() {
		if float64(i) < level {
			return span * time.Duration(k) / time.Duration(c.Steps)
		}
	}
	return span
}

// answered says that client i had its answer at a moment.
func (c *clientPace) answered(i int, at time.Duration) {
	think := c.think
	if c.random[i] != nil {
		think = time.Duration(float64(think) * c.random[i].ExpFloat64())
	}
	c.next[i] = at + think
}

// maxQueue bounds the shots that wait for a free client.
const maxQueue = 1 << 20

func queueOf(p plan.Pace, q quota) int {
	n := q.shots
	if n == 0 {
		n = int(float64(p.Rate)*q.span.Seconds()) + 1
	}
	return min(2*n+16, maxQueue)
}

// sleeper waits precisely: on a thread of its own whose timers the kernel does not put together with others.
type sleeper struct{}

// slack is how late the kernel may wake the thread, in nanoseconds.
const slack = 1

func newSleeper() *sleeper {
	runtime.LockOSThread()
	unix.Prctl(unix.PR_SET_TIMERSLACK, slack, 0, 0, 0)
	return &sleeper{}
}

func (s *sleeper) release() {
	unix.Prctl(unix.PR_SET_TIMERSLACK, 0, 0, 0, 0) // the default again
	runtime.UnlockOSThread()
}

// nap bounds one sleep, so that an interrupt is noticed.
const nap = 20 * time.Millisecond

func (*sleeper) sleep(d time.Duration) {
	spec := unix.NsecToTimespec(int64(d))
	unix.Nanosleep(&spec, nil) // a signal only ends it early
}

// until waits for a moment on the clock; false means that ctx ended before.
func (h *Heat) until(ctx context.Context, moment time.Duration, sleep func(time.Duration)) bool {
	for {
		left := moment - h.Clock.Now()
		switch {
		case ctx.Err() != nil:
			return false
		case left <= 0:
			return true
		}
		sleep(min(left, nap))
	}
}
