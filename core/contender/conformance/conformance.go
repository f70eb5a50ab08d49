// Package conformance is the contract of contenders in executable form: one suite that every kind passes.
//
// It checks what drivers of all kinds owe: prompt cancellation, limits that hold, failures that are classed and never
// counted as fast, byte counts, and that nothing is left behind. What only one kind has is tested beside it.
package conformance

import (
	"cmp"
	"context"
	"errors"
	"runtime"
	"strings"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// Subject is a kind under test: settings for each of the situations that the suite puts it in.
type Subject struct {
	Kind contender.Kind
	// Good succeeds quickly and answers Body.
	Good plan.Settings
	Body string
	// Carries is how many bytes of that are received at least; all of them unless set.
	Carries int
	// Hangs never ends by itself.
	Hangs plan.Settings
	// Slow never ends by itself and has a timeout of Limit.
	Slow  plan.Settings
	Limit time.Duration
	// Failures are settings whose shots fail, by the class that is expected.
	Failures map[shots.Class]plan.Settings
	// Elsewhere are settings whose shots would reach hosts that are not this machine, each in its own way. A kind that
	// reaches no hosts has none.
	Elsewhere []plan.Settings
	// LeftBehind, when set, counts what is still running of the subject's doing.
	LeftBehind func() int
}

// Run puts the subject through the suite.
func Run(t *testing.T, s Subject) {
	rules := []struct {
		name  string // the rule in words
		check func(*testing.T, Subject)
	}{
		{"a good shot is timed and its bytes are counted", goodShot},
		{"a shot in view shows what was answered", shotInView},
		{"clients of one driver work side by side", sideBySide},
		{"a client works again after Rewind", rewinds},
		{"cancelling ends a shot within 100 ms and counts nowhere", cancels},
		{"a shot after cancelling does not start", cancelledBefore},
		{"a timeout is one, and lasts as long as its limit", timesOut},
		{"failures have their class and their cause", fails},
		{"nobody is reached whom the plan does not allow", staysHere},
		{"closing twice is allowed", closesTwice},
		{"nothing is left behind", leavesNothing},
	}
	for _, r := range rules {
		t.Run(r.name, func(t *testing.T) { r.check(t, s) })
	}
}

func open(t *testing.T, s Subject, settings plan.Settings) contender.Driver {
	t.Helper()
	d, err := s.Kind.Open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, settings)
	if err != nil {
		t.Fatalf("open: %v", err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

func client(t *testing.T, d contender.Driver) contender.Client {
	t.Helper()
	c := d.Client(0, 1)
	t.Cleanup(c.Close)
	return c
}

func goodShot(t *testing.T, s Subject) {
	c := client(t, open(t, s, s.Good))
	var last time.Duration
	for range 3 {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if shot.Class != shots.OK || shot.Err != nil {
			t.Fatalf("class %s, %v; want ok", shot.Class, shot.Err)
		}
		if shot.Start < last || shot.End <= shot.Start {
			t.Errorf("start %s, end %s after a shot that ended at %s", shot.Start, shot.End, last)
		}
		if least := cmp.Or(s.Carries, len(s.Body)); shot.Received < int64(least) {
			t.Errorf("received %d bytes; the answer has %d", shot.Received, least)
		}
		last = shot.End
	}
}

func shotInView(t *testing.T, s Subject) {
	shot := shots.Shot{View: &shots.View{}}
	client(t, open(t, s, s.Good)).Shoot(t.Context(), &shot)
	if got := string(shot.View.Body); got != s.Body || shot.View.Bytes != int64(len(s.Body)) {
		t.Errorf("view holds %q of %d bytes; want %q", got, shot.View.Bytes, s.Body)
	}
	if shot.View.Outcome == "" || shot.View.Done == "" {
		t.Errorf("view says neither what was done nor how it ended: %+v", shot.View)
	}
}

func sideBySide(t *testing.T, s Subject) {
	d := open(t, s, s.Good)
	const n = 4
	outcomes := make(chan shots.Class, n)
	for i := range n {
		go func() {
			c := d.Client(i, n)
			defer c.Close()
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			outcomes <- shot.Class
		}()
	}
	for range n {
		if class := <-outcomes; class != shots.OK {
			t.Errorf("one of %d clients got %s", n, class)
		}
	}
}

func rewinds(t *testing.T, s Subject) {
	c := client(t, open(t, s, s.Good))
	for range 2 {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if shot.Class != shots.OK {
			t.Errorf("class %s, %v", shot.Class, shot.Err)
		}
		c.Rewind()
	}
}

// cancels tries three times, since a busy machine may hold up whoever looks at the clock.
func cancels(t *testing.T, s Subject) {
	d := open(t, s, s.Hangs)
	best := time.Hour
	for range 3 {
		best = min(best, cancelOnce(t, d))
		if best <= 100*time.Millisecond {
			return
		}
	}
	t.Errorf("the shot took %s to end", best)
}

// cancelOnce cancels a shot that hangs and returns how long it took to end.
func cancelOnce(t *testing.T, d contender.Driver) time.Duration {
	t.Helper()
	c := client(t, d)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var shot shots.Shot
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.Shoot(ctx, &shot)
	}()
	// Let the shot get under way; if it has not, it is cut before it starts, which must look the same.
	select {
	case <-done:
		t.Fatalf("a shot that should hang ended with %s, %v", shot.Class, shot.Err)
	case <-time.After(50 * time.Millisecond):
	}
	cancelled := time.Now()
	cancel()
	<-done
	took := time.Since(cancelled)
	if shot.Class != shots.Cut {
		t.Errorf("class %s, %v; want cut", shot.Class, shot.Err)
	}
	return took
}

func cancelledBefore(t *testing.T, s Subject) {
	c := client(t, open(t, s, s.Good))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var shot shots.Shot
	c.Shoot(ctx, &shot)
	if shot.Class != shots.Cut {
		t.Errorf("class %s; want cut", shot.Class)
	}
}

func timesOut(t *testing.T, s Subject) {
	c := client(t, open(t, s, s.Slow))
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	if shot.Class != shots.Timeout || shot.Err == nil {
		t.Fatalf("class %s, %v; want timeout with its cause", shot.Class, shot.Err)
	}
	if shot.Latency() < s.Limit {
		t.Errorf("timed out after %s, before its limit of %s", shot.Latency(), s.Limit)
	}
}

func fails(t *testing.T, s Subject) {
	for want, settings := range s.Failures {
		t.Run(want.String(), func(t *testing.T) {
			shot := shots.Shot{View: &shots.View{}}
			client(t, open(t, s, settings)).Shoot(t.Context(), &shot)
			if shot.Class != want || shot.Err == nil {
				t.Errorf("class %s, %v; want %s with its cause", shot.Class, shot.Err, want)
			}
			if !want.Failed() || errors.Is(shot.Err, context.Canceled) {
				t.Errorf("%s is no failure", want)
			}
			if shot.End < shot.Start {
				t.Errorf("ended at %s before it started at %s", shot.End, shot.Start)
			}
		})
	}
}

// staysHere wants the guard's own word: an attempt that fails on its way would have been one.
func staysHere(t *testing.T, s Subject) {
	for i, settings := range s.Elsewhere {
		d, err := s.Kind.Open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, settings)
		shot := shots.Shot{View: &shots.View{}}
		if err == nil {
			t.Cleanup(func() { d.Close() })
			client(t, d).Shoot(t.Context(), &shot)
			err = shot.Err
		}
		var refused *guard.RefusedError
		if !errors.As(err, &refused) || shot.Class == shots.OK {
			t.Errorf("settings %d, %s: %s, %v; want it refused", i, settings.Summary(), shot.Class, err)
		}
	}
}

func closesTwice(t *testing.T, s Subject) {
	d := open(t, s, s.Good)
	c := d.Client(0, 1)
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	c.Close()
	c.Close()
	d.Close()
	if err := d.Close(); err != nil {
		t.Errorf("second Close: %v", err)
	}
}

func leavesNothing(t *testing.T, s Subject) {
	ctx, cancel := context.WithCancel(t.Context())
	before := goroutines(s)
	for _, settings := range []plan.Settings{s.Good, s.Slow} {
		d := open(t, s, settings)
		c := d.Client(0, 1)
		var shot shots.Shot
		c.Shoot(ctx, &shot)
		c.Close()
		d.Close()
	}
	cancel()
	// Goroutines that have been told to end are given the time to do so.
	deadline := time.Now().Add(5 * time.Second)
	now := goroutines(s)
	for ; now > before && time.Now().Before(deadline); now = goroutines(s) {
		runtime.Gosched()
		time.Sleep(time.Millisecond)
	}
	if now > before {
		t.Errorf("%d goroutines of the driver are left, %d before", now, before)
	}
	if s.LeftBehind != nil {
		if n := s.LeftBehind(); n > 0 {
			t.Errorf("%d processes are left", n)
		}
	}
}

// goroutines counts those that run code of the kind's package or of the HTTP transport.
func goroutines(s Subject) int {
	buf := make([]byte, 1<<20)
	stacks := string(buf[:runtime.Stack(buf, true)])
	n := 0
	for stack := range strings.SplitSeq(stacks, "\n\n") {
		if strings.Contains(stack, "contender/"+s.Kind.Name+".(") || strings.Contains(stack, "persistConn") {
			n++
		}
	}
	return n
}
