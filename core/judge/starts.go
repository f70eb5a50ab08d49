package judge

import (
	"math"
	"slices"
	"time"

	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Beginning says how much longer a contender's first shots take than its later ones: the first run of a command in each heat,
// or the first answer of a service that was started for it.
type Beginning struct {
	Contender, State string
	First, Later     float64 // seconds, of the middle heat
	Ratio, Low, High float64 // how many times as long, by heats; Low and High are NaN with too few
}

// Say puts it in words.
func (b Beginning) Say() string {
	text := units.Times(b.Ratio) + " its later ones"
	if within := (Assessment{Ratio: max(b.Ratio, 1), Low: b.Low, High: b.High}).Interval(); within != "" {
		text += " (" + within + ")"
	}
	return text
}

// beginnings are those that the run knows.
func (f *field) beginnings() (out []Beginning) {
	for _, s := range f.sides() {
		var firsts, laters, d []float64
		for _, h := range f.inOrder[s] {
			first, later := h.beginning(), h.figure(plan.P50)
			if h.OK < medianFrom {
				later = h.figure(plan.Mean)
			}
			if first > 0 && later > 0 {
				firsts, laters, d = append(firsts, first), append(laters, later), append(d, math.Log(first/later))
			}
		}
		if len(d) == 0 {
			continue
		}
		sample := stats.NewSample(d)
		b := Beginning{Contender: s.name, State: s.state, First: median(firsts), Later: median(laters), Ratio: math.Exp(sample.Centre()), Low: math.NaN(), High: math.NaN()}
		if low, high, ok := sample.Interval(f.alpha); ok {
			b.Low, b.High = math.Exp(low), math.Exp(high)
		}
		out = append(out, b)
	}
	return out
}

// beginning is how long the first shot of a heat took, where that says something; NaN elsewhere.
func (h *heat) beginning() float64 {
	if n := len(h.Starts); n == 1 && h.Starts[0].SecondTook > 0 {
		return h.Starts[0].FirstTook.Seconds()
	}
	return h.figure(plan.FirstRun)
}

// median is the middle of values, which it sorts; NaN without any.
func median(values []float64) float64 {
	n := len(values)
	if n == 0 {
		return math.NaN()
	}
	slices.Sort(values)
	return (values[(n-1)/2] + values[n/2]) / 2
}

// TypicalStart is the middle of a side's starts, part by part, those of warm-ups aside, and how many there were. A part that not
// every start has is 0; none comes before the one that it follows.
func TypicalStart(r *result.Result, name, state string) (typical result.Start, n int) {
	var all []*result.Start
	for _, h := range r.Of(name, state) {
		for i := range h.Starts {
			if s := &h.Starts[i]; !s.Unjudged {
				all = append(all, s)
			}
		}
	}
	middle := func(of func(*result.Start) time.Duration) time.Duration {
		var each []float64
		for _, s := range all {
			if took := of(s); took > 0 {
				each = append(each, float64(took))
			}
		}
		if len(each) == 0 || len(each) < len(all) {
			return 0
		}
		return time.Duration(median(each))
	}
	typical = result.Start{
		Prepared: middle(func(s *result.Start) time.Duration { return s.Prepared }), Output: middle(func(s *result.Start) time.Duration { return s.Output }),
		Ready: middle(func(s *result.Start) time.Duration { return s.Ready }), Asked: middle(func(s *result.Start) time.Duration { return s.Asked }),
		First: middle(func(s *result.Start) time.Duration { return asked(s, s.First) }), FirstTook: middle(func(s *result.Start) time.Duration { return s.FirstTook }),
		Second: middle(func(s *result.Start) time.Duration { return asked(s, s.Second) }), SecondTook: middle(func(s *result.Start) time.Duration { return s.SecondTook }),
		Settled: middle(func(s *result.Start) time.Duration { return asked(s, s.Settled) }),
		Shot:    int64(middle(func(s *result.Start) time.Duration { return time.Duration(s.Shot) })),
	}
	for _, pair := range [][2]*time.Duration{{&typical.Ready, &typical.First}, {&typical.First, &typical.Second}, {&typical.Second, &typical.Settled}} {
		if *pair[1] > 0 {
			*pair[1] = max(*pair[1], *pair[0])
		}
	}
	if len(all) > 0 {
		for i := range all[0].Marks {
			name := all[0].Marks[i].Name
			typical.Marks = append(typical.Marks, result.StartMark{Name: name, Took: middle(func(s *result.Start) time.Duration {
				for _, m := range s.Marks {
					if m.Name == name {
						return m.Took
					}
				}
				return 0
			})})
		}
	}
	return typical, len(all)
}

// startRows are the scorecard's lines of what services printed while they started, and of shots that came before they were
// ready.
func startRows(r *result.Result) (rows []Row) {
	add := func(name string, lower bool, of func(e *result.Entrant, state string) (float64, bool), show func(float64) string) {
		for _, state := range r.States() {
			row, known := Row{Name: name, Lower: lower, interest: float64(r.Plan.Interest)}, false
			if state != "" {
				row.Name += ", " + state
			}
			for i := range r.Entrants {
				x, ok := of(&r.Entrants[i], state)
				text := units.None
				if ok {
					text, known = show(x), true
				} else {
					x = math.NaN()
				}
				row.Values, row.Amount = append(row.Values, text), append(row.Amount, x)
			}
			if known {
				rows = append(rows, row)
			}
		}
	}
	var names []string
	for _, h := range r.Heats {
		for _, s := range h.Starts {
			for _, m := range s.Marks {
				if !slices.Contains(names, m.Name) {
					names = append(names, m.Name)
				}
			}
		}
	}
	for _, full := range names {
		figure := partFigure(full, true)
		bare, unit := plan.Bare(full)
		add(bare+", at the start", true, func(e *result.Entrant, state string) (float64, bool) {
			typical, _ := TypicalStart(r, e.Name, state)
			for _, m := range typical.Marks {
				if m.Name == full {
					return plan.Kept(m.Took.Seconds(), unit), true
				}
			}
			return 0, false
		}, func(x float64) string { return Show(figure, x) })
	}
	rush := func(of func(result.Rush) float64) func(*result.Entrant, string) (float64, bool) {
		return func(e *result.Entrant, state string) (float64, bool) {
			var sum result.Rush
			known := false
			for _, h := range r.Of(e.Name, state) {
				for _, s := range h.Starts {
					if s.Rush != nil {
						known = true
						sum.Due, sum.Failed, sum.Waited, sum.Longest = sum.Due+s.Rush.Due, sum.Failed+s.Rush.Failed, sum.Waited+s.Rush.Waited, max(sum.Longest, s.Rush.Longest)
					}
				}
			}
			return of(sum), known
		}
	}
	count := func(x float64) string { return units.Count(int64(x)) }
	add("due before it was ready", true, rush(func(s result.Rush) float64 { return float64(s.Due) }), count)
	add("of these, failed", true, rush(func(s result.Rush) float64 { return float64(s.Failed) }), count)
	add("of these, answered late", true, rush(func(s result.Rush) float64 { return float64(s.Waited) }), count)
	add("longest of these", true, rush(func(s result.Rush) float64 { return s.Longest.Seconds() }), units.Seconds)
	return rows
}
