package calibration

import (
	"fmt"
	"math"
	"os"
	"strings"
	"testing"
)

// What a sweep says holds as often as is promised, over noise, drift and disturbed heats; make calibrate counts more.
func TestSweeps(t *testing.T) {
	sweeps := 120
	if testing.Short() {
		sweeps = 40
	}
	for i := range Noises {
		c := SweepCell{&Noises[i], 10}
		n := c.Run(sweeps, 7)
		for _, held := range []struct {
			what        string
			share       Of
			least, most float64
		}{
			{"turns within their interval", n.Held, 0.925, 1},
			{"turns where laws meet within theirs", n.Met, 0.925, 1},
			{"false turns", n.False, 0, 0.05},
			{"false wins", n.Wins, 0, 0.05},
			{"wrong laws", n.Wrong, 0, 0.05},
			{"parameters that say a shape", n.Shapes, 0.93, 1},
			{"parameters that say a level", n.Levels, 0.93, 1},
			{"peaks", n.Peaks, 0.923, 1},
			{"best values within their set", n.Best, 0.95, 1},
		} {
			x, n := held.share.Share(), held.share.All
			if math.IsNaN(x) || x < held.least-slack(held.least, n) || x > held.most+slack(held.most, n) {
				t.Errorf("%s: %s are %.1f %% of %d", c.Noise.Name, held.what, 100*x, held.share.All)
			}
		}
		// words that never come would hold, too
		if n.Found.Share() < 0.8 || n.Named.Share() < 0.5 || n.Alone.Share() < 0.3 {
			t.Errorf("%s: turns found in %.2f, laws named in %.2f, the best told alone in %.2f", c.Noise.Name, n.Found.Share(),
				n.Named.Share(), n.Alone.Share())
		}
	}
}

// TestFullSweeps counts in full and writes the table of docs/statistics.md.
func TestFullSweeps(t *testing.T) {
	if *full == "" {
		return
	}
	const sweeps = 1000
	var out strings.Builder
	fmt.Fprintf(&out, "\nIn per cent of %d sweeps of each kind:\n\n", sweeps)
	out.WriteString("| noise, rounds | turns found | covered | by laws | false turns | false wins | wrong law | " +
		"law named | shapes covered | levels | peaks | best in its set | best alone |\n" +
		strings.Repeat("|---", 13) + "|\n")
	for i := range Noises {
		for _, rounds := range []int{6, 10, 20} {
			c := SweepCell{&Noises[i], rounds}
			n := c.Run(sweeps, 11)
			fmt.Fprintf(&out, "| %s, %d |", c.Noise.Name, rounds)
			for _, share := range []Of{
				n.Found, n.Held, n.Met, n.False, n.Wins, n.Wrong, n.Named, n.Shapes, n.Levels, n.Peaks, n.Best, n.Alone,
			} {
				text := "–"
				if share.All > 0 {
					text = fmt.Sprintf("%.1f", 100*share.Share())
				}
				out.WriteString(" " + text + " |")
			}
			out.WriteString("\n")
			fmt.Printf("%s, %d: %+v\n", c.Noise.Name, rounds, n)
		}
	}
	out.WriteString("\n")
	const begin, end = "<!-- sweeps: written by make calibrate -->", "<!-- end of sweeps -->"
	text, err := os.ReadFile(*full)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, ok := strings.Cut(string(text), begin)
	_, after, ok2 := strings.Cut(rest, end)
	if !ok || !ok2 {
		t.Fatalf("%s has no marks of sweeps", *full)
	}
	if err := os.WriteFile(*full, []byte(before+begin+"\n"+out.String()+end+after), 0o644); err != nil {
		t.Fatal(err)
	}
}
