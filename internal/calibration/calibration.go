// Package calibration holds verdicts to what they promise, by simulation: duels are drawn whose truth is known, and
// judged as any others are. How often an interval covers the truth, how often a word is wrong, what is found and how
// often a caution cries for nothing is counted.
//
// It is no part of the program. make calibrate runs it in full and writes the tables of docs/statistics.md; a short
// version is among the tests.
package calibration

import (
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"

	"paceduel/core/figure"
	"paceduel/core/judge"
)

// Shape is how latencies fall: of shots within a heat, and of heats as wholes.
type Shape struct {
	Name string
	// shots fills x with latencies about 1.
	shots func(rng *rand.Rand, x []float64)
	// heat is the factor of a whole heat; nil: noise of 5 % alone.
	heat func(rng *rand.Rand) float64
	// carried is how much of what a heat was off the next one keeps.
	carried float64
	// grid is what latencies are rounded to, in seconds; 0: nanoseconds.
	grid float64
	// Drifts, Humped and Disturbed say which cautions are right.
	Drifts, Humped, Disturbed bool
}

// heatNoise is the spread of heats as wholes: that of a machine that is shared.
const heatNoise = 0.05

func noise(rng *rand.Rand) float64 { return math.Exp(heatNoise * rng.NormFloat64()) }

func each(draw func(*rand.Rand) float64) func(*rand.Rand, []float64) {
	return func(rng *rand.Rand, x []float64) {
		for i := range x {
			x[i] = draw(rng)
		}
	}
}

func normal(rng *rand.Rand) float64    { return max(1+0.2*rng.NormFloat64(), 0.01) }
func lognormal(rng *rand.Rand) float64 { return math.Exp(0.5 * rng.NormFloat64()) }
func humped(rng *rand.Rand) float64 {
	x := max(1+0.1*rng.NormFloat64(), 0.01)
	if rng.IntN(10) < 3 {
		x *= 3
	}
	return x
}
func pareto(rng *rand.Rand) float64 { return math.Pow(1-rng.Float64(), -1/2.5) }

// autocorrelated shots keep nine tenths of what the one before was off.
func autocorrelated(rng *rand.Rand, x []float64) {
	const kept = 0.9
	at := rng.NormFloat64()
	for i := range x {
		x[i] = math.Exp(0.3 * at)
		at = kept*at + math.Sqrt(1-kept*kept)*rng.NormFloat64()
	}
}

// Shapes are those that verdicts are held to.
var Shapes = []Shape{
	{Name: "normal", shots: each(normal)},
	{Name: "lognormal", shots: each(lognormal)},
	{Name: "two-humped", shots: each(humped), Humped: true},
	{Name: "Pareto (2.5)", shots: each(pareto)},
	{Name: "autocorrelated", shots: autocorrelated},
	{Name: "drifting", shots: each(lognormal), Drifts: true},
	{Name: "disturbed", shots: each(lognormal), Disturbed: true, heat: func(rng *rand.Rand) float64 {
		if rng.IntN(10) == 0 {
			return noise(rng) * (1.3 + 1.7*rng.Float64())
		}
		return noise(rng)
	}},
}

// draw makes a heat of a shape, in a round of so many, counted from 0.
func (c *Cell) draw(rng *rand.Rand, s *Shape, round, rounds int, scale float64) []float64 {
	x := make([]float64, c.Shots)
	s.shots(rng, x)
	factor := 0.004 * scale
	if c.Base.Drifts || c.Own.Drifts { // it is the machine that does, for both
		factor *= 1 + 0.3*float64(round)/float64(rounds)
	}
	if s.heat != nil {
		factor *= s.heat(rng)
	} else {
		factor *= noise(rng)
	}
	for i := range x {
		x[i] *= factor
		if s.grid > 0 {
			x[i] = math.Round(x[i]/s.grid) * s.grid
		}
	}
	sortTimes(x)
	return x
}

// sortTimes sorts latencies and rounds them to nanoseconds, as recorders do. It sorts by digits, since very many heats
// are drawn here.
func sortTimes(x []float64) {
	const digit, few = 11, 64
	if len(x) < few {
		for i := range x {
			x[i] = math.Round(x[i]*1e9) / 1e9
		}
		slices.Sort(x)
		return
	}
	keys, other := make([]uint32, len(x)), make([]uint32, len(x))
	for i, v := range x {
		keys[i] = uint32(min(math.Round(v*1e9), math.MaxUint32))
	}
	for shift := 0; shift < 32; shift += digit {
		var from [1 << digit]int
		for _, k := range keys {
			from[k>>shift&(1<<digit-1)]++
		}
		sum := 0
		for i, n := range from {
			from[i], sum = sum, sum+n
		}
		for _, k := range keys {
			at := &from[k>>shift&(1<<digit-1)]
			other[*at] = k
			*at++
		}
		keys, other = other, keys
	}
	for i, k := range keys {
		x[i] = float64(k) / 1e9
	}
}

// Cell is one kind of duel.
type Cell struct {
	Base, Own     *Shape
	Rounds, Shots int
	Times         float64 // the contender is so many times as fast as the shape of its own has it
	Interest      float64
	Duels         int
	Seed          uint64
	Agents        int // that drive a heat together, each on a machine of its own; 0: one machine does
}

// Count is what came of a cell's duels.
type Count struct {
	Duels    int
	Covered  map[figure.Name]int // the interval holds the truth
	Known    map[figure.Name]int // there is an interval
	Found    map[figure.Name]int // faster, alone
	Wrong    map[figure.Name]int // a word of the figure alone that is not so
	AnyWrong int                 // duels with any wrong word that holds together
	Alarms   map[judge.CautionKind]int
}

