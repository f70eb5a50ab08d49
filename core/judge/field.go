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
	steps     []*hdrhistogram.Histogram // of a climb
}

// side is one contender in one state of caches.
type side struct{ name, state string }

// field is the run rearranged for comparison.
type field struct {
	r       *result.Result
	heats   map[side]map[int]heat // by round
	inOrder map[side][]heat       // the same in the order of the rounds, so that sums are the same each time
	pooled  map[side]*hdrhistogram.Histogram
}

func gather(r *result.Result) (*field, error) {
	f := &field{r: r, heats: map[side]map[int]heat{}, inOrder: map[side][]heat{}, pooled: map[side]*hdrhistogram.Histogram{}}
	for _, s := range f.sides() {
		f.heats[s] = map[int]heat{}
		for _, h := range r.Of(s.name, s.state) {
			histogram, err := h.Histogram()
			if err != nil {
				return nil, err
			}
			steps, err := decodeSteps(h)
			if err != nil {
				return nil, err
			}
			f.heats[s][h.Round] = heat{h, histogram, steps}
			f.inOrder[s] = append(f.inOrder[s], heat{h, histogram, steps})
			if f.pooled[s] == nil {
				f.pooled[s] = hdrhistogram.New(histogram.LowestTrackableValue(), histogram.HighestTrackableValue(), int(histogram.SignificantFigures()))
			}
			if dropped := f.pooled[s].Merge(histogram); dropped > 0 {
				return nil, fmt.Errorf("latencies of %s in round %d do not fit those of the other rounds", s.name, h.Round)
			}
		}
	}
	return f, nil
}

// sides lists every contender in every state.
func (f *field) sides() (out []side) {
	for _, e := range f.r.Entrants {
		for _, state := range f.r.States() {
			out = append(out, side{e.Name, state})
		}
	}
	return out
}

// rounds counts the rounds in which every contender finished its heat, those aside that were left out on the way.
func (f *field) rounds() (n int) {
	sides := slices.DeleteFunc(f.sides(), func(s side) bool {
		e := f.r.Entrant(s.name)
		return e != nil && e.LeftOut > 0
	})
	for round := range f.heats[side{f.r.Plan.Baseline, f.r.States()[0]}] {
		if !slices.ContainsFunc(sides, func(s side) bool { _, ok := f.heats[s][round]; return !ok }) {
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

// figure is a heat's figure; NaN where it has none.
func (f *field) figure(h heat, figure plan.Figure) float64 {
	if isLoad(figure) {
		return ascend(f.r.Plan.Pace.Climb, &h).held
	}
	return h.figure(figure)
}

// value is the figure over all heats that count, and the quartiles of the heats.
func (f *field) value(figure plan.Figure, s side) Value {
	if isLoad(figure) {
		held, _, _, _, _ := f.climbed(s)
		return held
	}
	v := Value{math.NaN(), math.NaN(), math.NaN()}
	var each []float64
	var shots, ok int64
	var sum, busy, cpu float64
	clients := 1
	for _, h := range f.inOrder[s] {
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
		v.V = Quantile(f.pooled[s], q)
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

// assess computes by how much a side is better than another in a figure, and the interval. The word is settled later,
// with all figures in view.
func (f *field) assess(figure plan.Figure, base, own side) Assessment {
	a := Assessment{
		Figure: figure, Baseline: f.value(figure, base), Contender: f.value(figure, own),
		Ratio: math.NaN(), Low: math.NaN(), High: math.NaN(), Word: NoWord,
	}
	if len(f.r.States()) > 1 {
		a.State = own.state
	}
	if q, ok := quantileOf(figure); ok {
		fewest := min(f.fewest(base), f.fewest(own))
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
	d := f.differences(figure, base, own)
	a.Rounds = len(d)
	if len(d) == 0 {
		if isLoad(figure) {
			_, _, _, _, need := f.climbed(own)
			_, _, _, _, baseNeed := f.climbed(base)
			if a.NeedShots = max(need, baseNeed); a.NeedShots > 0 {
				a.Word = TooFew
			}
		}
		return a
	}
	a.Ratio = math.Exp(pseudoMedian(d))
	a.sample = newSample(d)
	a.Word = Open
	if low, high, ok := a.sample.interval(level); ok {
		a.Low, a.High = math.Exp(low), math.Exp(high)
	}
	return a
}

// fewest is the smallest number of successful shots in a heat that count; -1 without heats.
func (f *field) fewest(s side) int64 {
	n := int64(-1)
	for _, h := range f.heats[s] {
		if n < 0 || h.OK < n {
			n = h.OK
		}
	}
	return n
}

// differences are the logarithms of how many times better the contender was, one for each round that both finished.
// Figures of zero, as CPU time too short for its clock, give none.
func (f *field) differences(figure plan.Figure, base, own side) (d []float64) {
	for round := 1; round <= f.r.Plan.Rounds; round++ {
		b, okB := f.heats[base][round]
		c, okC := f.heats[own][round]
		if !okB || !okC {
			continue
		}
		x := math.Log(f.figure(b, figure) / f.figure(c, figure))
		if moreIsBetter(figure) {
			x = -x
		}
		if !math.IsNaN(x) && !math.IsInf(x, 0) {
			d = append(d, x)
		}
	}
	return d
}
