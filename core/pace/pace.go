// Package pace decides when each shot is due and drives the clients of one heat accordingly.
//
// Three paces are known: one shot after another (repeat), a number of clients that each ask again when they have their
// answer and thought about it (a closed model: a server that stalls also stalls the asking), and shots due at a set
// rate, whoever still waits (an open model: a stall shows in the latency of all that were due meanwhile). Of the two
// latter the load may climb within a heat. What a shot is, is the contender's business; what becomes of it, package
// tally's.
package pace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/shares"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Stage is a part of a heat.
type Stage int

// The stages of a heat, in order.
const (
	WarmingUp Stage = iota
	Judged
	Silent // before one more shot, which shows what it takes to wake up
)

func (s Stage) String() string {
	return [...]string{"warm-up", "judged", "silence"}[s]
}

// Heat is one uninterrupted block of one contender. Clients, Warm and Judged have the same length, one for each client;
// a crew has one recorder for all.
type Heat struct {
	Clock   *clock.Clock
	Pace    plan.Pace
	Clients []contender.Client
	Crew    contender.Crew // performs the shots in the clients' place, when set; needs neither Before nor After
	Size    int            // of the crew, in clients
	Seed    uint64         // of an open model's gaps
	Warm    []*tally.Recorder
	Judged  []*tally.Recorder
	Wake    *tally.Recorder // of the shot after a silence; needed where the pace has one
	// Before and After, when set, frame every shot, which takes one client and nobody else; what they take is no part of
	// any latency. Their error stops the heat.
	Before func(context.Context, Stage) error
	After  func(context.Context, *shots.Shot) error
	// Sleep, when set, takes the place of the precise wait for a shot's moment; it may return early.
	Sleep func(time.Duration)
	// Checkers, when set, look at the judged shots, one for each client.
	Checkers []Checker
	// OnStage, when set, is told when a stage begins, from the goroutine that called Drive.
	OnStage func(Stage, time.Duration)
	// OnDue, when set, is told of each shot of an open model when it is due, before a client may take it up, from the
	// goroutine that called Drive.
	OnDue func(time.Duration)
	// Part is what of the whole this heat drives, where others drive the rest elsewhere; the zero Part is all of it. The
	// pace is that of the whole, Clients or Size those of the part, and All how many clients the whole has.
	Part shares.Part
	All  int
	// Await, when set, returns when a stage may begin, at the moment at which it begins everywhere. Its error stops the
	// heat.
	Await func(context.Context, Stage) error
}

// whole is how many clients all have together.
func (h *Heat) whole() int {
	if h.Part.Whole() {
		return max(len(h.Clients), h.Size)
	}
	return h.All
}

// Checker looks at the shots of one client.
type Checker interface {
	// Ask may set what a shot is to keep in view, before it.
	Ask(*shots.Shot)
	// Take looks at a shot that was performed and may change its class. It reports false when it keeps the shot, to have
	// it recorded after the heat.
	Take(*shots.Shot) bool
}

// Clients is how many clients a heat of pace p needs.
func Clients(p plan.Pace) int { return max(p.Clients, p.Most, 1) }

// StoppedError is a heat that was stopped by what was to be done before or after one of its shots.
type StoppedError struct{ Err error }

func (e *StoppedError) Error() string { return "the heat was stopped: " + e.Err.Error() }

// Unwrap returns the cause.
func (e *StoppedError) Unwrap() error { return e.Err }

// Span is the judged part of a heat on the clock.
type Span struct {
	Start, End time.Duration
	Aside      time.Duration // of it, spent between shots
	Unsent     int64         // shots of an open model that nobody was free to perform
	UnsentAt   []int64       // the same for each step of a climb
	Busy       time.Duration // of a crew: each client's time to the end of its last shot, summed
}

// Drive performs the warm-up, then the judged part, and returns the span of the latter. Shots under way when a timed
// part ends are finished and counted. The error is ctx's or a StoppedError: then the recorders hold what was done until
// then.
func (h *Heat) Drive(ctx context.Context) (span Span, err error) {
	if h.Crew != nil {
		leaveRoom()
	}
	if w := h.Pace.Warmup; h.Pace.WarmsUp() {
		if err = h.begin(ctx, WarmingUp); err == nil {
			_, err = h.part(ctx, WarmingUp, h.Warm, quota{span: w.For.D(), shots: w.Shots})
		}
		for _, c := range h.Clients {
			c.Rewind()
		}
		if h.Crew != nil {
			h.Crew.Rewind()
		}
	}
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		now := h.Clock.Now()
		return Span{Start: now, End: now}, err
	}
	q := quota{span: h.Pace.For.D(), shots: max(h.Pace.Repeat, h.Pace.Shots)}
	if c := h.Pace.Climb; c != nil {
		for _, r := range h.Judged {
			r.Climb(len(c.Levels()), h.Pace.For.D())
		}
	}
	if err = h.begin(ctx, Judged); err != nil {
		now := h.Clock.Now()
		return Span{Start: now, End: now}, err
	}
	span, err = h.part(ctx, Judged, h.Judged, q)
	span.End = h.Clock.Now()
	if err == nil {
		err = ctx.Err()
	}
	if err == nil && h.Pace.Wake > 0 {
		err = h.wake(ctx)
	}
	return span, err
}

