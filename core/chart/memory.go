package chart

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Quantity is what is shown over time.
type Quantity int

// The quantities. All but memory are a second.
const (
	HeldMemory Quantity = iota
	UsedProcessors
	ReadBytes
	WrittenBytes
)

// at is the quantity between a moment and the one before it; ok is false where it is not known.
func (q Quantity) at(before, m *result.Moment) (v float64, ok bool) {
	if q == HeldMemory {
		return float64(m.Resident), m.Resident > 0
	}
	took := (m.At - before.At).Seconds()
	if before == m || took <= 0 {
		return 0, false
	}
	var used float64
	switch q {
	case UsedProcessors:
		used = (m.CPU - before.CPU).Seconds()
	case ReadBytes:
		used = float64(m.Read - before.Read)
	case WrittenBytes:
		used = float64(m.Written - before.Written)
	}
	return used / took, used >= 0 // what falls is of another process
}

// scale holds values of the quantity.
func (q Quantity) scale(values []float64) Scale {
	switch q {
	case HeldMemory:
		return bytesScale(values, false)
	case UsedProcessors:
		return NewScale(values, false, func(v float64) string { return strconv.FormatFloat(v, 'g', 3, 64) })
	}
	s := bytesScale(values, false)
	for i := range s.Ticks {
		s.Ticks[i].Label += "/s"
	}
	return s
}

// show writes a value of the quantity.
func (q Quantity) show(v float64) string {
	switch q {
	case HeldMemory:
		return units.Bytes(v)
	case UsedProcessors:
		return units.Significant(v)
	}
	return units.Bytes(v) + "/s"
}

// note says how its picture is to be read.
func (q Quantity) note() string {
	const folded = ", round by round: what lies between heats is left out"
	switch q {
	case HeldMemory:
		return "resident memory of the service, or of runs over a second, and of all that they started, read 20 times a " +
			"second" + folded + ". Signs: the most within the judged part of a heat, which is tinted; straight lines: how it " +
			"grew in the second half."
	case UsedProcessors:
		return "processors used by the service, or by runs over a second, and by all that they started: CPU time for each " +
			"second" + folded + "."
	case ReadBytes:
		return "bytes that the service, or runs over a second, asked to be read each second, wherever from" + folded + "."
	}
	return "bytes that the service, or runs over a second, asked to be written each second, wherever to" + folded + "."
}

// Memory is what services and long runs held and used over the rounds: a lane for each contender, all to one scale.
// What lies between its heats is folded away, so that a heat is wide enough to be read, and the same round of all
// stands in one place. Of the memory of short runs it shows the peak of each heat.
type Memory struct {
	What       Quantity
	Sentence   string
	Note       string
	Conditions []string
	Scale      Scale // of bytes, from 0
	Lanes      []MemoryLane
	Ticks      []Tick // rounds
	View       RoundWindow

	heats []result.Heat
}

// MemoryLane is one contender in one state of caches.
type MemoryLane struct {
	Side
	State  string
	Heats  []Stretch    // their judged parts
	Lines  [][]Dot      // of each heat, from left to right
	Growth [][]Dot      // of each heat, from its middle to its end, where there is enough to tell growth from
	Peaks  []Dot        // of each heat
	Read   []MemoryRead // at rest, under load, at most, afterwards; none where nothing is known
}

// MemoryRead is a figure of a lane in words.
type MemoryRead struct{ Name, Text string }

// NewMemory arranges a quantity over the rounds in view; the empty view is that of all rounds.
func NewMemory(r *result.Result, v *judge.Verdict, heats []result.Heat, view RoundWindow, what Quantity) *Memory {
	if view.None() {
		view = AllRounds(heats)
	}
	m := &Memory{What: what, View: view, heats: heats, Conditions: Conditions(r, v), Note: what.note()}
	var values []float64
	for i := range heats {
		if what == HeldMemory {
			values = append(values, float64(heats[i].Peak()))
		}
		m.each(&heats[i], func(_ time.Duration, x float64) { values = append(values, x) })
	}
	m.Scale = what.scale(values)
	for i, e := range r.Entrants {
		for _, state := range r.States() {
			lane := MemoryLane{Side: Side{e.Name, SignOf(i), e.Name == r.Plan.Baseline}, State: state}
			for j := range heats {
				if heats[j].Cell == cell.Of(e.Name, state) {
					lane.enter(&heats[j], m)
				}
			}
			if what == HeldMemory {
				lane.Read = memoryReads(r.Of(e.Name, state))
				if grows := growthOf(v, i, state); grows != "" && len(lane.Read) > 0 {
					lane.Read = append(lane.Read, MemoryRead{"1 000 shots", grows})
				}
			} else {
				lane.Read = m.usedReads(heats, cell.Of(e.Name, state))
			}
			m.Lanes = append(m.Lanes, lane)
		}
	}
	m.Ticks = view.ticks()
	if m.Sentence = memorySentence(r, v); what != HeldMemory {
		m.Sentence = m.usedSentence()
	}
	return m
}

