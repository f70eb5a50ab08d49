package http

import (
	"bufio"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/tally"
)

// standIn is a server whose service times are known: it takes the time that it is told to for each request, and writes down
// how long it really took, from the request read to the answer ready to be sent.
type standIn struct {
	url string

	mu     sync.Mutex
	logged *sync.Cond
	asked  int
	log    []time.Duration
}

// newStandIn starts one. reply is given the number of the request, from 0, and does what has to be done until it returns
// the answer; an empty one ends the connection.
func newStandIn(t *testing.T, reply func(n int) string) *standIn {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &standIn{url: "http://" + l.Addr().String() + "/"}
	s.logged = sync.NewCond(&s.mu)
	var wg sync.WaitGroup
	var conns sync.Map
	wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			conns.Store(conn, true)
			wg.Go(func() { s.serve(conn, reply) })
		}
	})
	t.Cleanup(func() {
		l.Close()
		conns.Range(func(conn, _ any) bool { conn.(net.Conn).Close(); return true })
		wg.Wait()
	})
	return s
}

func (s *standIn) serve(conn net.Conn, reply func(int) string) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		if line != "\r\n" {
			continue
		}
		began := time.Now()
		s.mu.Lock()
		n := s.asked
		s.asked++
		s.mu.Unlock()
		answer := reply(n)
		took := time.Since(began)
		io.WriteString(conn, answer)
		s.mu.Lock()
		s.log = append(s.log, took)
		s.logged.Broadcast()
		s.mu.Unlock()
		if answer == "" {
			return
		}
	}
}

// taken is the log of service times of n requests, which it empties. An answer may be read before it is logged.
func (s *standIn) taken(n int) []time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(s.log) < n {
		s.logged.Wait()
	}
	log := s.log
	s.log, s.asked = nil, 0
	return log
}

const good = "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntide"

