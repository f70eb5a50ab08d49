package judge

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/curve"
	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Remark is one finding of a sweep in a sentence.
type Remark struct {
	Kind      RemarkKind
	Contender string // that it is of; empty: of all
	Slice     int    // that it is of
	Text      string
}

// RemarkKind is what a remark is about.
type RemarkKind string

// The kinds of remarks, by the headings they go under.
const (
	WhoWins   RemarkKind = "who wins where"
	HowItGoes RemarkKind = "how it grows"
	BestValue RemarkKind = "which value"
	TradeOff  RemarkKind = "trade-offs"
	Carried   RemarkKind = "what it is worth"
)

// sentence is the sweep in as many words as there is room for.
func (s *Sweep) sentence() string {
	if s.Rounds == 0 {
		if s.r.Ending == result.Failed {
			return "Nothing was measured: " + s.r.Reason + "."
		}
		return "No round was finished at every point, so nothing can be compared."
	}
	var wins []string
	for _, r := range s.Remarks {
		if r.Kind == WhoWins {
			wins = append(wins, r.Text)
		}
	}
	failing := s.failing()
	text := failing + strings.Join(wins, " ")
	if !fits(text) || len(s.Slices) > 2 {
		text = failing + s.byCount()
	}
	for _, more := range []string{s.furthest(), s.open(), s.tooFew()} {
		if longer := text + " " + more; more != "" && fits(longer) {
			text = longer
		}
	}
	return text
}

// failing says who fails otherwise than the baseline at any point, which comes before anything else: how much at worst,
// and where. Empty where nobody does.
func (s *Sweep) failing() (text string) {
	type tally struct{ failed, shots int64 }
	counts := map[cell.Cell]tally{} // whatever the state
	for i := range s.r.Heats {
		if h := &s.r.Heats[i]; h.Counts() {
			at := cell.Cell{Contender: h.Contender, Point: h.Point}
			n := counts[at]
			counts[at] = tally{n.failed + h.Failed(), n.shots + h.Shots()}
		}
	}
	share := func(name string, at cell.Point) float64 {
		n := counts[cell.Cell{Contender: name, Point: at}]
		return float64(n.failed) / float64(max(n.shots, 1))
	}
	for _, name := range s.Contenders {
		worst, points := -1, 0
		for i := range s.r.Sweep.Points {
			at := s.r.Sweep.Points[i].At
			own, others := share(name, at), 0.0
			for _, other := range s.Contenders {
				if other != name {
					others = max(others, math.Abs(share(other, at)-own))
				}
			}
			if own == 0 || others == 0 {
				continue
			}
			if points++; worst < 0 || own > share(name, s.r.Sweep.Points[worst].At) {
				worst = i
			}
		}
		if worst < 0 {
			continue
		}
		at := s.r.Sweep.Points[worst].At
		text += fmt.Sprintf("%s fails %s of its shots at %s", name, units.Share(share(name, at)), s.r.Sweep.Say(at))
		if points > 1 {
			text += ", and at " + units.Plural(points-1, "other point")
		}
		text += ". "
	}
	return text
}

// byCount says at how many points each contender wins.
func (s *Sweep) byCount() string {
	counts := make([]int, len(s.Contenders))
	points, even, open := 0, 0, 0
	for i := range s.Slices {
		for _, p := range s.Curve(i, s.Decides, AsMeasured).Places {
			points++
			switch p.Standing {
			case curve.Ahead:
				counts[p.Leader]++
			case curve.Even:
				even++
			default:
				open++
			}
		}
	}
	var parts []string
	for i, n := range counts {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%s %s at %d", s.Contenders[i], s.Decides.Superlative(), n))
		}
	}
	if even > 0 {
		parts = append(parts, fmt.Sprintf("nobody by anything of interest at %d", even))
	}
	if open > 0 {
		parts = append(parts, fmt.Sprintf("it is open at %d", open))
	}
	return fmt.Sprintf("Of %d points%s: %s.", points, s.Decides.At(), strings.Join(parts, ", "))
}

