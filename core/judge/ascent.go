package judge

import (
	"math"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/result"
)

// failedFrac is the share of a level's shots that may fail, or not be sent in time, for it to be held all the same.
const failedFrac = 0.01

// ascent is how one heat bore a climb.
type ascent struct {
	held  float64 // the load up to which the limit was kept; NaN when too few shots say so
	first bool    // not even the first level was held: held is that, and too high
	last  bool    // all were held: held is the last, and perhaps too low
	need  int64   // shots that a level would need, where there were too few
}

// ascend reads a heat's climb. Each step kept the limit or did not; since one may be disturbed by something else, the
// climb ends where the fewest steps stand on the wrong side: held above, or not held below. The level lies between the
// last step below and the first above that end; between the two, the logarithm of the latency is taken to rise in a
// straight line over that of the load. A step that failed or was not sent in time ends the climb without one.
func ascend(c *result.Climb, h *heat) ascent {
	n := min(len(c.Levels), len(h.steps))
	if n == 0 {
		return ascent{held: math.NaN()}
	}
	q, _ := c.At.Quantile()
	limit := c.Under.Seconds()
	kept, lost := make([]bool, n), make([]bool, n)
	wrong := 0 // with the end below all steps: those that kept the limit
	for i := range n {
		step := &h.Steps[i]
		lost[i] = float64(step.Failed+step.Unsent) > failedFrac*float64(step.OK+step.Failed+step.Unsent)
		kept[i] = !lost[i] && Quantile(h.steps[i], q) < limit
		if kept[i] {
			wrong++
		}
	}
	end, fewest := 0, wrong
	for i := range n {
		if kept[i] {
			wrong--
		} else {
			wrong++
		}
		if wrong < fewest {
			end, fewest = i+1, wrong
		}
	}
	above := min(end, n-1) // the step that says where it ends
	if !lost[above] && beyond(h.Steps[above].OK, q) < fewBeyond {
		return ascent{held: math.NaN(), need: needFor(q)}
	}
	switch {
	case end == 0:
		return ascent{held: c.Levels[0], first: true}
	case end == n:
		return ascent{held: c.Levels[n-1], last: true}
	}
	low, high := Quantile(h.steps[end-1], q), Quantile(h.steps[end], q)
	if lost[end] || !(high > low) {
		return ascent{held: c.Levels[end-1]}
	}
	share := math.Log(limit/low) / math.Log(high/low)
	return ascent{held: c.Levels[end-1] * math.Pow(c.Levels[end]/c.Levels[end-1], min(max(share, 0), 1))}
}

// decodeSteps decodes the histograms of a heat's steps.
func decodeSteps(h *result.Heat) (out []*result.Distribution, err error) {
	for i := range h.Steps {
		histogram, err := h.Steps[i].Histogram()
		if err != nil {
			return nil, err
		}
		out = append(out, histogram)
	}
	return out, nil
}

// climbed sums up a side's ascents: the middle one, and how many ended at either end of the climb.
func (f *field) climbed(s cell.Cell) (held Value, first, last, n int, need int64) {
	held = Value{math.NaN(), math.NaN(), math.NaN()}
	var all []float64
	for _, h := range f.inOrder[s] {
		a := ascend(f.r.Plan.Pace.Climb, h)
		need = max(need, a.need)
		if math.IsNaN(a.held) {
			continue
		}
		n++
		if a.first {
			first++
		}
		if a.last {
			last++
		}
		all = append(all, a.held)
	}
	if n == 0 {
		return held, first, last, n, need
	}
	slices.Sort(all)
	held.V = math.Sqrt(all[(n-1)/2] * all[n/2])
	if n >= 4 {
		held.Low, held.High = all[n/4], all[n-1-n/4]
	}
	return held, first, last, n, need
}
