package curve

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"paceduel/core/judge/stats"
)

// Kind is a law of growth.
type Kind string

// The laws. In all of them N is the parameter.
const (
	// Steady is one value at every N.
	Steady Kind = "steady"
	// Each is a fixed part and a part for each: a + b·N.
	Each Kind = "fixed and each"
	// Power is c·N^k.
	Power Kind = "power"
	// Scaling is the scalability law with contention α and coherency β (N. J. Gunther 1993) of a throughput:
	// N/X(N) = (1 + α(N-1) + βN(N-1))/γ.
	Scaling Kind = "scaling"
	// Shared is the same of a time in which N together do a given amount of work: N·T(N) = (1 + α(N-1) + βN(N-1))/γ.
	Shared Kind = "scaling of shared work"
	// Crowded is the same of a time that each of N takes for work of its own: T(N) = (1 + α(N-1) + βN(N-1))/γ.
	Crowded Kind = "scaling of own work"
)

// Grows says what a parameter counts, as far as laws go.
type Grows int

// What a parameter may count.
const (
	Things Grows = iota // items, bytes
	AtOnce              // threads, clients
)

// Params names the parameters of a law, in their order.
func (k Kind) Params() []string {
	switch k {
	case Steady:
		return []string{"value"}
	case Each:
		return []string{"fixed", "each"}
	case Power:
		return []string{"at 1", "power"}
	}
	return []string{"at 1", "contention", "coherency"}
}

// Scales reports whether a law is the scalability law in one of its forms.
func (k Kind) Scales() bool { return k == Scaling || k == Shared || k == Crowded }

// value is a law at n.
func (k Kind) value(p []float64, n float64) float64 {
	switch k {
	case Steady:
		return p[0]
	case Each:
		return p[0] + p[1]*n
	case Power:
		return p[0] * math.Pow(n, p[1])
	}
	cost := 1 + p[1]*(n-1) + p[2]*n*(n-1)
	switch k {
	case Scaling:
		return p[0] * n / cost
	case Shared:
		return p[0] * cost / n
	}
	return p[0] * cost // Crowded
}

// Law is how a line grows.
type Law struct {
	Kind   Kind
	Params []Amount // in the order of Kind.Params; of a scaling law the first is the value at N = 1
	// Peak is the N with the highest throughput, or the shortest time of shared work: √((1-α)/β). High is infinite where
	// β may be none. None where the law has no peak.
	Peak Amount

	fits   [][]float64 // by round; nil where a round has none
	rounds []int       // which rounds of the line these are
}

// known are the fits of the rounds that have one.
func (l *Law) known() [][]float64 {
	return slices.DeleteFunc(slices.Clone(l.fits), func(fit []float64) bool { return fit == nil })
}

// At is the law with the parameters that are told at a value, with an interval by the spread of the rounds' fits:
// beyond the measured values it gets wider by itself.
func (l *Law) At(x float64) Amount {
	var logs []float64
	for _, fit := range l.known() {
		logs = append(logs, math.Log(l.Kind.value(fit, x)))
	}
	c := centre(logs, Level)
	told := make([]float64, len(l.Params))
	for i := range told {
		told[i] = l.Params[i].V
	}
	v := l.Kind.value(told, x)
	return Amount{v, min(math.Exp(c.Low), v), max(math.Exp(c.High), v)}
}

// Fit finds the law that a line follows; nil where none of those that suit what the parameter counts does. Each law is
// fitted to each round by least squares of relative errors, and its parameters are the centres of the rounds'. The law
// is chosen by the information criterion of Hurvich and Tsai (Biometrika 76, 1989) over the typical values, among those
// that are not surely a simpler one in disguise; where even the best surely misses points, none is named.
func (l *Line) Fit(grows Grows) *Law {
	kinds := []Kind{Steady, Each, Power}
	switch {
	case grows == AtOnce && l.More:
		kinds = []Kind{Steady, Each, Scaling}
	case grows == AtOnce:
		kinds = []Kind{Steady, Each, Shared, Crowded}
	}
	whole, rounds := l.complete()
	if whole == nil {
		return nil
	}
	var best *Law
	lowest := math.Inf(1)
	for _, k := range kinds {
		if law, score := whole.fit(k); law != nil && !law.isSimpler() && score < lowest {
			best, lowest = law, score
		}
	}
	if best == nil || whole.misses(best) {
		return nil
	}
	best.rounds = rounds
	return best
}

