package judge

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// overRows are the times and rates of the ladder over all shots that count, or the most of any heat: what the typical
// heat, which the ladder shows, leaves out.
func overRows(f *field) (rows []Row) {
	for _, fig := range ownFigures(f.r) {
		pool := fig.Row().Pool
		if fig != figure.Throughput && fig.Row().Axis != figure.P50.Row().Axis || pool == figure.MiddleOne {
			continue // it has a row of its own, or says no more
		}
		name := map[figure.Pooling]string{figure.OverAll: " over all shots", figure.Highest: " at most"}[pool]
		for _, state := range f.r.States() {
			row, known := Row{Name: fig.Label() + name, Lower: !fig.MoreIsBetter(), interest: f.interest(fig)}, false
			if len(f.r.States()) > 1 {
				row.Name += ", " + state
			}
			for _, e := range f.r.Entrants {
				x := f.value(fig, cell.Of(e.Name, state)).V
				known = known || !math.IsNaN(x)
				row.Values, row.Amount = append(row.Values, fig.Show(x)), append(row.Amount, x)
			}
			if known {
				rows = append(rows, row)
			}
		}
	}
	return rows
}

// scorecard counts what is not a ratio of latencies: failures, bytes, connections, CPU; state by state where there are
// two. It is long since it lists the lines in their order.
func scorecard(f *field) []Row {
	r := f.r
	count := func(x float64) string { return units.Count(int64(x)) }
	var rows []Row
	add := func(rw Row) {
		for _, a := range rw.Amount {
			if !math.IsNaN(a) && a > 0 {
				rows = append(rows, rw)
				return
			}
		}
	}
	each := func(name string, lower bool, amount func(totals) float64, show func(float64) string) {
		for _, state := range r.States() {
			title := name
			if len(r.States()) > 1 {
				title += ", " + state
			}
			add(row(r, title, state, lower, amount, show))
		}
	}
	rows = append(
		rows, row(r, "shots that count", result.AnyState, false, func(t totals) float64 { return t.shots }, count),
	)
	rows[0].Plain = true
	warm := row(r, "warm-up, not judged", result.AnyState, false, func(t totals) float64 { return t.warm }, count)
	warm.Plain = true
	add(warm)
	rows = append(
		rows, row(r, "failures", result.AnyState, true, func(t totals) float64 { return t.failed / t.shots }, units.Share),
	)
	rows = append(rows, overRows(f)...)
	sampled := row(r, "answers compared", result.AnyState, false, func(t totals) float64 { return t.sampled }, count)
	sampled.Plain = true
	add(sampled)
	each("CPU a run", true, func(t totals) float64 { return t.amount(shots.CPU) / t.shots }, units.Seconds)
	for _, state := range r.States() {
		title := "processors used"
		if state != "" {
			title += ", " + state
		}
		used := row(
			r, title, state, true, func(t totals) float64 {
				return t.amount(shots.CPU) * t.clients / atIt(r, t.latency, t.busy)
			}, units.Significant,
		)
		used.Plain = true
		add(used)
	}
	rows = append(rows, amountRows(r, shots.Takes)...)
	memory := row(
		r, "peak memory at most", result.AnyState, true, func(t totals) float64 { return unlessNone(t.amount(shots.Memory)) },
		units.Bytes,
	)
	for i, e := range r.Entrants {
		if e.Touch != nil && e.Touch.Peak > 0 && !(memory.Amount[i] > float64(e.Touch.Peak)) {
			memory.Amount[i], memory.Values[i] = float64(e.Touch.Peak), units.Bytes(float64(e.Touch.Peak))
		}
	}
	add(memory)
	rows = append(rows, startRows(r)...)
	rows = append(rows, serviceRows(r)...)
	rows = append(rows, amountRows(r, shots.Uses)...)
	each("received a shot", true, func(t totals) float64 { return t.received / t.shots }, units.Bytes)
	rows = append(rows, amountRows(r, shots.Answers)...)
	add(row(r, "processes left behind", result.AnyState, true, func(t totals) float64 { return t.left }, count))
	if r.Plan.Pace.Open() && r.Plan.Pace.Climb == nil {
		each("not sent in time", true, func(t totals) float64 { return t.unsent / t.due }, units.Share)
		lag := row(
			r, "send lag at p99", result.AnyState, true, func(t totals) float64 { return t.lag / float64(t.heats) },
			units.Seconds,
		)
		lag.Plain = true
		add(lag)
	}
	add(row(r, "sent a shot", result.AnyState, true, func(t totals) float64 { return t.sent / t.shots }, units.Bytes))
	rows = append(rows, amountRows(r, shots.Connects)...)
	first := row(r, "first touch", result.AnyState, true, // one shot each: to be seen, not to be compared
		func(totals) float64 { return math.NaN() }, units.Seconds)
	for i, e := range r.Entrants {
		if e.Touch != nil {
			first.Amount[i] = e.Touch.Latency.Seconds()
			first.Values[i] = units.Seconds(first.Amount[i])
		}
	}
	first.Plain = true
	add(first)
	versions, told := Row{Name: "version", Plain: true}, false
	for _, e := range r.Entrants {
		text := units.None
		if e.Version != "" {
			text, told = e.Version, true
		}
		versions.Values, versions.Amount = append(versions.Values, text), append(versions.Amount, math.NaN())
	}
	if told {
		rows = append(rows, versions)
	}
	return rows
}

