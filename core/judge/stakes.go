package judge

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Stake is what a contender's difference from the baseline is worth, by a figure of the plan's own.
type Stake struct {
	Contender string
	State     string
	What      string // "time for 2 000 000 items"
	Baseline  Bound
	Own       Bound
	Saved     Bound // of the contender as against the baseline; negative: it costs more
	Formula   string
	unit      stakeUnit
	currency  string
}

// stakeUnit is what a stake is counted in.
type stakeUnit int

const (
	seconds stakeUnit = iota
	minutes
	servers
	money
)

// Bound is a value with its interval.
type Bound struct{ V, Low, High float64 }

// monthDays is how many days a month has here.
const monthDays = 30

// stakes translates the difference of every contender from the baseline, with its intervals.
func (f *field) stakes() (out []Stake) {
	s := f.r.Plan.Stakes
	if s == nil || f.r.Plan.Pace.Climb != nil && s.PeakRate == 0 {
		return nil
	}
	for _, e := range f.r.Entrants {
		if e.Name == f.r.Plan.Baseline || e.Mirror {
			continue
		}
		for _, state := range f.r.States() {
			base, own := cell.Of(f.r.Plan.Baseline, state), cell.Of(e.Name, state)
			add := func(fig reading, what, formula string, unit stakeUnit, w worth) {
				if stake, ok := f.stake(fig, base, own, w); ok {
					stake.What, stake.Formula, stake.unit, stake.currency = what, formula, unit, string(s.Currency)
					if len(f.r.States()) > 1 {
						stake.State = state
					}
					out = append(out, stake)
				}
			}
			f.stakesOf(s, add)
		}
	}
	return out
}

// worth says what a figure is worth: exact of it, in wholes where only wholes can be had, at so much for each.
type worth struct {
	exact func(float64) float64
	whole bool
	each  float64
}

// least and most are what an exact amount comes to, rounded outwards where only wholes can be had.
func (w worth) least(x float64) float64 {
	if w.whole {
		x = math.Floor(x + 1e-9)
	}
	return x * w.each
}

func (w worth) most(x float64) float64 {
	if w.whole {
		x = math.Ceil(x - 1e-9)
	}
	return x * w.each
}

// reading is how a stake's figure is read from a heat; NaN where it has none.
type reading func(*heat) float64

// reads reads a figure as the verdict does.
func reads(fig figure.Name) reading { return func(h *heat) float64 { return h.figure(fig) } }

// inTheMean is what shots have of a figure on average over all of them, also over those that have none of it: what a
// month comes to is the sum of all.
func inTheMean(fig figure.Name) reading {
	return func(h *heat) float64 {
		if h == nil || h.Heat == nil {
			return math.NaN()
		}
		for i := range h.Splits {
			s := &h.Splits[i]
			switch {
			case s.Figure() != fig:
			case s.Step && h.Inside != nil:
				return s.Total() / float64(h.Inside.Shots)
			case !s.Step:
				return s.Total() / float64(h.OK)
			}
		}
		return h.figure(fig)
	}
}

type addStake func(fig reading, what, formula string, unit stakeUnit, w worth)