// isSimpler reports whether the rounds cannot tell a law from a simpler one that it holds as a special case: a straight
// line that does not surely rise or fall is steady, and both forms of a time that N have in common are straight where
// there is no coherency, or all of the work is contended.
func (l *Law) isSimpler() bool {
	holds := func(a Amount, x float64) bool { return !(a.Low > x || a.High < x) }
	switch l.Kind {
	case Each, Power:
		return holds(l.Params[1], 0)
	case Crowded:
		return holds(l.Params[2], 0)
	case Shared:
		return holds(l.Params[1], 1)
	}
	return false
}

// fewestFits are the rounds that a law needs.
const fewestFits = 5

// complete is the line of those rounds that have every point. Where these are too few since points were added later, it
// is that of the points which the first round had; nil without enough. The numbers of its rounds come with it.
func (l *Line) complete() (_ *Line, rounds []int) {
	all := make([]int, len(l.X))
	for p := range all {
		all[p] = p
	}
	has := func(p, round int) bool { return !math.IsNaN(l.Values[p][round]) && !math.IsInf(l.Values[p][round], 0) }
	points := [][]int{all}
	for round := range l.rounds() {
		if first := slices.DeleteFunc(slices.Clone(all), func(p int) bool { return !has(p, round) }); len(first) > 0 {
			points = append(points, first)
			break
		}
	}
	for _, of := range points {
		out := &Line{Log: l.Log, More: l.More, Values: make([][]float64, len(of))}
		rounds = nil
		for round := range l.rounds() {
			if slices.ContainsFunc(of, func(p int) bool { return !has(p, round) }) {
				continue
			}
			rounds = append(rounds, round)
			for i, p := range of {
				out.Values[i] = append(out.Values[i], l.Values[p][round])
			}
		}
		if out.rounds() < fewestFits {
			continue
		}
		for _, p := range of {
			out.X = append(out.X, l.X[p])
		}
		return out, rounds
	}
	return nil, nil
}

// fit fits a law to every round that has all points, and to the typical values for its score; nil where there are too
// few rounds or points for it.
func (l *Line) fit(k Kind) (*Law, float64) {
	n, free := len(l.X), len(k.Params())
	const spare = 2 // points beyond what the law takes, for misses to show
	if n < free+spare || k == Power && l.X[0] <= 0 || k.Scales() && l.X[0] < 1 {
		return nil, 0
	}
	law := &Law{Kind: k, Peak: None}
	law.fits = l.fitRounds(k)
	if len(law.known()) < fewestFits {
		return nil, 0
	}
	y := make([]float64, n)
	for p := range y {
		y[p] = l.Typical(p).V
	}
	fit, ok := solve(k, l.X, y, nil)
	if !ok {
		return nil, 0
	}
	rss := 0.0
	for p := range y {
		e := math.Log(k.value(fit, l.X[p]) / y[p])
		rss += e * e
	}
	if math.IsNaN(rss) {
		return nil, 0
	}
	rss = max(rss, 1e-12*float64(n))
	f, m := float64(free), float64(n)
	score := m*math.Log(rss/m) + 2*f + 2*f*(f+1)/(m-f-1)
	for i := range free {
		var of []float64
		for _, fit := range law.known() {
			of = append(of, fit[i])
		}
		law.Params = append(law.Params, centre(of, Level))
	}
	law.peak()
	return law, score
}

// fitRounds fits a law to each round by itself. A point that was disturbed in a round pulls least squares after it: so
// errors beyond a bound, a multiple of what errors of all rounds usually are, count by their size alone (P. J. Huber,
// Annals of Mathematical Statistics 35, 1964).
func (l *Line) fitRounds(k Kind) (fits [][]float64) {
	const bound, turns, normal = 1.5, 12, 1.4826 // standard deviations; how often weights are found anew
	n, free := len(l.X), len(k.Params())
	fits = make([][]float64, l.rounds())
	values := make([][]float64, l.rounds())
	var errors []float64
	note := func(r int) (own []float64) {
		for p, v := range values[r] {
			own = append(own, math.Log(v/k.value(fits[r], l.X[p])))
		}
		return own
	}
	for r := range fits {
		for p := range l.X {
			values[r] = append(values[r], l.Values[p][r])
		}
		if fit, ok := solve(k, l.X, values[r], nil); ok {
			fits[r] = fit
			for _, e := range note(r) {
				errors = append(errors, math.Abs(e))
			}
		}
	}
	if len(errors) == 0 {
		return fits
	}
	usual := normal * stats.Median(errors) * math.Sqrt(float64(n)/float64(n-free))
	weights := make([]float64, n)
	for r := range fits {
		for range turns {
			if fits[r] == nil {
				break
			}
			for p, e := range note(r) {
				if weights[p] = 1; math.Abs(e) > bound*usual {
					weights[p] = bound * usual / math.Abs(e)
				}
				if math.IsNaN(weights[p]) {
					weights[p] = 1
				}
			}
			fit, ok := solve(k, l.X, values[r], weights)
			if !ok {
				break
			}
			fits[r] = fit
		}
	}
	return fits
}