// wake lets nothing happen for a while and then performs one shot more.
func (h *Heat) wake(ctx context.Context) error {
	h.stage(Silent, h.Clock.Now())
	silence := time.NewTimer(h.Pace.Wake.D())
	defer silence.Stop()
	select {
	case <-silence.C:
	case <-ctx.Done():
		return ctx.Err()
	}
	one := *h
	one.Pace, one.Checkers = plan.Pace{Repeat: 1}, nil
	if len(one.Clients) > 1 {
		one.Clients = one.Clients[:1]
	}
	if _, err := one.part(ctx, Silent, []*tally.Recorder{h.Wake}, quota{shots: 1}); err != nil {
		return err
	}
	return ctx.Err()
}

// begin waits for the moment at which a stage begins everywhere, and tells of it.
func (h *Heat) begin(ctx context.Context, s Stage) error {
	if h.Await != nil {
		if err := h.Await(ctx, s); err != nil {
			return cmp.Or(ctx.Err(), error(&StoppedError{err}))
		}
	}
	h.stage(s, h.Clock.Now())
	return nil
}

func (h *Heat) stage(s Stage, at time.Duration) {
	if h.OnStage != nil {
		h.OnStage(s, at)
	}
}

// part performs one part of the heat after its model.
func (h *Heat) part(ctx context.Context, stage Stage, recorders []*tally.Recorder, q quota) (span Span, err error) {
	if h.hasNone(q) {
		return Span{Start: h.Clock.Now()}, nil
	}
	if h.Crew != nil {
		return h.crewed(ctx, stage, recorders, q)
	}
	if h.Pace.Open() {
		err = h.open(ctx, stage, recorders, q, &span)
		return span, err
	}
	span.Start, span.Aside, err = h.all(ctx, stage, recorders, q)
	return span, err
}

// checker is the i-th client's checker in a stage; nil for none.
func (h *Heat) checker(stage Stage, i int) Checker {
	if stage != Judged || h.Checkers == nil {
		return nil
	}
	return h.Checkers[i]
}

// quota is how much a part of a heat does: until span is over, or a number of shots in all.
type quota struct {
	span  time.Duration
	shots int
}

// share is what of a whole quota is this heat's own.
func (h *Heat) share(q quota) quota {
	q.shots = h.Part.Count(q.shots)
	return q
}

// hasNone reports whether there is nothing to do here for a quota of the whole.
func (h *Heat) hasNone(q quota) bool { return q.shots > 0 && h.share(q).shots == 0 }

// all lets every client shoot until the quota is used up, and returns when the part began and what of it was spent
// beside shots.
func (h *Heat) all(
	ctx context.Context, stage Stage, recorders []*tally.Recorder, q quota,
) (start, aside time.Duration, err error) {
	q = h.share(q)
	var left atomic.Int64
	left.Store(int64(q.shots))
	var wg sync.WaitGroup
	start = h.Clock.Now()
	waits := h.clientPace(stage, len(h.Clients), start)
	loop := func(i int) {
		c, r, check := h.Clients[i], recorders[i], h.checker(stage, i)
		var shot shots.Shot
		ended, first := start, q.shots != 1 // a first run is not looked into where others can be
		for ctx.Err() == nil {
			if waits != nil && !h.wait(ctx, waits.next[i], start, q) {
				return
			}
			if q.shots > 0 && left.Add(-1) < 0 {
				return
			}
			if q.span > 0 && h.Clock.Now()-start >= q.span {
				return
			}
			shot = shots.Shot{Measure: stage == WarmingUp && !first}
			first = false
			if h.Before != nil {
				if err = h.Before(ctx, stage); err != nil {
					return
				}
			}
			if check != nil {
				check.Ask(&shot)
			}
			c.Shoot(ctx, &shot)
			if check == nil || check.Take(&shot) {
				r.Record(&shot, start)
			}
			if shot.Class == shots.Limits && !h.tryLess(ctx) {
				return
			}
			if waits != nil {
				waits.answered(i, shot.End)
			}
			if h.After != nil {
				aside += shot.Start - ended
				ended = shot.End
				if err = h.After(ctx, &shot); err != nil {
					return
				}
			}
		}
	}
	if len(h.Clients) == 1 {
		loop(0) // no goroutine to start or to switch to
		if err != nil && ctx.Err() == nil {
			err = &StoppedError{err}
		}
		return start, aside, err
	}
	faults := make([]error, len(h.Clients))
	for i := range h.Clients {
		wg.Go(func() {
			defer panics.Catch(fmt.Sprintf("drive client %d", i+1), &faults[i])
			loop(i)
		})
	}
	wg.Wait()
	return start, 0, errors.Join(faults...)
}

// tryLess waits after a shot that met a limit of ours; false when ctx ends before.
func (h *Heat) tryLess(ctx context.Context) bool {
	timer := time.NewTimer(contender.TryLess)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// wait waits until a client may shoot; false when the part is over or ctx ends before.
func (h *Heat) wait(ctx context.Context, until, start time.Duration, q quota) bool {
	over := q.span > 0 && until-start >= q.span
	if over {
		until = start + q.span // a part lasts its time, whoever thinks at its end
	} else if until == never {
		return false
	}
	left := until - h.Clock.Now()
	if left <= 0 {
		return !over
	}
	timer := time.NewTimer(left)
	defer timer.Stop()
	select {
	case <-timer.C:
		return !over
	case <-ctx.Done():
		return false
	}
}
