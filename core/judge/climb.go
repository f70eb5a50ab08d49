package judge

import (
	"fmt"
	"math"
	"slices"

	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
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

// ascend reads a heat's climb. Each step kept the limit or did not; since one may be disturbed by something else, the climb
// ends where the fewest steps stand on the wrong side: held above, or not held below. The level lies between the last step
// below and the first above that end; between the two, the logarithm of the latency is taken to rise in a straight line
// over that of the load. A step that failed or was not sent in time ends the climb without one.
func ascend(c *result.Climb, h *heat) ascent {
	n := min(len(c.Levels), len(h.steps))
	if n == 0 {
		return ascent{held: math.NaN()}
	}
	q, _ := quantileOf(c.At)
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
func (f *field) climbed(s side) (held Value, first, last, n int, need int64) {
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

// load writes a level of a climb, as "2400/s" or "12 clients".
func load(c *result.Climb, v float64) string {
	if c.Open {
		return units.Rate(v)
	}
	return units.Significant(v) + " clients"
}

// climbSentence says what each side holds, then by how much they differ.
func climbSentence(f *field, face *Face, a Assessment) string {
	c := f.r.Plan.Pace.Climb
	state := a.State
	hold := func(name string) string {
		held, first, last, n, _ := f.climbed(side{name, state})
		switch {
		case 2*first > n:
			return fmt.Sprintf("%s does not even hold %s", name, load(c, c.Levels[0]))
		case 2*last > n:
			return fmt.Sprintf("%s holds %s (the highest that was tried)", name, load(c, held.V))
		}
		return fmt.Sprintf("%s holds %s", name, load(c, held.V))
	}
	limit := fmt.Sprintf("under %s at %s", units.Duration(c.Under), c.At)
	text := fmt.Sprintf("%s %s; %s", hold(face.Contender), limit, hold(f.r.Plan.Baseline))
	switch {
	case a.Word == TooFew:
		return fmt.Sprintf("Too few shots at a level to say what %s holds: %s needs %s.", face.Contender, c.At, units.Count(a.NeedShots))
	case a.Word == NoWord:
		return fmt.Sprintf("There is not enough yet to compare %s with %s.", face.Contender, f.r.Plan.Baseline)
	case math.IsNaN(a.Low):
		return text + fmt.Sprintf(". Nothing is settled: an interval needs %d rounds.", stats.MinRounds)
	case a.Word == Better || a.Word == Worse:
		return fmt.Sprintf("%s: %s %s (%s).", text, a.Factor(), comparative(a.Figure, a.Word), a.Interval())
	}
	return fmt.Sprintf("%s; as loads they are %s (%s).", text, a.Word, a.around())
}

// climbRows are the scorecard's lines of a climb: the figure of the limit at each level.
func climbRows(f *field) (rows []Row) {
	c := f.r.Plan.Pace.Climb
	if c == nil {
		return nil
	}
	q, _ := quantileOf(c.At)
	for _, state := range f.r.States() {
		for i, level := range c.Levels {
			row := Row{Name: fmt.Sprintf("%s at %s", c.At, load(c, level)), Lower: true, interest: float64(f.r.Plan.Interest)}
			if state != "" {
				row.Name += ", " + state
			}
			for _, e := range f.r.Entrants {
				var all result.Sum
				var lost, shots int64
				for _, h := range f.inOrder[side{e.Name, state}] {
					if i >= len(h.steps) {
						continue
					}
					all.Add(h.steps[i])
					lost += h.Steps[i].Failed + h.Steps[i].Unsent
					shots += h.Steps[i].OK + h.Steps[i].Failed + h.Steps[i].Unsent
				}
				x := math.NaN()
				if pooled := all.Distribution(); beyond(pooled.TotalCount(), q) >= fewBeyond {
					x = Quantile(pooled, q)
				}
				text := units.None
				if !math.IsNaN(x) {
					text = units.Seconds(x)
				}
				if shots > 0 && lost > 0 {
					text += ", " + units.Share(float64(lost)/float64(shots)) + " lost"
				}
				row.Values, row.Amount = append(row.Values, text), append(row.Amount, x)
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// climbCautions say where a climb ended before it found a limit.
func climbCautions(f *field) (out []Caution) {
	c := f.r.Plan.Pace.Climb
	if c == nil {
		return nil
	}
	for _, s := range f.sides() {
		name := s.name
		if s.state != "" {
			name += " " + s.state
		}
		_, first, last, n, _ := f.climbed(s)
		if last > 0 {
			out = append(out, Caution{Kind: ClimbEnds, See: SeeLadder, What: fmt.Sprintf("%s held the highest level, %s, in %d of %d heats: it may hold more, and its ratio is cut short", name, load(c, c.Levels[len(c.Levels)-1]), last, n), Try: "raise to: in the climb"})
		}
		if first > 0 {
			out = append(out, Caution{Kind: ClimbEnds, See: SeeLadder, What: fmt.Sprintf("%s did not hold the lowest level, %s, in %d of %d heats: it holds less, and its ratio is cut short", name, load(c, c.Levels[0]), first, n), Try: "lower from: in the climb"})
		}
	}
	return out
}