func row(r *result.Result, name, state string, lower bool, amount func(totals) float64, show func(float64) string) Row {
	out := Row{Name: name, Lower: lower, interest: float64(r.Plan.Interest)}
	for _, e := range r.Entrants {
		t := total(r, e.Name, state)
		x := math.NaN()
		if t.shots > 0 {
			x = amount(t)
		}
		text := units.None
		if !math.IsNaN(x) {
			text = show(x)
		}
		out.Amount = append(out.Amount, x)
		out.Values = append(out.Values, text)
	}
	return out
}

// amountRows are the lines of what the contenders' kinds count, in one part of the scorecard.
func amountRows(r *result.Result, site shots.Site) (rows []Row) {
	for i := range r.Amounts {
		a := &r.Amounts[i]
		if a.Site != site || a.Row == "" {
			continue
		}
		show := a.Unit.Bare
		if a.Per == "" && a.Unit != units.Byte {
			show = func(x float64) string { return units.Count(int64(x)) }
		}
		states := r.States()
		if site == shots.Connects || site == shots.Takes && a.Per != shots.PerShot {
			states = []string{result.AnyState}
		}
		for _, state := range states {
			title := a.Row
			if len(states) > 1 {
				title += ", " + state
			}
			one := row(r, title, state, !a.More, func(t totals) float64 { return t.divided(a) }, show)
			if slices.ContainsFunc(one.Amount, func(x float64) bool { return x > 0 }) {
				rows = append(rows, one)
			}
		}
	}
	return rows
}