// solve fits a law to values by least squares of their relative errors, each with a weight; nil weighs all alike. All
// laws are linear in their coefficients after a change of the values: that of powers in logarithms.
func solve(k Kind, x, y, weights []float64) (params []float64, ok bool) {
	n := len(x)
	for _, v := range y {
		if !(v > 0) || math.IsInf(v, 0) {
			return nil, false
		}
	}
	free := len(k.Params())
	rows, right := mat.NewDense(n, free, nil), mat.NewVecDense(n, nil)
	for i, v := range x {
		target := y[i]
		switch k {
		case Scaling:
			target = v / y[i]
		case Shared:
			target = v * y[i]
		}
		by := 1.0
		if weights != nil {
			by = math.Sqrt(weights[i])
		}
		weight := by / target
		switch k {
		case Power:
			rows.SetRow(i, []float64{by, by * math.Log(v)})
			right.SetVec(i, by*math.Log(target))
			continue
		case Steady:
			rows.Set(i, 0, weight)
		case Each:
			rows.SetRow(i, []float64{weight, v * weight})
		default:
			rows.SetRow(i, []float64{weight, (v - 1) * weight, v * (v - 1) * weight})
		}
		right.SetVec(i, by)
	}
	var out mat.VecDense
	if out.SolveVec(rows, right) != nil {
		return nil, false
	}
	c := slices.Clone(out.RawVector().Data)
	switch {
	case k == Power:
		return []float64{math.Exp(c[0]), c[1]}, true
	case !k.Scales():
		return c, true
	case !(c[0] > 0):
		return nil, false
	case k == Scaling:
		return []float64{1 / c[0], c[1] / c[0], c[2] / c[0]}, true
	}
	return []float64{c[0], c[1] / c[0], c[2] / c[0]}, true
}

// peak finds where a scaling law has its best: of own work there is none, each for itself is fastest alone.
func (l *Law) peak() {
	if l.Kind != Scaling && l.Kind != Shared {
		return
	}
	// by the rounds' contention over coherency, which is infinite where a round has none
	var inverse []float64
	for _, fit := range l.known() {
		if fit[1] >= 1 { // one alone is best
			inverse = append(inverse, 1)
			continue
		}
		inverse = append(inverse, fit[2]/max(1-fit[1], 1e-9))
	}
	c := centre(inverse, Level)
	root := func(x float64) float64 {
		if x <= 0 {
			return math.Inf(1)
		}
		return max(math.Sqrt(1/x), 1) // there is no less than one
	}
	l.Peak = Amount{root(c.V), root(c.High), root(c.Low)}
	if math.IsNaN(c.Low) {
		l.Peak = None
	}
}

// misses reports whether a law surely misses points: at some point the rounds lie off their own fits by more than their
// 95 % interval, all points taken together (Bonferroni).
func (l *Line) misses(law *Law) bool {
	residuals := make([][]float64, len(l.X)) // by point
	for r, fit := range law.fits {
		if fit == nil {
			continue
		}
		for p := range residuals {
			residuals[p] = append(residuals[p], math.Log(l.Values[p][r]/law.Kind.value(fit, l.X[p])))
		}
	}
	// what nobody would mind is no miss: a law is a summary
	const slack = 0.03
	for p := range residuals {
		if risk, side := risk(residuals[p], math.Log1p(slack)); side != 0 && risk < Level/float64(len(l.X)) {
			return true
		}
		if len(present(residuals[p])) == 0 {
			return true
		}
		// with few rounds no interval reaches so far: then a miss that nobody could overlook counts
		const gross = 0.25
		if c := centre(residuals[p], Level); math.Abs(c.V) > gross {
			return true
		}
	}
	return false
}

// Value is a law with these parameters at n.
func Value(k Kind, params []float64, n float64) float64 { return k.value(params, n) }
