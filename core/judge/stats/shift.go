package stats

import "math"

// Shift is by how much the centre of one sample lies above that of another which it is not paired with.
type Shift struct{ from, to *Sample }

// NewShift is the shift from one sample to another. A nil one lies at 0, exactly.
func NewShift(from, to *Sample) *Shift { return &Shift{from, to} }

// Len is how many values the smaller sample has.
func (s *Shift) Len() int {
	n := math.MaxInt
	for _, one := range []*Sample{s.from, s.to} {
		if one != nil {
			n = min(n, one.Len())
		}
	}
	return n
}

// Centre is the difference between the centres.
func (s *Shift) Centre() float64 { return centreOf(s.to) - centreOf(s.from) }

func centreOf(s *Sample) float64 {
	if s == nil {
		return 0
	}
	return s.Centre()
}

// Interval recovers the interval of a difference from those of its two parts (G. Y. Zou and A. Donner, Statistics in
// Medicine 27 (2008) 1693): what lies between each centre and its bound is added as errors are, so that what is said of
// the two by themselves and of their difference agrees. ok is false where one of the two has no interval of that level.
func (s *Shift) Interval(alpha float64) (low, high float64, ok bool) {
	fromDown, fromUp, one := reach(s.from, alpha)
	toDown, toUp, other := reach(s.to, alpha)
	centre := s.Centre()
	return centre - math.Hypot(toDown, fromUp), centre + math.Hypot(toUp, fromDown), one && other
}

// reach is how far the interval of a sample reaches below and above its centre.
func reach(s *Sample, alpha float64) (down, up float64, ok bool) {
	if s == nil {
		return 0, 0, true
	}
	low, high, ok := s.Interval(alpha)
	return max(s.Centre()-low, 0), max(high-s.Centre(), 0), ok
}
