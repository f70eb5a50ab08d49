package pace

import (
	"context"
	"math"
	"math/rand/v2"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/tally"
)

// Schedule gives the moments at which the shots of an open model are due, as offsets from the start of a part. It is the
// same each time for the same rate, spread and seed.
type Schedule struct {
	mean float64 // seconds between two
	rng  *rand.Rand
	n    float64 // handed out
	at   float64 // seconds
}

// NewSchedule spaces shots evenly, or at random gaps (a Poisson process) drawn from seed. rate is in shots a second.
func NewSchedule(rate float64, spread string, seed uint64) *Schedule {
	s := &Schedule{mean: 1 / rate}
	if spread == plan.Poisson {
		s.rng = rand.New(rand.NewPCG(seed, 0x706f6973))
	}
	return s
}

// Next is when the next shot is due.
func (s *Schedule) Next() time.Duration {
	if s.rng == nil {
		s.at = s.n * s.mean // not added up, so that nothing drifts
	} else {
		s.at += s.mean * s.rng.ExpFloat64()
	}
	s.n++
	return time.Duration(math.Round(s.at * 1e9))
}

// open has shots performed at the moments when they are due, whoever is still waiting for an answer: each by a client that
// is free, or by a further one up to their number. A shot whose moment finds none free waits, and its latency counts from
// that moment. What has not been sent when the part is over is dropped and counted.
func (h *Heat) open(ctx context.Context, stage Stage, recorders []*tally.Recorder, q quota) (start time.Duration, unsent int64, err error) {
	var wg sync.WaitGroup
	due := make(chan time.Duration, queueOf(h.Pace, q))
	var free atomic.Int64 // clients that wait for work
	started := 0
	work := func(i int) {
		c, r, check := h.Clients[i], recorders[i], h.checker(stage, i)
		var shot contender.Shot
		for at := range due {
			free.Add(-1)
			shot = contender.Shot{Due: at}
			if check != nil {
				check.Ask(&shot)
			}
			c.Shoot(ctx, &shot)
			if check == nil || check.Take(&shot) {
				r.Record(&shot, start)
			}
			free.Add(1)
		}
	}
	schedule := NewSchedule(float64(h.Pace.Rate), h.Pace.Spread, h.Seed)
	sleep := h.Sleep
	if sleep == nil {
		precise := newSleeper()
		defer precise.release()
		sleep = precise.sleep
	}
	start = h.Clock.Now()
	for k := 0; ; k++ {
		at := schedule.Next()
		if q.shots > 0 && k >= q.shots || q.span > 0 && at >= q.span {
			break
		}
		if !h.until(ctx, start+at, sleep) {
			break
		}
		if free.Load() <= int64(len(due)) && started < len(h.Clients) {
			free.Add(1)
			i := started
			wg.Go(func() { work(i) })
			started++
		}
		select {
		case due <- start + at:
		default:
			unsent++ // more are waiting than anybody could wish to wait for
		}
	}
	// The time is over: what nobody has taken up by now was not sent in time.
	for q.span > 0 || ctx.Err() != nil {
		select {
		case <-due:
			unsent++
			continue
		default:
		}
		break
	}
	close(due)
	wg.Wait()
	return start, unsent, ctx.Err()
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
