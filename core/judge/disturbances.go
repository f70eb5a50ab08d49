package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// alarm is how often a test behind a caution may say something when there is nothing.
const alarm = 0.01

// disturbances tell what speaks against heats being repetitions of one another. Each kind of test shares its chance of
// a false alarm among those it is held to.
func (f *field) disturbances(v *Verdict) (out []Caution) {
	fig := f.leading()
	out = append(out, f.drift(fig, v)...)
	out = append(out, f.firstHeats(fig)...)
	out = append(out, f.outliers(fig)...)
	return append(out, f.humps()...)
}

// drift looks for a trend over the rounds: of the machine, in what all contenders have in common, and of a contender's
// ratio, which would make the typical round a matter of when one stopped.
func (f *field) drift(fig figure.Name, v *Verdict) (out []Caution) {
	sides := f.sides()
	var common []float64
	for round := 1; round <= f.last(); round++ {
		sum := 0.0
		for _, s := range sides {
			sum += math.Log(f.heats[s][round].figure(fig)) / float64(len(sides))
		}
		if !math.IsNaN(sum) && !math.IsInf(sum, 0) {
			common = append(common, sum)
		}
	}
	rate := alarm / float64(1+len(v.Faces)*len(f.r.States()))
	if p, rises := stats.Trend(common); p < rate {
		way, n := "fell", max(len(common)/4, 1)
		if rises {
			way = "rose"
		}
		change := math.Exp(stat.Mean(common[len(common)-n:], nil)-stat.Mean(common[:n], nil)) - 1
		out = append(out, Caution{
			Kind: Drift, See: InHeats,
			What: fmt.Sprintf(
				"%s of all contenders %s over the run, by %s from the first quarter of the rounds to the last", fig.Label(), way,
				units.Share(math.Abs(change)),
			),
			Try: "ratios hold, since rounds are interleaved; single values are those of a machine that changed: " +
				"warm it up longer",
		})
	}
	for i := range v.Faces {
		for _, state := range f.r.States() {
			d, _ := f.differences(fig, cell.Of(v.Baseline, state), cell.Of(v.Faces[i].Contender, state))
			p, rises := stats.Trend(d)
			if p >= rate {
				own := cell.Of(v.Faces[i].Contender, state)
				out = append(out, dependent(d, v, own, alarm/float64(len(v.Faces)*len(f.r.States())))...)
				continue
			}
			n, way := max(len(d)/4, 1), "loses"
			if rises {
				way = "gains"
			}
			change := math.Exp(math.Abs(stat.Mean(d[len(d)-n:], nil)-stat.Mean(d[:n], nil))) - 1
			out = append(out, Caution{
				Kind: Drift, See: InHeats, Contender: v.Faces[i].Contender,
				What: fmt.Sprintf(
					"%s %s on %s from round to round, %s by the end: the ratio depends on how long one runs", v.Faces[i].Contender,
					way, v.Baseline, units.Share(change),
				),
				Try: "find what it fills or wears out; start each heat from the same state (footing:)",
			})
		}
	}
	return out
}

// dependent looks for rounds that follow the one before, where they have no trend: intervals count each round as a
// witness of its own, and those that repeat each other are fewer than they seem.
func dependent(d []float64, v *Verdict, own cell.Cell, rate float64) []Caution {
	if stats.Dependence(d) >= rate {
		return nil
	}
	return []Caution{{
		Kind: Dependent, See: InHeats, Contender: own.Contender,
		What: fmt.Sprintf(
			"the ratio of %s to %s in a round resembles that of the round before: the interval is narrower than it should be",
			own.String(), v.Baseline,
		),
		Try: "make heats longer (for:, shots:), so that what changes slowly evens out within each",
	}}
}

// What it takes to call a first heat unlike the others, besides the test, whose distribution is the normal one: it has
// to lie beyond all of them by a share of their range, since heats of few shots are as skewed or two-humped as shots
// are; and with under firstFewShots of them there have to be so many heats that one hump alone is not all that was
// seen.
const (
	firstAlarm      = 0.006 // less than other alarms have, since real heats have heavier tails than normal ones
	firstMedianFrom = 100   // shots a heat, from which the median is looked at, else the mean
	firstFewShots   = 20
	firstFewRounds  = 16
)

