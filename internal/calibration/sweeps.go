package calibration

import (
	"math"
	"math/rand/v2"
	"slices"
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

// machineDrift is by how much the machine is slower in the last round than in the first.
const machineDrift = 1.0 / 3

// drawn are lines of these true values over points, with noise. What the machine is about slows times, and lessens
// rates, in the same proportion.
func (c *SweepCell) drawn(rng *rand.Rand, x []float64, more bool, truths ...func(float64) float64) []*curve.Line {
	lines := make([]*curve.Line, len(truths))
	for i := range lines {
		lines[i] = &curve.Line{X: x, Log: true, More: more, Values: make([][]float64, len(x))}
	}
	for r := range c.Rounds {
		drift := 1 + machineDrift*float64(r)/float64(c.Rounds)
		for p := range x {
			for i, l := range lines {
				slower := drift * c.Noise.factor(rng)
				if more {
					slower = 1 / slower
				}
				l.Values[p] = append(l.Values[p], truths[i](x[p])*slower)
			}
		}
	}
	return lines
}

// state is what the machine is about in the typical round: what is known of a level holds it.
func (c *SweepCell) state(more bool) float64 {
	slower := (1 + machineDrift*(1-1/float64(c.Rounds))/2) * typical()[c.Noise.Name]
	if more {
		return 1 / slower
	}
	return slower
}

// Of is so many of so many.
type Of struct{ N, All int }

func (o *Of) add(is bool) {
	if o.All++; is {
		o.N++
	}
}

// Share is the share; NaN of none.
func (o Of) Share() float64 { return float64(o.N) / float64(o.All) }

// SweepTally counts what was found over many sweeps of a cell.
type SweepTally struct {
	Found Of // sweeps in which one takes over from another, in which that is told
	Held  Of // turns that were told, whose interval holds the true place
	Met   Of // the same of turns between two that follow laws, found by these
	False Of // sweeps of equal contenders, in which one is said to take over from the other
	Wins  Of // the same, in which one is said to be ahead anywhere
	Wrong Of // sweeps that follow a law, for which another one is named
	Named Of // the same, for which theirs is
	// Parameters are those of laws that were named rightly, whose interval holds the truth; shapes are free of the
	// machine's state, levels hold it.
	Shapes, Levels Of
	Peaks          Of // values with the highest throughput that are told, the same
	Best           Of // best values that are among those that are told
	Alone          Of // best values that are told alone, where the next is 15 % worse
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
	{curve.Steady, curve.AtOnce, false, []float64{3}},
	{curve.Each, curve.AtOnce, false, []float64{4, 0.5}},
	{curve.Scaling, curve.AtOnce, true, []float64{1000, 0.08, 0.004}},
	{curve.Shared, curve.AtOnce, false, []float64{2, 0.1, 0.003}},
	{curve.Crowded, curve.AtOnce, false, []float64{1, 0.3, 0.02}},
}

// Run draws sweeps of each kind and counts what is found.
func (c *SweepCell) Run(sweeps int, seed uint64) (t SweepTally) {
	rng := rand.New(rand.NewPCG(seed, uint64(c.Rounds)))
	for range sweeps {
		c.turns(rng, &t)
		c.fits(rng, &t)
		c.bests(rng, &t)
	}
	return t
}

func (c *SweepCell) turns(rng *rand.Rand, t *SweepTally) {
	// one grows with the logarithm of the parameter, the other hardly; where they meet is drawn, too
	at := math.Exp(math.Log(2.5) + rng.Float64()*math.Log(4))
	growing := func(x float64) float64 { return 2 * math.Pow(x/at, 0.5) }
	steady := func(x float64) float64 { return 2 * math.Pow(x/at, 0.1) }
	const interest = 0.02
	lines := c.drawn(rng, sweepPoints, false, growing, steady)
	places := curve.Places(lines, interest)
	turns := curve.Turns(lines, nil, places)
	t.Found.add(len(turns) > 0)
	holds := func(turns []curve.Turn) bool {
		return len(turns) == 1 && turns[0].At.Low <= at && at <= turns[0].At.High
	}
	if len(turns) > 0 {
		t.Held.add(holds(turns))
	}
	laws := []*curve.Law{lines[0].Fit(curve.Things), lines[1].Fit(curve.Things)}
	if len(turns) > 0 && laws[0] != nil && laws[1] != nil {
		t.Met.add(holds(curve.Turns(lines, laws, places)))
	}
	equal := c.drawn(rng, sweepPoints, false, steady, steady)
	places = curve.Places(equal, 0)
	t.False.add(len(curve.Turns(equal, nil, places)) > 0)
	t.Wins.add(slices.ContainsFunc(places, func(p curve.Place) bool { return p.Standing == curve.Ahead }))
}

func (c *SweepCell) fits(rng *rand.Rand, t *SweepTally) {
	for i := range laws {
		l := &laws[i]
		truth := func(n float64) float64 { return curve.Value(l.kind, l.truth, n) }
		law := c.drawn(rng, sweepPoints, l.more, truth)[0].Fit(l.grows)
		t.Named.add(law != nil && law.Kind == l.kind)
		t.Wrong.add(law != nil && law.Kind != l.kind)
		if law == nil || law.Kind != l.kind {
			continue
		}
		for j, p := range law.Params {
			if j == 0 || l.kind == curve.Each { // of a level
				x := l.truth[j] * c.state(l.more)
				t.Levels.add(p.Low <= x && x <= p.High)
				continue
			}
			t.Shapes.add(p.Low <= l.truth[j] && l.truth[j] <= p.High)
		}
		if law.Peak.Known() {
			x := math.Sqrt((1 - l.truth[1]) / l.truth[2])
			t.Peaks.add(law.Peak.Low <= x && x <= law.Peak.High)
		}
	}
}

func (c *SweepCell) bests(rng *rand.Rand, t *SweepTally) {
	const best = 2
	near := []float64{1.3, 1.08, 1, 1.05, 1.2, 1.4}
	far := []float64{1.5, 1.3, 1, 1.15, 1.4, 1.6}
	at := func(of []float64) func(float64) float64 {
		return func(x float64) float64 { return of[int(math.Round(math.Log2(x)))] }
	}
	set := c.drawn(rng, sweepPoints, false, at(near))[0].FindBest().Set
	t.Best.add(slices.Contains(set, best))
	b := c.drawn(rng, sweepPoints, false, at(far))[0].FindBest()
	t.Alone.add(b.Alone() && b.Point == best)
}
