package judge

import (
	"math"
	"slices"

	"github.com/HdrHistogram/hdrhistogram-go"

	"paceduel/core/result"
	"paceduel/core/units"
)

// nothing is a length of time that is none, in seconds: less than it takes to look at the clock.
const nothing = 10e-9

// splitRows are the scorecard's lines of what latencies are made of: the median of each part, our own parts in the order
// in which they follow one another, then those that the contenders told.
func splitRows(f *field) (rows []Row, err error) {
	type name struct {
		name string
		told bool
	}
	var names []name
	for i := range f.r.Heats {
		for _, s := range f.r.Heats[i].Splits {
			if n := (name{s.Name, s.Told}); !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
	}
	slices.SortStableFunc(names, func(a, b name) int {
		if a.told == b.told {
			return partOrder(a.name) - partOrder(b.name)
		}
		if a.told {
			return 1
		}
		return -1
	})
	for _, n := range names {
		for _, state := range f.r.States() {
			row := Row{Name: n.name + " at p50", Lower: true, interest: float64(f.r.Plan.Interest)}
			if n.told {
				row.Name = n.name + " (told) at p50"
			}
			if state != "" {
				row.Name += ", " + state
			}
			for _, e := range f.r.Entrants {
				x, err := f.split(side{e.Name, state}, n.name, n.told)
				if err != nil {
					return nil, err
				}
				text := units.None
				if !math.IsNaN(x) {
					if x < nothing {
						x = 0 // the histogram's least value stands for it
					}
					text = units.Seconds(x)
				}
				row.Values, row.Amount = append(row.Values, text), append(row.Amount, x)
			}
			rows = append(rows, row)
		}
	}
	return rows, nil
}

// split is the median of a part over all heats of a side; NaN where it has none.
func (f *field) split(s side, name string, told bool) (float64, error) {
	var pooled *hdrhistogram.Histogram
	for _, h := range f.inOrder[s] {
		for i := range h.Splits {
			if h.Splits[i].Name != name || h.Splits[i].Told != told {
				continue
			}
			one, err := h.Splits[i].Histogram()
			if err != nil {
				return 0, err
			}
			if pooled == nil {
				pooled = one
			} else {
				pooled.Merge(one)
			}
		}
	}
	return Quantile(pooled, 0.5), nil
}

// partOrder is where a part of ours stands among the others.
func partOrder(name string) int {
	at := slices.Index(result.SplitNames, name)
	if at < 0 {
		return len(result.SplitNames)
	}
	return at
}
