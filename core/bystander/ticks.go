package bystander

import (
	"bytes"
	"regexp"
	"sync"
	"time"

	"paceduel/core/clock"
	"paceduel/core/marks"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// Ticks takes down when lines come that a program should print again and again. It is an io.Writer of all that it
// prints, and safe for concurrent use.
type Ticks struct {
	clock   *clock.Clock
	pattern *regexp.Regexp
	every   time.Duration

	mu   sync.Mutex
	line []byte // the beginning of one
	came []time.Duration
}

// NewTicks makes one of a plan's tick, whose pattern was checked.
func NewTicks(clk *clock.Clock, t *plan.Tick) *Ticks {
	return &Ticks{clock: clk, pattern: regexp.MustCompile(t.Pattern), every: t.Every.D()}
}

// maxTicks bounds what is kept until it is taken.
const maxTicks = 1 << 20

// Write takes output in; it never fails.
func (t *Ticks) Write(p []byte) (int, error) {
	now, n := t.clock.Now(), len(p)
	t.mu.Lock()
	defer t.mu.Unlock()
	for {
		end := bytes.IndexByte(p, '\n')
		if end < 0 {
			break
		}
		line := p[:end]
		if len(t.line) > 0 {
			line = append(t.line, line...)
		}
		if len(line) <= marks.MaxLine && t.pattern.Match(line) && len(t.came) < maxTicks {
			t.came = append(t.came, now)
		}
		t.line, p = t.line[:0], p[end+1:]
	}
	if len(t.line)+len(p) <= 2*marks.MaxLine { // of a longer one the rest is passed over, and it does not count
		t.line = append(t.line, p...)
	}
	return n, nil
}

// Between are the ticks from one moment to another, each due one period after the one before it came: so a tick that is
// late does not make all after it late. Ticks that a hold-up has swallowed are not there; a program that still owes one
// at the end has it as one that waits.
func (t *Ticks) Between(from, to time.Duration) (out []Probe) {
	t.mu.Lock()
	defer t.mu.Unlock()
	due := from
	for _, at := range t.came {
		switch {
		case at < from:
			due = max(at+t.every, from)
		case at < to:
			out = append(out, Probe{Due: min(due, at), End: at})
			due = at + t.every
		}
	}
	if due < to {
		out = append(out, Probe{Due: due, End: to, Class: shots.Cut})
	}
	return out
}

// Forget drops what came before a moment.
func (t *Ticks) Forget(before time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := 0
	for n < len(t.came) && t.came[n] < before {
		n++
	}
	t.came = t.came[n:]
}
