package judge

import (
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// heat is a heat of the result with what its figures are read from: histograms, or the very samples.
type heat struct {
	*result.Heat
	r         *result.Result
	histogram *result.Distribution
	sorted    []float64              // samples in seconds, ascending; nil: the histogram says
	steps     []*result.Distribution // of a climb
	climb     *result.Climb
	lengths   []*lengths              // of the splits, in their order; nil while they are not worth decoding
	known     map[figure.Name]float64 // figures that were asked for
}

// lengths are what a heat's figures want of a split: how many there are, and their median.
type lengths struct {
	count  int64
	median float64
	all    *result.Distribution // of a stream; nil for others, which are not read any closer
}

// figureOf is a figure of a cell.
type figureOf struct {
	figure figure.Name
	cell   cell.Cell
}

// field is the run rearranged for comparison.
type field struct {
	r        *result.Result
	alpha    float64                     // one minus the confidence of its intervals
	heats    map[cell.Cell]map[int]*heat // by round
	inOrder  map[cell.Cell][]*heat       // the same in the order of the rounds, so that sums are the same each time
	pooled   map[cell.Cell]*result.Distribution
	values   map[figureOf]Value                // that were asked for
	typicals map[figureOf]Value                // that were
	splits   map[figureOf]float64              // parts' medians, that were
	parts    map[figureOf]*result.Distribution // of all heats together, as far as they can be added up
	// measured says that somebody else did, and that there are samples in place of histograms.
	measured bool
}

func newField(r *result.Result) *field {
	f := &field{
		r: r, alpha: level, heats: map[cell.Cell]map[int]*heat{}, inOrder: map[cell.Cell][]*heat{},
		pooled: map[cell.Cell]*result.Distribution{}, values: map[figureOf]Value{}, typicals: map[figureOf]Value{},
		splits: map[figureOf]float64{},
		parts:  map[figureOf]*result.Distribution{},
	}
	if len(r.Plan.Looks) > 0 {
		f.alpha = plan.LookLevel
	}
	return f
}

func (f *field) enter(s cell.Cell, h *heat) {
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
			return nil, fmt.Errorf("latencies of %s do not fit each other from round to round", s.Contender)
		}
		for fig, sum := range decoded[i].parts {
			f.parts[figureOf{fig, s}] = sum.Distribution()
		}
	}
	return f, nil
}

// decodedSide is a side's heats and what their splits add up to.
type decodedSide struct {
	heats []*heat
	parts map[figure.Name]*result.Sum
}

// decode reads the histograms of a side's heats. Those of splits are added up on the way and not kept.
func decode(r *result.Result, s cell.Cell, splits bool) (out decodedSide, err error) {
	out.parts = map[figure.Name]*result.Sum{}
	for _, h := range r.Of(s.Contender, s.State) {
		one := &heat{Heat: h, r: r, climb: r.Plan.Pace.Climb, lengths: make([]*lengths, len(h.Splits))}
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
			one.lengths[i] = &lengths{count: d.TotalCount(), median: medianOf(d, h.Splits[i].Total())}
			if h.Splits[i].Stream || closely(&r.Plan, h.Splits[i].Name) {
				one.lengths[i].all = d
			}
			fig := h.Splits[i].Figure()
			if out.parts[fig] == nil {
				out.parts[fig] = &result.Sum{}
			}
			out.parts[fig].Add(d)
		}
		out.heats = append(out.heats, one)
	}
	return out, nil
}

// closely reports whether the plan names a figure of what is told by this name, as p99 of ping.
func closely(p *result.Plan, name string) bool {
	named := append([]string{string(p.Decides)}, p.Claims...)
	for _, f := range p.Rungs {
		named = append(named, string(f))
	}
	if p.Until != nil {
		named = append(named, string(p.Until.Figure))
	}
	return slices.ContainsFunc(named, func(text string) bool {
		_, after, ok := strings.Cut(text, " of ")
		return ok && strings.Contains(after, name)
	})
}

// medianOf is the median of a distribution of known sum: exact where all that was recorded is alike, and none where
// nothing was what the histogram's least value stands for.
func medianOf(d *result.Distribution, sum float64) float64 {
	switch n := float64(d.TotalCount()); {
	case len(d.Bars) == 1:
		return sum / n
	case d.Quantile(0.5)*d.PerUnit <= 1:
		return 0
	}
	return d.Quantile(0.5)
}

// sides lists the cells.
func (f *field) sides() []cell.Cell { return f.r.Cells() }

