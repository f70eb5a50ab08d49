package judge

import (
	"fmt"
	"math"
	"slices"

	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// Foresee says of a run that has not begun what it cannot settle as it is planned, and what would: figures that heats
// have too few shots for, too few rounds for so many figures, claims that no outcome could decide. The result is as far
// as the weigh-in brought it; shots of a heat are known where the plan sets them.
func Foresee(r *result.Result) (out []Caution) {
	add := func(try, what string, args ...any) {
		out = append(out, Caution{Kind: FewShots, See: InRatios, What: fmt.Sprintf(what, args...), Try: try})
	}
	own := plannedFigures(r)
	if r.Plan.Decides != "" {
		own = []figure.Name{r.Plan.Decides}
	}
	var few []string
	most := int64(0)
	judged := 0
	for _, fig := range own {
		if need := lacking(&r.Plan.Pace, fig); need > 0 {
			few, most = append(few, string(fig)), max(most, need)
			continue
		}
		judged++
	}
	if len(few) > 0 {
		add(
			forMoreShots(&r.Plan.Pace), "heats of %s are too few for %s: that takes %s shots", shotsOf(&r.Plan.Pace),
			units.List(few), units.Count(most),
		)
	}
	faces := 0
	for _, e := range r.Entrants {
		if e.Name != r.Plan.Baseline && !e.Mirror {
			faces++
		}
	}
	comparisons, alpha := faces*len(r.States()), level
	if r.Sweep != nil {
		comparisons *= len(r.Sweep.Points)
	}
	if r.Plan.Decides == "" {
		comparisons, alpha = comparisons*judged, level*ownShare
	}
	planned := r.Plan.Rounds
	if r.Sweep != nil && r.Sweep.Bends { // points are added after half of them
		planned *= 2
	}
	switch least := stats.LeastRounds(alpha / float64(max(comparisons, 1))); {
	case r.Sweep != nil && r.Sweep.Within > 0: // it has as many as the time holds
	case planned < stats.MinRounds:
		add(fmt.Sprintf("take %d or more", stats.MinRounds), "%s settle nothing: an interval needs %d",
			units.Plural(planned, "round"), stats.MinRounds)
	case planned < least && comparisons > 1:
		try := "take %d, or name the one figure that decides:"
		if r.Plan.Decides != "" {
			try = "take %d, or fewer contenders"
		}
		add(fmt.Sprintf(try, least), "%s cannot settle any of %s together; that needs %d",
			units.Plural(planned, "round"), units.Plural(comparisons, "comparison"), least)
	}
	return append(out, hopeless(r)...)
}

// plannedFigures are those that a run will be judged by, as far as what its kinds count says.
func plannedFigures(r *result.Result) []figure.Name {
	own := ownFigures(r)
	if len(r.Plan.Rungs) > 0 || r.Plan.Pace.Climb != nil {
		return own
	}
	for _, fig := range []figure.Name{figure.CPU, figure.Memory} {
		name := map[figure.Name]string{figure.CPU: shots.CPU, figure.Memory: shots.Memory}[fig]
		counted := slices.ContainsFunc(r.Amounts, func(a shots.Amount) bool { return a.Name == name })
		if fig == figure.Memory && unmeasured(r) {
			continue
		}
		if counted && !slices.Contains(own, fig) &&
			!(fig == figure.CPU && slices.ContainsFunc(own, figure.Name.IsCPU)) {
			own = append(own, fig)
		}
	}
	return own
}

// unmeasured reports whether nobody's memory is measured: that of commands is learnt from runs that warm up.
func unmeasured(r *result.Result) bool {
	p := &r.Plan.Pace
	return p.WarmupShots == 0 && p.WarmupFor == 0 &&
		!slices.ContainsFunc(r.Entrants, func(e result.Entrant) bool { return !e.OwnProcess })
}

// lacking is how many shots a heat would need for a figure that it has too few for; 0 where it has enough, or that is
// not known beforehand.
func lacking(p *result.Pace, fig figure.Name) int64 {
	q, ok := fig.Quantile()
	n := mostShots(p)
	_, _, ofStream := fig.OfStream() // of which nobody knows how many there will be
	if !ok || ofStream || n == 0 || beyond(n, q) >= fewBeyond-1e-9 {
		return 0
	}
	return needFor(q)
}

// dueShots is how many shots are due, on average, in a heat that lasts a time at a rate; 0 of any other.
func dueShots(p *result.Pace) float64 {
	if !p.Open() || plannedShots(p) > 0 {
		return 0
	}
	return p.Rate * p.For.Seconds()
}

// mostShots is about how many shots a heat has at most; 0 where nobody knows before. Shots that come at a rate by
// chance are seldom more than four standard deviations above it.
func mostShots(p *result.Pace) int64 {
	due := dueShots(p)
	if p.Spread == plan.Poisson {
		due += 4 * math.Sqrt(due)
	}
	return max(plannedShots(p), int64(math.Ceil(due)))
}

func shotsOf(p *result.Pace) string {
	if due := dueShots(p); due > 0 {
		return units.Plural(int(math.Round(due)), "shot")
	}
	if p.Repeat > 0 {
		return units.Plural(p.Repeat, "run")
	}
	return units.Plural(p.Shots, "shot")
}

// forMoreShots says what of a plan to change so that heats have more shots.
func forMoreShots(p *result.Pace) string {
	if dueShots(p) > 0 {
		return "raise rate: or for:"
	}
	return "raise repeat: or shots:"
}

// hopeless are claims that no outcome of the run could decide.
func hopeless(r *result.Result) (out []Caution) {
	var names []string
	for _, e := range r.Entrants {
		names = append(names, e.Name)
	}
	f := newField(r)
	for _, text := range r.Plan.Claims {
		c, err := plan.ParseClaim(text, names, f.r.Places(), f.brought()...)
		if err != nil {
			continue // it is told where it stands
		}
		if need := lacking(&r.Plan.Pace, c.Figure); c.Figure != "" && need > 0 {
			out = append(out, Caution{Kind: FewShots, See: InRatios, What: fmt.Sprintf(
				"the claim %q cannot be decided: %s takes %s shots a heat, and heats are of %s", text, c.Figure,
				units.Count(need),
				shotsOf(&r.Plan.Pace),
			), Try: forMoreShots(&r.Plan.Pace) + ", or claim something of another figure"})
		}
	}
	return out
}
