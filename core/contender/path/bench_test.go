package path

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/shots"
)

const (
	benchBytes = 32 << 20
	benchTimes = 20 // of each, in each turn
)

// BenchmarkAgainstBareLoop moves a file by every way, in turn with the bare loop of testdata/loop.c, which makes the
// same system calls, and reports our bytes a second as a ratio to its: the median over the turns. It needs gcc.
func BenchmarkAgainstBareLoop(b *testing.B) {
	gcc, err := exec.LookPath("gcc")
	if err != nil {
		b.Skip("there is no gcc to build the bare loop with")
	}
	bare := filepath.Join(b.TempDir(), "loop")
	if out, err := exec.Command(gcc, "-O2", "-mavx2", "-o", bare, "testdata/loop.c").CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	from, _ := chart(b, benchBytes)
	to := filepath.Join(b.TempDir(), "copy.bin")
	for _, way := range ways {
		b.Run(way, func(b *testing.B) {
			s := moving(way, from, to, nil)
			d, err := open(contender.Setup{Dir: "/", Workspace: "/", Clock: clock.Start()}, s) // both write there in turn
			if err != nil {
				b.Fatal(err)
			}
			defer d.Close()
			c := d.Client(0, 1)
			defer c.Close()
			ours := func() float64 {
				took := make([]float64, benchTimes)
				for i := range took {
					var shot shots.Shot
					if c.Shoot(b.Context(), &shot); shot.Class != shots.OK {
						b.Fatal(shot.Err)
					}
					took[i] = shot.Latency().Seconds()
				}
				slices.Sort(took)
				return took[benchTimes/2]
			}
			ours()
			var ratios []float64
			for b.Loop() {
				first := ours()
				out, err := exec.Command(bare, way, from, to, fmt.Sprint(int(s.Block)), fmt.Sprint(benchTimes)).Output()
				var size, took float64
				if _, scanErr := fmt.Sscan(string(out), &size, &took); err != nil || scanErr != nil || size != benchBytes {
					b.Fatalf("%v, %v: %s", err, scanErr, out)
				}
				ratios = append(ratios, took/((first+ours())/2))
			}
			slices.Sort(ratios)
			b.ReportMetric(ratios[len(ratios)/2], "rate")
			b.ReportMetric(0, "ns/op")
		})
	}
}
