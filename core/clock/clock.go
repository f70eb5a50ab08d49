// Package clock is the one clock of a run: monotonic, started once, read as an offset.
//
// Every time stamp of a run is an offset from the same start, so stamps of different goroutines can be subtracted.
// Nothing here sleeps or paces; package pace decides when something is due.
package clock

import "time"

// Clock reads monotonic time as an offset from its start. The zero value is not usable; call Start.
// It is immutable and safe for concurrent use.
type Clock struct {
	start time.Time
}

// Start returns a clock whose zero is now.
func Start() *Clock { return &Clock{start: time.Now()} }

// StartAt returns a clock that stands at an offset already, to go on from an earlier one.
func StartAt(offset time.Duration) *Clock { return &Clock{start: time.Now().Add(-offset)} }

// Now is the time since the clock's start. It costs some 40 ns, since only the monotonic clock is read.
func (c *Clock) Now() time.Duration { return time.Since(c.start) }

// Wall is the civil time of the clock's zero, for records and axes; never for measuring.
func (c *Clock) Wall() time.Time { return c.start }