// firstHeats looks for first heats unlike the rest, as of a service that is still warming up.
func (f *field) firstHeats(fig figure.Name) (out []Caution) {
	for _, s := range f.sides() {
		fewest := f.fewest(fig, s)
		if _, ok := fig.Quantile(); ok && fewest < firstMedianFrom {
			fig = figure.Mean
		}
		x, heats := f.logs(fig, s)
		if len(heats) == 0 || heats[0].Round != 1 || stats.FirstUnlike(x) >= firstAlarm/float64(len(f.sides())) {
			continue
		}
		low, high := slices.Min(x[1:]), slices.Max(x[1:])
		beyond := 0.5 * (high - low)
		switch {
		case fig.IsLoad():
		case fewest < firstFewShots && len(x) < firstFewRounds:
			continue
		case fewest < firstFewShots:
			beyond *= 2.5
		case fewest < firstMedianFrom:
			beyond *= 2
		}
		if x[0] <= high+beyond && x[0] >= low-beyond {
			continue
		}
		factor, than := math.Exp(x[0]-stat.Mean(x[1:], nil)), "longer than"
		if fig.MoreIsBetter() {
			than = "the throughput of"
		} else if factor < 1 {
			factor, than = 1/factor, "shorter than"
		}
		out = append(out, Caution{
			Kind: FirstHeat, See: InHeats, Contender: s.Contender, Round: 1,
			What: fmt.Sprintf(
				"the first heat of %s is unlike its others: %s %s %s", s.String(), fig.Label(), units.Times(factor),
				than+" the rest",
			),
			Try: "raise warmup:, so that what is judged is what lasts; the typical round is hardly moved by it",
		})
	}
	return out
}

// Outliers are told of heats that lie further from the side's middle heat than outlierReach robust standard deviations,
// and by at least a tenth; no more than outliersTold of them.
const (
	outlierReach = 6
	outlierLeast = 0.1
	outliersTold = 3
)

// outliers finds single heats far from the others of their side, with when they were and what the machine was doing.
func (f *field) outliers(fig figure.Name) (out []Caution) {
	type outlier struct {
		s    cell.Cell
		h    *heat
		away float64
	}
	var found []outlier
	for _, s := range f.sides() {
		x, heats := f.logs(fig, s)
		middle := stats.Median(x)
		for _, i := range stats.Outliers(x, outlierReach) {
			if away := x[i] - middle; math.Abs(away) > math.Log1p(outlierLeast) {
				found = append(found, outlier{s, heats[i], away})
			}
		}
	}
	slices.SortStableFunc(found, func(a, b outlier) int {
		if math.Abs(a.away) > math.Abs(b.away) {
			return -1
		}
		return 1
	})
	for i, o := range found {
		if i == outliersTold {
			out[len(out)-1].What += fmt.Sprintf("; %d more heats lie far out", len(found)-outliersTold)
			break
		}
		what := fmt.Sprintf(
			"round %d of %s lies far out: %s %s its usual one", o.h.Round, o.s.String(), fig.Label(),
			units.Times(math.Exp(o.away)),
		)
		if !f.measured {
			what += fmt.Sprintf(
				", %s into the run (%s); %s", units.Duration(o.h.At), f.r.Wall(o.h.At).Format("15:04:05"), hostThen(o.h),
			)
		}
		out = append(out, Caution{
			Kind: Outlier, See: InHeats, Contender: o.s.Contender, Round: o.h.Round, What: what,
			Try: "see what else ran then; a single round hardly moves the typical one",
		})
	}
	return out
}

// hostThen says what the machine was doing during a heat.
func hostThen(h *heat) string {
	c := &h.Conditions
	text := fmt.Sprintf("other programs then used %s of the machine", units.Share(h.r.Others(h.Heat)))
	if c.OthersUnknown {
		text = "it was too short to say what other programs did"
	}
	if c.StealFrac > 0 {
		text += ", its host took " + units.Share(c.StealFrac)
	}
	if c.DiskPressure > 0 {
		text += ", the disk was waited for in " + units.Share(c.DiskPressure)
	}
	if c.MemoryPressure > 0 {
		text += ", memory in " + units.Share(c.MemoryPressure)
	}
	if c.Pauses > time.Millisecond {
		text += ", we paused for " + units.Duration(c.Pauses)
	}
	return text
}

