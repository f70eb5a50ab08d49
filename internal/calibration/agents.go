package calibration

import (
	"math"
	"math/rand/v2"
)

// agents are machines that drive heats together: each sees latencies that are longer or shorter than the others' by a
// factor of its own, which wanders from round to round. None of them: one machine drives.
type agents []float64

// How much agents differ among themselves, and how far each wanders in a round, in logarithms.
const (
	agentsDiffer = 0.2
	agentsWander = 0.05
)

func newAgents(rng *rand.Rand, n int) agents {
	out := make(agents, n)
	for i := range out {
		out[i] = agentsDiffer * rng.NormFloat64()
	}
	return out
}

func (a agents) wander(rng *rand.Rand) {
	for i := range a {
		a[i] += agentsWander * rng.NormFloat64()
	}
}

// drive draws a heat whose shots are shared out evenly. What disturbs a heat disturbs each agent by itself.
func (a agents) drive(c *Cell, rng *rand.Rand, s *Shape, round int, scale float64) []float64 {
	if len(a) == 0 {
		return c.draw(rng, s, round, c.Rounds, scale)
	}
	part := *c
	var x []float64
	for i, off := range a {
		part.Shots = (c.Shots + len(a) - 1 - i) / len(a)
		x = append(x, part.draw(rng, s, round, c.Rounds, scale*math.Exp(off))...)
	}
	sortTimes(x)
	return x
}
