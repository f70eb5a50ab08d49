package chart

import (
	"fmt"
	"math"
	"strconv"

	"paceduel/core/cell"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Stretched is the part of a scale that is in view, both ends 0 to 1. The zero value is all of it.
type Stretched struct{ From, To float64 }

// least is the smallest part of a scale that can be looked at.
const least = 0.01

func (s Stretched) all() bool { return s.To <= s.From }

// Zoom returns the part that is factor times as long about a place in it, 0 to 1.
func (s Stretched) Zoom(factor, at float64) Stretched {
	if s.all() {
		s = Stretched{0, 1}
	}
	length := min(max((s.To-s.From)*factor, least), 1)
	centre := s.From + at*(s.To-s.From)
	from := min(max(centre-at*length, 0), 1-length)
	if length == 1 {
		return Stretched{}
	}
	return Stretched{from, from + length}
}

// Shape is the distribution of latencies of several sides on one scale.
type Shape struct {
	Title, Sentence string
	Log             bool
	Scale           Scale // of latencies: what is in view of it
	Sides           []ShapeSide
	Shares          Scale // of the tail: the share of shots that take longer, logarithmic, 1 at its top
	Note            string
	Conditions      []string
}

// ShapeSide is one contender in one state of caches.
type ShapeSide struct {
	Side
	State     string
	Latencies *judge.Latencies
	Marks     []ShapeMark // percentiles that its shots are enough for
}

// ShapeMark is a percentile with where it lies.
type ShapeMark struct {
	Label string
	Q     float64
	At    float64 // on the scale in view; below 0 or above 1 outside
	Text  string
}

// markedQuantiles are those that are marked on a shape.
var markedQuantiles = []struct {
	label string
	q     float64
}{{"p50", 0.5}, {"p90", 0.9}, {"p99", 0.99}, {"p99.9", 0.999}}

// enoughBeyond is how many shots have to lie beyond a percentile for it to be marked.
const enoughBeyond = 5

// NewShape arranges the latencies of these sides on one scale, of which part is in view. Those without shots are left
// out.
func NewShape(r *result.Result, v *judge.Verdict, keys []cell.Cell, log bool, part Stretched) *Shape {
	s := &Shape{
		Title: r.Plan.Name, Log: log, Conditions: Conditions(r, v),
		Note: "all shots of the rounds that count, failures and warm-up apart",
	}
	low, high, most := math.Inf(1), 0.0, int64(1)
	for _, k := range keys {
		l := v.Latencies[k]
		if l.Shots() == 0 {
			continue
		}
		side := ShapeSide{Side: Side{k.Contender, SignFor(r, k.Contender), k.Contender == r.Plan.Baseline}, Latencies: l}
		if len(r.States()) > 1 {
			side.State = k.State
		}
		a, b := l.Ends()
		low, high, most = min(low, a), max(high, b), max(most, l.Shots())
		s.Sides = append(s.Sides, side)
	}
	if len(s.Sides) == 0 {
		low, high = 1e-3, 1
	}
	s.Scale = within01(low, high, log, part)
	s.Shares = Scale{Min: math.Pow(10, -math.Ceil(math.Log10(float64(most))-1e-9)), Max: 1, Log: true}
	if s.Shares.Min > 0.1 {
		s.Shares.Min = 0.1
	}
	for x := s.Shares.Min; x <= 1.0001; x *= 10 {
		s.Shares.Ticks = append(s.Shares.Ticks, Tick{s.Shares.At(x), strconv.FormatFloat(x*100, 'g', 3, 64) + " %"})
	}
	for i := range s.Sides {
		side := &s.Sides[i]
		for _, m := range markedQuantiles {
			if float64(side.Latencies.Shots())*(1-m.q) < enoughBeyond {
				continue
			}
			x := side.Latencies.Quantile(m.q)
			side.Marks = append(side.Marks, ShapeMark{m.label, m.q, s.Scale.Place(x), units.Seconds(x)})
		}
	}
	s.Sentence = s.sentence()
	return s
}

// sentence says where the middle and the tail of all sides lie, as far out as all have shots for.
func (s *Shape) sentence() string {
	if len(s.Sides) == 0 {
		return "There is nothing to show how it is distributed."
	}
	marks := len(s.Sides[0].Marks)
	for i := range s.Sides {
		marks = min(marks, len(s.Sides[i].Marks))
	}
	if marks == 0 {
		return "There are too few shots to show how they are distributed."
	}
	at := func(m int) string {
		var each []string
		for i := range s.Sides {
			text := s.Sides[i].Marks[m].Text
			if m == 0 {
				text += " with " + s.Sides[i].Title()
			}
			each = append(each, text)
		}
		return units.List(each)
	}
	text := "Half of the shots take up to " + at(0)
	if marks > 1 {
		last := marks - 1
		text += fmt.Sprintf("; %s of them up to %s", units.Share(s.Sides[0].Marks[last].Q), at(last))
	}
	return text + "."
}

// Title names a side for people.
func (s *ShapeSide) Title() string {
	if s.State == "" {
		return s.Name
	}
	return s.Name + " " + s.State
}

// within01 is the part of a scale between two values that is in view.
func within01(low, high float64, log bool, part Stretched) Scale {
	whole := NewScale([]float64{low, high}, log, units.Seconds)
	if log { // exactly what there is, and a little room
		whole.Min, whole.Max = low/1.05, high*1.05
	} else {
		whole.Min = 0
	}
	if part.all() {
		part = Stretched{0, 1}
	}
	s := Scale{Log: log, Min: whole.Value(part.From), Max: whole.Value(part.To)}
	s.ticksWithin()
	return s
}

// Value is what lies at a place of the scale, the reverse of At.
func (s Scale) Value(at float64) float64 {
	if s.Log {
		return s.Min * math.Pow(s.Max/s.Min, at)
	}
	return s.Min + at*(s.Max-s.Min)
}

// Place is where v lies, below 0 or above 1 where that is outside.
func (s Scale) Place(v float64) float64 {
	if s.Log {
		return math.Log(v/s.Min) / math.Log(s.Max/s.Min)
	}
	return (v - s.Min) / (s.Max - s.Min)
}

// ticksWithin puts ticks at round values within a scale whose ends are not round.
func (s *Scale) ticksWithin() {
	s.Ticks = nil
	add := func(v float64) {
		if at := s.Place(v); at >= -1e-9 && at <= 1+1e-9 {
			s.Ticks = append(s.Ticks, Tick{clamp(at), units.Trim(units.Seconds(v))})
		}
	}
	if s.Log && s.Max/s.Min > 4 {
		only1 := s.Max/s.Min > 300
		for v := roundDown(s.Min); v <= s.Max*1.0001; v = nextStep(v) {
			if decade := math.Abs(math.Log10(v)-math.Round(math.Log10(v))) < 1e-6; decade || !only1 {
				add(v)
			}
		}
		return
	}
	step := roundUp((s.Max - s.Min) / maxTicks)
	for v := math.Ceil(s.Min/step-1e-9) * step; v <= s.Max*(1+1e-9); v += step {
		if v > 0 || !s.Log {
			add(v)
		}
	}
}

// Bins are the shares of a side's shots in n equal parts of the scale in view, relative to the fullest bin of all
// sides.
func (s *Shape) Bins(n int) [][]float64 {
	out := make([][]float64, len(s.Sides))
	most := 0.0
	for i := range s.Sides {
		out[i] = make([]float64, n)
		before := s.Sides[i].Latencies.UpTo(s.Scale.Value(0) * (1 - 1e-9))
		for b := range n {
			upTo := s.Sides[i].Latencies.UpTo(s.Scale.Value(float64(b+1) / float64(n)))
			out[i][b] = upTo - before
			before = upTo
			most = max(most, out[i][b])
		}
	}
	if most > 0 {
		for i := range out {
			for b := range out[i] {
				out[i][b] /= most
			}
		}
	}
	return out
}

// Curve is a side's cumulative share at n places along the scale in view, and the place of the share beyond on the
// scale of the tail; both are below 0 where nothing has come yet, the latter also where nothing lies beyond.
func (s *Shape) Curve(side, n int) (upTo, beyond []float64) {
	l := s.Sides[side].Latencies
	for i := range n {
		x := l.UpTo(s.Scale.Value((float64(i) + 0.5) / float64(n)))
		place := -1.0
		if x > 0 && x < 1 {
			place = clamp(s.Shares.Place(1 - x))
		}
		if x == 0 {
			x = -1
		}
		upTo = append(upTo, x)
		beyond = append(beyond, place)
	}
	return upTo, beyond
}

// ReadOff says what lies at a place of the scale in view: the latency, and for each side the share of shots up to it
// and how many take longer.
func (s *Shape) ReadOff(at float64) (latency string, each []string) {
	x := s.Scale.Value(at)
	for i := range s.Sides {
		l := s.Sides[i].Latencies
		share := l.UpTo(x)
		longer := int64(math.Round((1 - share) * float64(l.Shots())))
		each = append(each, fmt.Sprintf("%s up to it, %s longer", percentile(share), units.Count(longer)))
	}
	return units.Seconds(x), each
}

// percentile writes a share so that 99.9 % and 99.99 % are told apart.
func percentile(share float64) string {
	switch {
	case share >= 1:
		return "100 %"
	case share > 0.99:
		return fmt.Sprintf("%.4g %%", math.Floor(share*100*10000)/10000)
	}
	return units.Share(share)
}
