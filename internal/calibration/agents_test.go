package calibration

import (
	"flag"
	"testing"

	"paceduel/core/figure"
)

var byAgents = flag.Int("agents", 0, "judge `DUELS` of each kind that agents drive who differ, not a few")

// Where several machines drive a heat together that differ among themselves, intervals cover the truth as often as
// where one does. docs/statistics.md has the shares of 2 000 duels.
func TestAgentsThatDifferKeepThePromise(t *testing.T) {
	duels, numbers, all := 150, []int{4}, []int{6, 10}
	if testing.Short() {
		duels = 60
	}
	if *byAgents > 0 {
		duels, numbers, all = *byAgents, []int{2, 4, 16}, []int{6, 10, 20}
	}
	for _, n := range numbers {
		for _, rounds := range all {
			low, high := 1.0, 0.0
			for i := range Shapes {
				c := Cell{
					Base: &Shapes[i], Own: &Shapes[i], Rounds: rounds, Shots: 320, Times: 1.2, Duels: duels,
					Seed: uint64(100*n + rounds + i), Agents: n,
				}
				found := c.Run()
				for f, known := range found.Known {
					if f == figure.Longest {
						continue
					}
					x := share(found.Covered[f], known)
					low, high = min(low, x), max(high, x)
					if least := 0.93 - slack(0.05, duels); x < least {
						t.Errorf("%d agents, %d rounds, %s of %s: covered in %.1f %%", n, rounds, f, Shapes[i].Name, x*100)
					}
				}
			}
			t.Logf("%d agents, %d rounds: covered in %.1f to %.1f %% of %d duels", n, rounds, low*100, high*100, duels)
		}
	}
}