// furthest says where contenders are furthest apart.
func (s *Sweep) furthest() string {
	const worthTelling = 1.5 // times
	var far curve.Amount
	text, pairs := "", 0
	for i := range s.Slices {
		pairs += len(s.Slices[i].Points) * (len(s.Contenders) - 1)
	}
	for i := range s.Slices {
		of := &s.Slices[i]
		c := s.Curve(i, s.Decides, AsMeasured)
		lines := c.Lines
		for p, place := range c.Places {
			if place.Leader < 0 {
				continue
			}
			for j, l := range lines {
				by := lines[place.Leader].Better(l, p)
				if j == place.Leader || !by.Sure() || by.V < worthTelling || by.V <= far.V ||
					!lines[place.Leader].Surely(l, p, curve.Level/float64(pairs)) {
					continue
				}
				far = by
				text = fmt.Sprintf("At %s, %s %s %s %s than %s (%s).", s.pointOf(of, p), s.Contenders[j],
					s.Decides.Verb(), units.Times(by.V), s.Decides.Comparative(false), s.Contenders[place.Leader], withinTimes(by))
			}
		}
	}
	return text
}

// withinTimes is a ratio's interval: "2.1 to 2.6".
func withinTimes(a curve.Amount) string {
	return Assessment{Ratio: a.V, Low: a.Low, High: a.High}.Interval()
}

func (s *Sweep) open() string {
	if open := s.Comparisons - s.Settled; open > 0 {
		if open == s.Comparisons {
			return fmt.Sprintf("All %d comparisons with %s are still open.", open, s.Baseline)
		}
		return fmt.Sprintf("%d of %s still open.", open, units.Plural(s.Comparisons, "comparison"))
	}
	return ""
}

// tooFew says that no comparison could be settled, whatever was measured, with so few rounds.
func (s *Sweep) tooFew() string {
	least := stats.LeastRounds(level / float64(max(s.Comparisons, 1)))
	if s.r.Ending == result.Running || s.Rounds >= least || s.Settled > 0 {
		return ""
	}
	return fmt.Sprintf("%s cannot settle %s together; %d can.", units.Plural(s.Rounds, "round"),
		units.Plural(s.Comparisons, "comparison"), least)
}

// remarks are all findings along all slices.
func (s *Sweep) remarks() (out []Remark) {
	if s.Rounds == 0 {
		return nil
	}
	curves := make([]*Curve, len(s.Slices))
	for i := range s.Slices {
		curves[i] = s.Curve(i, s.Decides, AsMeasured)
		out = append(out, Remark{Kind: WhoWins, Slice: i, Text: s.whoWins(i, curves[i])})
	}
	for i, c := range curves {
		for j, name := range s.Contenders {
			add := func(kind RemarkKind, text string) {
				if text != "" {
					out = append(out, Remark{kind, name, i, s.within(i, text)})
				}
			}
			add(HowItGoes, s.growth(i, c, j))
			add(BestValue, s.bestValue(i, c, j))
			for _, fig := range []figure.Name{figure.Memory, figure.CPU} {
				if fig != s.Decides && slices.Contains(s.Figures, fig) {
					add(BestValue, s.bestValue(i, s.inPassing(i, fig), j))
				}
			}
			add(TradeOff, s.tradeOff(i, c, j))
			add(Carried, s.carried(i, c, j))
		}
	}
	order := []RemarkKind{WhoWins, HowItGoes, BestValue, TradeOff, Carried}
	slices.SortStableFunc(out, func(a, b Remark) int { return slices.Index(order, a.Kind) - slices.Index(order, b.Kind) })
	return out
}

// within puts before a remark which slice it is of, where there are several.
func (s *Sweep) within(slice int, text string) string {
	if where := s.Where(&s.Slices[slice]); where != "" {
		return where + ": " + text
	}
	return text
}

