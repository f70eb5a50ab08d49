package chart

import (
	"math"

	"paceduel/core/units"
)

// Scale maps values to fractions of the room, 0 to 1.
type Scale struct {
	Min, Max float64 // Min is 0 on a linear scale
	Log      bool
	Ticks    []Tick // ascending, at 1-2-5 steps, the ends included
}

// Tick is a labelled place on a scale.
type Tick struct {
	At    float64 // 0 to 1
	Label string
}

// maxTicks is about how many a scale has.
const maxTicks = 5

// NewScale makes a scale that holds all positive finite values, widened to round numbers; show writes one with its
// unit.
func NewScale(values []float64, log bool, show func(float64) string) Scale {
	low, high := math.Inf(1), 0.0
	for _, v := range values {
		if v > 0 && !math.IsInf(v, 0) {
			low, high = min(low, v), max(high, v)
		}
	}
	if high == 0 {
		low, high = 1e-3, 1
	}
	s := Scale{Log: log}
	if log {
		s.Min, s.Max = roundDown(low/1.2), roundUp(high) // below the least, so that its bar has a length
		if s.Max/s.Min < 10 {
			s.Min = roundDown(s.Max / 10)
		}
		s.logTicks(show)
		return s
	}
	step := roundUp(high / (maxTicks - 1))
	s.Max = math.Ceil(high/step-1e-9) * step
	for v := 0.0; v <= s.Max*(1+1e-9); v += step {
		s.Ticks = append(s.Ticks, Tick{v / s.Max, units.Trim(show(v))})
	}
	return s
}

// At is where v lies; values beyond the ends lie on them, NaN at 0.
func (s Scale) At(v float64) float64 {
	if !(v > 0) {
		return 0
	}
	if s.Log {
		return clamp(math.Log(v/s.Min) / math.Log(s.Max/s.Min))
	}
	return clamp(v / s.Max)
}

func clamp(x float64) float64 { return min(max(x, 0), 1) }

func (s *Scale) logTicks(show func(float64) string) {
	var all []float64
	for v := s.Min; v <= s.Max*(1+1e-9); v = nextStep(v) {
		all = append(all, v)
	}
	isDecade := func(v float64) bool { return math.Abs(math.Log10(v)-math.Round(math.Log10(v))) < 1e-6 }
	for _, v := range all {
		if len(all) <= maxTicks+2 || isDecade(v) { // of many steps the decades alone, which stand evenly
			s.Ticks = append(s.Ticks, Tick{s.At(v), units.Trim(show(v))})
		}
	}
}

// The steps of scales are 1, 2 and 5 times powers of ten.
var steps = []float64{1, 2, 5, 10}

func roundDown(v float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for i := len(steps) - 1; i > 0; i-- {
		if steps[i]*power <= v*(1+1e-9) {
			return steps[i] * power
		}
	}
	return power
}

func roundUp(v float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, s := range steps {
		if s*power >= v*(1-1e-9) {
			return s * power
		}
	}
	return 10 * power
}

func nextStep(v float64) float64 { return roundUp(v * 1.5) }
