package chart

import (
	"fmt"
	"math"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Timeline is a stretch of a run by the clock: a lane for each contender, its shots as dots on a log scale of latency
// that all visible lanes share, and its heats as stretches.
type Timeline struct {
	From, To time.Duration // the stretch, since the start of the run
	Whole    time.Duration // the run's length so far
	Scale    Scale
	Lanes    []TimeLane
	Ticks    []Tick // clock times along the stretch
	Batches  bool   // whether dots are batches that shots are made of

	run   *result.Result
	heats []result.Heat
}

// TimeLane is one contender in one state of caches.
type TimeLane struct {
	Side
	State  string
	Hidden bool // by whoever looks: it has no dots, and the scale does not heed it
	Dots   []Dot
	Heats  []Stretch
}

// Stretch is a heat's judged part within what is in view, both ends 0 to 1, with what half and 99 of 100 of its shots
// took at most: places on the scale, NaN where they are not known.
type Stretch struct {
	Round    int
	From, To float64
	P50, P99 float64
}

// Middle is the part of a heat in which its levels are drawn.
func (s Stretch) Middle() (from, to float64) {
	const aside = 0.3 // of its length, on each side
	return s.From + aside*(s.To-s.From), s.To - aside*(s.To-s.From)
}

// stretch places a heat.
func stretch(h *result.Heat, v *judge.Verdict, s Scale, from, to float64) Stretch {
	out := Stretch{h.Round, clamp(from), clamp(to), math.NaN(), math.NaN()}
	if v == nil {
		return out
	}
	if l, ok := v.Heats[h.Cell][h.Round]; ok {
		out.P50, out.P99 = within(s, l.P50), within(s, l.P99)
	}
	return out
}

// Length is how long a run has lasted: to the end of its last heat.
func Length(heats []result.Heat) time.Duration {
	end := time.Duration(0)
	for i := range heats {
		end = max(end, heats[i].At+heats[i].Wall)
	}
	return end
}

// NewTimeline arranges what of the heats lies between two moments; from 0 to 0 is the whole run. v, which may be nil,
// is the verdict as far as it goes.
func NewTimeline(r *result.Result, v *judge.Verdict, heats []result.Heat, from, to time.Duration,
	hidden func(cell.Cell) bool,
) *Timeline {
	t := &Timeline{From: from, To: to, Whole: Length(heats), run: r, heats: heats}
	t.Batches = slices.ContainsFunc(heats, func(h result.Heat) bool { return h.ByStretch() })
	if to <= from {
		t.From, t.To = firstStart(heats), t.Whole
	}
	span := max(t.To-t.From, 1)
	var values []float64
	index := map[cell.Cell]int{}
	for i, e := range r.Entrants {
		for _, state := range r.States() {
			k := cell.Of(e.Name, state)
			index[k] = len(t.Lanes)
			t.Lanes = append(t.Lanes, TimeLane{
				Side: Side{e.Name, SignOf(i), e.Name == r.Plan.Baseline}, State: state, Hidden: hidden != nil && hidden(k),
			})
		}
	}
	in := func(h *result.Heat) *TimeLane {
		at, ok := index[cell.Of(h.Contender, h.State)]
		if !ok || t.Lanes[at].Hidden || h.At > t.To || h.At+h.Wall < t.From {
			return nil
		}
		return &t.Lanes[at]
	}
	for i := range heats {
		if in(&heats[i]) == nil {
			continue
		}
		for _, d := range heats[i].Dots {
			if d.At >= t.From && d.At <= t.To {
				values = append(values, d.Latency.Seconds())
			}
		}
	}
	t.Scale = NewScale(values, true, units.Seconds)
	across := func(at time.Duration) float64 { return float64(at-t.From) / float64(span) }
	for i := range heats {
		h := &heats[i]
		lane := in(h)
		if lane == nil {
			continue
		}
		lane.Heats = append(lane.Heats, stretch(h, v, t.Scale, across(h.At), across(h.At+h.Wall)))
		for _, d := range h.Dots {
			if d.At >= t.From && d.At <= t.To {
				lane.Dots = append(lane.Dots, Dot{X: across(d.At), Y: t.Scale.At(d.Latency.Seconds()), Failed: d.Class != ""})
			}
		}
	}
	t.clockTicks()
	return t
}

func firstStart(heats []result.Heat) time.Duration {
	first := time.Duration(math.MaxInt64)
	for i := range heats {
		first = min(first, heats[i].At)
	}
	if first == math.MaxInt64 {
		return 0
	}
	return first
}

// At is the moment at a place of the stretch, 0 to 1.
func (t *Timeline) At(x float64) time.Duration {
	return t.From + time.Duration(x*float64(t.To-t.From))
}

// Clock writes a moment as a time of day, as exactly as the stretch allows to tell.
func (t *Timeline) Clock(at time.Duration) string {
	layout := "15:04:05"
	switch span := t.To - t.From; {
	case span < 2*time.Second:
		layout = "15:04:05.000"
	case span < time.Minute:
		layout = "15:04:05.0"
	}
	return t.run.Wall(at).Format(layout)
}

// niceSpans are the distances of clock ticks.
var niceSpans = []time.Duration{
	time.Millisecond, 2 * time.Millisecond, 5 * time.Millisecond, 10 * time.Millisecond, 20 * time.Millisecond,
	50 * time.Millisecond,
	100 * time.Millisecond, 200 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second,
	10 * time.Second, 30 * time.Second,
	time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour,
	6 * time.Hour,
}

func (t *Timeline) clockTicks() {
	span := t.To - t.From
	if span <= 0 {
		return
	}
	step := niceSpans[len(niceSpans)-1]
	for _, s := range niceSpans {
		if span/s <= maxTicks {
			step = s
			break
		}
	}
	// Ticks lie at round times of day, not at round distances from the start.
	started := t.run.Wall(t.From).Add(-t.From) // of the sitting in view
	first := started.Add(t.From).Truncate(step)
	for at := first; ; at = at.Add(step) {
		since := at.Sub(started)
		if since > t.To {
			return
		}
		if since >= t.From {
			t.Ticks = append(t.Ticks, Tick{At: float64(since-t.From) / float64(span), Label: t.Clock(since)})
		}
	}
}

// Reading is what one lane shows between two moments. Shots is 0 where it was not on.
type Reading struct {
	Round         int
	Shots, Failed int64
	Rate          float64 // shots a second
	Mean, Max     float64 // of the successful ones, in seconds; NaN without any
}

// Read reads every lane off between two moments, in whole buckets of 100 ms.
func (t *Timeline) Read(from, to time.Duration) []Reading {
	const every = 100 * time.Millisecond
	out := make([]Reading, len(t.Lanes))
	for i := range t.Lanes {
		lane := &t.Lanes[i]
		read := &out[i]
		read.Mean, read.Max = math.NaN(), math.NaN()
		sum, longest, spans := 0.0, 0.0, 0
		for j := range t.heats {
			h := &t.heats[j]
			if h.Contender != lane.Name || h.State != lane.State || h.At > to || h.At+h.Wall < from {
				continue
			}
			read.Round = h.Round
			first := int(max(from-h.At, 0) / every)
			for k := first; k < len(h.Buckets) && h.At+time.Duration(k)*every <= to; k++ {
				b := h.Buckets[k]
				read.Shots += b[0]
				read.Failed += b[1]
				sum += float64(b[2]) / 1e9
				longest = max(longest, float64(b[3])/1e9)
				spans++
			}
		}
		if ok := read.Shots - read.Failed; ok > 0 {
			read.Mean, read.Max = sum/float64(ok), longest
		}
		if spans > 0 {
			read.Rate = float64(read.Shots) / (float64(spans) * every.Seconds())
		}
	}
	return out
}

// ConditionLines say what the machine was like in a heat, in a few words each; the first is about ourselves.
func ConditionLines(r *result.Result, h *result.Heat) (lines []string) {
	c := h.Conditions
	own := fmt.Sprintf("ours %s", units.Share(c.OwnFrac))
	if c.Collects > 0 {
		own += fmt.Sprintf(", collected %s, paused %s", units.Plural(int(c.Collects), "time"), units.Duration(c.Pauses))
	}
	if h.Due > 0 {
		own += fmt.Sprintf(", send lag p99 %s", units.Duration(h.LagP99))
	}
	others := fmt.Sprintf("others %s", units.Share(r.Others(h)))
	if c.OthersUnknown {
		others = "others: too short to tell"
	}
	if c.StealFrac > 0 {
		others += fmt.Sprintf(", host took %s", units.Share(c.StealFrac))
	}
	waits := fmt.Sprintf(
		"kept waiting by processors %s, disks %s, memory %s", units.Share(c.CPUPressure), units.Share(c.DiskPressure),
		units.Share(c.MemoryPressure),
	)
	machine := ""
	if c.MHz > 0 {
		machine = fmt.Sprintf("%.0f MHz", c.MHz)
	}
	if c.FreeBytes > 0 {
		machine = join(machine, units.Bytes(float64(c.FreeBytes))+" free")
	}
	if c.SwapBytes > 0 {
		machine = join(machine, units.Bytes(float64(c.SwapBytes))+" swapped")
	}
	lines = append(lines, own, others, waits)
	if machine != "" {
		lines = append(lines, machine)
	}
	for i := range r.Floor {
		if histogram, err := r.Floor[i].Histogram(); err == nil {
			lines = append(
				lines, fmt.Sprintf("floor, %s: p50 %s", r.Floor[i].Kind, units.Seconds(judge.Quantile(histogram, 0.5))),
			)
		}
	}
	return lines
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + ", " + b
}

// Window is a stretch of a run in view, and a line in it, 0 to 1 across, at which values are read off. The zero value
// is none.
type Window struct {
	From, To time.Duration
	Line     float64
}

// leastWindow is the shortest stretch that can be looked at.
const leastWindow = 20 * time.Millisecond

// Whole is the window of all heats, its line in the midst of the heat that is nearest to the middle: a place where
// there is something to read.
func Whole(heats []result.Heat) Window {
	w := Window{From: firstStart(heats), To: Length(heats), Line: 0.5}
	best := 2.0
	for i := range heats {
		if at := w.share(heats[i].At + heats[i].Wall/2); math.Abs(at-0.5) < math.Abs(best-0.5) {
			best = at
		}
	}
	w.Line = clamp(best)
	return w
}

// None reports whether there is no stretch.
func (w Window) None() bool { return w.To <= w.From }

// At is the moment at the line.
func (w Window) At() time.Duration { return w.From + time.Duration(w.Line*float64(w.To-w.From)) }

func (w Window) share(at time.Duration) float64 {
	return float64(at-w.From) / float64(max(w.To-w.From, 1))
}

// Zoom is factor times as long a stretch about the line, within the whole.
func (w Window) Zoom(factor float64, heats []result.Heat) Window {
	at := w.At()
	span := max(time.Duration(factor*float64(w.To-w.From)), leastWindow)
	next := stretchWithin(at-span/2, span, heats)
	next.Line = clamp(next.share(at))
	return next
}

// Move moves the line by a share of the stretch, and at an edge the stretch by a quarter.
func (w Window) Move(by float64, heats []result.Heat) Window {
	w.Line += by
	if w.Line >= 0 && w.Line <= 1 {
		return w
	}
	at, span := w.At(), w.To-w.From
	next := stretchWithin(w.From+time.Duration(math.Copysign(float64(span)/4, by)), span, heats)
	next.Line = clamp(next.share(at))
	return next
}

// stretchWithin is a stretch moved so that it lies within the run.
func stretchWithin(from, span time.Duration, heats []result.Heat) Window {
	first, last := firstStart(heats), Length(heats)
	span = min(span, last-first)
	from = min(max(from, first), last-span)
	return Window{From: from, To: from + span}
}

// Covers reports whether the window shows the whole run.
func (w Window) Covers(heats []result.Heat) bool {
	return w.To-w.From >= Length(heats)-firstStart(heats)
}
