package chart

import (
	"math"
	"slices"
	"strings"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Meanwhile is the picture of who waits while contenders work: of each its typical heat, the work as bars, beneath them
// the waits of its bystander by when it was due, and the stretches in which nobody was let in.
type Meanwhile struct {
	Title, Sentence, Note string
	Conditions            []string
	Scale                 Scale // of the time, linear
	Waits                 Scale // of the waits, logarithmic
	Lanes                 []MeanwhileLane
}

// MeanwhileLane is one contender in one state of caches.
type MeanwhileLane struct {
	Side
	State    string
	Work     []Period
	Dots     []Dot
	Silences []Period
	Limit    float64 // 0 to 1 of the waits' scale: from there on one is held up
	Took     string  // the work
	Says     string  // the waits in few words
}

// Period is a part of the time, 0 to 1 of the scale, with what is said of it.
type Period struct {
	From, To float64
	Label    string
}

// mostSilences is how many stretches of a lane are marked, the longest.
const mostSilences = 8

// NewMeanwhile arranges who waits while the contenders work.
func NewMeanwhile(r *result.Result, v *judge.Verdict) *Meanwhile {
	p := &Meanwhile{
		Title: r.Plan.Name, Conditions: Conditions(r, v), Sentence: v.MeanwhileSentence,
		Note: "of each contender the heat whose longest silence is the middle one: its shots as bars, beneath them each " +
			"probe of the bystander where it was due, the higher the longer it waited, and the stretches in which one was " +
			"held up.",
	}
	if len(v.Meanwhile) == 0 {
		p.Sentence = "Nobody asked meanwhile: a bystander in the plan says who waits while a contender works."
		return p
	}
	heats := make([]*result.Heat, len(v.Meanwhile))
	var spans, waits []float64
	for i, m := range v.Meanwhile {
		h := typicalWaiting(r, m)
		if heats[i] = h; h == nil {
			continue
		}
		spans = append(spans, h.Bystander.Meanwhile.Span.Seconds())
		for _, d := range h.Bystander.Meanwhile.Dots {
			waits = append(waits, max(float64(d[1])/1e9, 1e-6))
		}
		waits = append(waits, m.Within)
	}
	p.Scale, p.Waits = NewScale(spans, false, units.Seconds), NewScale(waits, true, units.Seconds)
	for i, m := range v.Meanwhile {
		if heats[i] != nil {
			p.Lanes = append(p.Lanes, p.lane(r, m, heats[i]))
		}
	}
	return p
}

// Any reports whether anybody asked.
func (p *Meanwhile) Any() bool { return len(p.Lanes) > 0 }

// typicalWaiting is the heat whose longest silence is the middle one.
func typicalWaiting(r *result.Result, m *judge.Meanwhile) *result.Heat {
	var all []*result.Heat
	for _, h := range r.Of(m.Contender, m.State) {
		if h.Bystander != nil && h.Counts() {
			all = append(all, h)
		}
	}
	if len(all) == 0 {
		return nil
	}
	slices.SortStableFunc(all, func(a, b *result.Heat) int {
		return int(a.Bystander.Meanwhile.Longest - b.Bystander.Meanwhile.Longest)
	})
	return all[(len(all)-1)/2]
}

func (p *Meanwhile) lane(r *result.Result, m *judge.Meanwhile, h *result.Heat) MeanwhileLane {
	l := MeanwhileLane{
		Side: sideFor(r, m.Contender), State: m.State, Limit: p.Waits.At(m.Within), Took: units.Seconds(m.Work.V),
	}
	at := func(ns int64) float64 { return p.Scale.At(float64(ns) / 1e9) }
	for _, d := range h.Dots {
		end := int64(d.At - h.At)
		l.Work = append(l.Work, Period{From: at(max(end-int64(d.Latency), 0)), To: at(end)})
	}
	slices.SortFunc(l.Work, func(a, b Period) int { return compareFloat(a.From, b.From) })
	b := h.Bystander
	for _, d := range b.Meanwhile.Dots {
		l.Dots = append(l.Dots, Dot{X: min(at(d[0]), 0.9999), Y: min(p.Waits.At(max(float64(d[1])/1e9, 1e-6)), 0.9999)})
	}
	silences := slices.Clone(b.Meanwhile.Silences)
	slices.SortFunc(silences, func(a, b [2]int64) int { return int(b[1] - a[1]) })
	for _, s := range silences[:min(len(silences), mostSilences)] {
		l.Silences = append(l.Silences, Period{at(s[0]), at(s[0] + s[1]), units.Seconds(float64(s[1]) / 1e9)})
	}
	slices.SortFunc(l.Silences, func(a, b Period) int { return compareFloat(a.From, b.From) })
	l.Says = waitsInWords(m)
	return l
}

func compareFloat(a, b float64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// waitsInWords are the waits of a contender's bystander in few words.
func waitsInWords(m *judge.Meanwhile) string {
	var said []string
	add := func(label string, x float64) {
		if !math.IsNaN(x) {
			said = append(said, label+" "+units.Seconds(x))
		}
	}
	if !m.Ticks {
		add("waits: quiet p50", m.Quiet.V)
		add("p50", m.P50.V)
		add("p99", m.P99.V)
	}
	add("longest", m.Longest.V)
	said = append(said, "held up "+units.Share(m.HeldUp))
	if m.Missed > 0 {
		said = append(said, "missed "+units.Share(m.Missed))
	}
	return strings.Join(said, ", ")
}