// pointOf names a point of a slice: "12 writers", "rows 4000, level 3".
func (s *Sweep) pointOf(of *Slice, point int) string {
	text := named(s.Parameter(of), s.Value(of, point))
	if of.Fixed != "" {
		text += ", " + of.Fixed
	}
	if of.State != "" {
		text += ", " + of.State
	}
	return text
}

// named is a parameter's value with its name: "12 writers", but "level 3".
func named(p *result.Parameter, v result.Value) string {
	if counted(p) {
		text := v.Text + " " + nounFor(p, v.Text == "1")
		if v.Called != "" {
			text += " (" + v.Called + ")"
		}
		return text
	}
	return p.Name + " " + v.String()
}

// counted reports whether a parameter's name is what its values count.
func counted(p *result.Parameter) bool {
	c := plan.Counts(p.Counts)
	return strings.HasSuffix(p.Name, "s") && (c == plan.Items || c.AtOnce())
}

// nounFor is the parameter's name, or one of what it counts.
func nounFor(p *result.Parameter, one bool) string {
	if one {
		return units.Singular(p.Name)
	}
	return p.Name
}

// amountOn writes a place on a parameter's axis: in its unit, whole where its values are.
func amountOn(p *result.Parameter, x float64, round func(float64) float64) string {
	if math.IsInf(x, 1) {
		return "any more"
	}
	for _, v := range p.Values { // what people know it by
		if v.Number == x {
			return v.String()
		}
	}
	_, family := plan.Number(p.Values[0].Text)
	whole := !slices.ContainsFunc(p.Values, func(v result.Value) bool { return v.Number != math.Trunc(v.Number) })
	switch {
	case family == "bytes" || plan.Counts(p.Counts) == plan.OfBytes:
		return units.Bytes(x)
	case family == "time":
		return units.Seconds(x)
	case family == "rate":
		return units.Rate(x)
	case whole && x < 1000:
		return units.Count(int64(round(x)))
	case whole && x < 1e15: // of what was not measured nobody knows more than three digits
		unit := math.Pow(10, math.Floor(math.Log10(x))-2)
		return units.Count(int64(round(x/unit) * unit))
	}
	return units.Significant(x)
}

// placeOn writes an estimate of a place on an axis with its interval, which is rounded outwards: "3 writers (2 to 4)".
func placeOn(p *result.Parameter, a curve.Amount) string {
	at := amountOn(p, a.V, math.Round)
	if counted(p) {
		at += " " + nounFor(p, at == "1")
	} else {
		at = p.Name + " " + at
	}
	low, high := amountOn(p, a.Low, math.Floor), amountOn(p, a.High, math.Ceil)
	if !a.Sure() {
		return at
	}
	if math.IsInf(a.High, 1) {
		return at + " (" + low + " or more)"
	}
	return at + " (" + low + " to " + high + ")"
}

