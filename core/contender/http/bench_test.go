package http

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Every other answer of 170 KiB is kept as a sample: what that takes is no part of its latency, so the two halves of
// the shots should be alike. The metric is the ratio of their medians, sampled over plain.
func BenchmarkSampledShots(b *testing.B) {
	body := bytes.Repeat([]byte(`{"vessel":"Brave Petrel","berth":7}`), 5000)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write(body) }))
	defer server.Close()
	s := New().(*Settings)
	s.URL = server.URL
	d, err := open(contender.Setup{Clock: clock.Start()}, s, byCrew)
	if err != nil {
		b.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	var plain, sampled []time.Duration
	for i := 0; b.Loop(); i++ {
		var shot shots.Shot
		if i%2 == 1 {
			shot.View = &shots.View{Sample: true, Body: make([]byte, 0, len(body)+64<<10)}
			shot.View.Limit = 4 << 20
		}
		c.Shoot(b.Context(), &shot)
		if shot.Class != shots.OK {
			b.Fatal(shot.Err)
		}
		if i%2 == 1 {
			sampled = append(sampled, shot.Latency())
		} else {
			plain = append(plain, shot.Latency())
		}
	}
	if len(sampled) > 10 {
		slices.Sort(plain)
		slices.Sort(sampled)
		b.ReportMetric(float64(sampled[len(sampled)/2])/float64(plain[len(plain)/2]), "sampled/plain")
	}
}

// BenchmarkOverTLS asks a server over TLS by 8 clients on the lean path and on the full one, in turn, and reports the
// lean path's shots a second, CPU a shot, p50 and p99 as ratios to the full one's: medians over the rounds. The server
// is in this process, so that its CPU time is in both.
func BenchmarkOverTLS(b *testing.B) {
	server := httptest.NewUnstartedServer(
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("tide is in")) }),
	)
	server.StartTLS()
	defer server.Close()
	all := map[string][]float64{}
	for b.Loop() {
		lean, full := overTLS(b, server.URL, "lean"), overTLS(b, server.URL, "full")
		for name, value := range lean {
			all[name] = append(all[name], value/full[name])
		}
	}
	for name, list := range all {
		slices.Sort(list)
		b.ReportMetric(list[len(list)/2], name)
	}
	b.ReportMetric(0, "ns/op")
}

