package chart

import (
	"cmp"
	"math"
	"slices"

	"paceduel/core/result"
	"paceduel/core/units"
)

// Beam is the picture of two payloads weighed against each other.
type Beam struct {
	Left, Right         Side
	LeftText, RightText string
	// Tilt is how far the beam tips, -1 to 1: positive when the left side is the heavier one. It is the logarithm of the
	// ratio, whole at 16 to 1.
	Tilt float64
	Say  string // "full ships 5.1x the bytes of slim"
}

// fullTilt is the ratio at which the beam tips as far as it can.
const fullTilt = 16

// NewBeam weighs the i-th contender's first answer against the baseline's, or the files that they wrote where neither
// answered anything; nil when there is nothing to weigh.
func NewBeam(r *result.Result, i int) *Beam {
	base, own := r.Entrant(r.Plan.Baseline), &r.Entrants[i]
	if base == nil || base.Touch == nil || own.Touch == nil || base == own {
		return nil
	}
	weight, text := func(t *result.Touch) int64 { return t.Bytes }, payload
	if base.Touch.Bytes == 0 && own.Touch.Bytes == 0 {
		// What says nothing may well have written files.
		weight = func(t *result.Touch) int64 {
			if t.Changes == nil {
				return 0
			}
			return t.Changes.Bytes
		}
		text = func(t *result.Touch) string { return units.Bytes(float64(weight(t))) + " in files" }
		if weight(base.Touch) == 0 && weight(own.Touch) == 0 {
			return nil
		}
	}
	b := &Beam{
		Left: Side{base.Name, SignFor(r, base.Name), true}, Right: Side{own.Name, SignOf(i), false},
		LeftText: text(base.Touch), RightText: text(own.Touch),
	}
	l, o := float64(weight(base.Touch)), float64(weight(own.Touch))
	switch {
	case l == o:
		b.Say = "the same number of bytes"
	case l == 0 || o == 0:
		heavy, light := base.Name, own.Name
		b.Tilt = 1
		if l == 0 {
			heavy, light, b.Tilt = light, heavy, -1
		}
		b.Say = heavy + " ships bytes, " + light + " ships none"
	default:
		b.Tilt = max(min(math.Log(l/o)/math.Log(fullTilt), 1), -1)
		heavy, light, ratio := base.Name, own.Name, l/o
		if ratio < 1 {
			heavy, light, ratio = light, heavy, 1/ratio
		}
		if ratio < 1.01 {
			b.Say = "nearly the same number of bytes"
			break
		}
		b.Say = heavy + " ships " + units.Times(ratio) + " the bytes of " + light
	}
	return b
}

// payload is an answer's size, and what it was before it was encoded.
func payload(t *result.Touch) string {
	text := units.Bytes(float64(t.Bytes))
	if t.Decoded > 0 && t.Decoded != t.Bytes {
		text += " of " + units.Bytes(float64(t.Decoded)) + ", " + t.Encoding
	}
	return text
}

// Weight is one part of two answers, face to face.
type Weight struct {
	Path        string
	Left, Right Bar
	Lacks       int // -1 when the left side lacks it, 1 when the right one does
}

// Weights are what two answers are made of.
type Weights struct {
	Body, Headers           []Weight
	BodyScale, HeadersScale Scale
}

// maxWeights bounds the rows of body and headers.
const maxWeights = 10

// NewWeights puts the parts of the baseline's first answer and the i-th contender's face to face, the heaviest first.
func NewWeights(r *result.Result, i int) *Weights {
	base, own := r.Entrant(r.Plan.Baseline), &r.Entrants[i]
	if base == nil || base.Touch == nil || own.Touch == nil {
		return nil
	}
	w := &Weights{}
	w.Body, w.BodyScale = facing(base.Touch.Parts, own.Touch.Parts)
	w.Headers, w.HeadersScale = facing(base.Touch.Heads, own.Touch.Heads)
	if len(w.Body) == 0 && len(w.Headers) == 0 {
		return nil
	}
	return w
}

func facing(left, right []result.Part) ([]Weight, Scale) {
	type pair struct{ l, r float64 } // NaN: lacks it
	pairs := map[string]pair{}
	for _, p := range left {
		pairs[p.Path] = pair{float64(p.Bytes), math.NaN()}
	}
	for _, p := range right {
		both := pair{math.NaN(), float64(p.Bytes)}
		if old, ok := pairs[p.Path]; ok {
			both.l = old.l
		}
		pairs[p.Path] = both
	}
	paths := make([]string, 0, len(pairs))
	for path := range pairs {
		paths = append(paths, path)
	}
	heavy := func(path string) float64 { p := pairs[path]; return math.Max(zero(p.l), zero(p.r)) }
	slices.SortFunc(paths, func(a, b string) int { return cmp.Or(cmp.Compare(heavy(b), heavy(a)), cmp.Compare(a, b)) })
	// What is too light for a row of its own goes into one row, on both sides alike.
	if _, folded := pairs[others]; folded || len(paths) > maxWeights {
		paths = slices.DeleteFunc(paths, func(p string) bool { return p == others })
		keep := min(len(paths), maxWeights-1)
		rest := pairs[others]
		if !folded {
			rest = pair{math.NaN(), math.NaN()}
		}
		for _, path := range paths[keep:] {
			rest = pair{sum(rest.l, pairs[path].l), sum(rest.r, pairs[path].r)}
		}
		pairs[others] = rest
		paths = append(paths[:keep], others)
	}
	var values []float64 // of the rows as they are shown
	for _, path := range paths {
		values = append(values, pairs[path].l, pairs[path].r)
	}
	scale := bytesScale(values, false)
	bar := func(v float64, there bool) Bar {
		b := Bar{Text: "lacks it", Low: math.NaN(), High: math.NaN()}
		if !math.IsNaN(v) {
			b.Text, b.Length = units.Bytes(v), scale.At(v)
		} else if !there {
			b.Text = units.None
		}
		return b
	}
	var out []Weight
	for _, path := range paths {
		p := pairs[path]
		w := Weight{Path: path, Left: bar(p.l, len(left) > 0), Right: bar(p.r, len(right) > 0)}
		switch {
		case math.IsNaN(p.l) && len(left) > 0:
			w.Lacks = -1
		case math.IsNaN(p.r) && len(right) > 0:
			w.Lacks = 1
		}
		if path == "" {
			w.Path = "{ } [ ] ,"
		}
		out = append(out, w)
	}
	return out, scale
}

// others is the path of what is put together.
const others = "other"

// sum adds what is there of two.
func sum(a, b float64) float64 {
	switch {
	case math.IsNaN(a):
		return b
	case math.IsNaN(b):
		return a
	}
	return a + b
}

func zero(v float64) float64 {
	if math.IsNaN(v) {
		return 0
	}
	return v
}
