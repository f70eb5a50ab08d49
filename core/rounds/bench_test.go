package rounds_test

import (
	"context"
	"errors"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/internal/sample"
)

// instant is a kind whose shots take no time, so that what is left is driving and recording.
func instant() contender.Kind {
	kind := sample.Stub()
	kind.Open = func(s contender.Setup, _ plan.Settings) (contender.Driver, error) { return instantDriver{s.Clock}, nil }
	return kind
}

type instantDriver struct{ clock *clock.Clock }

func (d instantDriver) Client(int, int) contender.Client { return instantClient(d) }
func (d instantDriver) Close() error                     { return nil }

type instantClient struct{ clock *clock.Clock }

func (c instantClient) Rewind() {}
func (c instantClient) Close()  {}
func (c instantClient) Shoot(_ context.Context, shot *contender.Shot) {
	shot.Start = c.clock.Now()
	shot.Asked, shot.FirstByte = 1, 2
	shot.End = c.clock.Now()
	if shot.View != nil {
		shot.View.Outcome, shot.View.Body, shot.View.Bytes = "done", []byte("done"), 4
	}
}

// BenchmarkTenMillionShots runs a duel of ten million shots by 64 clients and reports the most memory that the process ever
// had, in MiB, and the time of a shot.
func BenchmarkTenMillionShots(b *testing.B) {
	const shots = 10_000_000
	src := "duel: Tides\nbaseline: a\ncontenders:\n  a: { stub: { takes: 1ns } }\n  b: { stub: { takes: 1ns } }\npace: { clients: 64, shots: 1250000, warmup: 1000 }\nrounds: 4\n"
	p, err := plan.Read("t.duel.yaml", []byte(src), plan.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		runtime.GC()
		out := make(chan rounds.Event)
		var r *result.Result
		done := make(chan error)
		go func() {
			var err error
			r, err = rounds.Run(b.Context(), rounds.Config{Plan: p, Kinds: []contender.Kind{instant()}, Seed: 1}, out)
			done <- err
		}()
		for range out { // a watcher that keeps nothing
		}
		if err := errors.Join(<-done); err != nil {
			b.Fatal(err)
		}
		total := int64(0)
		var wall time.Duration
		for _, h := range r.Heats {
			total += h.Shots()
			wall += h.Wall
		}
		if total != shots {
			b.Fatalf("%d shots; want %d", total, shots)
		}
		b.ReportMetric(float64(wall)/shots, "ns/shot")
	}
	b.ReportMetric(peakMiB(b), "peak_MiB")
	b.ReportMetric(0, "ns/op")
}

// peakMiB is the most memory that this process ever had.
func peakMiB(b *testing.B) float64 {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Skip("this system does not tell the memory of processes")
	}
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
	if err != nil {
		b.Fatal(err)
	}
	return kib / 1024
}
