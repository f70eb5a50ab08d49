package judge

import (
	"fmt"
	"iter"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/result"
	"paceduel/core/units"
)

// ownFigures are those that carry the verdict unless the plan names its own, in the order in which they are shown.
func ownFigures(r *result.Result) []figure.Name {
	if c := r.Plan.Pace.Climb; c != nil { // its latencies are of all loads together
		if c.Open {
			return []figure.Name{figure.Holds}
		}
		return []figure.Name{figure.HoldsClients}
	}
	if len(r.Plan.Rungs) > 0 {
		return r.Plan.Rungs
	}
	figures := []figure.Name{figure.P50, figure.P90, figure.P99, figure.Mean}
	if r.Plan.Pace.Repeat == 1 {
		figures = []figure.Name{figure.Mean} // of one run a heat that is all of them
	}
	if operations, all := ofOperations(r); all {
		figures = operations // what shots of so many of them take says no more
	} else {
		figures = append(figures, operations...)
	}
	if !r.Plan.Pace.Sequential() && !r.Plan.Pace.Open() { // a set rate is no finding
		figures = append(figures, figure.Throughput)
	}
	for i := range r.Amounts {
		if a := &r.Amounts[i]; a.Rate && !r.Plan.Pace.Open() { // as above
			figures = append(figures, figure.RateOf(a.Name, a.Unit))
		}
	}
	if d := r.Plan.Decides; d != "" && !slices.Contains(figures, d) && d != figure.CPU &&
		d != figure.Throughput {
		figures = append(figures, d)
	}
	any := func(has func(*result.Heat) bool) bool {
		return slices.ContainsFunc(r.Heats, func(h result.Heat) bool { return has(&h) })
	}
	if !slices.ContainsFunc(figures, figure.Name.IsCPU) && // it is told more exactly
		any(func(h *result.Heat) bool { _, known := h.CPU(); return known }) {
		figures = append(figures, figure.CPU)
	}
	if any(func(h *result.Heat) bool { return h.Peak() > 0 }) {
		figures = append(figures, figure.Memory)
	}
	return figures
}

// ofOperations are the figures that are told to parts of a nanosecond, of what a shot has many of, by the heats, or by
// the weigh-in while there are none. all says that every contender has some.
func ofOperations(r *result.Result) (names []figure.Name, all bool) {
	has := func(told iter.Seq2[figure.Name, units.Unit]) (any bool) {
		for name, unit := range told {
			if unit != units.Nanosecond {
				continue
			}
			if any = true; !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		return any
	}
	any := false
	all = true
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Counts() && h.OK > 0 { // one that was stopped tells nothing
			any, all = true, has(h.Told()) && all
		}
	}
	for i := range r.Entrants {
		if t := r.Entrants[i].Touch; !any {
			all = t != nil && has(t.ToldFigures()) && all
		}
	}
	return names, all && len(names) > 0
}

// untimed says whose operations were too short to be timed by themselves, which leaves their percentiles unknown; empty
// where there are none.
func untimed(r *result.Result) string {
	var whose []string
	for _, e := range r.Entrants {
		many, alone := false, false
		for _, h := range r.Of(e.Name, result.AnyState) {
			for name, unit := range h.Told() {
				many = many || unit == units.Nanosecond
				alone = alone || unit == units.Nanosecond && name.IsPercentile()
			}
		}
		if many && !alone {
			whose = append(whose, e.Name)
		}
	}
	switch {
	case len(whose) == 0:
		return ""
	case len(whose) == len(r.Entrants):
		return "; operations are too short to be timed one by one, so their percentiles are not known"
	}
	return fmt.Sprintf("; operations of %s are too short to be timed one by one, so their percentiles are not known",
		units.List(whose))
}

