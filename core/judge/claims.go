package judge

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"paceduel/core/plan"
	"paceduel/core/units"
)

// Finding is what a run says of a claim.
type Finding string

// The findings. A claim is upheld when the 95 % interval lies wholly within what it says, refuted when it lies wholly
// outside.
const (
	Upheld    Finding = "upheld"
	Refuted   Finding = "refuted"
	Undecided Finding = "undecided"
)

// Claim is a claim of the plan with what came of it.
type Claim struct {
	Text    string
	Finding Finding
	Why     string // with the figure and its interval
}

// Upheld reports whether every claim of the plan was upheld; true without any.
func (v *Verdict) Upheld() bool {
	return !slices.ContainsFunc(v.Claims, func(c Claim) bool { return c.Finding != Upheld })
}

// claims weighs the claims of the plan, one by one for each state of caches that they are of. Each stands at 95 % alone.
func (f *field) claims() (out []Claim, err error) {
	var names []string
	for _, e := range f.r.Entrants {
		names = append(names, e.Name)
	}
	for _, text := range f.r.Plan.Claims {
		c, err := plan.ParseClaim(text, names)
		if err != nil {
			return nil, fmt.Errorf("the plan's claim %q: %w", text, err)
		}
		for _, state := range f.r.States() {
			if c.State != "" && state != c.State {
				continue
			}
			one := f.weigh(&c, state)
			one.Text = text
			if c.State == "" && len(f.r.States()) > 1 {
				one.Text += ", " + state
			}
			out = append(out, one)
		}
	}
	return out, nil
}

func (f *field) weigh(c *plan.Claim, state string) Claim {
	own := side{c.Contender, state}
	if c.Figure == plan.ErrorRate {
		return f.errorRate(c, own)
	}
	if c.Than != "" {
		return f.against(c, own, side{c.Than, state})
	}
	return f.limited(c, own)
}

// against weighs a claim about a ratio, round by round like any figure.
func (f *field) against(c *plan.Claim, own, than side) Claim {
	if need := max(f.tooFew(c.Figure, own), f.tooFew(c.Figure, than)); need > 0 {
		return Claim{Finding: Undecided, Why: fmt.Sprintf("too few: %s needs %s shots a heat", c.Figure, units.Count(need))}
	}
	var d []float64 // logarithms of how much more own has than the other
	for round := 1; round <= f.r.Plan.Rounds; round++ {
		a, okA := f.heats[own][round]
		b, okB := f.heats[than][round]
		if x := math.Log(claimed(a, c.Figure) / claimed(b, c.Figure)); okA && okB && !math.IsNaN(x) && !math.IsInf(x, 0) {
			d = append(d, x)
		}
	}
	edge, more := math.Log(c.Factor), true // own has to have at least edge more
	faster := c.How == plan.AtLeast && c.Figure != plan.Throughput
	switch {
	case faster: // base over own is at least the factor: own over base is at most its inverse
		edge, more = -edge, false
	case c.How == plan.AtMost:
		more = false
	}
	return decide(d, edge, more, faster, func(x float64) string {
		if faster {
			return units.Times(math.Exp(-x)) + " as fast"
		}
		return units.Times(math.Exp(x)) + " as much"
	})
}

// limited weighs a claim about a limit: the typical heat's figure is held to it.
func (f *field) limited(c *plan.Claim, own side) Claim {
	if need := f.tooFew(c.Figure, own); need > 0 {
		return Claim{Finding: Undecided, Why: fmt.Sprintf("too few: %s needs %s shots a heat", c.Figure, units.Count(need))}
	}
	var d []float64
	for _, h := range f.inOrder[own] {
		if x := math.Log(claimed(h, c.Figure)); !math.IsNaN(x) && !math.IsInf(x, 0) {
			d = append(d, x)
		}
	}
	return decide(d, math.Log(c.Limit), c.How == plan.Over, false, func(x float64) string { return showClaimed(c.Figure, math.Exp(x)) })
}

