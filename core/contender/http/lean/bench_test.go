package lean

import (
	"bufio"
	"fmt"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/guard"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// figures are what one second of asking came to.
type figures struct{ rate, cpu, p50, p99 float64 }

// BenchmarkAgainstBareLoop asks a cheap server, in turn with the bare C loop of testdata/bare.c, and reports our
// figures as ratios to its own: medians over the rounds. It needs gcc.
func BenchmarkAgainstBareLoop(b *testing.B) {
	bare, port := serveBare(b)
	for _, conns := range []int{1, 8, 64} {
		b.Run(fmt.Sprintf("connections=%d", conns), func(b *testing.B) {
			var rate, cpu, p50, p99 []float64
			for b.Loop() {
				ours, theirs := askLean(b, port, conns), askBare(b, bare, port, conns)
				rate, cpu = append(rate, ours.rate/theirs.rate), append(cpu, ours.cpu/theirs.cpu)
				p50, p99 = append(p50, ours.p50/theirs.p50), append(p99, ours.p99/theirs.p99)
			}
			for name, list := range map[string][]float64{"rate": rate, "cpu": cpu, "p50": p50, "p99": p99} {
				slices.Sort(list)
				b.ReportMetric(list[len(list)/2], name)
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

// serveBare builds the bare loop and starts its server.
func serveBare(b *testing.B) (bare, port string) {
	gcc, err := exec.LookPath("gcc")
	if err != nil {
		b.Skip("there is no gcc to build the bare loop with")
	}
	bare = filepath.Join(b.TempDir(), "bare")
	if out, err := exec.Command(gcc, "-O2", "-o", bare, "testdata/bare.c").CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	server := exec.Command(bare, "serve")
	stdout, err := server.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := server.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		server.Process.Kill()
		server.Wait()
	})
	text, err := bufio.NewReader(stdout).ReadString('\n')
	if err != nil {
		b.Fatal(err)
	}
	return bare, strings.TrimSpace(text)
}

// BenchmarkAtASetRate asks the same server at a set rate, in turn with the bare loop, and reports our figures as ratios
// to its own, medians over the rounds: the latencies count from when shots were due. lag_p50 and lag_p99 are our own,
// in microseconds, short is the share of shots that were not performed.
func BenchmarkAtASetRate(b *testing.B) {
	bare, port := serveBare(b)
	for _, rate := range []int{5000, 10000} {
		b.Run(fmt.Sprintf("rate=%d", rate), func(b *testing.B) {
			all := map[string][]float64{}
			for b.Loop() {
				out, err := exec.Command(bare, "rate", port, "16", fmt.Sprint(benchFor.Seconds()), fmt.Sprint(rate)).Output()
				if err != nil {
					b.Fatal(err)
				}
				theirs := figuresOf(b, out)
				ours, lags := rateLean(b, port, rate)
				add := func(name string, v float64) { all[name] = append(all[name], v) }
				add("cpu", ours.cpu/theirs.cpu)
				add("p50", ours.p50/theirs.p50)
				add("p99", ours.p99/theirs.p99)
				add("short", 1-ours.rate/float64(rate))
				add("lag_p50_us", lags.Quantile(0.5).Seconds()*1e6)
				add("lag_p99_us", lags.Quantile(0.99).Seconds()*1e6)
			}
			for name, list := range all {
				slices.Sort(list)
				b.ReportMetric(list[len(list)/2], name)
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

// rateLean is a heat of an open model as a run drives it.
func rateLean(b *testing.B, port string, rate int) (figures, *tally.Lags) {
	return driveLean(b, port, 16, plan.Pace{Rate: plan.Rate(rate), Most: 16, For: plan.Span(benchFor)})
}

const benchFor = time.Second

func askBare(b *testing.B, bare, port string, conns int) (f figures) {
	out, err := exec.Command(bare, "ask", port, fmt.Sprint(conns), fmt.Sprint(benchFor.Seconds())).Output()
	if err != nil {
		b.Fatal(err)
	}
	return figuresOf(b, out)
}

// figuresOf reads what the bare loop prints.
func figuresOf(b *testing.B, out []byte) (f figures) {
	var shots, took, cpu float64
	if _, err := fmt.Sscan(string(out), &shots, &took, &cpu, &f.p50, &f.p99); err != nil {
		b.Fatal(err)
	}
	f.rate, f.cpu = shots/took, cpu/shots
	return f
}

func newBenchCrew(b *testing.B, clk *clock.Clock, port string, conns int) *Crew {
	addresses, err := guard.Guard{}.Addresses(b.Context(), "127.0.0.1", port)
	if err != nil {
		b.Fatal(err)
	}
	crew, err := New(&Config{
		Clock: clk, Addresses: addresses, Host: "bench", Timeout: 10 * time.Second, MaxBody: 1 << 20, Keep: true,
		Requests: []Request{{Wire: []byte("GET /tide HTTP/1.1\r\nHost: 127.0.0.1\r\nUser-Agent: paceduel\r\n\r\n")}},
		Status:   func(int, string) error { return nil },
	}, conns)
	if err != nil {
		b.Fatal(err)
	}
	return crew
}

// askLean is a heat of a closed model as a run drives it.
func askLean(b *testing.B, port string, conns int) figures {
	f, _ := driveLean(b, port, conns, plan.Pace{Clients: conns, For: plan.Span(benchFor)})
	return f
}

// driveLean is a heat as a run drives it, with its recording and without collecting memory in it.
func driveLean(b *testing.B, port string, conns int, p plan.Pace) (figures, *tally.Lags) {
	clk := clock.Start()
	crew := newBenchCrew(b, clk, port, conns)
	defer crew.Close()
	p.Warmup = &plan.Warmup{For: plan.Span(50 * time.Millisecond)}
	h := pace.Heat{
		Clock: clk, Crew: crew, Size: conns, Pace: p,
		Warm: []*tally.Recorder{
			tally.NewRecorder(&Shape, 0, 1<<14),
		}, Judged: []*tally.Recorder{tally.NewRecorder(&Shape, tally.MaxShots, 1<<14)},
	}
	runtime.GC()
	defer debug.SetGCPercent(debug.SetGCPercent(-1))
	var before float64
	h.OnStage = func(pace.Stage, time.Duration) { before = ownCPU(b) }
	span, err := h.Drive(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	cpu := ownCPU(b) - before
	m := tally.Merge(h.Judged)
	if m.Failures() > 0 {
		b.Fatal(m.Causes)
	}
	n := float64(m.Counts[shots.OK])
	quantile := func(q float64) float64 { return float64(m.Latencies.ValueAtQuantile(q)) }
	took := benchFor
	if !p.Open() {
		took = span.End - span.Start
	}
	return figures{n / took.Seconds(), cpu / n, quantile(50), quantile(99)}, &m.Lags
}

func ownCPU(b *testing.B) float64 {
	var u unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()).Seconds()
}