// whoWins says of a slice who is best where, and where that turns.
func (s *Sweep) whoWins(slice int, c *Curve) string {
	of := &s.Slices[slice]
	p := s.Parameter(of)
	is := s.Decides.Superlative()
	var text string
	covered := map[int]bool{} // points that are spoken for
	first := slices.IndexFunc(c.Places, func(at curve.Place) bool { return at.Standing == curve.Ahead })
	switch {
	case !p.Numbers():
		text = s.winsByWord(of, c, covered)
	case len(c.Turns) > 0:
		from := ""
		if first > 0 {
			from = "from " + s.bare(of, first) + " "
		}
		text = fmt.Sprintf("%s %s %sup to %s, %s", s.Contenders[c.Turns[0].From], is, from, placeOn(p, c.Turns[0].At),
			s.Contenders[c.Turns[0].To])
		for _, t := range c.Turns[1:] {
			text += fmt.Sprintf(" from there up to %s, %s", placeOn(p, t.At), s.Contenders[t.To])
		}
		last := lastAhead(c.Places)
		if text += " from there on"; last < len(c.Places)-1 {
			text = strings.TrimSuffix(text, "on") + "to " + named(p, s.Value(of, last))
		}
		for _, t := range c.Turns {
			for i := t.Before; i <= t.After; i++ {
				covered[i] = true
			}
		}
	case first >= 0:
		leader, last := c.Places[first].Leader, lastAhead(c.Places)
		text = fmt.Sprintf("%s %s from %s to %s", s.Contenders[leader], is, s.bare(of, first), named(p, s.Value(of, last)))
		if !counted(p) {
			text = fmt.Sprintf("%s %s from %s to %s", s.Contenders[leader], is, named(p, s.Value(of, first)), s.bare(of, last))
		}
		if first == last {
			text = fmt.Sprintf("%s %s at %s", s.Contenders[leader], is, named(p, s.Value(of, first)))
		}
		if first == 0 && last == len(c.Places)-1 {
			text += ", without a turn between"
		}
	}
	for i, at := range c.Places {
		covered[i] = covered[i] || at.Standing == curve.Ahead
	}
	text = strings.TrimPrefix(text+s.others(of, c, covered), "; ")
	if at := strings.TrimSpace(s.Decides.At()); at != "" {
		text = at + ", " + text
	}
	if within := s.within(slice, ""); within != "" {
		return within + text + "."
	}
	for _, name := range s.Contenders {
		if strings.HasPrefix(text, name+" ") {
			return text + "." // names stay as they are
		}
	}
	return capital(text) + "."
}

// lastAhead is the last point at which anybody is ahead; -1 without one.
func lastAhead(places []curve.Place) int {
	for i := len(places) - 1; i >= 0; i-- {
		if places[i].Standing == curve.Ahead {
			return i
		}
	}
	return -1
}

// winsByWord says who is best at values that have no order.
func (s *Sweep) winsByWord(of *Slice, c *Curve, covered map[int]bool) string {
	var parts []string
	for j, name := range s.Contenders {
		var at []string
		for i, place := range c.Places {
			if place.Standing == curve.Ahead && place.Leader == j {
				at, covered[i] = append(at, s.Value(of, i).String()), true
			}
		}
		if len(at) == 0 {
			continue
		}
		verb := name
		if len(parts) == 0 {
			verb += " " + s.Decides.Superlative()
		}
		where := s.Parameter(of).Name + " " + units.List(at)
		if len(at) == len(c.Places) {
			where = "every " + s.Parameter(of).Name
		}
		parts = append(parts, verb+" at "+where)
	}
	return strings.Join(parts, ", ")
}

// others says where contenders are alike or it is open who is best, at points that are not spoken for.
func (s *Sweep) others(of *Slice, c *Curve, covered map[int]bool) (text string) {
	var open []int
	alike := map[string][]int{}
	var groups []string
	for i, place := range c.Places {
		switch {
		case covered[i] || place.Leader < 0:
		case place.Standing == curve.Even:
			var names []string
			for _, j := range place.Equals {
				names = append(names, s.Contenders[j])
			}
			group := units.List(names)
			if alike[group] == nil {
				groups = append(groups, group)
			}
			alike[group] = append(alike[group], i)
		default:
			open = append(open, i)
		}
	}
	for _, g := range groups {
		text += fmt.Sprintf("; %s are too close to call at %s", g, s.stretches(of, alike[g]))
	}
	if len(open) > 0 {
		text += fmt.Sprintf("; who %s is still open at %s", s.Decides.Superlative(), s.stretches(of, open))
	}
	return text
}

// bare is a value beside others, without the parameter's name: where it is a count, as a number.
func (s *Sweep) bare(of *Slice, point int) string {
	v := s.Value(of, point)
	if counted(s.Parameter(of)) {
		return v.Text
	}
	return v.String()
}

