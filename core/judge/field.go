package judge

import (
	"fmt"
	"math"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// heat is a heat of the result with what its figures are read from: histograms, or the very samples.
type heat struct {
	*result.Heat
	histogram *result.Distribution
	sorted    []float64              // samples in seconds, ascending; nil: the histogram says
	steps     []*result.Distribution // of a climb
	climb     *result.Climb
	lengths   []*lengths              // of the splits, in their order; nil while they are not worth decoding
	known     map[plan.Figure]float64 // figures that were asked for
}

// lengths are what a heat's figures want of a split: how many there are, and their median.
type lengths struct {
	count  int64
	median float64
}

// side is one contender in one state of caches.
type side struct{ name, state string }

// figureOf is a figure of a side.
type figureOf struct {
	figure plan.Figure
	side   side
}

// field is the run rearranged for comparison.
type field struct {
	r       *result.Result
	alpha   float64                // one minus the confidence of its intervals
	heats   map[side]map[int]*heat // by round
	inOrder map[side][]*heat       // the same in the order of the rounds, so that sums are the same each time
	pooled  map[side]*result.Distribution
	values  map[figureOf]Value                // that were asked for
	splits  map[figureOf]float64              // parts' medians, that were
	parts   map[figureOf]*result.Distribution // of all heats together, as far as they can be added up
	// measured says that somebody else did, and that there are samples in place of histograms.
	measured bool
}

func newField(r *result.Result) *field {
	f := &field{r: r, alpha: level, heats: map[side]map[int]*heat{}, inOrder: map[side][]*heat{}, pooled: map[side]*result.Distribution{}, values: map[figureOf]Value{}, splits: map[figureOf]float64{}, parts: map[figureOf]*result.Distribution{}}
	if len(r.Plan.Looks) > 0 {
		f.alpha = plan.LookLevel
	}
	return f
}

func (f *field) enter(s side, h *heat) {
	if f.heats[s] == nil {
		f.heats[s] = map[int]*heat{}
	}
	f.heats[s][h.Round] = h
	f.inOrder[s] = append(f.inOrder[s], h)
}

// gather decodes the heats that count. Splits are left as they are unless asked for.
func gather(r *result.Result, splits bool) (*field, error) {
	f := newField(r)
	sides := f.sides()
	decoded := make([]decodedSide, len(sides)) // one for each of the sides
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i, s := range sides {
		work.Go(func() (err error) {
			decoded[i], err = decode(r, s, splits)
			return err
		})
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	for i, s := range sides {
		var all result.Sum
		for _, h := range decoded[i].heats {
			f.enter(s, h)
			all.Add(h.histogram)
		}
		if f.pooled[s] = all.Distribution(); f.pooled[s] == nil {
			return nil, fmt.Errorf("latencies of %s do not fit each other from round to round", s.name)
		}
		for figure, sum := range decoded[i].parts {
			f.parts[figureOf{figure, s}] = sum.Distribution()
		}
	}
	return f, nil
}

// decodedSide is a side's heats and what their splits add up to.
type decodedSide struct {
	heats []*heat
	parts map[plan.Figure]*result.Sum
}

// decode reads the histograms of a side's heats. Those of splits are added up on the way and not kept.
func decode(r *result.Result, s side, splits bool) (out decodedSide, err error) {
	out.parts = map[plan.Figure]*result.Sum{}
	for _, h := range r.Of(s.name, s.state) {
		one := &heat{Heat: h, climb: r.Plan.Pace.Climb, lengths: make([]*lengths, len(h.Splits))}
		if one.histogram, err = h.Histogram(); err != nil {
			return out, err
		}
		if one.steps, err = decodeSteps(h); err != nil {
			return out, err
		}
		for i := range h.Splits {
			if !splits {
				break
			}
			d, err := h.Splits[i].Histogram()
			if err != nil {
				return out, err
			}
			one.lengths[i] = &lengths{d.TotalCount(), d.Quantile(0.5)}
			figure := partFigure(h.Splits[i].Name, h.Splits[i].Told)
			if out.parts[figure] == nil {
				out.parts[figure] = &result.Sum{}
			}
			out.parts[figure].Add(d)
		}
		out.heats = append(out.heats, one)
	}
	return out, nil
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

// last is the last round that any heat was in.
func (f *field) last() (round int) {
	for _, heats := range f.inOrder {
		if n := len(heats); n > 0 {
			round = max(round, heats[n-1].Round)
		}
	}
	return round
}

// interest is the smallest difference of a figure that is worth telling apart, as a share.
func (f *field) interest(figure plan.Figure) float64 {
	if own, ok := f.r.Plan.Interests[figure]; ok {
		return float64(own)
	}
	return float64(f.r.Plan.Interest)
}

// value is the figure over all heats that count, and the quartiles of the heats.
func (f *field) value(figure plan.Figure, s side) Value {
	key := figureOf{figure, s}
	v, known := f.values[key]
	if !known {
		v = f.compute(figure, s)
		f.values[key] = v
	}
	return v
}

// compute computes a value.
func (f *field) compute(figure plan.Figure, s side) Value {
	if isLoad(figure) {
		held, _, _, _, _ := f.climbed(s)
		return held
	}
	v := Value{math.NaN(), math.NaN(), math.NaN()}
	var each []float64
	var shots, ok int64
	var sum, busy, cpu, received float64
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
		received += float64(h.Received)
		clients = h.Clients
	}
	if len(each) == 0 {
		return v
	}
	slices.Sort(each)
	name, told, isPart := partOf(figure)
	switch q, isQuantile := quantileOf(figure); {
	case isQuantile && beyond(ok, q) < fewBeyond:
		return v
	case isQuantile:
		v.V = Quantile(f.pooled[s], q)
	case isPart:
		v.V = f.split(s, name, told)
	case figure == plan.Mean:
		v.V = sum / float64(ok)
	case figure == plan.Throughput:
		v.V = float64(ok) * float64(clients) / busy
	case figure == plan.CPU:
		v.V = cpu / float64(shots)
	case figure == plan.SentBack:
		v.V = received / float64(shots)
	case figure == plan.Longest, figure == plan.PeakBytes:
		v.V = each[len(each)-1]
	default: // the middle heat's
		v.V = (each[(len(each)-1)/2] + each[len(each)/2]) / 2
	}
	if len(each) >= 4 {
		v.Low, v.High = each[len(each)/4], each[len(each)-1-len(each)/4]
	}
	return v
}

// split is the median of a part over all heats of a side, the mean where the shots are too few; NaN where it has none.
func (f *field) split(s side, name string, told bool) float64 {
	key := figureOf{partFigure(name, told), s}
	x, known := f.splits[key]
	if !known {
		x = f.splitOf(s, name, told)
		f.splits[key] = x
	}
	return x
}

func (f *field) splitOf(s side, name string, told bool) float64 {
	var sum, shots float64
	for _, h := range f.inOrder[s] {
		for i := range h.Splits {
			if h.Splits[i].Name != name || h.Splits[i].Told != told {
				continue
			}
			sum, shots = sum+h.Splits[i].Sum.Seconds(), shots+float64(h.OK)
		}
	}
	x := sum / shots
	if pooled := f.parts[figureOf{partFigure(name, told), s}]; pooled != nil { // else they count in the mean alone
		if n := pooled.TotalCount(); n >= medianFrom {
			x = Quantile(pooled, 0.5)
		} else if told && n > 0 {
			x = sum / float64(n)
		}
	}
	return plan.Kept(x, partFigure(name, told).Unit())
}

// assess computes by how much a side is better than another in a figure, and the intervals. The word is settled later,
// with all figures in view.
func (f *field) assess(figure plan.Figure, base, own side) Assessment {
	a := Assessment{
		Figure: figure, Baseline: f.value(figure, base), Contender: f.value(figure, own), Level: 1 - f.alpha,
		Ratio: math.NaN(), Low: math.NaN(), High: math.NaN(), Difference: math.NaN(), DifferenceLow: math.NaN(), DifferenceHigh: math.NaN(),
		Word: NoWord, interest: f.interest(figure),
	}
	if len(f.r.States()) > 1 {
		a.State = own.state
	}
	fewest := min(f.fewest(base), f.fewest(own))
	if q, ok := quantileOf(figure); ok {
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
	if figure == plan.Longest {
		a.HeatShots = fewest // the more shots, the longer the longest
	}
	d, apart := f.differences(figure, base, own)
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
	grainBase, grainOwn := f.grain(figure, base), f.grain(figure, own)
	a.sample = stats.NewSample(d).Blurred(relative(grainBase, a.Baseline.V) + relative(grainOwn, a.Contender.V))
	a.Ratio = math.Exp(a.sample.Centre())
	a.Word = Open
	if a.HeatShots > 0 && len(d) < stats.SignedRankFrom {
		// Student's interval wants differences that are nearly normal; a percentile of few shots may jump between humps.
		a.Difference, a.sample = stats.NewSample(apart).Centre(), nil
		return a
	}
	if low, high, ok := a.sample.Interval(f.alpha); ok {
		a.Low, a.High = math.Exp(low), math.Exp(high)
	}
	inUnits := stats.NewSample(apart).Blurred(grainBase + grainOwn)
	a.Difference = inUnits.Centre()
	if low, high, ok := inUnits.Interval(f.alpha); ok {
		a.DifferenceLow, a.DifferenceHigh = low, high
	}
	a.Counted = figure == plan.SentBack && a.Baseline.Low == a.Baseline.High && a.Contender.Low == a.Contender.High && constant(d)
	return a
}

// grain is the resolution of a figure of a side, in its unit: by so much all its heats may be off in the same way.
func (f *field) grain(figure plan.Figure, s side) (coarsest float64) {
	if figure != plan.PeakBytes {
		return 0
	}
	for _, h := range f.inOrder[s] {
		coarsest = max(coarsest, float64(h.PeakGrain))
	}
	return coarsest
}

// relative is a grain as a share of a value, in logarithms.
func relative(grain, of float64) float64 {
	if grain == 0 || !(of > 0) {
		return 0
	}
	return math.Log1p(grain / of)
}

// constant reports whether all values are the same.
func constant(d []float64) bool {
	return !slices.ContainsFunc(d, func(x float64) bool { return x != d[0] })
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

// differences are the logarithms of how many times better the contender was, one for each round that both finished, and
// by how much it had more, in the figure's unit. Figures of zero, as CPU time too short for its clock, give none.
func (f *field) differences(figure plan.Figure, base, own side) (d, apart []float64) {
	for round := 1; round <= f.last(); round++ {
		b, c := f.heats[base][round].figure(figure), f.heats[own][round].figure(figure)
		x := math.Log(b / c)
		if moreIsBetter(figure) {
			x = -x
		}
		if !math.IsNaN(x) && !math.IsInf(x, 0) {
			d, apart = append(d, x), append(apart, c-b)
		}
	}
	return d, apart
}