// moments are what is known of a heat over time: of its service, or of its long runs.
func moments(h *result.Heat) []result.Moment {
	if h.Service != nil {
		return h.Service.Moments
	}
	return h.Course
}

// each walks through the quantity over a heat's time.
func (m *Memory) each(h *result.Heat, visit func(at time.Duration, x float64)) {
	all := moments(h)
	for i := range all {
		x, ok := m.What.at(&all[max(i-1, 0)], &all[i])
		if ok {
			visit(all[i].At, x)
		}
	}
}

// usedReads are the middle and the most of what a lane used.
func (m *Memory) usedReads(heats []result.Heat, of cell.Cell) []MemoryRead {
	var all []float64
	for i := range heats {
		if heats[i].Cell == of {
			m.each(&heats[i], func(_ time.Duration, x float64) { all = append(all, x) })
		}
	}
	if len(all) == 0 {
		return nil
	}
	return []MemoryRead{{"median", m.What.show(stats.Median(all))}, {"at most", m.What.show(slices.Max(all))}}
}

// usedSentence says what each contender used in the middle.
func (m *Memory) usedSentence() string {
	verb := map[Quantity]string{UsedProcessors: "uses", ReadBytes: "reads", WrittenBytes: "writes"}[m.What]
	var said []string
	for i := range m.Lanes {
		if l := &m.Lanes[i]; len(l.Read) > 0 {
			text := title(l.Name, l.State) + " " + verb + " " + l.Read[0].Text
			if m.What == UsedProcessors {
				text += " processors"
			}
			said = append(said, text)
		}
	}
	if len(said) == 0 {
		return "Nothing is known over time: the contenders have no services of their own, and none of their runs lasts for " +
			"over a second."
	}
	return "At the median moment " + units.List(said) + "."
}

// enter draws a heat, as far as it is in view.
func (l *MemoryLane) enter(h *result.Heat, m *Memory) {
	f := foldOf(h, m.View)
	if f.at(h.At) > 1 || f.at(h.At+h.Wall) < 0 {
		return
	}
	height := func(bytes int64) float64 { return m.Scale.At(float64(bytes)) }
	l.Heats = append(l.Heats, Stretch{
		Round: h.Round, From: clamp(f.at(h.At)), To: clamp(f.at(h.At + h.Wall)), P50: math.NaN(), P99: math.NaN(),
	})
	var line []Dot
	m.each(h, func(at time.Duration, v float64) {
		x := f.at(at)
		if begin := f.at(moments(h)[0].At); len(line) == 0 && begin >= 0 && x <= 1 {
			line = append(line, Dot{X: begin, Y: m.Scale.At(v)}) // what is told of a second holds from its start on
		}
		if x >= 0 && x <= 1 {
			line = append(line, Dot{X: x, Y: m.Scale.At(v)})
		}
	})
	if m.What != HeldMemory {
		if len(line) > 0 {
			l.Lines = append(l.Lines, line)
		}
		return
	}
	if h.Service != nil {
		if _, ok := h.Grown(); ok {
			all := h.Service.Moments
			mid, last := &all[len(all)/2], &all[len(all)-1]
			if from, to := f.at(mid.At), f.at(last.At); from >= 0 && to <= 1 {
				l.Growth = append(l.Growth, straight(Dot{X: from, Y: height(mid.Resident)}, Dot{X: to, Y: height(last.Resident)}))
			}
		}
	} else if len(line) == 0 && h.Peak() > 0 {
		y := height(h.Peak())
		line = []Dot{{X: clamp(f.at(h.At)), Y: y}, {X: clamp(f.at(h.At + h.Wall)), Y: y}}
	}
	if len(line) > 0 {
		l.Lines = append(l.Lines, line)
	}
	if x := f.at(h.At + h.Wall/2); h.Peak() > 0 && x >= 0 && x <= 1 {
		l.Peaks = append(l.Peaks, Dot{X: x, Y: height(h.Peak())})
	}
}

// straight is a line from one place to another, in steps that are close enough for any canvas.
func straight(from, to Dot) (line []Dot) {
	const steps = 32
	for i := range steps + 1 {
		share := float64(i) / steps
		line = append(line, Dot{X: from.X + share*(to.X-from.X), Y: from.Y + share*(to.Y-from.Y)})
	}
	return line
}

