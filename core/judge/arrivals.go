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
	"paceduel/core/result"
	"paceduel/core/units"
)

// Arrival is when an effect of a contender's deeds is seen. Times are in seconds from the deed.
type Arrival struct {
	cell.Cell
	Effect             string
	P50, P90, P99      Value // NaN where there are too few
	Least, Longest     float64
	Came               int64
	Floor              float64              // what asking again and again may add; 0: it is seen when it comes
	All                *result.Distribution // of all heats
	Backlog            *result.Backlog      // of the heat in the middle, of all effects of the contender; nil: not known
	Grows              bool                 // it did until the end, in most heats
	Through            Value                // deeds a second that have all their effects, from a heat's first to its last
	Never, Twice, Late int64                // of all effects of the contender: that never came, came twice, out of order
}

// Name is how it is spoken of.
func (a *Arrival) Name() string {
	return a.Effect + " of " + strings.TrimSpace(a.Contender+" "+a.State)
}

// arrivals enters when effects are seen, in the order of the plan, the soonest effect of each contender first.
func (f *field) arrivals(v *Verdict) {
	for _, s := range f.sides() {
		e := f.r.Entrant(s.Contender)
		if e == nil {
			continue
		}
		var own []*Arrival
		total := func(amount string) (n int64) {
			for _, h := range f.inOrder[s] {
				n += h.Amounts[amount]
			}
			return n
		}
		piled, grows := f.backlog(s)
		heats := f.inOrder[s]
		through := f.over(len(heats), func(i int) float64 { return float64(heats[i].OK) / heats[i].Wall.Seconds() })
		for _, name := range e.Streams {
			d := f.parts[figureOf{figure.Told(name, ""), s}]
			if d == nil || d.TotalCount() == 0 {
				continue
			}
			of := func(q figure.Name) Value { return f.typical(figure.Of(q, name), s) }
			own = append(own, &Arrival{
				Cell: s, Effect: name, P50: of(figure.P50), P90: of(figure.P90), P99: of(figure.P99), Least: d.Quantile(0),
				Longest: d.Quantile(1), Came: d.TotalCount(), Floor: e.Floors[name].Seconds(), All: d,
				Never: total("never came"), Twice: total("came twice"), Late: total("out of order"),
				Backlog: piled, Grows: grows, Through: through,
			})
		}
		slices.SortStableFunc(own, func(a, b *Arrival) int { return compare(a.middle(), b.middle()) })
		v.Arrivals = append(v.Arrivals, own...)
	}
	v.ArrivalsSentence = f.soonest(v)
}

// backlog is that of the heat whose most lies in the middle, and whether it grew until the end in most heats.
func (f *field) backlog(s cell.Cell) (middle *result.Backlog, grows bool) {
	var all []*result.Backlog
	growing := 0
	for _, h := range f.inOrder[s] {
		if b := h.Backlog; b != nil && len(b.Over) > 0 {
			all = append(all, b)
			if b.Grows() {
				growing++
			}
		}
	}
	if len(all) == 0 {
		return nil, false
	}
	slices.SortStableFunc(all, func(a, b *result.Backlog) int { return cmp.Compare(a.Most, b.Most) })
	return all[(len(all)-1)/2], 2*growing > len(all)
}

// middle is what an effect takes in the middle, or over all heats where single ones have too few for that.
func (a *Arrival) middle() float64 {
	if !math.IsNaN(a.P50.V) {
		return a.P50.V
	}
	return a.All.Quantile(0.5)
}

// soonest says which effect is seen first, and by how much before the last.
func (f *field) soonest(v *Verdict) string {
	if len(v.Arrivals) == 0 {
		return ""
	}
	first := slices.MinFunc(v.Arrivals, func(a, b *Arrival) int { return compare(a.middle(), b.middle()) })
	last := slices.MaxFunc(v.Arrivals, func(a, b *Arrival) int { return compare(a.middle(), b.middle()) })
	text := fmt.Sprintf("%s is seen %s after the deed", first.Name(), units.Seconds(first.middle()))
	if first != last {
		how := fmt.Sprintf("%s only after %s", last.Name(), units.Seconds(last.middle()))
		var d []float64
		for round := 1; round <= f.last(); round++ {
			x := math.Log(f.heats[last.Cell][round].figure(figure.Of(figure.P50, last.Effect)) /
				f.heats[first.Cell][round].figure(figure.Of(figure.P50, first.Effect)))
			if !math.IsNaN(x) && !math.IsInf(x, 0) {
				d = append(d, x)
			}
		}
		low, high, ok := stats.NewSample(d).Interval(f.alpha)
		if ok && low > 0 {
			how += fmt.Sprintf(", %s as late (%s to %s)", units.Times(last.middle()/first.middle()),
				strings.TrimSuffix(units.Times(math.Exp(low)), "x"), strings.TrimSuffix(units.Times(math.Exp(high)), "x"))
		}
		text += ", " + how
	}
	text += "."
	if last.Floor > 0 {
		text += fmt.Sprintf(" It is asked for every %s, which is part of that.", units.Seconds(last.Floor))
	}
	seen := map[cell.Cell]bool{}
	for _, a := range v.Arrivals {
		if seen[a.Cell] {
			continue
		}
		seen[a.Cell] = true
		who := strings.TrimSpace(a.Contender + " " + a.State)
		if a.Grows {
			text += fmt.Sprintf(" The way through %s does not keep up: more and more deeds are under way, up to %s in the "+
				"typical heat.", who, units.Count(a.Backlog.Most))
		}
		for _, wrong := range []struct {
			n   int64
			how string
		}{{a.Never, "never came"}, {a.Twice, "came twice"}, {a.Late, "came out of order"}} {
			if wrong.n > 0 {
				text += fmt.Sprintf(" Of %s, %s %s.", who, units.Plural(int(wrong.n), "effect"), wrong.how)
			}
		}
	}
	return text
}