// drive performs a heat as a run does and returns what was recorded.
func drive(t *testing.T, s *Settings, p plan.Pace) (*tally.Merged, pace.Span) {
	t.Helper()
	clk := clock.Start()
	d, err := open(contender.Setup{Clock: clk}, s, byCrew)
	if err != nil {
		t.Fatal(err)
	}
	n := pace.Clients(p)
	p.Warmup = &plan.Warmup{}
	h := pace.Heat{Clock: clk, Pace: p, Size: n, Seed: 1}
	if h.Crew, err = d.Crew(n); err != nil {
		t.Fatal(err)
	}
	recorders := n
	if h.Crew != nil {
		defer h.Crew.Close()
		recorders = 1
	} else {
		for i := range n {
			c := d.Client(i, n)
			defer c.Close()
			h.Clients = append(h.Clients, c)
		}
	}
	for range recorders {
		h.Warm, h.Judged = append(h.Warm, tally.NewRecorder(0, 1)), append(h.Judged, tally.NewRecorder(tally.MaxShots, 1))
	}
	span, err := h.Drive(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return tally.Merge(h.Judged), span
}

func quantile(sorted []time.Duration, q float64) time.Duration {
	return sorted[min(int(math.Ceil(q*float64(len(sorted))))-1, len(sorted)-1)]
}

// What is measured is what the other side says that it took, plus what the cheapest answer costs: at the median, the p90
// and the p99, within 2 % or 100 µs. A busy machine holds up whoever measures, so that each shape has several tries, and a
// lookout beside them says whether the machine was quiet: only then can the tail be held against us. The median always can,
// and no latency may be shorter than what the other side took.
func TestLatenciesAreThoseOfTheOtherSide(t *testing.T) {
	if testing.Short() {
		t.Skip("takes the time that it measures")
	}
	rng := rand.New(rand.NewPCG(4, 2))
	ms := func(x float64) time.Duration { return time.Duration(x * float64(time.Millisecond)) }
	shapes := map[string]func(n int) time.Duration{
		"constant":   func(int) time.Duration { return ms(5) },
		"lognormal":  func(int) time.Duration { return ms(6 * math.Exp(0.4*rng.NormFloat64())) },
		"two humps":  func(n int) time.Duration { return ms([]float64{4, 12}[rng.IntN(2)]) },
		"heavy tail": func(int) time.Duration { return ms(min(4*math.Pow(rng.Float64(), -1/1.5), 120)) },
		"slow first": func(n int) time.Duration { return ms(map[bool]float64{true: 40, false: 5}[n < 5]) },
	}
	const shots, tries = 120, 4
	for name, shape := range shapes {
		for _, path := range []string{"lean", "full"} {
			if path == "full" && name != "lognormal" {
				continue // the shapes are of the other side's making
			}
			t.Run(name+", "+path, func(t *testing.T) {
				var mu sync.Mutex
				service := newStandIn(t, func(n int) string {
					mu.Lock()
					wait := shape(n)
					mu.Unlock()
					time.Sleep(wait)
					return good
				})
				cheap := newStandIn(t, func(int) string { return good })
				settings := func(url string) *Settings { return asking(url, func(s *Settings) { s.Path = path }) }
				tail, middle, quiet := "", "", false
				for range tries {
					machine := newLookout()
					floor, _ := drive(t, settings(cheap.url), plan.Pace{Repeat: 50})
					m, _ := drive(t, settings(service.url), plan.Pace{Repeat: shots})
					log := service.taken(shots)
					if m.Shots() != shots || m.Failures() != 0 || len(log) != shots {
						t.Fatalf("%d shots, %d failed, the other side counts %d", m.Shots(), m.Failures(), len(log))
					}
					slices.Sort(log)
					tail, middle = "", ""
					least := time.Duration(floor.Latencies.ValueAtQuantile(50))
					for _, q := range []float64{0.5, 0.9, 0.99} {
						took := quantile(log, q)
						got := time.Duration(m.Latencies.ValueAtQuantile(100 * q))
						if got < took*999/1000 { // the histogram's error
							t.Fatalf("p%g is %s, shorter than the %s that the other side took", 100*q, got, took)
						}
						off := got - took - least
						switch allowed := max(took/50, 100*time.Microsecond); {
						case max(off, -off) <= allowed:
						case q == 0.5:
							middle = fmt.Sprintf("the median is %s, the other side's log says %s, the floor is %s", got, took, least)
						default:
							tail += fmt.Sprintf("p%g is %s, the other side's log says %s, the floor is %s; ", 100*q, got, took, least)
						}
					}
					isQuiet := machine.quiet()
					if tail == "" && middle == "" {
						return
					}
					quiet = quiet || isQuiet
				}
				switch {
				case quiet:
					t.Error(middle + tail)
				case middle != "":
					t.Logf("this machine is too busy to tell: %s", middle)
				default:
					t.Logf("this machine is too busy to tell the tail: %s", tail)
				}
			})
		}
	}
}

// lookout sleeps again and again, and sees by how much the machine lets it oversleep.
type lookout struct {
	stop   chan struct{}
	late   chan time.Duration // the longest
	before meter.Reading
}

func newLookout() *lookout {
	p := &lookout{make(chan struct{}), make(chan time.Duration, 1), meter.Read()}
	go func() {
		runtime.LockOSThread() // and is not given back: its timers are precise
		unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0)
		late := time.Duration(0)
		nap := unix.NsecToTimespec(int64(2 * time.Millisecond))
		for {
			select {
			case <-p.stop:
				p.late <- late
				return
			default:
			}
			began := time.Now()
			unix.Nanosleep(&nap, nil)
			late = max(late, time.Since(began)-2*time.Millisecond)
		}
	}()
	return p
}

// quiet ends it: none of its naps may have lasted longer than planned by twice what a measurement may be off, and hardly
// anybody may have had to wait for a processor, nor the host have taken any time.
func (p *lookout) quiet() bool {
	close(p.stop)
	c := meter.Between(p.before, meter.Read())
	return <-p.late < 200*time.Microsecond && c.CPUPressure < 0.01 && c.StealFrac < 0.002
}

