// Package chart says what a picture shows, as data: who stands where, how long each bar is, where a dot lies, what the
// axis reads. Screen and paper draw the same data, so that a picture has the same scale and signs in both.
//
// Lengths and places are fractions of the room they have, 0 to 1. Nothing here knows of cells, points or colours'
// effect.
package chart

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Sign is a contender's mark: a shape and a colour for dark and light ground, the same wherever it appears. Shapes
// alone tell contenders apart.
type Sign struct {
	Glyph       string // one cell
	Dark, Light string // #rrggbb on dark and on light ground
}

var signs = [plan.MaxContenders]Sign{
	{"▲", "#6fb7e9", "#1f6fa8"},
	{"●", "#d39ae0", "#8a3f9e"},
	{"◆", "#5cc6b6", "#0f7d6d"},
	{"■", "#d2c29d", "#7b6a3b"},
	{"▼", "#96a3f5", "#4450b8"},
	{"✚", "#e3a98a", "#97552f"},
	{"★", "#b8c4cf", "#55626e"},
	{"◗", "#e2b6d1", "#8f4a70"},
}

// SignOf is the sign of the i-th contender of a plan.
func SignOf(i int) Sign { return signs[i%len(signs)] }

// SignFor is the sign of a run's contender.
func SignFor(r *result.Result, name string) Sign {
	for i, e := range r.Entrants {
		if e.Name == name {
			return SignOf(i)
		}
	}
	return SignOf(0)
}

// sideFor is the side of the entrant with a name; the zero value for none.
func sideFor(r *result.Result, name string) Side {
	for i, e := range r.Entrants {
		if e.Name == name {
			return Side{name, SignOf(i), name == r.Plan.Baseline}
		}
	}
	return Side{}
}

// Side is who stands on one side of the spine.
type Side struct {
	Name     string
	Sign     Sign
	Baseline bool
}

// Bar grows outward from the spine.
type Bar struct {
	Text      string  // the value with its unit, or why there is none
	Length    float64 // 0 to 1; 0 without a value
	Low, High float64 // where the middle half of the heats lies, 0 to 1; NaN when unknown
}

// Rung is one figure, face to face.
type Rung struct {
	Label       string
	Left, Right Bar
	Ratio       string // "3.4x", or empty
	Interval    string // "3.1 to 3.7", or empty
	Apart       string // the difference in units with its interval, or empty
	Say         string // what may be said of it
	Word        judge.Word
	Scale       int  // index of the scale that it is drawn to
	Lean        Lean // where its ratio lies
}

// Lean is a ratio with its interval and the machine's own noise, on a scale that has 1 in the middle: left of it the
// baseline is better, right of it the contender. NaN where there is none.
type Lean struct {
	At, Low, High       float64 // 0 to 1
	NoiseLow, NoiseHigh float64 // how far the baseline is from itself; NaN where that was not tried
}

// Ladder is the picture of the verdict: the rungs of a face, mirrored about a spine that carries the scale.
type Ladder struct {
	Title       string
	Sentence    string
	Left, Right Side
	Rungs       []Rung
	Scales      []Scale
	Leans       Scale // of the ratios' leans, logarithmic, from one over its Max to its Max
	Log         bool
	Note        string   // how to read it
	Conditions  []string // of the run
}

// Look is how a ladder is to be drawn.
type Look struct {
	Log bool // short bars are told apart; otherwise lengths are proportional
	All bool // every figure that was judged; otherwise those that carry the verdict
}

// NewLadder arranges the i-th face of a verdict.
func NewLadder(r *result.Result, v *judge.Verdict, i int, look Look) *Ladder {
	f := v.Faces[i]
	l := &Ladder{
		Title: r.Plan.Name, Sentence: f.Sentence, Log: look.Log,
		Left:  Side{v.Baseline, SignFor(r, v.Baseline), v.Baseline == r.Plan.Baseline},
		Right: Side{f.Contender, SignFor(r, f.Contender), f.Contender == r.Plan.Baseline},
		Note: "bars: the typical heat; shaded: the middle half of the heats; ratio: the typical round, " + sure(f.Figures) +
			" interval. " + capital(v.Note) + ".",
		Conditions: Conditions(r, v),
	}
	if versions := versionsOf(r, v.Baseline, f.Contender); versions != "" {
		l.Conditions = append(l.Conditions, versions)
	}
	var shown []judge.Assessment
	for _, a := range f.Figures {
		if a.Main || look.All {
			shown = append(shown, a)
		}
	}
	slices.SortStableFunc(shown, func(a, b judge.Assessment) int { return scaleOrder(a.Figure) - scaleOrder(b.Figure) })
	l.Leans = leanScale(shown)
	scaleOf := map[string]int{}
	noisy := false
	for _, a := range shown {
		kind := a.Figure.Row().Axis
		apart := !look.Log && farApart(shown, kind)
		if _, ok := scaleOf[kind]; !ok {
			scaleOf[kind] = len(l.Scales)
			scale := scaleFor(shown, kind, look.Log)
			if apart {
				scale = shares
			}
			l.Scales = append(l.Scales, scale)
		}
		s := scaleOf[kind]
		drawn := l.Scales[s]
		if apart {
			drawn = Scale{Max: longestOf(a)}
		}
		rung := Rung{
			Label: a.Title(), Left: bar(a.Figure, a.Baseline, drawn), Right: bar(a.Figure, a.Contender, drawn),
			Say: a.Say(), Word: a.Word, Scale: s, Lean: l.lean(a), Apart: a.Apart(),
		}
		if a.Rounds > 0 && !a.AgainstNone {
			rung.Ratio, rung.Interval = a.Factor(), a.Interval()
		}
		noisy = noisy || !math.IsNaN(a.Noise)
		l.Rungs = append(l.Rungs, rung)
	}
	if noisy {
		l.Note += " The band around 1 shows how much the baseline differs from itself."
	}
	return l
}

