package command

import (
	"sync"
	"time"

	"paceduel/core/clock"
)

// alarm calls ring when a moment has come that was set and not taken back. Runs are many and alarms hardly ever ring:
// setting one and taking it back is a lock each, since its timer stays as it is and, when it fires, looks for what is
// due by then. A timer set for every run costs several times as much.
type alarm struct {
	clock *clock.Clock
	ring  func()

	mu    sync.Mutex
	due   time.Duration // by the clock; 0: nothing is
	timer *time.Timer
	fires time.Duration // when the timer does; 0: it does not
}

// set has ring called at a moment, in place of any that was set before.
func (a *alarm) set(due time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.due = due
	if a.fires == 0 || due < a.fires {
		a.start(due)
	}
}

// start is called with mu held.
func (a *alarm) start(at time.Duration) {
	a.fires = at
	if wait := at - a.clock.Now(); a.timer == nil {
		a.timer = time.AfterFunc(wait, a.fire)
	} else {
		a.timer.Reset(wait)
	}
}

// unset takes the moment back. If ring has begun, it has also ended.
func (a *alarm) unset() {
	a.mu.Lock()
	a.due = 0
	a.mu.Unlock()
}

func (a *alarm) fire() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.fires = 0
	switch {
	case a.due == 0:
	case a.clock.Now() < a.due: // that of a later run
		a.start(a.due)
	default:
		a.due = 0
		a.ring()
	}
}

// close ends it; it can be set again.
func (a *alarm) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.due = 0
	if a.timer != nil {
		a.timer.Stop()
		a.timer, a.fires = nil, 0
	}
}