// Humps are looked for in at most humpsOf shots, since more find dents that matter to nobody, of heats with at least
// humpsHeat, since fewer do not show their own middle.
const (
	humpsOf   = 2000
	humpsHeat = 20
	humpsMost = 8 // heats of a side that are looked at where they are long, spread over the run
)

// humps looks for latencies with more than one hump: two kinds of answers, of which an average tells little.
func (f *field) humps() (out []Caution) {
	if f.r.Plan.Pace.Climb != nil || f.r.Ending == result.Running {
		return nil // of all loads together, or not worth what it costs yet
	}
	for _, s := range f.sides() {
		var x []float64
		rng := rand.New(rand.NewPCG(f.r.Seed, 500))
		heats := slices.DeleteFunc(slices.Clone(f.inOrder[s]), func(h *heat) bool { return h.OK < humpsHeat })
		n := len(heats)
		if n > humpsMost && heats[0].OK >= humpsOf/humpsMost {
			n = humpsMost
		}
		for i := range n {
			x = append(x, heats[i*len(heats)/n].centred(rng, humpsOf/n+1)...)
		}
		slices.Sort(x)
		if stats.TwoHumps(x) {
			out = append(out, Caution{
				Kind: Humps, See: InShapes, Contender: s.Contender,
				What: fmt.Sprintf("the latencies of %s have more than one hump: it answers in more than one way", s.String()),
				Try: "see which shots are the slow ones (rows, connections, caches); a percentile that falls between two humps " +
					"has a true but very wide interval",
			})
		}
	}
	return out
}

// centred draws up to n of the heat's latencies at random, as logarithms about their mean, so that heats of a faster
// and a slower moment of the machine lie on each other.
func (h *heat) centred(rng *rand.Rand, n int) (x []float64) {
	if h.sorted != nil {
		if n >= len(h.sorted) {
			x = slices.Clone(h.sorted)
		} else {
			for range n {
				x = append(x, h.sorted[rng.IntN(len(h.sorted))])
			}
		}
		// Times in whole milliseconds stand in heaps that are no humps: each may lie anywhere in its step.
		step := grid(h.sorted)
		for i := range x {
			x[i] += step * (rng.Float64() - 0.5)
		}
	} else {
		x = drawn(h.histogram, rng, n)
	}
	for i := range x {
		x[i] = math.Log(max(x[i], 1e-12))
	}
	centre := stat.Mean(x, nil)
	for i := range x {
		x[i] -= centre
	}
	return x
}

// grid is the step that all of the values, in seconds, are whole multiples of, in whole nanoseconds.
func grid(x []float64) float64 {
	var step int64
	for _, v := range x {
		for rest := int64(math.Round(v * 1e9)); rest != 0; {
			step, rest = rest, step%rest
		}
		if step == 1 {
			break
		}
	}
	return float64(step) / 1e9
}

// drawn takes values from a histogram at random, each anywhere in its bucket.
func drawn(h *result.Distribution, rng *rand.Rand, n int) (x []float64) {
	total := h.TotalCount()
	if total == 0 {
		return nil
	}
	ranks := make([]int64, 0, n)
	if total <= int64(n) {
		for i := range total {
			ranks = append(ranks, i)
		}
	} else {
		for range n {
			ranks = append(ranks, rng.Int64N(total))
		}
		slices.Sort(ranks)
	}
	var before int64
	for _, bar := range h.Bars {
		for len(ranks) > 0 && ranks[0] < before+bar.Count {
			x = append(x, (float64(bar.From)+rng.Float64()*float64(bar.To-bar.From+1))/1e9)
			ranks = ranks[1:]
		}
		before += bar.Count
		if len(ranks) == 0 {
			break
		}
	}
	return x
}