// growthOf is what the scorecard says of a contender's growth; empty where nothing.
func growthOf(v *judge.Verdict, contender int, state string) string {
	for _, row := range v.Scorecard {
		if row.IsGrowth(state) && row.Values[contender] != units.None {
			text, _, _ := strings.Cut(row.Values[contender], " (")
			return "+" + text
		}
	}
	return ""
}

// fold lays a heat, from the first moment of its service to the last, into the place of its round.
type fold struct {
	begin, span time.Duration
	round       float64 // where its round begins, from 0
	view        RoundWindow
}

// slotGap is the part of a round's place that is left empty on each side.
const slotGap = 0.04

func foldOf(h *result.Heat, view RoundWindow) fold {
	begin, end := h.At, h.At+h.Wall
	if all := moments(h); len(all) > 0 {
		begin, end = min(begin, all[0].At), max(end, all[len(all)-1].At)
	}
	return fold{begin, max(end-begin, 1), float64(h.Round - 1), view}
}

// at is where a moment lies in view: 0 to 1, beyond that out of it.
func (f fold) at(t time.Duration) float64 {
	within := slotGap + (1-2*slotGap)*float64(t-f.begin)/float64(f.span)
	return (f.round + within - f.view.From) / (f.view.To - f.view.From)
}

// moment is what lies at a place of the whole, counted in rounds; ok is false between heats.
func (f fold) moment(at float64) (t time.Duration, ok bool) {
	within := (at - f.round - slotGap) / (1 - 2*slotGap)
	return f.begin + time.Duration(within*float64(f.span)), within >= 0 && within <= 1
}

// RoundWindow is a stretch of rounds, counted from 0, and where in it values are read off, 0 to 1.
type RoundWindow struct{ From, To, Line float64 }

// leastRounds is the shortest stretch of rounds that can be looked at.
const leastRounds = 0.1

// AllRounds is the window of all rounds, its line in the midst of the middle one.
func AllRounds(heats []result.Heat) RoundWindow {
	last := 0
	for i := range heats {
		last = max(last, heats[i].Round)
	}
	if last == 0 {
		return RoundWindow{}
	}
	return RoundWindow{0, float64(last), (float64((last-1)/2) + 0.5) / float64(last)}
}

// None reports whether there is no stretch.
func (w RoundWindow) None() bool { return w.To <= w.From }

// At is the place of the line, in rounds from 0.
func (w RoundWindow) At() float64 { return w.From + w.Line*(w.To-w.From) }

// Zoom is factor times as long a stretch about the line, within all rounds.
func (w RoundWindow) Zoom(factor float64, heats []result.Heat) RoundWindow {
	return w.within(w.At()-max(factor*(w.To-w.From), leastRounds)/2, max(factor*(w.To-w.From), leastRounds), w.At(), heats)
}

// Move moves the line by a share of the stretch, and at an edge the stretch by a quarter.
func (w RoundWindow) Move(by float64, heats []result.Heat) RoundWindow {
	w.Line += by
	if w.Line >= 0 && w.Line <= 1 {
		return w
	}
	span := w.To - w.From
	return w.within(w.From+math.Copysign(span/4, by), span, w.At(), heats)
}

func (w RoundWindow) within(from, span, at float64, heats []result.Heat) RoundWindow {
	whole := AllRounds(heats)
	span = min(span, whole.To)
	from = min(max(from, 0), whole.To-span)
	return RoundWindow{from, from + span, clamp((at - from) / span)}
}

// ticks number the rounds in view where they begin.
func (w RoundWindow) ticks() (out []Tick) {
	const most = 20
	step := max(int(math.Ceil((w.To-w.From)/most)), 1)
	for round := int(math.Ceil(w.From)); float64(round) < w.To; round++ {
		if round%step == 0 {
			label := strconv.Itoa(round + 1)
			if len(out) == 0 {
				label = "round " + label
			}
			out = append(out, Tick{(float64(round) - w.From) / (w.To - w.From), label})
		}
	}
	return out
}

// Any reports whether anything is known.
func (m *Memory) Any() bool {
	return slices.ContainsFunc(m.Lanes, func(l MemoryLane) bool { return len(l.Read) > 0 })
}