func (f *field) stakesOf(s *result.Stakes, add addStake) {
	pace := &f.r.Plan.Pace
	atOnce := figure.Name("")
	switch {
	case pace.Climb != nil:
		atOnce = ownFigures(f.r)[0]
	case !pace.Sequential() && !pace.Open():
		atOnce = figure.Throughput
	}
	if n := float64(s.Items); n > 0 {
		what := fmt.Sprintf("time for %s items", units.Count(int64(n)))
		if atOnce == figure.Throughput {
			w := worth{exact: func(x float64) float64 { return n / x }, each: 1}
			add(reads(atOnce), what, "items / throughput", seconds, w)
		} else if pace.Climb == nil {
			w := worth{exact: func(x float64) float64 { return n * x }, each: 1}
			add(reads(figure.Mean), what+", one after another", "items x mean", seconds, w)
		}
	}
	if n := float64(s.RunsPerDay); n > 0 && pace.Climb == nil {
		w := worth{exact: func(x float64) float64 { return n * monthDays * x / 60 }, each: 1}
		add(reads(figure.Mean), "minutes in a month of 30 days", "runs-per-day x 30 x mean / 60 s", minutes, w)
		if price := float64(s.MinutePrice); price > 0 {
			w.each = price
			add(reads(figure.Mean), "price of a month's minutes", "runs-per-day x 30 x mean / 60 s x minute-price", money, w)
		}
	}
	for _, fig := range slices.Sorted(maps.Keys(s.Prices)) {
		n, each := float64(s.RunsPerDay)*monthDays, s.Prices[fig]
		what := "price of a month's " + fig.Spoken()
		if unit := fig.Unit(); fig.IsTold() && unit != units.Second && string(unit) != fig.Spoken() {
			what += " (" + string(unit) + ")"
		}
		w := worth{exact: func(x float64) float64 { return n * x }, each: each}
		add(inTheMean(fig), what, "runs-per-day x 30 x what a shot has of it in the mean x its price", money, w)
	}
	if s.PeakRate <= 0 {
		return
	}
	wanted := float64(s.PeakRate) / (1 - float64(s.Spare))
	formula, what := "peak-rate / (1 - spare)", "servers like this machine for "+units.Rate(float64(s.PeakRate))
	if s.Spare == 0 {
		formula = "peak-rate"
	}
	switch {
	case atOnce != "" && atOnce != figure.HoldsClients:
		w := worth{exact: func(x float64) float64 { return wanted / x }, whole: true, each: 1}
		per := "throughput"
		if atOnce.IsLoad() {
			per = "load held"
		}
		formula += " / " + per + ", rounded up"
		add(reads(atOnce), what, formula, servers, w)
		if price := float64(s.ServerPrice); price > 0 {
			w.each = price
			add(reads(atOnce), "price of these servers in a month", formula+", x server-price", money, w)
		}
	default: // what it computes with is all that is known of its capacity
		cores := float64(max(f.r.Host.Cores, 1))
		w := worth{exact: func(x float64) float64 { return wanted * x / cores }, whole: true, each: 1}
		add(reads(figure.CPU), what+", by CPU", formula+" x CPU a run / processors, rounded up", servers, w)
	}
}

// stake carries a figure and its interval through what it is worth. Each contender's own is that of its typical heat,
// by the signed-rank interval of its heats; what is saved is the difference between the two, by the interval of what
// each round saved. Both are computed before anything is rounded to wholes, and then rounded outwards: the difference
// of two amounts rounded up is one of the two wholes next to that of the amounts.
func (f *field) stake(of reading, base, own cell.Cell, w worth) (s Stake, ok bool) {
	x, y := f.readings(of, base, w), f.readings(of, own, w)
	var saved []float64
	for round := 1; round <= f.last(); round++ {
		d := w.exact(of(f.heats[base][round])) - w.exact(of(f.heats[own][round]))
		if !math.IsNaN(d) && !math.IsInf(d, 0) {
			saved = append(saved, d)
		}
	}
	if len(x) == 0 || len(y) == 0 || len(saved) == 0 {
		return s, false
	}
	s.Contender = own.Contender
	s.Baseline, s.Own = f.worthOf(x, w), f.worthOf(y, w)
	s.Saved = Bound{s.Baseline.V - s.Own.V, math.NaN(), math.NaN()}
	if low, high, ok := stats.NewSample(saved).Interval(f.alpha); ok {
		s.Saved.Low, s.Saved.High = min(w.least(low), s.Saved.V), max(w.most(high), s.Saved.V)
	}
	return s, true
}

// readings are what a side's heats have, those left out that have nothing or are worth no number.
func (f *field) readings(of reading, s cell.Cell, w worth) (out []float64) {
	for _, h := range f.inOrder[s] {
		if x := of(h); x >= 0 && !math.IsInf(x, 0) && !math.IsInf(w.exact(x), 0) {
			out = append(out, x)
		}
	}
	return out
}

// worthOf is what a contender's typical heat is worth, from a figure of its heats. An amount in wholes is rounded up,
// and so are the ends of its interval.
func (f *field) worthOf(heatsHave []float64, w worth) Bound {
	of, back := make([]float64, len(heatsHave)), math.Exp
	for i, x := range heatsHave {
		of[i] = math.Log(x)
	}
	if slices.Contains(heatsHave, 0) { // none of what is counted has no logarithm
		of, back = heatsHave, func(x float64) float64 { return max(x, 0) }
	}
	heats := stats.NewSample(of)
	value := func(x float64) float64 { return w.most(w.exact(back(x))) }
	b := Bound{value(heats.Centre()), math.NaN(), math.NaN()}
	if low, high, ok := heats.Interval(f.alpha); ok {
		b.Low, b.High = value(low), value(high)
		if b.Low > b.High {
			b.Low, b.High = b.High, b.Low
		}
	}
	return b
}
