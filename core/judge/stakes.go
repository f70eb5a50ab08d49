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
			add := func(fig figure.Name, what, formula string, unit stakeUnit, worth func(float64) float64) {
				if stake, ok := f.stake(fig, base, own, worth); ok {
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

type addStake func(fig figure.Name, what, formula string, unit stakeUnit, worth func(float64) float64)

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
			add(atOnce, what, "items / throughput", seconds, func(x float64) float64 { return n / x })
		} else if pace.Climb == nil {
			add(figure.Mean, what+", one after another", "items x mean", seconds, func(x float64) float64 { return n * x })
		}
	}
	if n := float64(s.RunsPerDay); n > 0 && pace.Climb == nil {
		month := func(x float64) float64 { return n * monthDays * x / 60 }
		add(figure.Mean, "minutes in a month of 30 days", "runs-per-day x 30 x mean / 60 s", minutes, month)
		if price := float64(s.MinutePrice); price > 0 {
			add(
				figure.Mean, "price of a month's minutes", "runs-per-day x 30 x mean / 60 s x minute-price", money,
				func(x float64) float64 { return month(x) * price },
			)
		}
	}
	if s.PeakRate <= 0 {
		return
	}
	wanted := float64(s.PeakRate) / (1 - float64(s.Spare))
	formula := "peak-rate / (1 - spare)"
	if s.Spare == 0 {
		formula = "peak-rate"
	}
	switch {
	case atOnce != "" && atOnce != figure.HoldsClients:
		need := func(x float64) float64 { return math.Ceil(wanted/x - 1e-9) }
		per := "throughput"
		if atOnce.IsLoad() {
			per = "load held"
		}
		add(atOnce, "servers like this machine for "+units.Rate(
			float64(s.PeakRate),
		), formula+" / "+per+", rounded up", servers, need)
		if price := float64(s.ServerPrice); price > 0 {
			add(
				atOnce, "price of these servers in a month", formula+" / "+per+", rounded up, x server-price", money,
				func(x float64) float64 { return need(x) * price },
			)
		}
	default: // what it computes with is all that is known of its capacity
		cores := float64(max(f.r.Host.Cores, 1))
		add(figure.CPU, "servers like this machine for "+units.Rate(
			float64(s.PeakRate),
		)+", by CPU", formula+" x CPU a run / processors, rounded up", servers,
			func(x float64) float64 { return math.Ceil(wanted*x/cores - 1e-9) })
	}
}

// stake carries a figure and its interval through what it is worth. The baseline's is that of its typical heat; the
// contender's follows from it by the interval of their ratio, and so does what is saved.
func (f *field) stake(fig figure.Name, base, own cell.Cell, worth func(float64) float64) (s Stake, ok bool) {
	x, _ := f.logs(fig, base)
	d, _ := f.differences(fig, base, own)
	if len(x) == 0 || len(d) == 0 {
		return s, false
	}
	if fig.MoreIsBetter() {
		for i := range d {
			d[i] = -d[i]
		}
	}
	heats, ratios := stats.NewSample(x), stats.NewSample(d) // d: logarithm of baseline's over own
	at := math.Exp(heats.Centre())
	s.Contender, s.Baseline, s.Own = own.Contender, bound(worth, at, at, at), Bound{}
	low, high := math.NaN(), math.NaN()
	if l, h, ok := heats.Interval(f.alpha); ok {
		s.Baseline = bound(worth, at, math.Exp(l), math.Exp(h))
	}
	if l, h, ok := ratios.Interval(f.alpha); ok {
		low, high = at*math.Exp(-h), at*math.Exp(-l)
	}
	s.Own = bound(worth, at*math.Exp(-ratios.Centre()), low, high)
	s.Saved = Bound{worth(at) - s.Own.V, worth(at) - s.Own.High, worth(at) - s.Own.Low}
	return s, true
}

// bound is what a value and the ends of its interval are worth, in ascending order.
func bound(worth func(float64) float64, v, low, high float64) Bound {
	b := Bound{worth(v), worth(low), worth(high)}
	if b.Low > b.High {
		b.Low, b.High = b.High, b.Low
	}
	return b
}
