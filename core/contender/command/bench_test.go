package command

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

const benchRuns = 500

// BenchmarkAgainstBareSpawn runs a program that does nothing, in turn with the bare spawn loop of testdata/spawn.c,
// while we hold little memory or much, and reports our figures as ratios to its own: medians over the rounds. cpu/told
// is the ratio to a loop that also does what Go's standard library does for every process. It needs gcc.
func BenchmarkAgainstBareSpawn(b *testing.B) {
	gcc, err := exec.LookPath("gcc")
	if err != nil {
		b.Skip("there is no gcc to build the bare loop with")
	}
	bare := filepath.Join(b.TempDir(), "spawn")
	if out, err := exec.Command(gcc, "-O2", "-o", bare, "testdata/spawn.c").CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	nothing, err := exec.LookPath("true")
	if err != nil {
		b.Skip("there is no program that does nothing")
	}
	for _, held := range []int{20, 500} {
		b.Run(fmt.Sprintf("holding=%dMiB", held), func(b *testing.B) {
			ballast := make([]byte, held<<20)
			for i := 0; i < len(ballast); i += 4096 {
				ballast[i] = 1
			}
			var cpu, told, p50, p99 []float64
			for b.Loop() {
				ourCPU, ours := spawnOurs(b, nothing)
				theirCPU, theirs := spawnBare(b, bare, nothing)
				toldCPU, _ := spawnBare(b, bare, nothing, "told")
				cpu, told = append(cpu, ourCPU/theirCPU), append(told, ourCPU/toldCPU)
				p50, p99 = append(p50, ours[0]/theirs[0]), append(p99, ours[1]/theirs[1])
			}
			runtime.KeepAlive(ballast)
			for name, list := range map[string][]float64{"cpu": cpu, "cpu/told": told, "p50": p50, "p99": p99} {
				slices.Sort(list)
				b.ReportMetric(list[len(list)/2], name)
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

func spawnBare(b *testing.B, bare, program string, more ...string) (cpu float64, quantiles [2]float64) {
	out, err := exec.Command(bare, append([]string{fmt.Sprint(benchRuns), program}, more...)...).Output()
	if err != nil {
		b.Fatal(err)
	}
	var runs float64
	if _, err := fmt.Sscan(string(out), &runs, &cpu, &quantiles[0], &quantiles[1]); err != nil {
		b.Fatal(err)
	}
	return cpu / runs, quantiles
}

func spawnOurs(b *testing.B, program string) (cpu float64, quantiles [2]float64) {
	s := New().(*Settings)
	s.Run = []plan.Word{plan.Word(program)}
	d, err := open(contender.Setup{Dir: b.TempDir(), Clock: clock.Start()}, s)
	if err != nil {
		b.Fatal(err)
	}
	defer d.Close()
	c := d.Client(0, 1)
	defer c.Close()
	var shot shots.Shot
	c.Shoot(b.Context(), &shot)
	runtime.GC()
	defer debug.SetGCPercent(debug.SetGCPercent(-1))
	before := ownCPU(b)
	all := make([]float64, benchRuns)
	for i := range all {
		shot = shots.Shot{}
		c.Shoot(b.Context(), &shot)
		if shot.Class != shots.OK {
			b.Fatal(shot.Err)
		}
		all[i] = float64(shot.Latency())
	}
	cpu = (ownCPU(b) - before) / benchRuns
	slices.Sort(all)
	return cpu, [2]float64{all[benchRuns/2], all[benchRuns*99/100]}
}

func ownCPU(b *testing.B) float64 {
	var u unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()).Seconds()
}
