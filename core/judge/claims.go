package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
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

	leans  []float64
	margin float64 // how far inside what it claims it surely is, in logarithms; negative: how far it may be outside
}

// Upheld reports whether every claim of the plan was upheld; true without any.
func (v *Verdict) Upheld() bool {
	return !slices.ContainsFunc(v.Claims, func(c Claim) bool { return c.Finding != Upheld })
}

// Leans are how far inside of what it claims each round lies, in logarithms: below 0 it is outside. None of a claim
// that is not decided round by round, or by too few of them.
func (c Claim) Leans() []float64 { return slices.Clone(c.leans) }

// claims weighs the claims of the plan, one by one for each state of caches that they are of. Each stands alone, at the
// level of the run's intervals.
func (f *field) claims() (out []Claim, err error) {
	var names []string
	for _, e := range f.r.Entrants {
		names = append(names, e.Name)
	}
	for _, text := range f.r.Plan.Claims {
		c, err := plan.ParseClaim(text, names, f.r.Places(), f.brought()...)
		if err != nil {
			return nil, fmt.Errorf("the plan's claim %q: %w", text, err)
		}
		if c.State != "" && !slices.Contains(f.r.States(), c.State) {
			out = append(out, notRun(text, c.State))
			continue
		}
		for _, state := range f.r.States() {
			ofCrashes := c.Figure != "" && c.Figure.Row().Need&figure.Crashes != 0 // which know no states
			if c.State != "" && state != c.State || ofCrashes && state != f.r.States()[0] {
				continue
			}
			one := f.weigh(&c, state)
			if one.Text = text; c.Reading != "" {
				one.Why += "; it is read as " + c.Reading
			}
			if c.Figure == "" {
				one.Why += ", " + strings.TrimSpace(cmp.Or(f.leading().At(), " in "+f.leading().Label()))
			}
			if c.State == "" && len(f.r.States()) > 1 && !ofCrashes {
				one.Text += ", " + state
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// notRun is a claim about a state of caches that the run does not have.
func notRun(text, state string) Claim {
	return Claim{Text: text, Finding: Undecided, Why: "nothing was run " + state}
}

// brought are the figures that the run's contenders brought along.
func (f *field) brought() []figure.Name {
	all := append(slices.Clone(f.r.Plan.Marks), f.r.Brings...)
	for i := range f.r.Amounts {
		all = append(all, f.r.Amounts[i].Figures()...)
	}
	for i := range f.r.Heats {
		for name := range f.r.Heats[i].Told() {
			if !slices.Contains(all, name) {
				all = append(all, name)
			}
		}
	}
	return all
}

func (f *field) weigh(c *plan.Claim, state string) Claim {
	own := cell.Of(c.Contender, state)
	if c.Figure == "" {
		named := *c
		named.Figure = f.leading()
		c = &named
	}
	if c.Figure == figure.ErrorRate {
		return f.errorRate(c, own)
	}
	if c.Figure.Row().Need&figure.Crashes != 0 {
		return f.afterCrashes(c)
	}
	if c.How == plan.Best {
		return f.bestOf(c, own)
	}
	if c.Than != "" {
		return f.against(c, own, cell.Of(c.Than, state))
	}
	return f.limited(c, own)
}

// bestOf weighs a claim of being better than everybody else: it takes all comparisons to uphold it, at the level of the
// run's intervals, and one to refute it, at a level for as many as there are.
func (f *field) bestOf(c *plan.Claim, own cell.Cell) Claim {
	out := Claim{Finding: Upheld}
	var others []string
	for _, e := range f.r.Entrants {
		if e.Name != own.Contender && !e.Mirror {
			others = append(others, e.Name)
		}
	}
	closest := math.Inf(1)
	for _, name := range others {
		pair := *c
		pair.How, pair.Factor, pair.Than = plan.AtLeast, 1, name
		one := f.against(&pair, own, own.With(name))
		if one.Finding == Refuted {
			strict := *f
			strict.alpha /= float64(len(others))
			if one = strict.against(&pair, own, own.With(name)); one.Finding == Refuted {
				return Claim{Finding: Refuted, Why: "as against " + name + ": " + one.Why}
			}
		}
		if one.Finding != Upheld {
			out.Finding = Undecided
		}
		if d, _ := f.differences(c.Figure, own.With(name), own); len(d) > 0 && stats.Centre(d) < closest {
			closest, out.Why = stats.Centre(d), "closest is "+name+": "+one.Why
		}
	}
	return out
}

// against weighs a claim about a ratio, round by round like any figure.
func (f *field) against(c *plan.Claim, own, than cell.Cell) Claim {
	if need := max(f.tooFew(c.Figure, own), f.tooFew(c.Figure, than)); need > 0 {
		return Claim{Finding: Undecided, Why: tooFewFor(c.Figure, need)}
	}
	var d []float64 // logarithms of how much more own has than the other
	for round := 1; round <= f.last(); round++ {
		x := math.Log(f.heats[own][round].figure(c.Figure) / f.heats[than][round].figure(c.Figure))
		if !math.IsNaN(x) && !math.IsInf(x, 0) {
			d = append(d, x)
		}
	}
	if len(d) < f.last() && c.Figure.Row().Constant {
		if claim, ok := f.againstNoneClaim(c, own, than); ok {
			return claim
		}
	}
	edge, more := math.Log(c.Factor), true // own has to have at least edge more
	faster := c.How == plan.AtLeast && !c.Figure.MoreIsBetter()
	switch {
	case faster: // base over own is at least the factor: own over base is at most its inverse
		edge, more = -edge, false
	case c.How == plan.AtMost:
		more = false
	}
	what := "as much"
	if faster {
		what = "as fast"
	}
	return f.decide(d, edge, more, faster, what, func(x float64) string {
		if faster {
			x = -x
		}
		return times(math.Exp(x))
	})
}

// againstNoneClaim weighs a claim about how much one has of what the other has, where some heats have none: by the
// difference between the one and so many times the other. ok is false where no heat has none.
func (f *field) againstNoneClaim(c *plan.Claim, own, than cell.Cell) (_ Claim, ok bool) {
	var d []float64
	for round := 1; round <= f.last(); round++ {
		a, b := f.heats[own][round].figure(c.Figure), f.heats[than][round].figure(c.Figure)
		if !math.IsNaN(a) && !math.IsNaN(b) {
			ok = ok || a == 0 || b == 0
			d = append(d, a-c.Factor*b)
		}
	}
	if !ok {
		return Claim{}, false
	}
	if len(d) < stats.MinRounds {
		return f.decide(d, 0, false, false, "", nil), true
	}
	value := func(s cell.Cell) string { return c.Figure.Show(f.typical(c.Figure, s).V) }
	typical := value(own) + " against " + value(than)
	low, high, _ := stats.NewSample(d).Interval(f.alpha)
	if c.How == plan.AtLeast {
		low, high = -high, -low
	}
	switch {
	case high <= 0:
		return Claim{Finding: Upheld, Why: typical}, true
	case low > 0:
		return Claim{Finding: Refuted, Why: typical}, true
	}
	return Claim{Finding: Undecided, Why: typical}, true
}

// limited weighs a claim about a limit: the typical heat's figure is held to it.
func (f *field) limited(c *plan.Claim, own cell.Cell) Claim {
	if need := f.tooFew(c.Figure, own); need > 0 {
		return Claim{Finding: Undecided, Why: tooFewFor(c.Figure, need)}
	}
	var d []float64
	none := 0
	for _, h := range f.inOrder[own] {
		x := h.figure(c.Figure)
		if x == 0 {
			none++
		} else if x = math.Log(x); !math.IsNaN(x) && !math.IsInf(x, 0) {
			d = append(d, x)
		}
	}
	if none+len(d) == 0 && len(f.inOrder[own]) > 0 {
		return Claim{Finding: Undecided, Why: fmt.Sprintf("no heat of %s tells %s", own, c.Figure.Spoken())}
	}
	if none >= stats.MinRounds && len(d) == 0 {
		out := Claim{Finding: Upheld, Why: c.Figure.Show(0) + " in every heat"}
		if c.How == plan.Over {
			out.Finding = Refuted
		}
		return out
	}
	return f.decide(
		d, math.Log(c.Limit), c.How == plan.Over, false, "", func(x float64) string { return c.Figure.Show(math.Exp(x)) },
	)
}

// decide holds the centre of d to an edge that it has to lie above, or below. show writes a value, what says
// of what; falls says that what it writes gets less as the value grows.
func (f *field) decide(d []float64, edge float64, above, falls bool, what string, show func(float64) string) Claim {
	if len(d) < stats.MinRounds {
		return Claim{
			Finding: Undecided,
			Why:     fmt.Sprintf("%s so far, and an interval needs %d", units.Plural(len(d), "heat"), stats.MinRounds),
		}
	}
	low, high, ok := stats.NewSample(d).Interval(f.alpha)
	if !ok {
		return Claim{Finding: Undecided, Why: "an interval needs more rounds"}
	}
	from, to := low, high
	if falls {
		from, to = high, low
	}
	c := Claim{Finding: Undecided, Why: fmt.Sprintf(
		"%s (%s to %s)", strings.TrimSpace(show(stats.NewSample(d).Centre())+" "+what), show(from), show(to),
	)}
	for _, x := range d {
		if x -= edge; !above {
			x = -x
		}
		c.leans = append(c.leans, x)
	}
	inside, outside := low > edge, high < edge
	c.margin = low - edge
	if !above {
		inside, outside = high < edge, low > edge
		c.margin = edge - high
	}
	switch {
	case inside:
		c.Finding = Upheld
	case outside:
		c.Finding = Refuted
	}
	return c
}

// times writes a factor, which may be less than one.
func times(x float64) string {
	if x < 1 {
		return units.Significant(x) + "x"
	}
	return units.Times(x)
}

// errorRate weighs a claim about the share of shots that fail, by the exact binomial interval (Clopper and Pearson
// 1934) over all shots; failures that come in bunches make it too narrow.
func (f *field) errorRate(c *plan.Claim, own cell.Cell) Claim {
	failed, shots := failures(f.r, own.Contender, own.State)
	if shots == 0 {
		return Claim{Finding: Undecided, Why: "no shots"}
	}
	low, high := stats.ShareInterval(failed, shots, f.alpha)
	out := Claim{Finding: Undecided, Why: fmt.Sprintf(
		"%s of %s shots failed, %s (%s to %s)", units.Count(failed), units.Count(shots),
		units.Share(float64(failed)/float64(shots)), units.Share(low), units.Share(high),
	)}
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

// afterCrashes weighs a claim about what crashes leave: by the interval over crashes, none of which may lie on the
// other side. Where none has left anything of the kind, it is not known how much a crash may leave that does, so that
// the share of crashes which may is held to the limit.
func (f *field) afterCrashes(c *plan.Claim) Claim {
	var each []float64
	for i := range f.r.Crashes {
		crash := &f.r.Crashes[i]
		if crash.Contender != c.Contender || crash.Err != "" {
			continue
		}
		n := map[figure.Name]int64{
			figure.LostRecords: crash.Lost(), figure.TornRecords: crash.Torn, figure.Doubled: crash.Doubled,
		}[c.Figure]
		switch {
		case c.Figure == figure.ServesAgain && crash.Again > 0:
			each = append(each, crash.Again.Seconds())
		case c.Figure != figure.ServesAgain && crash.Acknowledged > 0:
			each = append(each, float64(n)/float64(crash.Acknowledged))
		}
	}
	if len(each) == 0 {
		return Claim{Finding: Undecided, Why: "no crash of " + c.Contender + " tells"}
	}
	out := Claim{Finding: Undecided}
	v := f.over(len(each), func(i int) float64 { return each[i] })
	low, high, over := v.Low, v.High, slices.Max(each) >= c.Limit
	crashes := units.Plural(len(each), "crash")
	out.Why = fmt.Sprintf("%s in %s", c.Figure.Show(v.V), crashes)
	if !math.IsNaN(low) {
		out.Why = fmt.Sprintf("%s (%s to %s) in %s", c.Figure.Show(v.V), c.Figure.Show(low), c.Figure.Show(high), crashes)
	}
	if slices.Max(each) == 0 {
		low, high = 0, stats.Chance(0, len(each))[1]
		out.Why = fmt.Sprintf("none in %s: at 95 %%, at most %s of crashes leave any", crashes, units.Share(high))
	}
	inside, outside := high < c.Limit && !over, low > c.Limit
	if c.How == plan.Over {
		inside, outside = low > c.Limit && slices.Min(each) > c.Limit, high < c.Limit
	}
	switch {
	case inside:
		out.Finding = Upheld
	case outside:
		out.Finding = Refuted
	}
	return out
}

// tooFew is how many shots a heat would need for a percentile; 0 when there are enough.
func (f *field) tooFew(fig figure.Name, s cell.Cell) int64 {
	q, ok := fig.Quantile()
	if fewest := f.fewest(fig, s); !ok || fewest < 0 || beyond(fewest, q) >= fewBeyond-1e-9 {
		return 0
	}
	return needFor(q)
}

// tooFewFor says how many shots a heat has to have for a figure that it has too few for.
func tooFewFor(fig figure.Name, need int64) string {
	return fmt.Sprintf("too few: %s needs %s", fig.Spoken(), shotsNeeded(fig, need))
}
