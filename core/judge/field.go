package judge

import (
	"fmt"
	"math"
	"slices"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/plan"
	"paceduel/core/result"
)

// heat is a heat of the result with its histogram decoded.
type heat struct {
	*result.Heat
	histogram *hdrhistogram.Histogram
}

// field is the run rearranged for comparison.
type field struct {
	r       *result.Result
	heats   map[string]map[int]heat // contender, round
	inOrder map[string][]heat       // the same in the order of the rounds, so that sums are the same each time
	pooled  map[string]*hdrhistogram.Histogram
	all     map[string]map[plan.Figure]*sample
}

func gather(r *result.Result) (*field, error) {
	f := &field{r: r, heats: map[string]map[int]heat{}, inOrder: map[string][]heat{}, pooled: map[string]*hdrhistogram.Histogram{}, all: map[string]map[plan.Figure]*sample{}}
	for _, e := range r.Entrants {
		f.heats[e.Name], f.all[e.Name] = map[int]heat{}, map[plan.Figure]*sample{}
		for _, h := range r.Of(e.Name) {
			histogram, err := h.Histogram()
			if err != nil {
				return nil, err
			}
			f.heats[e.Name][h.Round] = heat{h, histogram}
			f.inOrder[e.Name] = append(f.inOrder[e.Name], heat{h, histogram})
			if f.pooled[e.Name] == nil {
				f.pooled[e.Name] = hdrhistogram.New(histogram.LowestTrackableValue(), histogram.HighestTrackableValue(), int(histogram.SignificantFigures()))
			}
			if dropped := f.pooled[e.Name].Merge(histogram); dropped > 0 {
				return nil, fmt.Errorf("latencies of %s in round %d do not fit those of the other rounds", e.Name, h.Round)
			}
		}
	}
	return f, nil
}

// rounds counts the rounds in which every contender finished its heat.
func (f *field) rounds() (n int) {
	for round := range f.heats[f.r.Plan.Baseline] {
		if !slices.ContainsFunc(f.r.Entrants, func(e result.Entrant) bool { _, ok := f.heats[e.Name][round]; return !ok }) {
			n++
		}
	}
	return n
}

// quantileOf is the share of shots at or below a percentile figure; ok is false for other figures.
func quantileOf(f plan.Figure) (q float64, ok bool) {
	switch f {
	case plan.P50:
		return 0.50, true
	case plan.P90:
		return 0.90, true
	case plan.P99:
		return 0.99, true
	}
	return 0, false
}

// A percentile q of n shots has n(1-q) shots beyond it: under fewBeyond it is refused, under plainBeyond it is
// qualified by the number of shots.
const (
	fewBeyond   = 5
	plainBeyond = 20
)

func beyond(n int64, q float64) float64 { return float64(n) * (1 - q) }

func needFor(q float64) int64 { return int64(math.Ceil(fewBeyond/(1-q) - 1e-9)) }

// Quantile reads a percentile in seconds: the smallest recorded value at or below which q of the shots lie, at most
// 0.1 % off. NaN for an empty histogram.
func Quantile(h *hdrhistogram.Histogram, q float64) float64 {
	if h == nil || h.TotalCount() == 0 {
		return math.NaN()
	}
	return float64(h.ValueAtQuantile(q*100)) / 1e9
}

func (h heat) figure(f plan.Figure) float64 {
	if q, ok := quantileOf(f); ok {
		return Quantile(h.histogram, q)
	}
	switch f {
	case plan.Mean:
		return h.Mean()
	case plan.Throughput:
		return h.Throughput()
	case plan.CPU:
		return h.CPUPerShot()
	}
	return math.NaN()
}

// value is the figure over all heats that count, and the quartiles of the heats.
func (f *field) value(figure plan.Figure, name string) Value {
	v := Value{math.NaN(), math.NaN(), math.NaN()}
	var each []float64
	var shots, ok int64
	var sum, busy, cpu float64
	clients := 1
	for _, h := range f.inOrder[name] {
		if x := h.figure(figure); !math.IsNaN(x) {
			each = append(each, x)
		}
		ok += h.OK
		shots += h.Shots()
		sum += h.LatencySum.Seconds()
		busy += h.Busy.Seconds()
		cpu += h.CPU.Seconds()
		clients = h.Clients
	}
	if len(each) == 0 {
		return v
	}
	switch q, isQuantile := quantileOf(figure); {
	case isQuantile && beyond(ok, q) < fewBeyond:
		return v
	case isQuantile:
		v.V = Quantile(f.pooled[name], q)
	case figure == plan.Mean:
		v.V = sum / float64(ok)
	case figure == plan.Throughput:
		v.V = float64(ok) * float64(clients) / busy
	case figure == plan.CPU:
		v.V = cpu / float64(shots)
	}
	if len(each) >= 4 {
		slices.Sort(each)
		v.Low, v.High = each[len(each)/4], each[len(each)-1-len(each)/4]
	}
	return v
}

// assess computes a figure's ratio and interval. The word is settled later, with all figures in view.
func (f *field) assess(figure plan.Figure, name string) Assessment {
	base := f.r.Plan.Baseline
	a := Assessment{
		Figure: figure, Baseline: f.value(figure, base), Contender: f.value(figure, name),
		Ratio: math.NaN(), Low: math.NaN(), High: math.NaN(), Word: NoWord,
	}
	if q, ok := quantileOf(figure); ok {
		fewest := min(f.fewest(base), f.fewest(name))
		switch k := beyond(fewest, q); {
		case fewest < 0:
			return a
		case k < fewBeyond-1e-9:
			a.Word, a.NeedShots = TooFew, needFor(q)
			return a
		case k < plainBeyond-1e-9:
			a.HeatShots = fewest
		}
	}
	d := f.differences(figure, name)
	a.Rounds = len(d)
	if len(d) == 0 {
		return a
	}
	a.Ratio = math.Exp(pseudoMedian(d))
	s := newSample(d)
	f.all[name][figure] = s
	a.Word = Open
	if low, high, ok := s.interval(level); ok {
		a.Low, a.High = math.Exp(low), math.Exp(high)
	}
	return a
}

// fewest is the smallest number of successful shots in a heat that count; -1 without heats.
func (f *field) fewest(name string) int64 {
	n := int64(-1)
	for _, h := range f.heats[name] {
		if n < 0 || h.OK < n {
			n = h.OK
		}
	}
	return n
}

// differences are the logarithms of how many times better the contender was, one for each round that both finished.
// Figures of zero, as CPU time too short for its clock, give none.
func (f *field) differences(figure plan.Figure, name string) (d []float64) {
	for round := 1; round <= f.r.Plan.Rounds; round++ {
		b, okB := f.heats[f.r.Plan.Baseline][round]
		c, okC := f.heats[name][round]
		if !okB || !okC {
			continue
		}
		x := math.Log(b.figure(figure) / c.figure(figure))
		if figure == plan.Throughput {
			x = -x
		}
		if !math.IsNaN(x) && !math.IsInf(x, 0) {
			d = append(d, x)
		}
	}
	return d
}
