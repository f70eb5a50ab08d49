package http

import (
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/shots"
)

// An even choice of about as many shots as are wanted, however many there turn out to be.
func TestSamplingIsEven(t *testing.T) {
	for _, shotsOfHeat := range []int{1, 7, 100, 1_000, 50_000} {
		d := &driver{tracing: &contender.Tracing{Of: 20}}
		s := d.newSampler(1)
		var chosen []shots.Shot
		for range shotsOfHeat {
			var shot shots.Shot
			if s.next(&shot) {
				chosen = append(chosen, shot)
			}
		}
		stride := chosen[len(chosen)-1].TraceStride
		left := 0
		for _, c := range chosen {
			if c.TraceNo%stride == 0 {
				left++
			}
		}
		if want := shotsOfHeat / int(stride); left != want || shotsOfHeat >= 20 && (left < 19 || left > 41) {
			t.Errorf("%d of %d shots left, every %d; want %d", left, shotsOfHeat, stride, want)
		}
	}
	d := &driver{tracing: &contender.Tracing{Share: 0.1}}
	s, n := d.newSampler(4), 0
	for range 1_000 {
		if s.next(&shots.Shot{}) {
			n++
		}
	}
	if n != 100 {
		t.Errorf("%d of 1000 shots; want a tenth", n)
	}
	if (&driver{}).newSampler(1).next(&shots.Shot{}) {
		t.Error("sampled without being asked to")
	}
}

// listener is a server that takes down the traceparent of each request.
type listener struct {
	*httptest.Server
	mu   sync.Mutex
	seen []string
}

func listening(t *testing.T) *listener {
	l := &listener{}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.seen = append(l.seen, r.Header.Get("Traceparent"))
		if n, _ := strconv.Atoi(r.URL.Path[1:]); n > 0 && n < 3 {
			w.Header().Set("Link", fmt.Sprintf("</%d>; rel=next", n+1))
		}
		fmt.Fprint(w, "tide is in at ", r.URL.Path)
	}))
	t.Cleanup(l.Close)
	return l
}

// take forgets what was seen so far.
func (l *listener) take() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	seen := l.seen
	l.seen = nil
	return seen
}

// A sampled shot is marked on the wire as its own, in every way in which requests are performed, and others are not
// marked at all.
func TestSampledShotsAreMarked(t *testing.T) {
	l := listening(t)
	for _, least := range []means{byCrew, byLean, byFull} {
		for _, of := range []struct {
			name     string
			requests int
			change   func(*Settings)
		}{
			{"one request", 1, func(*Settings) {}},
			{"two legs", 2, func(s *Settings) { s.Legs = []Leg{{Name: "a", URL: "/"}, {Name: "b", URL: "/"}} }},
			{"a batch in turn", 3, func(s *Settings) { s.Batch = 3 }},
			{"a batch at once", 5, func(s *Settings) { s.Batch, s.AtOnce = 5, 2 }},
			{"pages", 3, func(s *Settings) { s.URL, s.Pages = s.URL+"/1", &Pages{Next: byLink} }},
			{"a leg of pages", 4, func(s *Settings) {
				s.Legs = []Leg{{Name: "a", URL: "/"}, {Name: "list", URL: "/1", Pages: &Pages{Next: byLink}}}
			}},
		} {
			t.Run(fmt.Sprintf("means %d, %s", least, of.name), func(t *testing.T) {
				sampleHalf(t, l, least, of.requests, of.change)
			})
		}
	}
}

// The drivers of several points of a sweep have one prefix, and no trace twice.
func TestTracesOfSeveralDrivers(t *testing.T) {
	l := listening(t)
	tracing := &contender.Tracing{Share: 1}
	seen := map[[16]byte]bool{}
	for range 3 {
		s := New().(*Settings)
		s.URL = l.URL
		d, err := open(contender.Setup{Clock: clock.Start(), Traces: tracing}, s, byCrew)
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		for range 3 {
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			if seen[shot.Trace] {
				t.Errorf("trace %x twice", shot.Trace)
			}
			seen[shot.Trace] = true
		}
		c.Close()
		d.Close()
	}
}

// sampleHalf performs two heats of four shots of so many requests, half of which are sampled.
func sampleHalf(t *testing.T, l *listener, least means, requests int, change func(*Settings)) {
	settings := New().(*Settings)
	settings.URL = l.URL
	change(settings)
	tracing := &contender.Tracing{Prefix: [8]byte{1, 2, 3}, Share: 0.5}
	d, err := open(contender.Setup{Clock: clock.Start(), Traces: tracing}, settings, least)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	traces := map[[16]byte]bool{}
	for range 2 {
		c := d.Client(0, 1)
		defer c.Close()
		for range 4 {
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			sent := l.take()
			if shot.Class != shots.OK || len(sent) != requests {
				t.Fatalf("%d requests, %v", len(sent), shot.Err)
			}
			if shot.TraceStride == 0 {
				if strings.Join(sent, "") != "" || len(shot.Inside) > 0 {
					t.Errorf("a shot that is not sampled has %q, %v", sent, shot.Inside)
				}
				continue
			}
			if traces[shot.Trace] || [3]byte(shot.Trace[:3]) != [3]byte{1, 2, 3} {
				t.Errorf("trace %x is no new one of ours", shot.Trace)
			}
			traces[shot.Trace] = true
			if want := parents(&shot); !slices.Equal(slices.Sorted(slices.Values(sent)), want) {
				t.Errorf("%q; want %q", sent, want)
			}
		}
	}
	if len(traces) != 4 {
		t.Errorf("%d traces of 8 shots; want half", len(traces))
	}
}

// parents are the headers that a sampled shot's requests have, in their order as texts.
func parents(shot *shots.Shot) (out []string) {
	ids := [][]byte{shot.Trace[8:]}
	if len(shot.Inside) > 0 {
		ids = nil
		for _, sp := range shot.Inside {
			ids = append(ids, sp.ID[:])
		}
	}
	for _, id := range ids {
		out = append(out, "00-"+hex.EncodeToString(shot.Trace[:])+"-"+hex.EncodeToString(id)+"-01")
	}
	slices.Sort(out)
	return out
}