// figures are all that the run is judged by: those that carry the verdict, and the others that it has.
func (f *field) figures() (own, others []figure.Name) {
	if own = ownFigures(f.r); f.measured && !f.timed() {
		own = own[:len(own)-1] // no throughput
	}
	if f.r.Plan.Pace.Climb != nil {
		return own, nil
	}
	add := func(fig figure.Name) {
		if slices.Contains(own, fig) || slices.Contains(others, fig) {
			return
		}
		for _, heats := range f.inOrder {
			for _, h := range heats {
				if x := h.figure(fig); x > 0 || x == 0 && fig.Row().Constant {
					others = append(others, fig)
					return
				}
			}
		}
	}
	operations, _ := ofOperations(f.r)
	atOnce, same := !f.r.Plan.Pace.Sequential() && !f.r.Plan.Pace.Open(), f.sameShots()
	for _, fig := range figure.Judged() {
		switch need := fig.Row().Need; {
		case need&figure.AtOnce != 0 && !atOnce: // says no more than the mean, or the plan
		case need&figure.SameShots != 0 && !same: // would compare different amounts
		case fig == figure.Total && f.r.Plan.Pace.Sequential(): // says no more than the mean
		case f.r.Plan.Pace.Repeat == 1 && ofOneShot(fig): // as above
		case fig == figure.CPU && slices.ContainsFunc(operations, figure.Name.IsCPU): // of shots that may do unequal work
		default:
			add(fig)
		}
	}
	for _, n := range f.partNames() {
		add(n)
	}
	return own, others
}

// ofOneShot reports whether a figure of a heat of one shot is that shot's latency, like the mean.
func ofOneShot(fig figure.Name) bool {
	_, ok := fig.Quantile()
	return ok || fig == figure.Longest
}

// sameShots reports whether the plan gives all heats the same number of shots, of several.
func (f *field) sameShots() bool {
	if f.measured {
		return f.timed() &&
			!slices.ContainsFunc(f.r.Heats, func(h result.Heat) bool { return h.Shots() != f.r.Heats[0].Shots() })
	}
	p := &f.r.Plan.Pace
	return p.Repeat > 1 || p.Shots > 1 && !p.Open()
}

// timed reports whether all heats of somebody else's duel say how long they took.
func (f *field) timed() bool {
	return !slices.ContainsFunc(f.r.Heats, func(h result.Heat) bool { return h.Wall == 0 })
}

// partNames lists the parts of latencies: our own in the order in which they follow one another, then those that were
// told.
func (f *field) partNames() (names []figure.Name) {
	for _, told := range []bool{false, true} {
		var of []figure.Name
		for i := range f.r.Heats {
			for j := range f.r.Heats[i].Splits {
				s := &f.r.Heats[i].Splits[j]
				if s.Told != told || slices.Contains(of, s.Figure()) || s.Step && !f.named(s.Figure()) {
					continue
				}
				of = append(of, s.Figure())
			}
		}
		if !told {
			slices.SortStableFunc(of, func(a, b figure.Name) int { return f.partOrder(a) - f.partOrder(b) })
		}
		names = append(names, of...)
	}
	return f.asStreams(names)
}

// asStreams puts the median and p99 of streams in the place of what is told.
func (f *field) asStreams(names []figure.Name) (out []figure.Name) {
	streams := map[figure.Name]string{}
	for i := range f.r.Heats {
		for j := range f.r.Heats[i].Splits {
			if s := &f.r.Heats[i].Splits[j]; s.Stream {
				streams[s.Figure()] = s.Name
			}
		}
	}
	for _, n := range names {
		if stream, ok := streams[n]; ok {
			out = append(out, figure.Of(figure.P50, stream), figure.Of(figure.P99, stream))
		} else {
			out = append(out, n)
		}
	}
	return out
}

// named reports whether the plan names a figure: steps inside a shot have no line of their own unless it does, since
// there may be hundreds.
func (f *field) named(fig figure.Name) bool {
	return fig == f.r.Plan.Decides || slices.Contains(f.r.Plan.Rungs, fig)
}

// partOrder is where a part of ours stands among the others.
func (f *field) partOrder(fig figure.Name) int {
	name, _ := fig.OfPart()
	if at := slices.Index(f.r.Parts, name); at >= 0 {
		return at
	}
	return len(f.r.Parts)
}

// plannedShots is how many shots a heat has; 0 where that depends.
func plannedShots(p *result.Pace) int64 { return int64(max(p.Repeat, p.Shots)) }

// toldTimes is what a side's shots tell of their time without saying when that was; steps of their inside say it
// themselves.
func (f *field) toldTimes(s cell.Cell, in *Inside) (out []ToldTime) {
	for _, fig := range f.partNames() {
		if !fig.IsTold() || fig.Unit() != units.Second || fig.MoreIsBetter() || fig.IsPercentile() || fig.IsCPU() {
			continue
		}
		name := fig.Spoken()
		if in != nil && slices.ContainsFunc(in.Steps, func(st InsideStep) bool { return st.Name == name }) {
			continue
		}
		if x := f.split(s, fig); x > 0 {
			out = append(out, ToldTime{name, x})
		}
	}
	return out
}