// Conditions are a few lines on how and when the run was made.
func Conditions(r *result.Result, v *judge.Verdict) []string {
	lines := []string{
		r.Plan.Pace.Words + ", " + units.Plural(v.Rounds, "round") + ", seed " + strconv.FormatUint(r.Seed, 10),
		r.Started.Format("2 January 2006 15:04 MST") + ", run " + r.ID + ", " + r.Host.CPU + ", " +
			units.Plural(r.Host.Cores, "core"),
	}
	if states := r.Footing.States; len(states) > 0 {
		lines = append(lines, "caches "+strings.Join(states, " and "))
	}
	return lines
}

// sure is the confidence of the intervals, for people.
func sure(figures []judge.Assessment) string {
	for _, a := range figures {
		if a.Level > 0 {
			return units.Share(a.Level)
		}
	}
	return units.Share(0.95)
}

// leanScale holds the intervals of all ratios and of the noise, 1 being in the middle.
func leanScale(as []judge.Assessment) Scale {
	furthest := 1.25
	for _, a := range as {
		for _, x := range []float64{a.Ratio, 1 / a.Ratio, a.High, 1 / a.Low, a.Noise} {
			if x > furthest && !math.IsInf(x, 0) {
				furthest = x
			}
		}
	}
	most := 1.5
	for most < furthest {
		most = nextLean(most)
	}
	s := Scale{Min: 1 / most, Max: most, Log: true}
	for _, t := range []struct {
		v     float64
		label string
	}{{1 / most, trimTimes(most)}, {1, "1"}, {most, trimTimes(most)}} {
		s.Ticks = append(s.Ticks, Tick{s.At(t.v), t.label})
	}
	return s
}

func trimTimes(x float64) string { return strconv.FormatFloat(x, 'g', 3, 64) + "x" }

// nextLean is the next end of a scale of ratios: 1.5, 2, 5, 10, 20 and so on.
func nextLean(x float64) float64 {
	if x < 2 {
		return 2
	}
	return nextStep(x)
}

func (l *Ladder) lean(a judge.Assessment) Lean {
	at := func(x float64) float64 {
		if math.IsNaN(x) {
			return x
		}
		return l.Leans.At(x)
	}
	return Lean{at(a.Ratio), at(a.Low), at(a.High), at(1 / a.Noise), at(a.Noise)}
}

// versionsOf writes the versions of the contenders that told theirs.
func versionsOf(r *result.Result, names ...string) string {
	var told []string
	for _, name := range names {
		if e := r.Entrant(name); e != nil && e.Version != "" {
			told = append(told, name+": "+e.Version)
		}
	}
	return strings.Join(told, "; ")
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return string(s[0]-'a'+'A') + s[1:]
}

// scaleOrder brings figures of one scale together; the rest of their order stays.
func scaleOrder(f figure.Name) int {
	axis := figure.Name(f.Row().Axis)
	if string(axis) == figure.P50.Row().Axis {
		return -1
	}
	return axis.Place()
}

func bar(f figure.Name, v judge.Value, s Scale) Bar {
	return Bar{Text: f.Show(v.V), Length: s.At(v.V), Low: within(s, v.Low), High: within(s, v.High)}
}

func within(s Scale, v float64) float64 {
	if math.IsNaN(v) {
		return v
	}
	return s.At(v)
}

// shares is the axis of rungs that have a scale each: bars are shares of the longest of their rung.
var shares = Scale{Max: 1, Ticks: []Tick{{0, "0"}, {1, "longest of each rung"}}}

// tooShort is how little of a shared scale the longest bar of a rung may fill before each rung has a scale of its own.
const tooShort = 1.0 / 4