// startRows are the scorecard's lines of what services printed while they started, and of shots that came before they
// were ready.
func startRows(r *result.Result) (rows []Row) {
	add := func(
		name string, lower bool, of func(e *result.Entrant, state string) (float64, bool), show func(float64) string,
	) {
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
	var told []figure.Name
	for _, h := range r.Heats {
		for _, s := range h.Starts {
			for i := range s.Marks {
				if fig := s.Marks[i].Figure(); !slices.Contains(told, fig) {
					told = append(told, fig)
				}
			}
		}
	}
	for _, fig := range told {
		add(fig.Spoken()+", at the start", true, func(e *result.Entrant, state string) (float64, bool) {
			typical, _ := TypicalStart(r, e.Name, state)
			for i := range typical.Marks {
				if m := &typical.Marks[i]; m.Figure() == fig {
					return m.Value, true
				}
			}
			return 0, false
		}, fig.Show)
	}
	rush := func(of func(result.Rush) float64) func(*result.Entrant, string) (float64, bool) {
		return func(e *result.Entrant, state string) (float64, bool) {
			var sum result.Rush
			known := false
			for _, h := range r.Of(e.Name, state) {
				for _, s := range h.Starts {
					if s.Rush != nil {
						known = true
						sum.Due, sum.Failed, sum.Waited, sum.Longest = sum.Due+s.Rush.Due, sum.Failed+s.Rush.Failed,
							sum.Waited+s.Rush.Waited, max(
								sum.Longest, s.Rush.Longest,
							)
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

// climbRows are the scorecard's lines of a climb: the figure of the limit at each level.
func climbRows(f *field) (rows []Row) {
	c := f.r.Plan.Pace.Climb
	if c == nil {
		return nil
	}
	q, _ := c.At.Quantile()
	for _, state := range f.r.States() {
		for i, level := range c.Levels {
			row := Row{Name: fmt.Sprintf("%s at %s", c.At, load(c, level)), Lower: true, interest: float64(f.r.Plan.Interest)}
			if state != "" {
				row.Name += ", " + state
			}
			for _, e := range f.r.Entrants {
				var all result.Sum
				var lost, shots int64
				for _, h := range f.inOrder[cell.Of(e.Name, state)] {
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

// gainRows are the scorecard's lines about caching, or about places.
func gainRows(r *result.Result, v *Verdict) []Row {
	if len(v.Gains) == 0 {
		return nil
	}
	var rows []Row
	for i := range v.Gains {
		g := &v.Gains[i]
		name := fmt.Sprintf("%s against %s", g.Warm, g.Cold)
		at := slices.IndexFunc(rows, func(r Row) bool { return r.Name == name })
		if at < 0 {
			rows = append(rows, Row{Name: name, Plain: true})
			at = len(rows) - 1
		}
		text, amount := units.None, math.NaN()
		if a, ok := g.spokenGain(v.Decides); ok && !math.IsNaN(a.Ratio) {
			amount = a.Ratio
			switch a.Word {
			case Better, Worse:
				text = a.Factor() + " " + a.Figure.Comparative(a.Word == Better)
			case Alike:
				text = "no gain"
			default:
				text = "open, " + a.Factor()
			}
		}
		rows[at].Values, rows[at].Amount = append(rows[at].Values, text), append(rows[at].Amount, amount)
	}
	return rows
}

// sortRows are the scorecard's lines of how many shots of each sort there were, and failed.
func sortRows(f *field) (rows []Row) {
	var names []string
	for i := range f.r.Heats {
		for _, s := range f.r.Heats[i].Sorts {
			if !slices.Contains(names, s.Name) {
				names = append(names, s.Name)
			}
		}
	}
	for _, name := range names {
		for _, state := range f.r.States() {
			row := Row{Name: strings.TrimSuffix("shots of "+name+", "+state, ", ")}
			for _, e := range f.r.Entrants {
				var all result.Sort
				for _, h := range f.inOrder[cell.Of(e.Name, state)] {
					for _, s := range h.Sorts {
						if s.Name == name {
							all.OK, all.Failed = all.OK+s.OK, all.Failed+s.Failed
						}
					}
				}
				text := units.Count(all.OK)
				if all.Failed > 0 {
					text += fmt.Sprintf(", %s failed", units.Count(all.Failed))
				}
				row.Values, row.Amount = append(row.Values, text), append(row.Amount, math.NaN())
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// splitRows are the scorecard's lines of what latencies are made of: the median of each part.
func splitRows(f *field) (rows []Row) {
	for _, fig := range f.partNames() {
		_, _, ofStream := fig.OfStream()
		if _, part := fig.OfPart(); !part && !fig.IsTold() && !ofStream {
			continue // by the second, which has a rung
		}
		for _, state := range f.r.States() {
			row := Row{Name: fig.Label(), Lower: !fig.MoreIsBetter(), interest: f.interest(fig)}
			if !fig.IsPercentile() && !ofStream { // else it says already of what
				row.Name += " at p50"
			}
			if state != "" {
				row.Name += ", " + state
			}
			for _, e := range f.r.Entrants {
				of := cell.Of(e.Name, state)
				x := f.split(of, fig)
				if ofStream {
					x = f.value(fig, of).V
				}
				text := units.None
				if !math.IsNaN(x) {
					if fig.Unit() == units.Second && x < nothing {
						x = 0 // the histogram's least value stands for it
					}
					text = fig.Show(x)
				}
				row.Values, row.Amount = append(row.Values, text), append(row.Amount, x)
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// serviceRows are the scorecard's lines of what services held: at rest before the load, divided by those who share it
// at its end, and how many threads they, or runs over a second, had at most. The middle heat's value stands for all.
func serviceRows(r *result.Result) (rows []Row) {
	for _, line := range []struct {
		name string
		of   func(*result.Service) float64
		show func(float64) string
		runs bool // also of runs over a second
	}{
		{"memory at rest", func(s *result.Service) float64 { return float64(s.Moments[0].Resident) }, units.Bytes, false},
		{
			"memory afterwards", func(s *result.Service) float64 { return float64(s.Moments[len(s.Moments)-1].Resident) },
			units.Bytes, false,
		},
		{
			"shared parts divided", func(s *result.Service) float64 { return unlessNone(float64(s.Proportional)) }, units.Bytes,
			false,
		},
		{"swapped out", func(s *result.Service) float64 {
			return unlessNone(
				float64(slices.MaxFunc(s.Moments, func(a, b result.Moment) int { return int(a.Swapped - b.Swapped) }).Swapped),
			)
		}, units.Bytes, true},
		{"threads at most", func(s *result.Service) float64 {
			return float64(slices.MaxFunc(s.Moments, func(a, b result.Moment) int { return int(a.Threads - b.Threads) }).Threads)
		}, func(x float64) string { return units.Count(int64(x)) }, true},
	} {
		for _, state := range r.States() {
			row, known := Row{Name: line.name, Lower: true, interest: float64(r.Plan.Interest)}, false
			if state != "" {
				row.Name += ", " + state
			}
			for _, e := range r.Entrants {
				var each []float64
				for _, h := range r.Of(e.Name, state) {
					s := h.Service
					if s == nil && line.runs {
						s = &result.Service{Moments: h.Course}
					}
					if s != nil && len(s.Moments) > 0 {
						if x := line.of(s); !math.IsNaN(x) {
							each = append(each, x)
						}
					}
				}
				x, text := math.NaN(), units.None
				if len(each) > 0 {
					x, known = stats.Median(each), true
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

// growthRows are the scorecard's lines of the same: the typical heat's growth, with its interval where there are heats
// enough.
func (f *field) growthRows() (rows []Row) {
	for _, state := range f.r.States() {
		row, known := Row{Name: "grows, 1 000 shots", Lower: true, Plain: true}, false // shown, not leaned by: it may be none
		row.growth, row.state = true, state
		if state != "" {
			row.Name += ", " + state
		}
		for _, e := range f.r.Entrants {
			x, text := math.NaN(), units.None
			if each, _, _ := f.grownBy(cell.Of(e.Name, state)); len(each) > 0 {
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
