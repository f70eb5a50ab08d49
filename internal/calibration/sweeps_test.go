package calibration

import (
	"math/rand/v2"
	"testing"
)

func TestSweepsProbe(t *testing.T) {
	for i := range Noises {
		for _, rounds := range []int{6, 10, 20} {
			c := SweepCell{&Noises[i], rounds}
			var s SweepTally
			rng := rand.New(rand.NewPCG(7, uint64(rounds)))
			for range 300 {
				c.run(rng, &s)
			}
			for k, n := range s.ByParam {
				if x := 100 * float64(n[0]) / float64(n[1]); x < 94 || x > 99 {
					t.Logf("   %s %.1f", k, x)
				}
			}
			t.Logf("%s %d: turns %d of %d, held %.1f; false %.1f; named %.1f wrong %.1f; params %.1f; best %.1f alone %.1f", c.Noise.Name, rounds, s.Turns, s.Sweeps,
				100*float64(s.TurnsHeld)/float64(s.Turns), 100*float64(s.False)/float64(s.Equal), 100*float64(s.Named)/float64(s.Fitted), 100*float64(s.Wrong)/float64(s.Fitted),
				100*float64(s.ParamsHeld)/float64(s.Params), 100*float64(s.BestHeld)/float64(s.Best), 100*float64(s.Alone)/float64(s.AloneOf))
		}
	}
}