// farApart reports whether figures of one axis differ so much that a scale for all of them would leave stumps of some.
func farApart(as []judge.Assessment, axis string) bool {
	least, most := math.Inf(1), 0.0
	for _, a := range as {
		if longest := longestOf(a); a.Figure.Row().Axis == axis && longest > 0 {
			least, most = min(least, longest), max(most, longest)
		}
	}
	return least < tooShort*most
}

// longestOf is the longest that a bar of a figure reaches, the middle half of the heats included.
func longestOf(a judge.Assessment) (longest float64) {
	for _, x := range []float64{a.Baseline.V, a.Baseline.High, a.Contender.V, a.Contender.High} {
		if x > longest {
			longest = x
		}
	}
	return longest
}

func scaleFor(as []judge.Assessment, kind string, log bool) Scale {
	var values []float64
	var unit units.Unit
	for _, a := range as {
		if a.Figure.Row().Axis != kind {
			continue
		}
		unit = a.Figure.Unit()
		values = append(values, a.Baseline.V, a.Baseline.High, a.Contender.V, a.Contender.High)
		if log {
			values = append(values, a.Baseline.Low, a.Contender.Low)
		}
	}
	if !slices.ContainsFunc(values, func(v float64) bool { return v > 0 }) {
		return Scale{Max: 1} // of nothing, there is no axis
	}
	if unit == units.Byte {
		return bytesScale(values, log)
	}
	return NewScale(values, log, unit.Bare)
}

// bytesScale has round numbers of the binary unit that suits its largest value.
func bytesScale(values []float64, log bool) Scale {
	unit, most := 1.0, 1.0
	for _, v := range values {
		if v > most {
			most = v
		}
	}
	for most >= 1024*unit {
		unit *= 1024
	}
	for i := range values {
		values[i] /= unit
	}
	s := NewScale(values, log, func(v float64) string { return units.Bytes(v * unit) })
	s.Min, s.Max = s.Min*unit, s.Max*unit
	return s
}

// Lanes is the picture of the rounds: a lane for each contender, time across in rounds, latency up on a log scale that
// all lanes share.
type Lanes struct {
	Scale  Scale
	Rounds int
	Lanes  []Lane
}

// Lane is the shots of one contender in one state of caches.
type Lane struct {
	Side
	State  string // empty where there is but one
	Hidden bool   // by whoever looks: it has no dots, and the scale does not heed it
	Dots   []Dot
	Heats  []Stretch // those that are finished, across the rounds
}

// Dot is one shot: X across the rounds, Y up the scale, both 0 to 1.
type Dot struct {
	X, Y   float64
	Failed bool
}

// NewLanes arranges the dots of finished heats and of the one under way, whose span so far is guessed from the heats
// before it. v, which may be nil, is the verdict as far as it goes.
func NewLanes(
	r *result.Result, v *judge.Verdict, heats []result.Heat, now *result.Heat, hidden func(cell.Cell) bool,
) *Lanes {
	all := heats
	if now != nil {
		all = append(all[:len(all):len(all)], *now)
	}
	var values []float64
	isHidden := func(name, state string) bool {
		return hidden != nil && hidden(cell.Of(name, state))
	}
	for i := range all {
		if isHidden(all[i].Contender, all[i].State) {
			continue
		}
		for _, d := range all[i].Dots {
			values = append(values, d.Latency.Seconds())
		}
	}
	l := &Lanes{Rounds: r.Plan.Rounds, Scale: NewScale(values, true, units.Seconds)}
	for i, e := range r.Entrants {
		for _, state := range r.States() {
			l.Lanes = append(l.Lanes, Lane{
				Side: Side{e.Name, SignOf(i), e.Name == r.Plan.Baseline}, State: state, Hidden: isHidden(e.Name, state),
			})
		}
	}
	for i := range all {
		h := &all[i]
		for j := range l.Lanes {
			if l.Lanes[j].Name == h.Contender && l.Lanes[j].State == h.State && !l.Lanes[j].Hidden {
				l.Lanes[j].Dots = append(l.Lanes[j].Dots, place(h, l)...)
				if i < len(heats) {
					from, to := float64(h.Round-1)/float64(l.Rounds), float64(h.Round)/float64(l.Rounds)
					l.Lanes[j].Heats = append(l.Lanes[j].Heats, stretch(h, v, l.Scale, from, to))
				}
			}
		}
	}
	return l
}

func place(h *result.Heat, l *Lanes) []Dot {
	dots := make([]Dot, 0, len(h.Dots))
	width := max(h.Wall, time.Nanosecond)
	for _, d := range h.Dots {
		across := min(max(float64(d.At-h.At)/float64(width), 0), 1)
		dots = append(dots, Dot{
			X: (float64(h.Round-1) + across) / float64(l.Rounds), Y: l.Scale.At(d.Latency.Seconds()), Failed: d.Class != "",
		})
	}
	return dots
}
