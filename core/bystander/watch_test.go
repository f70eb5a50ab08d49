package bystander

import (
	"testing"
	"time"
)

// Probes come to their end in any order, and one that was due is waited for before anybody has taken it up.
func TestWhoIsStillWaitedFor(t *testing.T) {
	const every = 10 * time.Millisecond
	w := &Watch{rate: 100, open: map[time.Duration]struct{}{}}
	for _, tt := range []struct {
		due, over time.Duration
		until     time.Duration
		answered  bool
	}{
		{due: every, until: 2 * every},                  // it is open
		{over: every, until: 2 * every, answered: true}, // the next one is due just then
		{until: 2*every + 1},                            // that one is not due yet
		{due: 2 * every, until: 2*every + 1},
		{due: 3 * every, until: 2*every + 1},
		{over: 3 * every, until: 2*every + 1}, // a later one was quicker
		{over: 2 * every, until: 2*every + 1, answered: true},
	} {
		if tt.due > 0 {
			w.isDue(tt.due)
		}
		if tt.over > 0 {
			w.isOver(tt.over)
		}
		if got := w.answered(tt.until); got != tt.answered {
			t.Errorf("%+v: %v", tt, got)
		}
	}
}
