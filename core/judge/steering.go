package judge

import (
	"cmp"
	"math"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
)

// Needs says how much each point needs a further round: by how wide its widest interval is, less where contenders are
// far apart. By how much they are is taken from the first rounds alone, so that chance in later ones does not steer.
func Needs(r *result.Result, first int) map[cell.Point]float64 {
	const close = 1.25 // times: so near to each other, only the width counts
	needs := map[cell.Point]float64{}
	s, err := newSweep(r, false)
	if err != nil {
		return needs // it shows when the run is judged
	}
	base := s.Baseline
	for i := range r.Sweep.Points {
		at := r.Sweep.Points[i].At
		for _, name := range s.Contenders {
			for _, state := range r.States() {
				a := s.values[figureOf{s.Decides, cell.Cell{Contender: name, State: state, Point: at}}]
				b := s.values[figureOf{s.Decides, cell.Cell{Contender: base, State: state, Point: at}}]
				if name == base || a == nil || b == nil {
					continue
				}
				width, apart := widthOf(a, b), math.Abs(math.Log(ratioOf(a, b, first)))
				weight := 1.0
				if apart > math.Log(close) {
					weight = math.Log(close) / apart
				}
				if need := width * weight; !math.IsNaN(need) {
					needs[at] = max(needs[at], need)
				}
			}
		}
	}
	return needs
}

// Between is the stretch between two values of a sweep's one parameter that are next to each other, by their texts.
type Between struct{ From, To string }

// Bends lists the stretches at whose ends lines bend most or within which two of them cross, the most telling first.
// Straight ones are left out.
func Bends(r *result.Result) (out []Between) {
	s, err := newSweep(r, false)
	if err != nil || len(r.Sweep.Parameters) > 1 {
		return nil
	}
	p := &r.Sweep.Parameters[0]
	if !p.Numbers() {
		return nil
	}
	scores := map[Between]float64{}
	for i := range s.Slices {
		s.bendsOf(i, scores)
	}
	of := &s.Slices[0]
	for i := range len(of.Points) - 1 {
		if one := (Between{s.Value(of, i).Text, s.Value(of, i+1).Text}); scores[one] > 0 {
			out = append(out, one)
		}
	}
	slices.SortStableFunc(out, func(a, b Between) int { return cmp.Compare(scores[b], scores[a]) })
	return out
}

// bendsOf adds how telling the stretches of a slice are: by how much a line's straight continuation would miss, as a
// share, and as much as a crossing is worth where who is best changes.
func (s *Sweep) bendsOf(slice int, scores map[Between]float64) {
	const (
		slight   = 0.05 // a bend that nobody would mind
		crossing = 0.5
	)
	of := &s.Slices[slice]
	lines := s.lines(of, s.Decides)
	n := len(of.Points)
	at := func(i int) float64 { // on the axis as drawn
		if lines[0].Log {
			return math.Log(lines[0].X[i])
		}
		return lines[0].X[i]
	}
	stretch := func(i int) Between { return Between{s.Value(of, i).Text, s.Value(of, i+1).Text} }
	add := func(i int, score float64) {
		if i >= 0 && i+1 < n && score > slight {
			scores[stretch(i)] += score
		}
	}
	logs := make([][]float64, len(lines))
	for j, l := range lines {
		for i := range n {
			logs[j] = append(logs[j], math.Log(l.Typical(i).V))
		}
	}
	for j := range lines {
		for i := 1; i+1 < n; i++ {
			left, right := at(i)-at(i-1), at(i+1)-at(i)
			before, after := (logs[j][i]-logs[j][i-1])/left, (logs[j][i+1]-logs[j][i])/right
			if bend := math.Abs(after - before); !math.IsNaN(bend) {
				add(i-1, bend*left/2)
				add(i, bend*right/2)
			}
		}
		for k := range j {
			for i := 0; i+1 < n; i++ {
				if (logs[j][i]-logs[k][i])*(logs[j][i+1]-logs[k][i+1]) < 0 {
					add(i, crossing)
				}
			}
		}
	}
}

// logRatios are the logarithms of how two series of the same rounds differ, as far as both have a value.
func logRatios(a, b []float64) (d []float64) {
	for i := range min(len(a), len(b)) {
		if x := math.Log(a[i] / b[i]); !math.IsNaN(x) && !math.IsInf(x, 0) {
			d = append(d, x)
		}
	}
	return d
}

// widthOf is the half-width of the interval of two series' ratio, in logarithms; infinite while there is none.
func widthOf(a, b []float64) float64 {
	low, high, ok := stats.NewSample(logRatios(a, b)).Interval(level)
	if !ok {
		return math.Inf(1)
	}
	return (high - low) / 2
}

// ratioOf is the typical ratio of the first rounds that both series have; 1 without any.
func ratioOf(a, b []float64, first int) float64 {
	d := logRatios(a, b)
	if len(d) == 0 {
		return 1
	}
	return math.Exp(stats.Centre(d[:min(first, len(d))]))
}