// memoryReads reads the heats of a lane off.
func memoryReads(heats []*result.Heat) (out []MemoryRead) {
	var rest, load, after, shared []float64
	peak, threads, processes, swapped := int64(0), int64(0), int64(0), int64(0)
	exact, limits := true, ""
	for _, h := range heats {
		peak = max(peak, h.Peak())
		for _, at := range h.Course {
			peak, exact = max(peak, at.Resident), false
			threads, processes, swapped = max(threads, at.Threads), max(processes, at.Processes), max(swapped, at.Swapped)
		}
		s := h.Service
		first, last, ok := s.Rest()
		if !ok {
			continue
		}
		rest, after = append(rest, float64(first)), append(after, float64(last))
		var within []float64
		for _, at := range s.Moments {
			if at.At >= h.At && at.At <= h.At+h.Wall {
				within = append(within, float64(at.Resident))
			}
			threads, processes, swapped = max(threads, at.Threads), max(processes, at.Processes), max(swapped, at.Swapped)
		}
		if len(within) > 0 {
			load = append(load, stats.Median(within))
		}
		if s.Proportional > 0 {
			shared = append(shared, float64(s.Proportional))
		}
		exact = exact && s.Exact
		limits = s.Limits
	}
	add := func(name string, all []float64) {
		if len(all) > 0 {
			out = append(out, MemoryRead{name, units.Bytes(stats.Median(all))})
		}
	}
	add("at rest", rest)
	add("under load", load)
	if peak > 0 {
		text := units.Bytes(float64(peak))
		if !exact {
			text += ", looked at"
		}
		out = append(out, MemoryRead{"at most", text})
	}
	add("afterwards", after)
	add("shared out", shared)
	if swapped > 0 {
		out = append(out, MemoryRead{"swapped", units.Bytes(float64(swapped))})
	}
	if threads > 0 {
		text := units.Count(threads)
		if processes > 1 {
			text += fmt.Sprintf(" in %s", units.Plural(int(processes), "process"))
		}
		out = append(out, MemoryRead{"threads", text})
	}
	if limits != "" {
		out = append(out, MemoryRead{"limits", limits})
	}
	return out
}

// ReadHeld says what each lane's service held at the line; empty where it was not there.
func (m *Memory) ReadHeld() []string {
	out := make([]string, len(m.Lanes))
	at := m.View.At()
	for i := range m.Lanes {
		for j := range m.heats {
			h := &m.heats[j]
			if h.Cell != cell.Of(m.Lanes[i].Name, m.Lanes[i].State) || h.Round != int(at)+1 {
				continue
			}
			t, ok := foldOf(h, m.View).moment(at)
			if all := moments(h); ok && len(all) > 0 {
				k, found := slices.BinarySearchFunc(all, t, func(m result.Moment, t time.Duration) int { return int(m.At - t) })
				if !found {
					k--
				}
				k = max(k, 0)
				x, known := m.What.at(&all[max(k-1, 0)], &all[k])
				if !known {
					continue
				}
				out[i] = m.What.show(x)
				if m.What == HeldMemory {
					out[i] += ", " + units.Plural(int(all[k].Threads), "thread")
				}
			}
		}
	}
	return out
}

// memorySentence says who holds how much, as against the baseline.
func memorySentence(r *result.Result, v *judge.Verdict) string {
	var all []string
	for i := range v.Faces {
		f := &v.Faces[(v.Best+i)%len(v.Faces)]
		for _, a := range f.Figures {
			if a.Figure != figure.Memory {
				continue
			}
			who := title(f.Contender, a.State)
			switch a.Word {
			case judge.Better, judge.Worse:
				word := map[judge.Word]string{judge.Better: "less", judge.Worse: "more"}[a.Word]
				all = append(all, fmt.Sprintf(
					"At its peak %s holds %s in the typical heat, %s %s than %s (%s).", who, a.Figure.Show(a.Contender.V), a.Factor(),
					word, v.Baseline,
					a.Interval(),
				))
			case judge.Alike:
				all = append(
					all, fmt.Sprintf("%s holds no more and no less than %s, %s.", who, v.Baseline, a.Figure.Show(a.Contender.V)),
				)
			default:
				all = append(all, fmt.Sprintf(
					"Whether %s holds more than %s is still open: %s and %s at the peak of the typical heat.", who, v.Baseline,
					a.Figure.Show(a.Contender.V),
					a.Figure.Show(a.Baseline.V),
				))
			}
		}
	}
	if len(all) > 3 {
		all = append(all[:3], "…")
	}
	if len(all) == 0 {
		return "Nothing is known of memory: the contenders have no services of their own that last for a heat, and start " +
			"no processes."
	}
	return strings.Join(all, " ")
}

// Heights are the heights of lines at n places across, below 0 where nothing is known. A line has at least one place.
func Heights(lines [][]Dot, n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = -1
	}
	place := func(x float64) int { return min(max(int(x*float64(n)), 0), n-1) }
	for _, line := range lines {
		for i, d := range line {
			to := place(d.X)
			if i+1 < len(line) {
				to = max(place(line[i+1].X)-1, to)
			}
			for at := place(d.X); at <= to; at++ {
				out[at] = max(out[at], d.Y) // of several that fall together, the highest
			}
		}
	}
	return out
}
