package judge

import (
	"math"
	"slices"
	"strings"
	"time"

	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// HoldsClients is plan.Holds where the load is a number of clients.
const HoldsClients plan.Figure = "clients held"

// Parts of latencies are figures, too. Their names say whose: ours, or told by the contender.
const partPrefix = "part "

// partFigure is the figure of a part of latencies.
func partFigure(name string, told bool) plan.Figure {
	if told {
		return plan.Figure(plan.ToldPrefix + name)
	}
	return plan.Figure(partPrefix + name)
}

// partOf is the part that a figure is of.
func partOf(f plan.Figure) (name string, told, ok bool) {
	if name, ok = strings.CutPrefix(string(f), partPrefix); ok {
		return name, false, true
	}
	name, ok = strings.CutPrefix(string(f), plan.ToldPrefix)
	return name, ok, ok
}

// ofStart reports whether a figure counts from the creation of a service, or is of what comes before others.
func ofStart(f plan.Figure) bool {
	switch f {
	case plan.Start, plan.Printed, plan.Answer, plan.Second, plan.Settled, plan.FirstRun, plan.Wake:
		return true
	}
	return false
}

// isLoad reports whether a figure says up to which load a limit was kept.
func isLoad(f plan.Figure) bool { return f == plan.Holds || f == HoldsClients }

// moreIsBetter reports which way a figure leans.
func moreIsBetter(f plan.Figure) bool { return f == plan.Throughput || isLoad(f) }

// quantileOf is the share of shots at or below a percentile figure; ok is false for other figures.
func quantileOf(f plan.Figure) (q float64, ok bool) {
	switch f {
	case plan.P50:
		return 0.50, true
	case plan.P75:
		return 0.75, true
	case plan.P90:
		return 0.90, true
	case plan.P95:
		return 0.95, true
	case plan.P99:
		return 0.99, true
	case plan.P999:
		return 0.999, true
	}
	return 0, false
}

// Show writes a value of a figure with its unit.
func Show(f plan.Figure, v float64) string {
	switch f {
	case plan.Throughput, plan.Holds:
		return units.Rate(v)
	case HoldsClients:
		if math.IsNaN(v) {
			return units.None
		}
		return units.Significant(v) + " clients"
	case plan.SentBack, plan.PeakBytes:
		return units.Bytes(v)
	}
	switch unit := f.Unit(); {
	case unit == "B":
		return units.Bytes(v)
	case unit != "" && !math.IsNaN(v):
		text := units.Significant(v)
		if v == math.Trunc(v) && math.Abs(v) < 1e9 { // what is counted comes whole
			text = units.Count(int64(v))
		}
		return text + " " + unit
	}
	return units.Seconds(v)
}

// Label is a figure's name for people.
func Label(f plan.Figure) string {
	switch f {
	case plan.CPU:
		return "CPU/run"
	case plan.Holds, HoldsClients:
		return "load held"
	case plan.Total:
		return "whole heat"
	}
	if name, told, ok := partOf(f); ok {
		if told {
			name, _ = plan.Bare(name)
			return name + " told"
		}
		return name
	}
	return string(f)
}

// comparative is how a better or worse figure is put.
func comparative(f plan.Figure, w Word) string {
	words := [2]string{"faster", "slower"}
	switch f {
	case plan.Throughput:
		words = [2]string{"more throughput", "less throughput"}
	case plan.Holds, HoldsClients:
		words = [2]string{"more load", "less load"}
	case plan.CPU:
		words = [2]string{"less CPU", "more CPU"}
	case plan.PeakBytes:
		words = [2]string{"less memory", "more memory"}
	case plan.SentBack:
		words = [2]string{"fewer bytes", "more bytes"}
	}
	switch unit := f.Unit(); unit {
	case "":
	case "B":
		words = [2]string{"less", "more"}
	default:
		words = [2]string{"fewer " + unit, "more " + unit}
	}
	if w == Better {
		return words[0]
	}
	return words[1]
}

// at is how a figure is named in a sentence.
func at(f plan.Figure) string {
	switch f {
	case plan.Mean:
		return " in the mean"
	case plan.Total:
		return " over a whole heat"
	case plan.Start:
		return " in starting"
	case plan.Printed, plan.Answer, plan.Second:
		return " until its " + string(f)
	case plan.Settled:
		return " until it has settled"
	case plan.Prepare:
		return " in preparing"
	case plan.FirstRun:
		return " in its first run"
	case plan.Wake:
		return " in waking up"
	case plan.Longest:
		return " at its longest"
	case plan.Throughput, plan.CPU, plan.Holds, HoldsClients, plan.PeakBytes, plan.SentBack:
		return ""
	}
	if _, _, ok := partOf(f); ok {
		return " in " + Label(f)
	}
	return " at " + string(f)
}

// ownFigures are those that carry the verdict unless the plan names its own, in the order in which they are shown.
func ownFigures(r *result.Result) []plan.Figure {
	if c := r.Plan.Pace.Climb; c != nil { // its latencies are of all loads together
		if c.Open {
			return []plan.Figure{plan.Holds}
		}
		return []plan.Figure{HoldsClients}
	}
	if len(r.Plan.Rungs) > 0 {
		return r.Plan.Rungs
	}
	figures := []plan.Figure{plan.P50, plan.P90, plan.P99, plan.Mean}
	if !r.Plan.Pace.Sequential() && !r.Plan.Pace.Open() { // a set rate is no finding
		figures = append(figures, plan.Throughput)
	}
	any := func(has func(*result.Heat) bool) bool {
		return slices.ContainsFunc(r.Heats, func(h result.Heat) bool { return has(&h) })
	}
	if any(func(h *result.Heat) bool { return h.CPUKnown }) {
		figures = append(figures, plan.CPU)
	}
	if any(func(h *result.Heat) bool { return h.Peak > 0 }) {
		figures = append(figures, plan.PeakBytes)
	}
	return figures
}

// figures are all that the run is judged by: those that carry the verdict, and the others that it has.
func (f *field) figures() (own, others []plan.Figure) {
	if own = ownFigures(f.r); f.measured && !f.timed() {
		own = own[:len(own)-1] // no throughput
	}
	if f.r.Plan.Pace.Climb != nil {
		return own, nil
	}
	add := func(figure plan.Figure) {
		if slices.Contains(own, figure) || slices.Contains(others, figure) {
			return
		}
		for _, heats := range f.inOrder {
			for _, h := range heats {
				if x := h.figure(figure); x > 0 {
					others = append(others, figure)
					return
				}
			}
		}
	}
	for _, figure := range plan.Judged {
		switch {
		case figure == plan.Throughput && (f.r.Plan.Pace.Sequential() || f.r.Plan.Pace.Open()): // says no more than mean, or the plan
		case figure == plan.Total && !f.sameShots(): // would compare different amounts
		default:
			add(figure)
		}
	}
	for _, n := range f.partNames() {
		add(n)
	}
	return own, others
}

// sameShots reports whether the plan gives all heats the same number of shots, of several.
func (f *field) sameShots() bool {
	if f.measured {
		return f.timed() && !slices.ContainsFunc(f.r.Heats, func(h result.Heat) bool { return h.Shots() != f.r.Heats[0].Shots() })
	}
	p := &f.r.Plan.Pace
	return p.Repeat > 1 || p.Shots > 1 && !p.Open()
}

// timed reports whether all heats of somebody else's duel say how long they took.
func (f *field) timed() bool {
	return !slices.ContainsFunc(f.r.Heats, func(h result.Heat) bool { return h.Wall == 0 })
}

// partNames lists the parts of latencies: our own in the order in which they follow one another, then those that were told.
func (f *field) partNames() (names []plan.Figure) {
	for _, told := range []bool{false, true} {
		var of []string
		for i := range f.r.Heats {
			for _, s := range f.r.Heats[i].Splits {
				if s.Told == told && !slices.Contains(of, s.Name) {
					of = append(of, s.Name)
				}
			}
		}
		if !told {
			slices.SortStableFunc(of, func(a, b string) int { return partOrder(a) - partOrder(b) })
		}
		for _, n := range of {
			names = append(names, partFigure(n, told))
		}
	}
	return names
}

// partOrder is where a part of ours stands among the others.
func partOrder(name string) int {
	at := slices.Index(result.SplitNames, name)
	if at < 0 {
		return len(result.SplitNames)
	}
	return at
}

// A percentile q of n shots has n(1-q) shots beyond it: under fewBeyond it is refused, under plainBeyond it is
// qualified by the number of shots.
const (
	fewBeyond   = 5
	plainBeyond = 20
)

func beyond(n int64, q float64) float64 { return float64(n) * (1 - q) }

func needFor(q float64) int64 { return int64(math.Ceil(fewBeyond/(1-q) - 1e-9)) }

// medianFrom is how many shots a median needs.
const medianFrom = 2 * fewBeyond

// nothing is a length of time that is none, in seconds: less than it takes to look at the clock.
const nothing = 10e-9

// Quantile reads a percentile in seconds: the smallest recorded value at or below which q of the shots lie, at most
// 0.1 % off. NaN for an empty histogram.
func Quantile(h *result.Distribution, q float64) float64 {
	return h.Quantile(q)
}

// quantile reads a percentile of a heat in seconds; NaN without shots.
func (h *heat) quantile(q float64) float64 {
	if n := len(h.sorted); n > 0 {
		return h.sorted[min(max(int(math.Ceil(q*float64(n)-1e-9))-1, 0), n-1)]
	}
	return Quantile(h.histogram, q)
}

// figure is a heat's figure; NaN where it has none.
func (h *heat) figure(f plan.Figure) float64 {
	if h == nil || h.Heat == nil {
		return math.NaN()
	}
	if x, ok := h.known[f]; ok {
		return x
	}
	x := h.compute(f)
	if h.known == nil {
		h.known = map[plan.Figure]float64{}
	}
	h.known[f] = x
	return x
}

func (h *heat) compute(f plan.Figure) float64 {
	if q, ok := quantileOf(f); ok {
		return h.quantile(q)
	}
	if name, told, ok := partOf(f); ok {
		return h.part(name, told)
	}
	switch f {
	case plan.Mean:
		return h.Mean()
	case plan.Throughput:
		return h.Throughput()
	case plan.CPU:
		return h.CPUPerShot()
	case plan.Longest:
		return h.quantile(1)
	case plan.Total:
		return h.Wall.Seconds()
	case plan.SentBack:
		return unlessNone(float64(h.Received)) / float64(h.Shots())
	case plan.PeakBytes:
		return unlessNone(float64(h.Peak))
	case plan.Start:
		if x := h.started(func(s *result.Start) time.Duration { return s.Ready }); !math.IsNaN(x) {
			return x
		}
		var took, times float64 // results of before starts were kept one by one
		for _, c := range h.Costs {
			if c.Start {
				took, times = took+c.Took.Seconds(), times+float64(c.Times)
			}
		}
		return unlessNone(took) / times
	case plan.Printed:
		return h.started(func(s *result.Start) time.Duration { return s.Output })
	case plan.Answer:
		return h.started(func(s *result.Start) time.Duration { return asked(s, s.First) })
	case plan.Second:
		return h.started(func(s *result.Start) time.Duration { return asked(s, s.Second) })
	case plan.Settled:
		return h.started(func(s *result.Start) time.Duration { return asked(s, s.Settled) })
	case plan.Prepare:
		return h.started(func(s *result.Start) time.Duration { return s.Prepared })
	case plan.FirstRun:
		if h.CPUKnown && h.Service == nil && h.OK+h.Warmup > 1 { // a command, that is run more than once
			return unlessNone(h.First.Seconds())
		}
	case plan.Wake:
		return unlessNone(h.Heat.Wake.Seconds())
	case plan.Holds, HoldsClients:
		return ascend(h.climb, h).held
	}
	return math.NaN()
}

// started is the mean of what the heat's starts took, those of the warm-up aside; NaN unless all of them have it.
func (h *heat) started(of func(*result.Start) time.Duration) float64 {
	var sum, n float64
	for i := range h.Starts {
		if s := &h.Starts[i]; !s.Unjudged {
			took := of(s)
			if took <= 0 {
				return math.NaN()
			}
			sum, n = sum+took.Seconds(), n+1
		}
	}
	return sum / n
}

// asked is a moment of a start after it was asked, as if that had been at once; 0 stays unknown.
func asked(s *result.Start, at time.Duration) time.Duration {
	if at == 0 {
		return 0
	}
	return at - s.Idle()
}

// part is the median of a part of the heat's latencies, the mean where the shots are too few for it. NaN without it, and
// where it takes no time.
func (h *heat) part(name string, told bool) float64 {
	for i := range h.Splits {
		s := &h.Splits[i]
		if s.Name != name || s.Told != told {
			continue
		}
		x := s.Sum.Seconds() / float64(h.OK)
		if lengths := h.lengths[i]; lengths != nil {
			if n := lengths.count; n >= medianFrom {
				x = lengths.median
			} else if told && n > 0 { // not every shot has to tell it
				x = s.Sum.Seconds() / float64(n)
			}
		}
		unit := partFigure(name, told).Unit()
		if !(x > 0) || unit == "" && x < nothing {
			return math.NaN()
		}
		return plan.Kept(x, unit)
	}
	return math.NaN()
}

// unlessNone is a figure of which 0 says that it is not known.
func unlessNone(x float64) float64 {
	if x == 0 {
		return math.NaN()
	}
	return x
}