// stretches names points of a slice: "1, 2 and 8 to 32 writers".
func (s *Sweep) stretches(of *Slice, points []int) string {
	p := s.Parameter(of)
	var parts []string
	for i := 0; i < len(points); {
		j := i
		for j+1 < len(points) && points[j+1] == points[j]+1 {
			j++
		}
		switch {
		case j > i+1 && p.Numbers():
			parts = append(parts, fmt.Sprintf("%s to %s", s.bare(of, points[i]), s.bare(of, points[j])))
		default:
			for _, at := range points[i : j+1] {
				parts = append(parts, s.bare(of, at))
			}
		}
		i = j + 1
	}
	if counted(p) {
		return units.List(parts) + " " + nounFor(p, len(parts) == 1 && parts[0] == "1")
	}
	return p.Name + " " + units.List(parts)
}

// amountIn writes a value of a figure with its interval: "1.20 ms (1.1 ms to 1.3 ms)".
func amountIn(fig figure.Name, a curve.Amount) string {
	if !a.Sure() {
		return fig.Show(a.V)
	}
	return fmt.Sprintf("%s (%s to %s)", fig.Show(a.V), fig.Show(a.Low), fig.Show(a.High))
}

// growth says by which law a contender's figure grows.
func (s *Sweep) growth(slice int, c *Curve, i int) string {
	p := s.Parameter(&s.Slices[slice])
	name, law, fig := s.Contenders[i], c.Laws[i], c.Figure
	if !grown(p) || !c.Typical[i][0].Known() {
		return ""
	}
	if law == nil {
		const fewest = 4 // points for the simplest law that says anything of growth
		if len(c.Lines[i].X) < fewest || s.Rounds < 5 {
			return ""
		}
		return fmt.Sprintf("no law that is tried fits %s.", name)
	}
	share := func(a curve.Amount) string {
		return fmt.Sprintf("%s (%s to %s)", units.Share(a.V), units.Share(a.Low), units.Share(a.High))
	}
	switch law.Kind {
	case curve.Steady:
		return fmt.Sprintf("%s stays at %s whatever the %s.", name, amountIn(fig, law.Params[0]), p.Name)
	case curve.Each:
		unit, by := s.unitOf(p)
		each := law.Params[1]
		each = curve.Amount{V: each.V * by, Low: each.Low * by, High: each.High * by}
		fixed := amountIn(fig, law.Params[0]) + " and "
		if law.Params[0].Low <= 0 {
			fixed = "nothing fixed that can be told, and "
		}
		if fig.MoreIsBetter() {
			return fmt.Sprintf("%s brings %s%s more with each %s.", name, fixed, amountIn(fig, each), unit)
		}
		return fmt.Sprintf("%s takes %s%s for each %s.", name, fixed, amountIn(fig, each), unit)
	case curve.Power:
		k, twice := law.Params[1], "twice as many make it %s"
		if fig.Unit() == units.Second {
			twice = "twice as many take %s as long"
		}
		return fmt.Sprintf("%s changes with %s to the power of %.2f (%.2f to %.2f): "+twice+".", name, p.Name, k.V, k.Low,
			k.High, units.Times(math.Exp2(k.V)))
	}
	text := fmt.Sprintf("%s has a contention of %s and a coherency of %s", name, share(law.Params[1]),
		share(law.Params[2]))
	last := c.Lines[i].X[len(c.Lines[i].X)-1]
	what := "the most comes out"
	if law.Kind == curve.Shared {
		what = "it is done soonest"
	}
	switch peak := law.Peak; {
	case !peak.Known():
	case math.IsInf(peak.V, 1) || peak.V > 4*last:
		text += fmt.Sprintf("; it has no peak up to %s", named(p, s.Value(&s.Slices[slice], len(c.Lines[i].X)-1)))
	case peak.V > last:
		text += fmt.Sprintf("; %s with %s, beyond what was measured", what, placeOn(p, peak))
	default:
		text += fmt.Sprintf("; %s with %s", what, placeOn(p, peak))
	}
	return text + "."
}

// unitOf is what a part for each is told for, and how many of the parameter that is.
func (s *Sweep) unitOf(p *result.Parameter) (name string, by float64) {
	if _, family := plan.Number(p.Values[0].Text); family == "bytes" {
		const mebi = 1 << 20
		if p.Values[len(p.Values)-1].Number >= mebi {
			return "MiB", mebi
		}
		return "KiB", 1 << 10
	}
	return units.Singular(p.Name), 1
}