// overTLS drives one heat.
func overTLS(b *testing.B, url, path string) map[string]float64 {
	s := New().(*Settings)
	s.URL, s.Path, s.TLS = url, path, &TLS{Insecure: true}
	clk := clock.Start()
	d, err := open(contender.Setup{Clock: clk}, s, byCrew)
	if err != nil {
		b.Fatal(err)
	}
	const clients = 8
	h := pace.Heat{
		Clock: clk, Pace: plan.Pace{Clients: clients, For: plan.Span(time.Second), Warmup: &plan.Warmup{Shots: 100}},
	}
	for i := range clients {
		c := d.Client(i, clients)
		defer c.Close()
		h.Clients = append(h.Clients, c)
		h.Warm, h.Judged = append(
			h.Warm, tally.NewRecorder(&lean.Shape, 0, 1),
		), append(h.Judged, tally.NewRecorder(&lean.Shape, 0, 1))
	}
	var before unix.Rusage
	h.OnStage = func(pace.Stage, time.Duration) { unix.Getrusage(unix.RUSAGE_SELF, &before) }
	span, err := h.Drive(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	var after unix.Rusage
	unix.Getrusage(unix.RUSAGE_SELF, &after)
	m := tally.Merge(h.Judged)
	if m.Failures() > 0 {
		b.Fatal(m.Causes)
	}
	n := float64(m.Shots())
	cpu := float64(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano())
	return map[string]float64{
		"rate": n / (span.End - span.Start).Seconds(), "cpu": cpu / n,
		"p50": float64(m.Latencies.ValueAtQuantile(50)), "p99": float64(m.Latencies.ValueAtQuantile(99)),
	}
}

// BenchmarkFullAgainstPlain asks a server of its own process by 8 clients on the full path, in turn with as many loops
// of plain net/http that only count, and reports the full path's shots a second and CPU a shot as ratios to theirs:
// medians over the rounds, in clear and over TLS.
func BenchmarkFullAgainstPlain(b *testing.B) {
	for _, secure := range []bool{false, true} {
		b.Run(fmt.Sprintf("tls=%t", secure), func(b *testing.B) {
			url := serveApart(b, secure)
			all := map[string][]float64{}
			for i := 0; b.Loop(); i++ {
				var full, plain figures
				if i%2 == 0 {
					full, plain = askFull(b, url), askPlain(b, url)
				} else {
					plain, full = askPlain(b, url), askFull(b, url)
				}
				all["rate"] = append(all["rate"], full.rate/plain.rate)
				all["cpu"] = append(all["cpu"], full.cpu/plain.cpu)
			}
			for name, list := range all {
				slices.Sort(list)
				b.ReportMetric(list[len(list)/2], name)
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

const (
	benchClients = 8
	benchFor     = time.Second
)

type figures struct{ rate, cpu float64 }

// apart has this test's binary be a server; its value is whether it speaks TLS.
const apart = "HTTP_TEST_SERVER"

func TestMain(m *testing.M) {
	if how := os.Getenv(apart); how != "" {
		s := httptest.NewUnstartedServer(
			http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("tide is in")) }),
		)
		if how == "true" {
			s.StartTLS()
		} else {
			s.Start()
		}
		fmt.Println(s.URL)
		io.Copy(io.Discard, os.Stdin) // until whoever started it is gone
		return
	}
	os.Exit(m.Run())
}

func serveApart(b *testing.B, secure bool) (url string) {
	self, err := os.Executable()
	if err != nil {
		b.Fatal(err)
	}
	server := exec.Command(self)
	server.Env = append(os.Environ(), fmt.Sprintf("%s=%t", apart, secure))
	in, err := server.StdinPipe()
	if err != nil {
		b.Fatal(err)
	}
	out, err := server.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := server.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		in.Close()
		server.Wait()
	})
	if _, err := fmt.Fscanln(out, &url); err != nil {
		b.Fatal(err)
	}
	return url
}

func used() time.Duration {
	var u unix.Rusage
	unix.Getrusage(unix.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

func askFull(b *testing.B, url string) figures {
	s := New().(*Settings)
	s.URL, s.Path = url, "full"
	if strings.HasPrefix(url, "https") {
		s.TLS = &TLS{Insecure: true}
	}
	return driven(b, s, 1)
}

// driven drives one heat of shots of so many requests each.
func driven(b *testing.B, s *Settings, requests float64) figures {
	clk := clock.Start()
	d, err := open(contender.Setup{Clock: clk}, s, byCrew)
	if err != nil {
		b.Fatal(err)
	}
	defer d.Close()
	h := pace.Heat{
		Clock: clk, Pace: plan.Pace{Clients: benchClients, For: plan.Span(benchFor), Warmup: &plan.Warmup{Shots: 100}},
	}
	for i := range benchClients {
		c := d.Client(i, benchClients)
		defer c.Close()
		h.Clients = append(h.Clients, c)
		h.Warm = append(h.Warm, tally.NewRecorder(&lean.Shape, 0, 1))
		h.Judged = append(h.Judged, tally.NewRecorder(&lean.Shape, 0, 1).KeepInsides(tally.MaxInsides/benchClients))
	}
	var before time.Duration
	h.OnStage = func(pace.Stage, time.Duration) { before = used() }
	span, err := h.Drive(b.Context())
	cpu := used() - before
	if err != nil {
		b.Fatal(err)
	}
	m := tally.Merge(h.Judged)
	if m.Failures() > 0 {
		b.Fatal(m.Causes)
	}
	n := requests * float64(m.Counts[shots.OK])
	return figures{n / (span.End - span.Start).Seconds(), cpu.Seconds() / n}
}

// askPlain is what one writes with net/http to count requests: a client each, its answers read to their ends.
func askPlain(b *testing.B, url string) figures {
	var wg sync.WaitGroup
	counts := make([]int64, benchClients)
	loop := func(i int, until time.Time, client *http.Client, buf []byte) {
		for time.Now().Before(until) {
			request, err := http.NewRequestWithContext(b.Context(), http.MethodGet, url, nil)
			if err != nil {
				b.Error(err)
				return
			}
			answer, err := client.Do(request)
			if err != nil {
				b.Error(err)
				return
			}
			for err == nil {
				_, err = answer.Body.Read(buf)
			}
			answer.Body.Close()
			counts[i]++
		}
	}
	var clients []*http.Client
	for range benchClients {
		t := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableCompression: true}
		defer t.CloseIdleConnections()
		clients = append(clients, &http.Client{Transport: t})
	}
	for i, c := range clients {
		loop(i, time.Now().Add(20*time.Millisecond), c, make([]byte, 64<<10))
	}
	clear(counts)
	before, began := used(), time.Now()
	for i, c := range clients {
		wg.Go(func() { loop(i, began.Add(benchFor), c, make([]byte, 64<<10)) })
	}
	wg.Wait()
	took, cpu := time.Since(began), used()-before
	var n float64
	for _, c := range counts {
		n += float64(c)
	}
	return figures{n / took.Seconds(), cpu.Seconds() / n}
}
