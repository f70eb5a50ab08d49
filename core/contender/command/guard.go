package command

import (
	"context"
	"sync"
	"syscall"
	"time"

	"paceduel/core/clock"
)

// guard ends a process group at its limit or when ctx ends, as long as the group's number is its own.
type guard struct {
	limit  alarm
	mu     sync.Mutex
	group  int // 0: none
	killed bool
	ctx    context.Context
	forget func() bool
}

func newGuard(c *clock.Clock) *guard {
	g := &guard{}
	g.limit = alarm{clock: c, ring: g.kill}
	return g
}

// over guards a group from now on; its limit is a moment by the clock.
func (g *guard) over(ctx context.Context, group int, limit time.Duration) {
	g.mu.Lock()
	g.group, g.killed = group, false
	g.mu.Unlock()
	g.limit.set(limit)
	if g.ctx != ctx {
		if g.forget != nil {
			g.forget()
		}
		g.ctx, g.forget = ctx, context.AfterFunc(ctx, g.kill)
	}
	if ctx.Err() != nil {
		g.kill() // it ended before there was anything to end
	}
}

func (g *guard) kill() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.group != 0 {
		g.killed = true
		syscall.Kill(-g.group, syscall.SIGKILL)
	}
}

// gone says that the leader has ended and is about to be reaped; it reports whether the group was ended by us.
func (g *guard) gone() bool {
	g.limit.unset()
	g.mu.Lock()
	defer g.mu.Unlock()
	g.group = 0
	return g.killed
}

func (g *guard) close() {
	g.limit.close()
	if g.forget != nil {
		g.forget()
	}
}