// bestValue says which value is best for a contender, and from which on one more step brings little.
func (s *Sweep) bestValue(slice int, c *Curve, i int) string {
	of := &s.Slices[slice]
	p := s.Parameter(of)
	best, n := c.Bests[i], len(of.Points)
	steady := c.Laws[i] != nil && c.Laws[i].Kind == curve.Steady
	if best.Point < 0 || n < 3 || steady || !s.chosen(of, c, i) {
		return ""
	}
	if c.Figure != s.Decides && 2*len(best.Set) > n {
		return "" // it is looked at in passing
	}
	text := fmt.Sprintf("%s %s with %s", s.Contenders[i], c.Figure.Superlative(), named(p, s.Value(of, best.Point)))
	others := slices.DeleteFunc(slices.Clone(best.Set), func(at int) bool { return at == best.Point })
	switch {
	case len(others) == n-1:
		return ""
	case len(others) > 0:
		text += fmt.Sprintf(", which cannot be told from %s", s.stretches(of, others))
	case best.Point == n-1 && p.Numbers():
		text += ", the most that was tried"
	case best.Point == 0 && p.Numbers():
		text += ", the least that was tried"
	}
	if knee := c.Knees[i]; knee >= 0 && knee < best.Point {
		text += fmt.Sprintf("; from %s on, one more step brings less than %s", named(p, s.Value(of, knee)),
			units.Share(kneeShare))
	}
	return text + "."
}

// inPassing is a curve of a figure with its best values alone.
func (s *Sweep) inPassing(slice int, fig figure.Name) *Curve {
	c := &Curve{Figure: fig, Lines: s.lines(&s.Slices[slice], fig)}
	for _, l := range c.Lines {
		c.Laws, c.Knees, c.Bests = append(c.Laws, nil), append(c.Knees, -1), append(c.Bests, l.FindBest())
	}
	return c
}

// chosen reports whether a contender's best value is worth naming: where a parameter counts things to be done, fewer of
// them are always done sooner, and where all are fastest one at a time each may have work of its own.
func (s *Sweep) chosen(of *Slice, c *Curve, i int) bool {
	if c.Figure.MoreIsBetter() {
		return true
	}
	switch counts := plan.Counts(s.Parameter(of).Counts); {
	case counts == plan.Items || counts == plan.OfBytes || counts == plan.Clients:
		return !slices.Contains(c.Bests[i].Set, 0)
	case counts == plan.Threads:
		return slices.ContainsFunc(c.Bests, func(b curve.Best) bool { return !slices.Contains(b.Set, 0) })
	}
	return true
}

// tradeOff holds the value that is best for the figure that decides to the one that is best for bytes, else for memory,
// else for processor time.
func (s *Sweep) tradeOff(slice int, c *Curve, i int) string {
	of := &s.Slices[slice]
	best := c.Bests[i]
	if best.Point < 0 || !s.chosen(of, c, i) {
		return ""
	}
	for _, fig := range []figure.Name{figure.Received, figure.Memory, figure.CPU} {
		if fig == s.Decides || !slices.Contains(s.Figures, fig) {
			continue
		}
		other := s.lines(of, fig)[i]
		least := other.FindBest()
		if least.Point < 0 || slices.Contains(least.Set, best.Point) || slices.Contains(best.Set, least.Point) {
			continue
		}
		gain, cost := c.Lines[i].Step(least.Point, best.Point), other.Step(best.Point, least.Point)
		const worthTelling = 1.1 // times, both ways
		if !(gain.Low > 1 && cost.V > worthTelling) {
			continue
		}
		p := s.Parameter(of)
		text := fmt.Sprintf("%s with %s %s %s %s (%s) than with %s and %s %s %s (%s)", s.Contenders[i],
			named(p, s.Value(of, best.Point)), s.Decides.Verb(), units.Times(gain.V), s.Decides.Comparative(true),
			withinTimes(gain), named(p, s.Value(of, least.Point)), fig.Verb(), units.Times(cost.V), fig.Comparative(false),
			withinTimes(cost))
		if tail := figure.P99; s.Decides != tail && slices.Contains(s.Figures, tail) {
			if d := s.lines(of, tail)[i].Step(least.Point, best.Point); d.Sure() {
				text += fmt.Sprintf("; p99 is %s of that", units.Times(1/d.V))
			}
		}
		return text + "."
	}
	return ""
}

