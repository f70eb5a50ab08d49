// Package pace decides when each shot is due and drives the clients of one heat accordingly.
//
// Two paces are known: one shot after another (repeat), and a number of clients that each ask again as soon as they
// have their answer (a closed model: a server that stalls also stalls the asking). What a shot is, is the contender's
// business; what becomes of it, package tally's.
package pace

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/tally"
)

// Stage is a part of a heat.
type Stage int

// The stages of a heat, in order.
const (
	WarmingUp Stage = iota
	Judged
)

func (s Stage) String() string {
	if s == WarmingUp {
		return "warm-up"
	}
	return "judged"
}

// Heat is one uninterrupted block of one contender. Clients, Warm and Judged have the same length, one for each client.
type Heat struct {
	Clock   *clock.Clock
	Pace    plan.Pace
	Clients []contender.Client
	Warm    []*tally.Recorder
	Judged  []*tally.Recorder
	// OnStage, when set, is told when a stage begins, from the goroutine that called Drive.
	OnStage func(Stage, time.Duration)
}

// Clients is how many clients a heat of pace p needs.
func Clients(p plan.Pace) int { return max(p.Clients, 1) }

// Drive performs the warm-up, then the judged part, and returns the span of the latter on the clock. Shots under way
// when a timed part ends are finished and counted. The error is ctx's: then the recorders hold what was done until it
// ended.
func (h *Heat) Drive(ctx context.Context) (start, end time.Duration, err error) {
	if w := h.Pace.Warmup; w != nil && (w.For > 0 || w.Shots > 0) {
		h.stage(WarmingUp, h.Clock.Now())
		h.all(ctx, h.Warm, quota{span: w.For.D(), shots: w.Shots})
		for _, c := range h.Clients {
			c.Rewind()
		}
	}
	if ctx.Err() != nil {
		now := h.Clock.Now()
		return now, now, ctx.Err()
	}
	q := quota{span: h.Pace.For.D(), shots: max(h.Pace.Repeat, h.Pace.Shots)}
	start = h.Clock.Now()
	h.stage(Judged, start)
	start = h.all(ctx, h.Judged, q)
	return start, h.Clock.Now(), ctx.Err()
}

func (h *Heat) stage(s Stage, at time.Duration) {
	if h.OnStage != nil {
		h.OnStage(s, at)
	}
}

// quota is how much a part of a heat does: until span is over, or a number of shots in all.
type quota struct {
	span  time.Duration
	shots int
}

// all lets every client shoot until the quota is used up, and returns when the part began.
func (h *Heat) all(ctx context.Context, recorders []*tally.Recorder, q quota) time.Duration {
	var left atomic.Int64
	left.Store(int64(q.shots))
	var wg sync.WaitGroup
	start := h.Clock.Now()
	loop := func(c contender.Client, r *tally.Recorder) {
		var shot contender.Shot
		for ctx.Err() == nil {
			if q.shots > 0 && left.Add(-1) < 0 {
				return
			}
			if q.span > 0 && h.Clock.Now()-start >= q.span {
				return
			}
			shot = contender.Shot{}
			c.Shoot(ctx, &shot)
			r.Record(&shot, start)
		}
	}
	if len(h.Clients) == 1 {
		loop(h.Clients[0], recorders[0]) // no goroutine to start or to switch to
		return start
	}
	for i, c := range h.Clients {
		wg.Go(func() { loop(c, recorders[i]) })
	}
	wg.Wait()
	return start
}
