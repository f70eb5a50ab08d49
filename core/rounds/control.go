package rounds

import (
	"context"
	"slices"
	"sync"
	"time"

	"paceduel/core/cell"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// Control lets whoever watches a run steer it between heats. Its methods may be called at any time, from anywhere; the
// zero value is ready. A run tells by events what came of them.
type Control struct {
	mu     sync.Mutex
	paused bool
	resume chan struct{} // closed by Resume; nil unless paused
	out    []string      // to be left out
	more   int           // rounds to be added
}

// Pause has the run wait before its next heat.
func (c *Control) Pause() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.paused {
		c.paused, c.resume = true, make(chan struct{})
	}
}

// Resume has it go on.
func (c *Control) Resume() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.paused {
		c.paused = false
		close(c.resume)
	}
}

// Toggle pauses a run that goes on, or is not yet paused, and resumes one that is or is about to be; it returns whether
// the run is to wait.
func (c *Control) Toggle() bool {
	c.mu.Lock()
	paused := c.paused
	c.mu.Unlock()
	if paused {
		c.Resume()
	} else {
		c.Pause()
	}
	return !paused
}

// LeaveOut has a contender take no part from the next heat on; the baseline always does.
func (c *Control) LeaveOut(name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.out = append(c.out, name)
}

// AddRounds adds n rounds at the end, up to the most that a plan may have.
func (c *Control) AddRounds(n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.more += max(n, 0)
}

// take takes what was asked for since it was last called.
func (c *Control) take() (resume chan struct{}, out []string, more int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	out, more = c.out, c.more
	c.out, c.more = nil, 0
	if c.paused {
		resume = c.resume
	}
	return resume, out, more
}

// steer does what was asked for, before a heat of a round counted from 0. It returns when the run may go on.
func (r *runner) steer(ctx context.Context, round int) {
	c := r.cfg.Control
	if c == nil {
		return
	}
	resume, out, more := c.take()
	if resume != nil {
		began := r.clock.Now()
		r.send(Paused{At: began})
		select {
		case <-resume:
		case <-ctx.Done():
		}
		r.result.Paused += r.clock.Now() - began
		r.pausedNow += r.clock.Now() - began
		r.send(Resumed{At: r.clock.Now()})
		_, late, added := c.take()
		out, more = append(out, late...), more+added
	}
	changed := more > 0
	for _, name := range out {
		changed = r.leaveOut(name, round) || changed
	}
	if more > 0 {
		r.extend(len(r.result.Order) + more)
	}
	if changed {
		r.send(OrderChanged{Head: r.head(), Left: r.left()})
	}
}

// leaveOut takes a contender out of the rounds that are not complete; false when it cannot be, or is out already. Lists
// that others may hold are not touched.
func (r *runner) leaveOut(name string, round int) bool {
	e := r.result.Entrant(name)
	if e == nil || e.LeftOut > 0 || name == r.result.Plan.Baseline ||
		len(r.result.Entrants)-len(r.leftOut()) <= plan.MinContenders {
		return false
	}
	e.LeftOut = round + 1
	r.thin()
	return true
}

func (r *runner) leftOut() (names []string) {
	for _, e := range r.result.Entrants {
		if e.LeftOut > 0 {
			names = append(names, e.Name)
		}
	}
	return names
}

// thin takes those who are left out from the order of the rounds from theirs on, but for heats that were run. Orders
// that others may hold are not touched.
func (r *runner) thin() {
	order := slices.Clone(r.result.Order)
	for i := range order {
		order[i] = slices.DeleteFunc(slices.Clone(order[i]), func(c cell.Cell) bool {
			out := r.result.Entrant(c.Contender).LeftOut
			return out > 0 && i+1 >= out && !r.begun[place{i + 1, c}]
		})
	}
	r.result.Order = order
}

// extend makes it n rounds. The order of those that were planned stays as it was.
func (r *runner) extend(n int) {
	p := *r.cfg.Plan
	p.Rounds = min(n, plan.MaxRounds)
	order := slices.Clone(r.result.Order)
	if p.Sweep != nil {
		for i := len(order); i < p.Rounds; i++ {
			order = append(order, sweptRound(&p, r.points(), r.result.Seed, i))
		}
	} else {
		order = append(order, Order(&p, r.result.Seed)[len(order):]...)
	}
	r.result.Order = order
	r.result.Plan.Rounds = len(r.result.Order)
	r.thin()
}

// Wishes takes what was asked for since it was last called, for a run that is steered from elsewhere: whether it is to
// wait, who is to be left out, and how many rounds are to be added.
func (c *Control) Wishes() (paused bool, out []string, more int) {
	resume, out, more := c.take()
	return resume != nil, out, more
}

// Paused says that the run waits before its next heat.
type Paused struct{ At time.Duration }

// Resumed says that it goes on.
type Resumed struct{ At time.Duration }

// OrderChanged says that rounds were added or contenders left out: the head has the running order as it is now.
type OrderChanged struct {
	Head *result.Result `text:"ours"`
	Left time.Duration
}

func (Paused) event()       {}
func (Resumed) event()      {}
func (OrderChanged) event() {}
