package chart

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Memory is what services held over a stretch of a run by the clock: a lane for each contender, all to one scale, its
// heats as stretches. Of commands it shows the peak of each heat.
type Memory struct {
	*Timeline
	Sentence   string
	Note       string
	Conditions []string
	Scale      Scale // of bytes, from 0
	Held       []MemoryLane
}

// MemoryLane is one contender in one state of caches; Side and Heats stand in the time line's lane of the same number.
type MemoryLane struct {
	Lines [][]Dot      // of each heat, from left to right
	Peaks []Dot        // of each heat
	Read  []MemoryRead // at rest, under load, at most, afterwards; none where nothing is known
}

// MemoryRead is a figure of a lane in words.
type MemoryRead struct{ Name, Text string }

// NewMemory arranges what was held between two moments; from 0 to 0 is the whole run.
func NewMemory(r *result.Result, v *judge.Verdict, heats []result.Heat, from, to time.Duration) *Memory {
	m := &Memory{
		Timeline: NewTimeline(r, v, heats, from, to, nil), Sentence: memorySentence(r, v), Conditions: Conditions(r, v),
		Note: "resident memory of the service and all that it started, read 20 times a second. Signs: the most within the " +
			"judged part of a heat, which is tinted.",
	}
	var values []float64
	for i := range heats {
		h := &heats[i]
		values = append(values, float64(h.Peak()))
		if h.Service != nil {
			for _, at := range h.Service.Moments {
				values = append(values, float64(at.Resident))
			}
		}
	}
	m.Scale = bytesScale(values, false)
	span := float64(max(m.To-m.From, 1))
	across := func(at time.Duration) float64 { return float64(at-m.From) / span }
	for i := range m.Lanes {
		l := &m.Lanes[i]
		lane := MemoryLane{}
		for j := range heats {
			h := &heats[j]
			if h.Contender != l.Name || h.State != l.State || h.At > m.To || h.At+h.Wall < m.From {
				continue
			}
			var line []Dot
			if h.Service != nil {
				for _, at := range h.Service.Moments {
					if x := across(at.At); x >= 0 && x <= 1 {
						line = append(line, Dot{X: x, Y: m.Scale.At(float64(at.Resident))})
					}
				}
			} else if h.Peak() > 0 {
				y := m.Scale.At(float64(h.Peak()))
				line = []Dot{{X: clamp(across(h.At)), Y: y}, {X: clamp(across(h.At + h.Wall)), Y: y}}
			}
			if len(line) > 0 {
				lane.Lines = append(lane.Lines, line)
			}
			if x := across(h.At + h.Wall/2); h.Peak() > 0 && x >= 0 && x <= 1 {
				lane.Peaks = append(lane.Peaks, Dot{X: x, Y: m.Scale.At(float64(h.Peak()))})
			}
		}
		lane.Read = memoryReads(r.Of(l.Name, l.State))
		m.Held = append(m.Held, lane)
	}
	return m
}

// Any reports whether anything is known.
func (m *Memory) Any() bool {
	return slices.ContainsFunc(m.Held, func(l MemoryLane) bool { return len(l.Read) > 0 })
}

// middle is the middle of some amounts.
func middle(all []int64) float64 {
	slices.Sort(all)
	return float64(all[len(all)/2])
}

// memoryReads reads the heats of a lane off.
func memoryReads(heats []*result.Heat) (out []MemoryRead) {
	var rest, load, after, shared []int64
	peak, threads, processes, swapped := int64(0), int64(0), int64(0), int64(0)
	exact, limits := true, ""
	for _, h := range heats {
		peak = max(peak, h.Peak())
		s := h.Service
		first, last, ok := s.Rest()
		if !ok {
			continue
		}
		rest, after = append(rest, first), append(after, last)
		var within []int64
		for _, at := range s.Moments {
			if at.At >= h.At && at.At <= h.At+h.Wall {
				within = append(within, at.Resident)
			}
			threads, processes, swapped = max(threads, at.Threads), max(processes, at.Processes), max(swapped, at.Swapped)
		}
		if len(within) > 0 {
			load = append(load, int64(middle(within)))
		}
		if s.Proportional > 0 {
			shared = append(shared, s.Proportional)
		}
		exact = exact && s.Exact
		limits = s.Limits
	}
	add := func(name string, all []int64) {
		if len(all) > 0 {
			out = append(out, MemoryRead{name, units.Bytes(middle(all))})
		}
	}
	add("at rest", rest)
	add("under load", load)
	if peak > 0 {
		text := units.Bytes(float64(peak))
		if len(rest) > 0 && !exact {
			text += ", looked at"
		}
		out = append(out, MemoryRead{"at most", text})
	}
	add("afterwards", after)
	add("its share", shared)
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

// ReadHeld says what each lane's service held at a moment; empty where it was not there.
func (m *Memory) ReadHeld(at time.Duration) []string {
	out := make([]string, len(m.Lanes))
	for i := range m.Lanes {
		for j := range m.heats {
			h := &m.heats[j]
			if h.Contender != m.Lanes[i].Name || h.State != m.Lanes[i].State || h.Service == nil {
				continue
			}
			all := h.Service.Moments
			if n := len(all); n == 0 || at < all[0].At || at > max(all[n-1].At, h.At+h.Wall) {
				continue
			}
			k, found := slices.BinarySearchFunc(all, at, func(m result.Moment, t time.Duration) int { return int(m.At - t) })
			if !found {
				k--
			}
			one := all[max(k, 0)]
			out[i] = fmt.Sprintf(
				"%s, %s, round %d", units.Bytes(float64(one.Resident)), units.Plural(int(one.Threads), "thread"), h.Round,
			)
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

// Heights are a lane's heights at n places across, below 0 where nothing is known. A heat has at least one place.
func (l *MemoryLane) Heights(n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = -1
	}
	place := func(x float64) int { return min(max(int(x*float64(n)), 0), n-1) }
	for _, line := range l.Lines {
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