// carried says what a law comes to at the plan's own figures: time for so many items, servers for a peak.
func (s *Sweep) carried(slice int, c *Curve, i int) string {
	stakes := s.r.Plan.Stakes
	of := &s.Slices[slice]
	p := s.Parameter(of)
	law := c.Laws[i]
	if stakes == nil || !p.Numbers() {
		return ""
	}
	l := c.Lines[i]
	beyond := func(x float64) string {
		if x < l.X[0] || x > l.X[len(l.X)-1] {
			return ", beyond what was measured"
		}
		return ""
	}
	switch counts := plan.Counts(p.Counts); {
	case stakes.Items > 0 && counts == plan.Items && law != nil && c.Figure.Unit() == units.Second:
		return fmt.Sprintf("%s takes %s for %s %s%s.", s.Contenders[i], amountIn(c.Figure, law.At(stakes.Items)),
			units.Count(int64(stakes.Items)), p.Name, beyond(stakes.Items))
	case stakes.PeakRate > 0 && counts.AtOnce() && c.Figure == figure.Throughput:
		at, x := c.Typical[i][max(c.Bests[i].Point, 0)], l.X[max(c.Bests[i].Point, 0)]
		if law != nil && law.Kind == curve.Scaling && beyond(law.Peak.V) == "" {
			x = math.Round(law.Peak.V)
			at = law.At(x)
		}
		if !at.Sure() {
			return ""
		}
		wanted := stakes.PeakRate / (1 - stakes.Spare)
		need := func(rate float64) int { return int(math.Ceil(wanted/rate - 1e-9)) }
		between := ""
		if least, most := need(at.High), need(at.Low); least < most {
			between = fmt.Sprintf(" (%d to %d)", least, most)
		}
		return fmt.Sprintf("%s needs %s like this machine%s for %s, with %s each.", s.Contenders[i],
			units.Plural(need(at.V), "server"), between, units.Rate(stakes.PeakRate),
			named(p, result.Value{Text: amountOn(p, x, math.Round)}))
	}
	return ""
}

// Lead is by how many times the best contender is better than the baseline at the point where that is most; NaN without
// any. It is what a list of runs shows.
func (s *Sweep) Lead() float64 {
	lead := math.NaN()
	for _, point := range s.r.Sweep.Points {
		for _, name := range s.Contenders {
			for _, state := range s.r.States() {
				a := s.values[figureOf{s.Decides, cell.Cell{Contender: name, State: state, Point: point.At}}]
				b := s.values[figureOf{s.Decides, cell.Cell{Contender: s.Baseline, State: state, Point: point.At}}]
				if name == s.Baseline || a == nil || b == nil {
					continue
				}
				better := ratioOf(b, a, len(b))
				if s.Decides.MoreIsBetter() {
					better = 1 / better
				}
				if math.IsNaN(lead) || better > lead {
					lead = better
				}
			}
		}
	}
	return lead
}

// Pace says how shots followed one another, at all points or at the first and the last.
func (s *Sweep) Pace() string {
	points := s.r.Sweep.Points
	first, last := points[0].Pace.Words, points[len(points)-1].Pace.Words
	if first == last {
		return first
	}
	return first + ", up to " + last
}

// Where names what of a slice is fixed: "rows 4000, cold"; empty where nothing is.
func (s *Sweep) Where(of *Slice) string { return strings.Trim(of.Fixed+", "+of.State, ", ") }