// A stall of 500 ms every 5 s, at 100 shots a second: of 500 shots the 50 that are due in it wait for its end, the first
// for 500 ms and each other 10 ms less. The p99 is the 5th longest of all, which waits 460 ms, and whatever an answer takes;
// the p90 is the 50th longest, which waits for 10 ms. A closed model of one client meets the stall once and shows it in its
// longest shot alone.
func TestAStallShowsAsTheorySays(t *testing.T) {
	if testing.Short() {
		t.Skip("takes the time that it measures")
	}
	const stall, spacing = 500 * time.Millisecond, 10 * time.Millisecond
	var begun time.Time
	var once sync.Once
	stalls := newStandIn(t, func(int) string {
		once.Do(func() { begun = time.Now() })
		if at := time.Since(begun); at >= 2*time.Second && at < 2*time.Second+stall {
			time.Sleep(2*time.Second + stall - at)
		}
		return good
	})
	m, span := drive(t, asking(stalls.url, nil), plan.Pace{Rate: 100, Most: 64, For: plan.Span(5 * time.Second)})
	if m.Shots() != 500 || span.Unsent != 0 || m.Failures() != 0 {
		t.Fatalf("%d shots, %d not sent, %d failed", m.Shots(), span.Unsent, m.Failures())
	}
	for q, want := range map[float64]time.Duration{0.99: stall - 4*spacing, 0.95: stall - 24*spacing, 1: stall} {
		// The stall begins up to one shot's distance from where it is expected; the rest is for a machine that is held up.
		if got := time.Duration(m.Latencies.ValueAtQuantile(100 * q)); got < want-2*spacing || got > want+5*spacing {
			t.Errorf("p%g is %s; theory says %s", 100*q, got, want)
		}
	}
	if p50 := time.Duration(m.Latencies.ValueAtQuantile(50)); p50 > spacing {
		t.Errorf("the median is %s, though the stall is a tenth of the time", p50)
	}

	var early sync.Once
	closed := newStandIn(t, func(int) string {
		early.Do(func() { time.Sleep(stall) })
		time.Sleep(time.Millisecond)
		return good
	})
	m, _ = drive(t, asking(closed.url, nil), plan.Pace{Clients: 1, Shots: 400})
	if p99 := time.Duration(m.Latencies.ValueAtQuantile(99)); p99 > stall/4 || time.Duration(m.Latencies.Max()) < stall {
		t.Errorf("closed: p99 %s, longest %s; the stall is one shot in 400", p99, time.Duration(m.Latencies.Max()))
	}
}

// Failures are counted as often as the other side made them, by their class.
func TestFailuresAreCountedExactly(t *testing.T) {
	var mu sync.Mutex
	made := map[contender.Class]int64{}
	count := func(class contender.Class) {
		mu.Lock()
		made[class]++
		mu.Unlock()
	}
	fails := newStandIn(t, func(n int) string {
		switch {
		case n%10 == 3:
			count(contender.Status)
			return "HTTP/1.1 503 Service Unavailable\r\nContent-Length: 0\r\n\r\n"
		case n%25 == 7:
			count(contender.Length)
			return "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 9\r\nContent-Length: 4\r\n\r\ntide"
		case n%40 == 11:
			count(contender.Other)
			return "this is no answer\r\n\r\n"
		case n%200 == 19:
			count(contender.Timeout)
			time.Sleep(1200 * time.Millisecond)
			return good
		}
		count(contender.OK)
		return good
	})
	const shots = 1000
	m, _ := drive(t, asking(fails.url, func(s *Settings) { s.Timeout = plan.Span(800 * time.Millisecond) }), plan.Pace{Clients: 8, Shots: shots})
	mu.Lock()
	defer mu.Unlock()
	for class := range contender.Classes {
		if m.Counts[class] != made[class] {
			t.Errorf("%s: counted %d, made %d", class, m.Counts[class], made[class])
		}
	}
	if m.Shots() != shots || made[contender.Status] == 0 || made[contender.Length] == 0 || made[contender.Other] == 0 || made[contender.Timeout] == 0 {
		t.Errorf("%d shots, made %v", m.Shots(), made)
	}
}