// shotCautions tell which percentiles the shots are too few for.
func shotCautions(v *Verdict) (out []Caution) {
	var names []string
	need := int64(0)
	for _, face := range v.Faces {
		for _, a := range face.Figures {
			if a.Main && a.Word == TooFew && !a.Figure.IsLoad() {
				if !slices.Contains(names, a.Figure.Label()) {
					names = append(names, a.Figure.Label())
				}
				need = max(need, a.NeedShots)
			}
		}
	}
	if len(names) == 0 {
		return nil
	}
	return []Caution{{
		Kind: FewShots, See: InRatios, What: fmt.Sprintf("heats have too few shots for %s", units.List(names)),
		Try: fmt.Sprintf("that takes %s shots a heat: raise repeat: or for:", units.Count(need)),
	}}
}

// noiseCautions tell of differences that are no larger than that of the baseline from itself.
func noiseCautions(v *Verdict) (out []Caution) {
	if v.Mirror == nil {
		return nil
	}
	for _, a := range v.Mirror.Figures {
		if a.Main && (a.Word == Better || a.Word == Worse) {
			out = append(out, Caution{
				Kind: Noise, See: InRatios, Contender: v.Mirror.Contender,
				What: fmt.Sprintf("the baseline differs from itself at %s: %s (%s)", a.Title(), a.Factor(), a.Interval()),
				Try:  "heats are not treated alike here; do not trust differences of that size",
			})
		}
	}
	for _, face := range v.Faces {
		for _, a := range face.Figures {
			if factor := max(a.Ratio, 1/a.Ratio); a.Main && (a.Word == Better || a.Word == Worse) && factor <= a.Noise {
				out = append(out, Caution{
					Kind: Noise, See: InRatios, Contender: face.Contender,
					What: fmt.Sprintf(
						"%s is %s %s at %s, and this machine differs from itself by up to %s", face.Contender, a.Factor(),
						a.Figure.Comparative(a.Word == Better), a.Title(), units.Times(a.Noise),
					),
					Try: "take more rounds, or a quieter machine",
				})
			}
		}
	}
	return out
}

// Heats shorter than briefHeat last a few slices of the scheduler only.
const briefHeat = 0.050 // seconds

// briefCaution tells of heats that are short against what a machine gives a program at a time.
func briefCaution(r *result.Result) (out []Caution) {
	for _, e := range r.Entrants {
		var walls []float64
		for _, h := range r.Of(e.Name, result.AnyState) {
			if h.Wall > 0 {
				walls = append(walls, h.Wall.Seconds())
			}
		}
		if wall := stats.Median(walls); wall < briefHeat {
			out = append(out, Caution{
				Kind: Brief, See: InHeats, Contender: e.Name,
				What: fmt.Sprintf(
					"heats of %s last only %s, so that a single turn of the scheduler (a few ms) weighs much", e.Name,
					units.Seconds(wall),
				),
				Try: "raise repeat: or for:, so that chance evens out within a heat",
			})
		}
	}
	return out
}

// A stall is a shot that takes stallTimes the median and stallLeast seconds.
const (
	stallTimes = 20
	stallLeast = 0.050
)

// closedModel tells what clients that wait for answers hide, and the longest that they waited.
func (f *field) closedModel() []Caution {
	if f.r.Plan.Pace.Clients == 0 {
		return nil
	}
	c := Caution{
		Kind: ClosedModel, See: InHeats,
		What: "closed model: a server that stalls also stalls the asking, so stalls are under-counted",
		Try: "p99 is what a client waits that asks again only after its answer; with a rate:, latencies count from when " +
			"shots were due",
	}
	longest := 0.0
	for _, s := range f.sides() {
		p50 := Quantile(f.pooled[s], 0.5)
		for _, h := range f.inOrder[s] {
			if x := h.figure(figure.Longest); x > stallTimes*p50 && x > stallLeast && x > longest {
				longest = x
				c.Contender, c.Round = s.Contender, h.Round
				c.What = fmt.Sprintf(
					"closed model, with stalls: a shot of %s took %s in round %d, %s the median, and its clients asked nothing "+
						"meanwhile",
					s.String(), units.Seconds(x), h.Round, units.Times(x/p50),
				)
			}
		}
	}
	return []Caution{c}
}
