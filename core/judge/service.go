package judge

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// serviceRows are the scorecard's lines of what services held: at rest before the load, divided by those who share it at its
// end, and how many threads they had at most. The middle heat's value stands for all.
func serviceRows(r *result.Result) (rows []Row) {
	for _, line := range []struct {
		name string
		of   func(*result.Service) float64
		show func(float64) string
	}{
		{"memory at rest", func(s *result.Service) float64 { return float64(s.Moments[0].Resident) }, units.Bytes},
		{"memory afterwards", func(s *result.Service) float64 { return float64(s.Moments[len(s.Moments)-1].Resident) }, units.Bytes},
		{"its share of shared", func(s *result.Service) float64 { return unlessNone(float64(s.Proportional)) }, units.Bytes},
		{"swapped out", func(s *result.Service) float64 {
			return unlessNone(float64(slices.MaxFunc(s.Moments, func(a, b result.Moment) int { return int(a.Swapped - b.Swapped) }).Swapped))
		}, units.Bytes},
		{"threads at most", func(s *result.Service) float64 {
			return float64(slices.MaxFunc(s.Moments, func(a, b result.Moment) int { return int(a.Threads - b.Threads) }).Threads)
		}, func(x float64) string { return units.Count(int64(x)) }},
	} {
		for _, state := range r.States() {
			row, known := Row{Name: line.name, Lower: true, interest: float64(r.Plan.Interest)}, false
			if state != "" {
				row.Name += ", " + state
			}
			for _, e := range r.Entrants {
				var each []float64
				for _, h := range r.Of(e.Name, state) {
					if h.Service != nil && len(h.Service.Moments) > 0 {
						if x := line.of(h.Service); !math.IsNaN(x) {
							each = append(each, x)
						}
					}
				}
				x, text := math.NaN(), units.None
				if slices.Sort(each); len(each) > 0 {
					x, known = each[len(each)/2], true
					text = line.show(x)
				}
				row.Values, row.Amount = append(row.Values, text), append(row.Amount, x)
			}
			if known {
				rows = append(rows, row)
			}
		}
	}
	return rows
}

// A service is said to grow when it surely does, and by so much of what it held at rest within a heat.
const growthFrac = 0.01

// grownBy is by how much a side's service grew for a thousand shots in the second half of its heats, heat by heat in bytes, with
// what it held at rest and by how much it grew, summed over heats.
func (f *field) grownBy(s side) (each []float64, rest, grown float64) {
	for _, h := range f.inOrder[s] {
		if h.Service == nil || h.Shots() == 0 {
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

// growth finds services whose memory still grows with the shots that they answer in the second half of heats.
func (f *field) growth() (out []Caution) {
	for _, s := range f.sides() {
		each, rest, grown := f.grownBy(s)
		if len(each) < stats.MinRounds {
			continue
		}
		sample := stats.NewSample(each)
		low, high, ok := sample.Interval(f.alpha)
		if !ok || low <= 0 || grown < growthFrac*rest {
			continue
		}
		out = append(out, Caution{
			Kind: Growth, See: SeeMemory, Contender: s.name,
			What: fmt.Sprintf("the service of %s grows by %s for 1 000 shots (%s to %s), also in the second half of heats", title(s), units.Bytes(sample.Centre()), units.Bytes(low), units.Bytes(high)),
			Try:  "see whether that ends: run longer heats, with fresh: duel",
		})
	}
	return out
}

// growthRows are the scorecard's lines of the same: the typical heat's growth, with its interval where there are heats enough.
func (f *field) growthRows() (rows []Row) {
	for _, state := range f.r.States() {
		row, known := Row{Name: "grows, 1 000 shots", Lower: true, Plain: true}, false // shown, not leaned by: it may be none
		if state != "" {
			row.Name += ", " + state
		}
		for _, e := range f.r.Entrants {
			x, text := math.NaN(), units.None
			if each, _, _ := f.grownBy(side{e.Name, state}); len(each) > 0 {
				sample := stats.NewSample(each)
				x, known = sample.Centre(), true
				text = units.Bytes(x)
				if low, high, ok := sample.Interval(f.alpha); ok {
					text += fmt.Sprintf(" (%s to %s)", units.Bytes(low), units.Bytes(high))
				}
			}
			row.Values, row.Amount = append(row.Values, text), append(row.Amount, x)
		}
		if known {
			rows = append(rows, row)
		}
	}
	return rows
}

// serviceCautions are of services that lost processes to their limit of memory, and of shots after a silence that failed.
func serviceCautions(r *result.Result) (out []Caution) {
	for _, e := range r.Entrants {
		var killed int64
		asleep := map[string]int{}
		limits := ""
		for _, h := range r.Of(e.Name, result.AnyState) {
			if h.Service != nil && h.Service.Killed > 0 {
				killed += h.Service.Killed
				limits = h.Service.Limits
			}
			if h.WakeFailed != "" {
				asleep[h.WakeFailed]++
			}
		}
		if killed > 0 {
			out = append(out, Caution{Kind: Killed, See: SeeMemory, Contender: e.Name,
				What: fmt.Sprintf("%s of the service of %s were killed since they wanted more than %s", units.Plural(int(killed), "process"), e.Name, limits),
				Try:  "what is left of it was measured; raise limits: memory: to see it whole"})
		}
		for _, class := range slices.Sorted(maps.Keys(asleep)) {
			out = append(out, Caution{Kind: Failing, See: SeeRounds, Contender: e.Name,
				What: fmt.Sprintf("after its silence %s failed in %s: %s", e.Name, units.Plural(asleep[class], "heat"), class),
				Try:  "a kept connection may be closed on one that is idle: connections: new, or a shorter wake:"})
		}
	}
	return out
}
