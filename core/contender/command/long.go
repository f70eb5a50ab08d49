package command

import (
	"time"

	"paceduel/core/clock"
	"paceduel/core/meter"
	"paceduel/core/shots"
)

// longRun is how long a run lasts before it is looked at from outside; shorter ones are left alone.
const longRun = time.Second

// lookEvery is how often such a run is looked at.
const lookEvery = 50 * time.Millisecond

// longWatch looks at runs that last for long: what they hold and what they have used so far. One is used for one run
// after another.
type longWatch struct {
	alarm alarm
	pid   int // that is to be looked at
	watch *meter.Watch
	began time.Duration // the watch, by the clock
}

func newLongWatch(c *clock.Clock) *longWatch {
	l := &longWatch{}
	l.alarm = alarm{clock: c, ring: func() {
		l.began, l.watch = l.alarm.clock.Now(), meter.StartWatch(l.pid, lookEvery, nil)
	}}
	return l
}

// begin is called when a process has been created.
func (l *longWatch) begin(pid int, start time.Duration) {
	l.pid = pid
	l.alarm.set(start + longRun)
}

// end is called when the process has ended and is not yet waited for, so that its number is still its own. It returns
// what was seen of a run that began at start; none of a short one.
func (l *longWatch) end(start time.Duration) (course []shots.Moment) {
	l.alarm.unset()
	watch := l.watch
	l.watch = nil
	if watch == nil {
		return nil
	}
	course = append(course, shots.Moment{At: start, Processes: 1, Threads: 1}) // it had used nothing yet
	for _, m := range watch.Stop().Moments {
		if m.Resident > 0 { // else it has ended
			course = append(course, shots.Moment{
				At: l.began + m.At, Resident: m.Resident, Swapped: m.Swapped, Threads: m.Threads, Processes: m.Processes,
				CPU: m.CPU, Read: m.Read, Written: m.Written,
			})
		}
	}
	return course
}
