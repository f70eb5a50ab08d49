package lean

import (
	"bufio"
	"fmt"
	"net/netip"
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
	"paceduel/core/contender"
)

// figures are what one second of asking came to.
type figures struct{ rate, cpu, p50, p99 float64 }

// BenchmarkAgainstBareLoop asks a cheap server, in turn with the bare C loop of testdata/bare.c, and reports our figures as
// ratios to its own: medians over the rounds. It needs gcc.
func BenchmarkAgainstBareLoop(b *testing.B) {
	gcc, err := exec.LookPath("gcc")
	if err != nil {
		b.Skip("there is no gcc to build the bare loop with")
	}
	bare := filepath.Join(b.TempDir(), "bare")
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
	defer func() {
		server.Process.Kill()
		server.Wait()
	}()
	port, err := bufio.NewReader(stdout).ReadString('\n')
	if err != nil {
		b.Fatal(err)
	}
	port = strings.TrimSpace(port)
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

const benchFor = time.Second

func askBare(b *testing.B, bare, port string, conns int) (f figures) {
	out, err := exec.Command(bare, "ask", port, fmt.Sprint(conns), fmt.Sprint(benchFor.Seconds())).Output()
	if err != nil {
		b.Fatal(err)
	}
	var shots, took, cpu float64
	if _, err := fmt.Sscan(string(out), &shots, &took, &cpu, &f.p50, &f.p99); err != nil {
		b.Fatal(err)
	}
	f.rate, f.cpu = shots/took, cpu/shots
	return f
}

func askLean(b *testing.B, port string, conns int) (f figures) {
	clk := clock.Start()
	crew, err := New(&Config{
		Clock: clk, Addresses: []netip.AddrPort{netip.MustParseAddrPort("127.0.0.1:" + port)}, Host: "bench", Timeout: 10 * time.Second, MaxBody: 1 << 20, Keep: true,
		Requests: []Request{{Wire: []byte("GET /tide HTTP/1.1\r\nHost: 127.0.0.1\r\nUser-Agent: paceduel\r\n\r\n")}},
		Status:   func(int, string) error { return nil },
	}, conns)
	if err != nil {
		b.Fatal(err)
	}
	defer crew.Close()
	latencies := make([]time.Duration, 0, 2_000_000)
	run := func(span time.Duration) {
		start := clk.Now()
		err = crew.Drive(b.Context(), &contender.Job{
			Next: func(int) (time.Duration, time.Duration, bool) { return 0, 0, clk.Now()-start < span },
			Done: func(_ int, s *contender.Shot) {
				if s.Class != contender.OK {
					b.Fatal(s.Err)
				}
				latencies = append(latencies, s.Latency())
			},
		})
	}
	run(50 * time.Millisecond)
	latencies = latencies[:0]
	runtime.GC()
	defer debug.SetGCPercent(debug.SetGCPercent(-1))
	before, began := ownCPU(b), clk.Now()
	run(benchFor)
	took, cpu := (clk.Now() - began).Seconds(), ownCPU(b)-before
	if err != nil {
		b.Fatal(err)
	}
	slices.Sort(latencies)
	n := len(latencies)
	return figures{float64(n) / took, cpu / float64(n), float64(latencies[n/2]), float64(latencies[n*99/100])}
}

func ownCPU(b *testing.B) float64 {
	var u unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()).Seconds()
}
