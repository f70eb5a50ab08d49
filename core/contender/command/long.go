package command

import (
	"sync"
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
// after another. Setting it costs a run that is short a tenth of a microsecond or two.
type longWatch struct {
	clock *clock.Clock
	timer *time.Timer

	mu    sync.Mutex
	pid   int // that is to be looked at; 0: none
	watch *meter.Watch
	began time.Duration // the watch, by the clock
}

// begin is called when a process has been created.
func (l *longWatch) begin(pid int) {
	l.mu.Lock()
	l.pid = pid
	l.mu.Unlock()
	if l.timer == nil {
		l.timer = time.AfterFunc(longRun, l.look)
		return
	}
	l.timer.Reset(longRun)
}

func (l *longWatch) look() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.pid != 0 && l.watch == nil {
		l.began, l.watch = l.clock.Now(), meter.StartWatch(l.pid, lookEvery, nil)
	}
}

// end is called when the process has ended and is not yet waited for, so that its number is still its own. It returns
// what was seen of a run that began at start; none of a short one.
func (l *longWatch) end(start time.Duration) (course []shots.Moment) {
	l.timer.Stop()
	l.mu.Lock()
	watch := l.watch
	l.pid, l.watch = 0, nil
	l.mu.Unlock()
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
