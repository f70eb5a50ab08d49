package relay

import (
	"context"
	"time"

	"paceduel/core/contender"
	"paceduel/core/panics"
	"paceduel/core/shots"
)

// manyFrom is from how many deeds at a time on they are recorded together: what each of so many clients would keep of
// its own is more than all of them do.
const manyFrom = 65

// Crew implements contender.Crewed.
func (d *driver) Crew(n int) (contender.Crew, error) {
	if n < manyFrom {
		return nil, nil
	}
	d.clients.Add(1)
	return &crew{d: d, n: n}, nil
}

// crew has many deeds under way, each in a goroutine of its own for as long as it waits.
type crew struct {
	d      *driver
	n      int
	closed bool
}

func (c *crew) Rewind() {}

func (c *crew) Close() {
	if !c.closed {
		c.closed = true
		c.d.left()
	}
}

// Drive implements contender.Crew.
func (c *crew) Drive(ctx context.Context, job *contender.Job) error {
	free := make([]int, c.n)
	for i := range free {
		free[i] = c.n - 1 - i
	}
	type ended struct {
		client int
		shot   *shots.Shot
		fault  error // of ours
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	done := make(chan ended, c.n)
	flying, over := 0, false
	for {
		left := time.Hour
		for !over && ctx.Err() == nil && len(free) > 0 {
			at, wait := c.ready(job, free)
			if wait > 0 {
				left = min(left, wait)
				break
			}
			i := free[at]
			due, until, ok := job.Next(i)
			if over = !ok; over || until > 0 {
				left = max(until, 0)
				break
			}
			free = append(free[:at], free[at+1:]...)
			shot := &shots.Shot{Due: due}
			if job.Ask != nil {
				job.Ask(i, shot)
			}
			flying++
			go func() {
				e := ended{client: i, shot: shot}
				defer func() { done <- e }()
				defer panics.Catch("do a deed and wait for its effects", &e.fault)
				one := client{d: c.d}
				one.Shoot(ctx, shot)
			}()
		}
		if flying == 0 && (over || ctx.Err() != nil) {
			return context.Cause(ctx)
		}
		cancelled := ctx.Done()
		if ctx.Err() != nil {
			cancelled = nil // it is known
		}
		pause := time.NewTimer(left)
		if over || ctx.Err() != nil || len(free) == 0 {
			pause.Stop() // only what is under way is waited for
		}
		select {
		case e := <-done:
			flying--
			free = append(free, e.client)
			if e.fault != nil {
				stop(e.fault)
				continue
			}
			if job.Done != nil {
				job.Done(e.client, e.shot)
			}
		case <-pause.C:
		case <-cancelled:
		}
		pause.Stop()
	}
}

// ready is the place of a client that may do something now, or how long until one may.
func (c *crew) ready(job *contender.Job, free []int) (at int, wait time.Duration) {
	if job.Ready == nil {
		return len(free) - 1, 0
	}
	now := c.d.clock.Now()
	wait = time.Hour
	for i, n := range free {
		left := job.Ready(n) - now
		if left <= 0 {
			return i, 0
		}
		wait = min(wait, left)
	}
	if job.Over != nil && job.Over() {
		return len(free) - 1, 0 // Next says so
	}
	return 0, wait
}

var _ contender.Crewed = (*driver)(nil)
