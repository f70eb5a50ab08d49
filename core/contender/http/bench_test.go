package http

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/tally"
)

// Every other answer of 170 KiB is kept as a sample: what that takes is no part of its latency, so the two halves of the
// shots should be alike. The metric is the ratio of their medians, sampled over plain.
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
		var shot contender.Shot
		if i%2 == 1 {
			shot.View = &contender.View{Sample: true, Body: make([]byte, 0, len(body)+64<<10)}
			shot.View.Limit = 4 << 20
		}
		c.Shoot(b.Context(), &shot)
		if shot.Class != contender.OK {
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

// BenchmarkOverTLS asks a server over TLS by 8 clients on the lean path and on the full one, in turn, and reports the lean
// path's shots a second, CPU a shot, p50 and p99 as ratios to the full one's: medians over the rounds. The server is in this
// process, so that its CPU time is in both.
func BenchmarkOverTLS(b *testing.B) {
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("tide is in")) }))
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
	h := pace.Heat{Clock: clk, Pace: plan.Pace{Clients: clients, For: plan.Span(time.Second), Warmup: &plan.Warmup{Shots: 100}}}
	for i := range clients {
		c := d.Client(i, clients)
		defer c.Close()
		h.Clients = append(h.Clients, c)
		h.Warm, h.Judged = append(h.Warm, tally.NewRecorder(0, 1)), append(h.Judged, tally.NewRecorder(0, 1))
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
