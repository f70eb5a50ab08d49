package bystander_test

import (
	"context"
	"math"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/bystander"
	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

const ms = time.Millisecond

func probe(due, wait time.Duration) bystander.Probe {
	return bystander.Probe{Due: due, End: due + wait}
}

// What becomes of probes is exact: those that were due in the stretch count, whenever they were answered.
func TestWhatBecameOfProbes(t *testing.T) {
	var probes []bystander.Probe
	for at := 0 * ms; at < 1000*ms; at += 10 * ms {
		switch wait := ms; {
		case at >= 300*ms && at < 500*ms: // nobody is let in before 500 ms
			probes = append(probes, probe(at, 500*ms-at))
		case at >= 900*ms:
			probes = append(probes, probe(at, 1200*ms-at))
		default:
			probes = append(probes, probe(at, wait))
		}
	}
	probes[5].Class = shots.Refused
	a := bystander.Look(probes, 100*ms, 1000*ms, 50*ms)
	if a.Due != 90 || a.OK != 90 || a.Failed != 0 || a.Waiting != 0 || a.Span != 900*ms || a.Longest != 300*ms {
		t.Errorf("%+v", a)
	}
	// Held up from 300 to 500 ms and from 900 ms on, as far as it is watched.
	if a.HeldUp != 300*ms || !slices.Equal(a.Silences, []bystander.Silence{{At: 200 * ms, Lasted: 200 * ms},
		{At: 800 * ms, Lasted: 100 * ms}}) {
		t.Errorf("held up %s: %v", a.HeldUp, a.Silences)
	}
	if got := a.Waits.ValueAtQuantile(50); got < int64(ms)*999/1000 || got > int64(ms)*1001/1000 || len(a.Dots) != 90 {
		t.Errorf("median %d, %d dots", got, len(a.Dots))
	}
	probes[40].Class, probes[40].End = shots.Cut, 900*ms
	probes[50].Class = shots.Timeout
	a = bystander.Look(probes, 0, 1000*ms, 50*ms)
	if a.Waiting != 1 || a.Failed != 2 || a.Longest != 500*ms || a.OK != 97 {
		t.Errorf("%+v", a)
	}
	if a = bystander.Look(nil, 0, ms, ms); a.Due != 0 || a.Longest != 0 || len(a.Silences) > 0 {
		t.Errorf("of none: %+v", a)
	}
}

func TestTicksThatAreLate(t *testing.T) {
	clk := clock.Start()
	ticks := bystander.NewTicks(clk, &plan.Tick{Pattern: "^tick [0-9]+$", Every: plan.Span(20 * ms)})
	from := clk.Now()
	long := strings.Repeat("x", 1<<18)
	for _, text := range []string{"tick 1\nnothing\nti", "ck 2\ntick", " 3", "\n\ntick x\n" + long, "\ntick 4\n"} {
		if n, err := ticks.Write([]byte(text)); n != len(text) || err != nil {
			t.Fatalf("%d, %v", n, err)
		}
	}
	to := clk.Now()
	got := ticks.Between(from, to+100*ms)
	if len(got) != 5 || got[4].Class != shots.Cut || got[4].End != to+100*ms || got[4].Due > to+20*ms {
		t.Fatalf("%+v", got)
	}
	for _, p := range got[:4] {
		if p.Class != shots.OK || p.End < p.Due {
			t.Errorf("%+v", p)
		}
	}
	ticks.Forget(to + ms)
	if got := ticks.Between(from, to); len(got) != 1 {
		t.Errorf("forgotten, and still %v", got)
	}
}

// door lets shots in while it is open.
type door struct {
	clock *clock.Clock
	mu    sync.Mutex
	open  chan struct{} // closed while it is
}

func newDoor(clk *clock.Clock) *door {
	d := &door{clock: clk, open: make(chan struct{})}
	close(d.open)
	return d
}

func (d *door) Shoot(_ context.Context, s *shots.Shot) {
	s.Start = d.clock.Now()
	d.mu.Lock()
	open := d.open
	d.mu.Unlock()
	<-open
	s.End = d.clock.Now()
}
func (d *door) Rewind() {}
func (d *door) Close()  {}

// A stand-in that lets nobody in for a known time: the longest silence is told within a period of the bystander and two
// per cent of that time. This machine may hold us up itself, so that it is tried until it was quiet enough.
func TestASilenceIsToldAsItIs(t *testing.T) {
	clk := clock.Start()
	b := &plan.Bystander{Rate: 1000}
	best := math.Inf(1)
	for try := 0; best > float64(6*ms) && try < 25; try++ {
		d := newDoor(clk)
		from := clk.Now()
		w := bystander.Begin(t.Context(), clk, b, []contender.Client{d, d})
		d.pass(20 * ms)
		shut := d.shut(300 * ms)
		d.pass(20 * ms)
		to := clk.Now()
		probes, err := w.End(t.Context(), to)
		if err != nil {
			t.Fatal(err)
		}
		a := bystander.Look(probes, from, to, 50*ms)
		if a.Failed+a.Waiting > 0 || a.OK < 300 {
			t.Fatalf("%+v", a)
		}
		best = min(best, max(math.Abs(float64(a.Longest-shut)), math.Abs(float64(a.HeldUp-shut))))
	}
	if best > float64(6*ms) {
		t.Errorf("off by %s of 300 ms", time.Duration(best))
	}
}

// Who lets all in at once, again and again, holds nobody up for longer than once: probes do not wait for each other.
func TestHoldUpsOneAfterAnotherDoNotAddUp(t *testing.T) {
	clk := clock.Start()
	d := newDoor(clk)
	made := 0
	clients := bystander.Lazy(bystander.Clients, func(int) contender.Client { made++; return d })
	from := clk.Now()
	w := bystander.Begin(t.Context(), clk, &plan.Bystander{Rate: 500}, clients)
	longest := time.Duration(0)
	for range 5 {
		longest = max(longest, d.shut(60*ms)) // 30 are due meanwhile
	}
	to := clk.Now()
	probes, err := w.End(t.Context(), to)
	if err != nil {
		t.Fatal(err)
	}
	a := bystander.Look(probes, from, to, 50*ms)
	if a.Failed+a.Waiting > 0 || a.OK < 120 || a.Longest > longest+longest/2 || made < 16 || made > 64 {
		t.Errorf("%d of %d, longest %s of %s, %d clients", a.OK, a.Due, a.Longest, longest, made)
	}
}

// pass waits until so much time has passed, by looking at the clock.
func (d *door) pass(span time.Duration) {
	for end := d.clock.Now() + span; d.clock.Now() < end; {
		<-time.After(ms)
	}
}

// shut lets nobody in for so long, and returns how long it was.
func (d *door) shut(span time.Duration) time.Duration {
	open := make(chan struct{})
	d.mu.Lock()
	d.open = open
	d.mu.Unlock()
	from := d.clock.Now()
	d.pass(span)
	close(open)
	return d.clock.Now() - from
}

// Connections are opened to who may be asked, and to nobody else.
func TestContacts(t *testing.T) {
	clk := clock.Start()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]shots.Class{l.Addr().String(): shots.OK, "10.1.2.3:80": shots.Refused} {
		var s shots.Shot
		bystander.Contacts(clk, guard.Guard{}, address, 1)[0].Shoot(t.Context(), &s)
		if s.Class != want || s.End < s.Start {
			t.Errorf("%s: %s %v", address, s.Class, s.Err)
		}
	}
	l.Close()
	var s shots.Shot
	bystander.Contacts(clk, guard.Guard{}, l.Addr().String(), 1)[0].Shoot(t.Context(), &s)
	if s.Class != shots.Refused || !strings.Contains(s.Err.Error(), "open a connection to") {
		t.Errorf("%s %v", s.Class, s.Err)
	}
}
