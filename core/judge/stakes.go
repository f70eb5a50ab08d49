package judge

import (
	"fmt"
	"math"

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
			add := func(fig figure.Name, what, formula string, unit stakeUnit, w worth) {
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

type addStake func(fig figure.Name, what, formula string, unit stakeUnit, w worth)

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
			add(atOnce, what, "items / throughput", seconds, w)
		} else if pace.Climb == nil {
			w := worth{exact: func(x float64) float64 { return n * x }, each: 1}
			add(figure.Mean, what+", one after another", "items x mean", seconds, w)
		}
	}
	if n := float64(s.RunsPerDay); n > 0 && pace.Climb == nil {
		w := worth{exact: func(x float64) float64 { return n * monthDays * x / 60 }, each: 1}
		add(figure.Mean, "minutes in a month of 30 days", "runs-per-day x 30 x mean / 60 s", minutes, w)
		if price := float64(s.MinutePrice); price > 0 {
			w.each = price
			add(figure.Mean, "price of a month's minutes", "runs-per-day x 30 x mean / 60 s x minute-price", money, w)
		}
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
		add(atOnce, what, formula, servers, w)
		if price := float64(s.ServerPrice); price > 0 {
			w.each = price
			add(atOnce, "price of these servers in a month", formula+", x server-price", money, w)
		}
	default: // what it computes with is all that is known of its capacity
		cores := float64(max(f.r.Host.Cores, 1))
		w := worth{exact: func(x float64) float64 { return wanted * x / cores }, whole: true, each: 1}
		add(figure.CPU, what+", by CPU", formula+" x CPU a run / processors, rounded up", servers, w)
	}
}

// stake carries a figure and its interval through what it is worth. Each contender's own is that of its typical heat,
// by the signed-rank interval of its heats; what is saved is the difference between the two, by the interval of what
// each round saved. Both are computed before anything is rounded to wholes, and then rounded outwards: the difference
// of two amounts rounded up is one of the two wholes next to that of the amounts.
func (f *field) stake(fig figure.Name, base, own cell.Cell, w worth) (s Stake, ok bool) {
	x, _ := f.logs(fig, base)
	y, _ := f.logs(fig, own)
	var saved []float64
	for round := 1; round <= f.last(); round++ {
		d := w.exact(f.heats[base][round].figure(fig)) - w.exact(f.heats[own][round].figure(fig))
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

// worthOf is what a contender's typical heat is worth, from the logarithms of a figure of its heats. An amount in
// wholes is rounded up, and so are the ends of its interval.
func (f *field) worthOf(logs []float64, w worth) Bound {
	heats := stats.NewSample(logs)
	value := func(log float64) float64 { return w.most(w.exact(math.Exp(log))) }
	b := Bound{value(heats.Centre()), math.NaN(), math.NaN()}
	if low, high, ok := heats.Interval(f.alpha); ok {
		b.Low, b.High = value(low), value(high)
		if b.Low > b.High {
			b.Low, b.High = b.High, b.Low
		}
	}
	return b
}