// truths are the logarithms of the ratios that intervals are to cover, by figure: of the typical round, the
// pseudo-median of what rounds give, found by drawing very many.
func (c *Cell) truths() map[figure.Name]float64 {
	const draws, stretch = 8000, 20 // rounds of a run, for shapes that change in its course
	rng := rand.New(rand.NewPCG(c.Seed, 1))
	d := map[figure.Name][]float64{}
	for i := range draws {
		base := c.draw(rng, c.Base, i%stretch, stretch, 1)
		own := c.draw(rng, c.Own, i%stretch, stretch, 1/c.Times)
		for f, b := range figures(base) {
			d[f] = append(d[f], math.Log(b/figureOf(own, f)))
		}
	}
	out := map[figure.Name]float64{}
	for f, x := range d {
		pairs := make([]float64, 4*len(x))
		for i := range pairs {
			pairs[i] = (x[rng.IntN(len(x))] + x[rng.IntN(len(x))]) / 2
		}
		slices.Sort(pairs)
		out[f] = pairs[len(pairs)/2]
	}
	return out
}

// known keeps truths, which are the same for any number of rounds.
var known sync.Map

func (c *Cell) truth() map[figure.Name]float64 {
	if c.Base == c.Own {
		return nil // that of the contender's speed, whatever the figure
	}
	key := [3]string{c.Base.Name, c.Own.Name, fmt.Sprint(c.Shots, c.Times)}
	if t, ok := known.Load(key); ok {
		return t.(map[figure.Name]float64)
	}
	t := c.truths()
	known.Store(key, t)
	return t
}

// quantiles are the percentiles that are held to the truth.
var quantiles = map[figure.Name]float64{
	figure.P50: 0.5, figure.P75: 0.75, figure.P90: 0.9, figure.P95: 0.95, figure.P99: 0.99, figure.P999: 0.999,
}

// figures are those of a heat, by its sorted samples.
func figures(x []float64) map[figure.Name]float64 {
	out := map[figure.Name]float64{figure.Mean: figureOf(x, figure.Mean)}
	for f, q := range quantiles {
		if float64(len(x))*(1-q) >= 5-1e-9 {
			out[f] = figureOf(x, f)
		}
	}
	return out
}

// figureOf reads a figure off sorted samples.
func figureOf(x []float64, f figure.Name) float64 {
	if q, ok := quantiles[f]; ok {
		return x[int(math.Ceil(q*float64(len(x))-1e-9))-1]
	}
	sum := 0.0
	for _, v := range x {
		sum += v
	}
	return sum / float64(len(x))
}

// Run draws and judges a cell's duels, on all processors. The same cell always gives the same count.
func (c Cell) Run() *Count {
	truths := c.truth()
	truth := func(f figure.Name) (float64, bool) {
		if c.Base == c.Own {
			return math.Log(c.Times), true
		}
		t, ok := truths[f]
		return t, ok
	}
	total := &Count{
		Covered: map[figure.Name]int{}, Known: map[figure.Name]int{}, Found: map[figure.Name]int{},
		Wrong: map[figure.Name]int{}, Alarms: map[judge.CautionKind]int{},
	}
	var mu sync.Mutex
	onAllProcessors(c.Duels, func(i int) {
		v := c.duel(rand.New(rand.NewPCG(c.Seed, uint64(i)+2)))
		mu.Lock()
		defer mu.Unlock()
		total.enter(v, truth, c.Interest)
	})
	return total
}

// onAllProcessors calls do with each number below n, on as many processors as there are.
func onAllProcessors(n int, do func(i int)) {
	var group sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for i := range next {
				do(i)
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	group.Wait()
}

func (c *Cell) duel(rng *rand.Rand) *judge.Verdict {
	m := judge.Measured{Baseline: "a", Interest: c.Interest, Seed: rng.Uint64()}
	off := rng.NormFloat64()
	agents := newAgents(rng, c.Agents)
	for round := range c.Rounds {
		kept := c.Own.carried
		own := 1.0
		if kept > 0 {
			own = math.Exp(2 * heatNoise * off)
		}
		off = kept*off + math.Sqrt(1-kept*kept)*rng.NormFloat64()
		agents.wander(rng)
		m.Heats = append(m.Heats,
			judge.MeasuredHeat{Round: round + 1, Contender: "a", Samples: agents.drive(c, rng, c.Base, round, 1)},
			judge.MeasuredHeat{Round: round + 1, Contender: "b", Samples: agents.drive(c, rng, c.Own, round, own/c.Times)})
	}
	return judge.MeasuredVerdict(&m)
}

func (n *Count) enter(v *judge.Verdict, truth func(figure.Name) (float64, bool), interest float64) {
	n.Duels++
	edge := math.Log1p(interest)
	wrongAtAll := false
	for _, a := range v.Faces[0].Figures {
		t, ok := truth(a.Figure)
		if !ok || math.IsNaN(a.Low) {
			continue
		}
		wrong := func(w judge.Word) bool {
			return w == judge.Better && t <= edge || w == judge.Worse && t >= -edge || w == judge.Alike && math.Abs(t) > edge
		}
		n.Known[a.Figure]++
		if math.Log(a.Low) <= t && t <= math.Log(a.High) {
			n.Covered[a.Figure]++
		}
		alone := a.Alone
		if alone == "" {
			alone = a.Word
		}
		if alone == judge.Better {
			n.Found[a.Figure]++
		}
		if wrong(alone) {
			n.Wrong[a.Figure]++
		}
		wrongAtAll = wrongAtAll || wrong(a.Word)
	}
	if wrongAtAll {
		n.AnyWrong++
	}
	seen := map[judge.CautionKind]bool{}
	for _, c := range v.Cautions {
		seen[c.Kind] = true
	}
	for k := range seen {
		n.Alarms[k]++
	}
}