// decide holds the centre of d to an edge that it has to lie above, or below. show writes a value; falls says that what it
// writes gets less as the value grows.
func decide(d []float64, edge float64, above, falls bool, show func(float64) string) Claim {
	if len(d) < minRounds {
		return Claim{Finding: Undecided, Why: fmt.Sprintf("%s known, an interval needs %d", units.Plural(len(d), "heat"), minRounds)}
	}
	low, high, ok := newSample(d).interval(level)
	if !ok {
		return Claim{Finding: Undecided, Why: "an interval needs more rounds"}
	}
	from, to := low, high
	if falls {
		from, to = high, low
	}
	c := Claim{Finding: Undecided, Why: fmt.Sprintf("%s (%s to %s)", show(pseudoMedian(d)), show(from), show(to))}
	inside, outside := low > edge, high < edge
	if !above {
		inside, outside = high < edge, low > edge
	}
	switch {
	case inside:
		c.Finding = Upheld
	case outside:
		c.Finding = Refuted
	}
	return c
}

// errorRate weighs a claim about the share of shots that fail, by the exact binomial interval (Clopper and Pearson 1934) over
// all shots; failures that come in bunches make it too narrow.
func (f *field) errorRate(c *plan.Claim, own side) Claim {
	failed, shots := failures(f.r, own.name, own.state)
	if shots == 0 {
		return Claim{Finding: Undecided, Why: "no shots"}
	}
	low, high := clopperPearson(failed, shots)
	out := Claim{Finding: Undecided, Why: fmt.Sprintf("%s of %s shots failed, %s (%s to %s)", units.Count(failed), units.Count(shots), units.Share(float64(failed)/float64(shots)), units.Share(low), units.Share(high))}
	inside, outside := high < c.Limit, low > c.Limit
	if c.How == plan.Over {
		inside, outside = outside, inside
	}
	switch {
	case inside:
		out.Finding = Upheld
	case outside:
		out.Finding = Refuted
	}
	return out
}

// clopperPearson is the exact 95 % interval of a share of which k of n were seen.
func clopperPearson(k, n int64) (low, high float64) {
	low, high = 0, 1
	if k > 0 {
		low = distuv.Beta{Alpha: float64(k), Beta: float64(n - k + 1)}.Quantile(level / 2)
	}
	if k < n {
		high = distuv.Beta{Alpha: float64(k + 1), Beta: float64(n - k)}.Quantile(1 - level/2)
	}
	return low, high
}

// claimQuantile is the share of shots at or below a percentile that a claim may name.
func claimQuantile(f plan.Figure) (q float64, ok bool) {
	switch f {
	case plan.P75:
		return 0.75, true
	case plan.P95:
		return 0.95, true
	case plan.P999:
		return 0.999, true
	}
	return quantileOf(f)
}

// tooFew is how many shots a heat would need for a percentile; 0 when there are enough.
func (f *field) tooFew(figure plan.Figure, s side) int64 {
	q, ok := claimQuantile(figure)
	if fewest := f.fewest(s); !ok || fewest < 0 || beyond(fewest, q) >= fewBeyond-1e-9 {
		return 0
	}
	return needFor(q)
}

// claimed is a heat's figure; NaN where it has none.
func claimed(h heat, f plan.Figure) float64 {
	if h.Heat == nil {
		return math.NaN()
	}
	if q, ok := claimQuantile(f); ok {
		return Quantile(h.histogram, q)
	}
	switch f {
	case plan.Longest:
		if h.OK == 0 {
			return math.NaN()
		}
		return float64(h.histogram.Max()) / 1e9
	case plan.SentBack:
		return float64(h.Received) / float64(h.Shots())
	case plan.PeakBytes:
		if h.Peak == 0 {
			return math.NaN()
		}
		return float64(h.Peak)
	}
	return h.figure(f)
}

func showClaimed(f plan.Figure, v float64) string {
	switch f {
	case plan.SentBack, plan.PeakBytes:
		return units.Bytes(v)
	case plan.Throughput:
		return units.Rate(v)
	}
	return units.Seconds(v)
}
