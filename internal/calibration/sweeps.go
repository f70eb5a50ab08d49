package calibration

import (
	"math"
	"math/rand/v2"
	"sync"

	"paceduel/core/judge/curve"
	"paceduel/core/judge/stats"
)

// Noise is how heats of a sweep fall about their true values.
type Noise struct {
	Name   string
	factor func(rng *rand.Rand) float64
}

// Noises are those that sweeps are held to. The machine drifts by a third over the run with all of them.
var Noises = []Noise{
	{"normal", noise},
	{"heavy-tailed", func(rng *rand.Rand) float64 { // Student's with three degrees of freedom
		z := rng.NormFloat64()
		chi := 0.0
		for range 3 {
			x := rng.NormFloat64()
			chi += x * x
		}
		return math.Exp(heatNoise * z / math.Sqrt(chi))
	}},
	{"disturbed", Shapes[len(Shapes)-1].heat},
}

// typical is the factor of the typical heat, by noise: disturbed ones lie on one side.
var typical = sync.OnceValue(func() map[string]float64 {
	const many = 2001
	out := map[string]float64{}
	for i := range Noises {
		rng := rand.New(rand.NewPCG(1, 1))
		x := make([]float64, many)
		for j := range x {
			x[j] = math.Log(Noises[i].factor(rng))
		}
		out[Noises[i].Name] = math.Exp(stats.Centre(x))
	}
	return out
})

// SweepCell is one kind of sweep.
type SweepCell struct {
	Noise  *Noise
	Rounds int
}

// drawn are lines of these true values over points, with noise.
func (c *SweepCell) drawn(rng *rand.Rand, x []float64, log, more bool, truths ...func(float64) float64) []*curve.Line {
	lines := make([]*curve.Line, len(truths))
	for i := range lines {
		lines[i] = &curve.Line{X: x, Log: log, More: more, Values: make([][]float64, len(x))}
	}
	for r := range c.Rounds {
		drift := 1 + float64(r)/float64(c.Rounds)/3
		if more {
			drift = 1 / drift
		}
		for p := range x {
			for i, l := range lines {
				l.Values[p] = append(l.Values[p], truths[i](x[p])*drift*c.Noise.factor(rng))
			}
		}
	}
	return lines
}

// SweepTally counts what was found over many sweeps of a cell.
type SweepTally struct {
	Turns, TurnsHeld     int // turns that were told, and those whose interval holds the true one
	Sweeps               int // in which one contender takes over
	False                int // sweeps of equal contenders in which somebody is said to take over
	Equal                int
	Named, Wrong, Fitted int               // laws that were named, wrongly, of so many sweeps that follow one
	ByParam              map[string][2]int // the same by law and parameter
	Params, ParamsHeld   int               // of laws that were named rightly, and those whose interval holds the truth
	Best, BestHeld       int               // sweeps with a best value, and those in whose set it is
	Alone, AloneOf       int               // the best value alone, where the next is 15 % worse
}

// sweepPoints are those of the simulation.
var sweepPoints = []float64{1, 2, 4, 8, 16, 32}

// Of the laws: what is true of them. Over the points a law differs from simpler ones by more than noise.
var laws = []struct {
	kind  curve.Kind
	grows curve.Grows
	more  bool
	truth []float64
}{
	{curve.Steady, curve.Things, false, []float64{3}},
	{curve.Each, curve.Things, false, []float64{4, 0.5}},
	{curve.Power, curve.Things, false, []float64{2, 1.5}},
	{curve.Scaling, curve.AtOnce, true, []float64{1000, 0.08, 0.004}},
	{curve.Shared, curve.AtOnce, false, []float64{2, 0.1, 0.003}},
	{curve.Crowded, curve.AtOnce, false, []float64{1, 0.3, 0.02}},
}

// run draws one sweep of each kind and counts what is found.
func (c *SweepCell) run(rng *rand.Rand, t *SweepTally) {
	c.turns(rng, t)
	c.fits(rng, t)
	c.bests(rng, t)
}

func (c *SweepCell) turns(rng *rand.Rand, t *SweepTally) {
	// one grows with the logarithm of the parameter, the other hardly; where they meet is drawn, too
	at := math.Exp(math.Log(2.5) + rng.Float64()*math.Log(4))
	growing := func(x float64) float64 { return 2 * math.Pow(x/at, 0.5) }
	steady := func(x float64) float64 { return 2 * math.Pow(x/at, 0.1) }
	t.Sweeps++
	if turns := turnsOf(c.drawn(rng, sweepPoints, true, false, growing, steady), 0.02); len(turns) > 0 {
		t.Turns++
		if a := turns[0].At; a.Low <= at && at <= a.High && len(turns) == 1 {
			t.TurnsHeld++
		}
	}
	t.Equal++
	if len(turnsOf(c.drawn(rng, sweepPoints, true, false, steady, steady), 0)) > 0 {
		t.False++
	}
}

func turnsOf(lines []*curve.Line, interest float64) []curve.Turn {
	return curve.Turns(lines, curve.Places(lines, interest))
}

func (c *SweepCell) fits(rng *rand.Rand, t *SweepTally) {
	for i := range laws {
		l := &laws[i]
		truth := func(n float64) float64 { return curve.Value(l.kind, l.truth, n) }
		law := c.drawn(rng, sweepPoints, true, l.more, truth)[0].Fit(l.grows)
		t.Fitted++
		switch {
		case law == nil:
		case law.Kind != l.kind:
			t.Named++
			t.Wrong++
		default:
			t.Named++
			// the machine drifts: what is known are parameters free of its state
			drift := (1 + 0.5*(1-1/float64(c.Rounds))/3) * typical()[c.Noise.Name]
			if l.more {
				drift = 1 / drift
			}
			for j, p := range law.Params {
				true_ := l.truth[j]
				if j == 0 || l.kind == curve.Each {
					true_ *= drift
				}
				t.Params++
				if t.ByParam == nil {
					t.ByParam = map[string][2]int{}
				}
				key := string(l.kind) + ", " + l.kind.Params()[j]
				n := t.ByParam[key]
				n[1]++
				if p.Low <= true_ && true_ <= p.High {
					n[0]++
				}
				t.ByParam[key] = n
				if p.Low <= true_ && true_ <= p.High {
					t.ParamsHeld++
				}
			}
		}
	}
}

func (c *SweepCell) bests(rng *rand.Rand, t *SweepTally) {
	near := []float64{1.3, 1.08, 1, 1.05, 1.2, 1.4}
	far := []float64{1.5, 1.3, 1, 1.15, 1.4, 1.6}
	at := func(of []float64) func(float64) float64 {
		return func(x float64) float64 { return of[int(math.Round(math.Log2(x)))] }
	}
	t.Best++
	for _, p := range c.drawn(rng, sweepPoints, true, false, at(near))[0].FindBest().Set {
		if p == 2 {
			t.BestHeld++
		}
	}
	t.AloneOf++
	if b := c.drawn(rng, sweepPoints, true, false, at(far))[0].FindBest(); b.Alone() && b.Point == 2 {
		t.Alone++
	}
}