// Labelled is what a figure is called on a scale: "mean for each row".
func (s *Sweep) Labelled(of *Slice, fig figure.Name, scale Scale) string {
	switch scale {
	case ForEach:
		return fig.Label() + " for each " + units.Singular(s.Parameter(of).Name)
	case InAll:
		return fig.Label() + ", all shots of a heat"
	case AgainstBaseline:
		return fig.Label() + ", times better than " + s.Baseline
	}
	return fig.Label()
}

// PlaceOn writes a place on a slice's parameter with its interval: "3 writers (2 to 4)".
func (s *Sweep) PlaceOn(of *Slice, a curve.Amount) string { return placeOn(s.Parameter(of), a) }

// Telling reports whether a line's best value is worth marking: it is neither at an end nor one of nearly all.
func (s *Sweep) Telling(slice int, c *Curve, i int) bool {
	b := c.Bests[i]
	n := len(c.Lines[i].X)
	if law := c.Laws[i]; law != nil && law.Kind == curve.Steady {
		return false
	}
	return b.Point >= 0 && !b.Edge(n) && len(b.Set) < n
}

// LineNote is what a line comes to, in a few words.
func (s *Sweep) LineNote(slice int, c *Curve, i int) string {
	of := &s.Slices[slice]
	p := s.Parameter(of)
	var text []string
	if b := c.Bests[i]; s.Telling(slice, c, i) {
		best := "best at " + s.Value(of, b.Point).String()
		if len(b.Set) > 1 {
			best += fmt.Sprintf(" (%s to %s)", s.Value(of, b.Set[0]), s.Value(of, b.Set[len(b.Set)-1]))
		}
		text = append(text, best)
	}
	if law := c.Laws[i]; law != nil {
		switch law.Kind {
		case curve.Steady:
			text = append(text, "steady")
		case curve.Each:
			unit, by := s.unitOf(p)
			text = append(text, c.Figure.Show(law.Params[1].V*by)+" for each "+unit)
		case curve.Power:
			text = append(text, fmt.Sprintf("to the power of %.2f", law.Params[1].V))
		default:
			text = append(text, "contention "+units.Share(law.Params[1].V))
		}
	}
	return strings.Join(text, ", ")
}

// BestAt says who is best at a point of a curve and by how much, each a dash where that is not known.
func (s *Sweep) BestAt(c *Curve, point int) [2]string {
	b := s.best(c, point)
	return [2]string{b[0], b[1]}
}

// tooFewShots reports whether heats have too few shots for the figure that decides.
func (s *Sweep) tooFewShots() bool {
	for _, w := range s.words {
		if w == TooFew {
			return true
		}
	}
	return false
}

// cautions are those of the points: one of each kind, with where it was raised.
func (s *Sweep) cautions() (out []Caution) {
	type raised struct {
		first  Caution
		points []int
	}
	byKind := map[CautionKind]*raised{}
	var kinds []CautionKind
	for i, v := range s.verdicts {
		for _, c := range v.Cautions {
			if c.Kind == FewShots && !s.tooFewShots() {
				continue // it is of figures that do not decide
			}
			r := byKind[c.Kind]
			if r == nil {
				r = &raised{first: c}
				byKind[c.Kind] = r
				kinds = append(kinds, c.Kind)
			}
			if n := len(r.points); n == 0 || r.points[n-1] != i {
				r.points = append(r.points, i)
			}
		}
	}
	for _, k := range kinds {
		r := byKind[k]
		c := r.first
		if ofAll := k == Ended || k == Paused || k == OnTerminal; !ofAll {
			where := s.r.Sweep.Say(s.r.Sweep.Points[r.points[0]].At)
			switch n := len(r.points); {
			case n == len(s.verdicts) && n > 1:
				where = "at all points, as at " + where
			case n > 1:
				where = fmt.Sprintf("at %d of %d points, first at %s", n, len(s.verdicts), where)
			default:
				where = "at " + where
			}
			c.What = where + ": " + c.What
		}
		out = append(out, c)
	}
	return out
}