// rounds counts the rounds in which every contender finished its heat, those aside that were left out on the way.
func (f *field) rounds() (n int) {
	sides := slices.DeleteFunc(f.sides(), func(s cell.Cell) bool {
		e := f.r.Entrant(s.Contender)
		return e != nil && e.LeftOut > 0
	})
	for round := range f.heats[cell.Of(f.r.Plan.Baseline, f.r.States()[0])] {
		if !slices.ContainsFunc(sides, func(s cell.Cell) bool { _, ok := f.heats[s][round]; return !ok }) {
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

// value is the figure over all heats that count, and the quartiles of the heats.
func (f *field) value(fig figure.Name, s cell.Cell) Value {
	key := figureOf{fig, s}
	v, known := f.values[key]
	if !known {
		v = f.compute(fig, s)
		f.values[key] = v
	}
	return v
}

// compute computes a value.
func (f *field) compute(fig figure.Name, s cell.Cell) Value {
	if fig.IsLoad() {
		held, _, _, _, _ := f.climbed(s)
		return held
	}
	v := Value{math.NaN(), math.NaN(), math.NaN()}
	var each []float64
	for _, h := range f.inOrder[s] {
		if x := h.figure(fig); !math.IsNaN(x) {
			each = append(each, x)
		}
	}
	if len(each) == 0 {
		return v
	}
	slices.Sort(each)
	switch fig.Row().Pool {
	case figure.OverAll:
		v.V = fig.Read(pooled{f, s, f.totals(s)})
		if _, isQuantile := fig.Quantile(); isQuantile && math.IsNaN(v.V) {
			return v // too few shots
		}
	case figure.Highest:
		v.V = each[len(each)-1]
	case figure.MiddleOne:
		v.V = stats.Median(each)
	}
	if len(each) >= 4 {
		v.Low, v.High = each[len(each)/4], each[len(each)-1-len(each)/4]
	}
	return v
}

// typical is the figure of a side's typical heat, and the quartiles of its heats. Like the ratio it is the
// pseudo-median of logarithms, so that value and ratio lean the same way; a heat that lies far out moves neither.
func (f *field) typical(fig figure.Name, s cell.Cell) Value {
	key := figureOf{fig, s}
	v, known := f.typicals[key]
	if !known {
		v = f.typicalOf(fig, s)
		f.typicals[key] = v
	}
	return v
}

func (f *field) typicalOf(fig figure.Name, s cell.Cell) Value {
	v := f.value(fig, s)
	var each, logs []float64
	for _, h := range f.inOrder[s] {
		if x := h.figure(fig); !math.IsNaN(x) {
			each, logs = append(each, x), append(logs, math.Log(x))
		}
	}
	switch {
	case len(each) == 0 || math.IsNaN(v.V):
	case slices.Min(each) == slices.Max(each):
		v.V = each[0]
	case slices.Min(each) > 0:
		v.V = math.Exp(stats.Centre(logs))
	default:
		v.V = stats.Centre(each)
	}
	return v
}

// split is the median of a part over all heats of a side, the mean where the shots are too few; NaN where it has none.
func (f *field) split(s cell.Cell, fig figure.Name) float64 {
	key := figureOf{fig, s}
	x, known := f.splits[key]
	if !known {
		x = f.splitOf(s, fig)
		f.splits[key] = x
	}
	return x
}

func (f *field) splitOf(s cell.Cell, fig figure.Name) float64 {
	var sum, shots float64
	for _, h := range f.inOrder[s] {
		for i := range h.Splits {
			if h.Splits[i].Figure() == fig {
				sum, shots = sum+h.Splits[i].Total(), shots+float64(h.OK)
			}
		}
	}
	x := sum / shots
	if pooled := f.parts[figureOf{fig, s}]; pooled != nil { // else they count in the mean alone
		if n := pooled.TotalCount(); n >= medianFrom {
			x = medianOf(pooled, sum)
		} else if fig.IsTold() && n > 0 {
			x = sum / float64(n)
		}
	}
	return x
}

// fewest is the smallest number of values in a heat that a figure is read from: of its successful shots, or of a
// stream; -1 without heats.
func (f *field) fewest(fig figure.Name, s cell.Cell) int64 {
	n := int64(-1)
	_, stream, isStream := fig.OfStream()
	for _, h := range f.heats[s] {
		own := h.OK
		if isStream {
			i := h.stream(stream)
			if i < 0 || h.lengths[i] == nil {
				continue
			}
			own = h.lengths[i].count
		}
		if n < 0 || own < n {
			n = own
		}
	}
	return n
}

// growthFrom is how many shots a heat needs for its growth to be told: of fewer, a page or two of memory would be
// multiplied into much.
const growthFrom = 200

// grownBy is by how much a side's service grew for a thousand shots in the second half of its heats, heat by heat in
// bytes, with what it held at rest and by how much it grew, summed over heats.
func (f *field) grownBy(s cell.Cell) (each []float64, rest, grown float64) {
	for _, h := range f.inOrder[s] {
		if h.Service == nil || h.Shots()+h.Warmup < growthFrom {
			continue
		}
		if n, ok := h.Grown(); ok {
			each = append(each, float64(n)/(float64(h.Shots()+h.Warmup)/2)*1000)
			rest += float64(h.Service.Moments[0].Resident)
			grown += float64(n)
		}
	}
	return each, rest, grown
}

// logs are the logarithms of a figure of a side's heats, in the order of the rounds, and the heats.
func (f *field) logs(fig figure.Name, s cell.Cell) (x []float64, heats []*heat) {
	for _, h := range f.inOrder[s] {
		if v := math.Log(h.figure(fig)); !math.IsNaN(v) && !math.IsInf(v, 0) {
			x, heats = append(x, v), append(heats, h)
		}
	}
	return x, heats
}

// level is one minus the confidence of intervals, unless the run was looked at on the way.
const level = 0.05
