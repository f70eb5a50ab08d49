// Package find looks for the commit that made something worse: where, along a line of commits, a level steps up. It
// knows that each look may be wrong, and goes on until its answer is at most as likely to be wrong as was asked for.
//
// A Search is the reasoning alone: which commit to look at next, and what is known after each look. It builds, runs and
// keeps nothing; Hunt in hunt.go does, with whatever makes a look.
package find

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"paceduel/core/units"
)

// Search is what is known of a line of commits, numbered from 0; before them lies the good one, which is number -1.
//
// The level of a commit is how much worse it is than what it is held to, in logarithms. It is taken to be the same from
// commit to commit but for at most two steps. Each way in which it may step is a hypothesis; levels have normal priors,
// so that how well a hypothesis explains the looks has a closed form (the marginal likelihood of a normal mean), and
// what its levels are is normal, too.
type Search struct {
	// Worse is by how much more than that of the good one a level has to be, in logarithms; in a search for a claim that
	// fails, what its level has to be itself.
	Worse float64
	// Absolute says so: the claim fails where the level is above Worse, whatever it was before.
	Absolute bool
	// Anchored says that the good one's level is 0, since every look holds its commit to it.
	Anchored bool
	// Error is how likely the answer may be wrong, 0.05 for 5 %.
	Error float64

	n      int
	broken []bool
	looks  []Look
}

// Look is what one look found.
type Look struct {
	At    int       // the commit; -1 for the good one
	Diffs []float64 // by how much worse it was in each round, in logarithms
}

// NewSearch begins a search over n commits after a good one, the last of which is thought to be bad.
func NewSearch(n int) *Search { return &Search{n: n, broken: make([]bool, n), Error: 0.05} }

// Add takes in a look.
func (s *Search) Add(l Look) { s.looks = append(s.looks, l) }

// Break takes in that a commit cannot be looked at.
func (s *Search) Break(at int) { s.broken[at] = true }

// Looks is how many looks were taken in.
func (s *Search) Looks() int { return len(s.looks) }

// Prior odds: what is known before the first look.
const (
	priorNone = 0.15
	priorOne  = 0.65
	priorTwo  = 0.20
)

// Noise of a round before anything is known of it, and how many rounds that is worth.
const (
	priorNoise  = 0.05
	priorRounds = 5
)

// ownNoise is how far a commit may be off by itself, as a share of what is looked for: two builds of programs that do
// the same are not equally fast.
const ownNoise = 0.15

// hypothesis is a way in which the level steps: from the first to the second at commit k1, to the third at k2, counted
// among those that can be looked at. Both are at the end of the line for a step that is not there.
type hypothesis struct {
	k1, k2 int
	weight float64 // its share of all
	levels [3]level
}

// level is a normal distribution.
type level struct{ mean, variance float64 }

// State is what is known after the looks so far.
type State struct {
	// First[i] is how likely commit i is the first that is bad; of commits that cannot be looked at, with those before
	// the next one that can. None is how likely there is no bad one, as far as the last one tells.
	First []float64
	None  float64
	// Before is how likely a claim fails at the good commit already.
	Before float64
	// Bad[i] is how likely commit i is bad, Level[i] its level and Unsure[i] the standard error of that.
	Bad, Level, Unsure []float64
	// Good is the level of the good commit.
	Good float64
	// Two is how likely there is more than one step.
	Two float64
	// Steps are the most likely places of two steps, where there are any.
	Steps [2]int
	// Next is the commit to look at next; -1 for the good one.
	Next int
	// Noise is the standard deviation of a round.
	Noise float64
	// Answer is the first bad commit, where that is known well enough; else -1. Known says that the search is over.
	Answer int
	Known  bool
}

// Likeliest is the commit that is most likely the first bad one; -1 where it is as likely that there is none.
func (s *State) Likeliest() int {
	if len(s.First) == 0 || max(s.None, s.Before) >= 0.5 {
		return -1
	}
	return slices.Index(s.First, slices.Max(s.First))
}

// among is the shortest stretch of commits that the first bad one is in with nine tenths, and how likely that is.
func (s *State) among() (from, to int, share float64) {
	const enough = 0.9
	from, to, share = 0, len(s.First)-1, 1-s.None
	sum, first := 0.0, 0
	for i, x := range s.First {
		sum += x
		for first < i && sum-s.First[first] >= enough {
			sum -= s.First[first]
			first++
		}
		if sum >= enough && i-first < to-from {
			from, to, share = first, i, sum
		}
	}
	return from, to, min(share, 1)
}

// State reasons over all that is known.
func (s *Search) State() *State {
	open := s.open()
	h, noise := s.weigh(open)
	st := &State{
		First: make([]float64, s.n), Bad: make([]float64, s.n), Level: make([]float64, s.n), Unsure: make([]float64, s.n),
		Noise: noise, Answer: -1, Next: -1, Steps: [2]int{-1, -1},
	}
	means, squares := newSteps(len(open)), newSteps(len(open))
	between, bad := newSteps(len(open)), newSteps(len(open)) // of the level, between hypotheses
	best := 0.0
	for i := range h {
		one := &h[i]
		above := [3]float64{s.above(one, 0), s.above(one, 1), s.above(one, 2)}
		crossings(one, above, open, st)
		st.Good += one.weight * one.levels[0].mean
		if one.k2 < len(open) {
			st.Two += one.weight
			if one.weight > best {
				best, st.Steps = one.weight, [2]int{open[one.k1], open[one.k2]}
			}
		}
		ends := [...]int{0, one.k1, one.k2, len(open)}
		for stretch := range one.levels {
			from, to, at := ends[stretch], ends[stretch+1], &one.levels[stretch]
			if from == to {
				continue
			}
			means.add(from, to, one.weight*at.mean)
			squares.add(from, to, one.weight*(at.mean*at.mean+at.variance))
			between.add(from, to, one.weight*at.mean*at.mean)
			bad.add(from, to, one.weight*above[stretch])
		}
	}
	mean, square, spread, isBad := means.values(), squares.values(), between.values(), bad.values()
	for j, i := range open {
		spread[j] -= mean[j] * mean[j]
		st.Level[i], st.Unsure[i], st.Bad[i] = mean[j], math.Sqrt(max(square[j]-mean[j]*mean[j], 0)), isBad[j]
	}
	s.spreadOverBroken(open, st)
	s.decide(open, spread, st)
	return st
}

// open are the commits that can be looked at.
func (s *Search) open() (out []int) {
	for i := range s.n {
		if !s.broken[i] {
			out = append(out, i)
		}
	}
	return out
}

// steps is a sum of things that are the same over stretches, kept by where they begin and end.
type steps []float64

func newSteps(n int) steps { return make(steps, n+1) }

func (s steps) add(from, to int, x float64) {
	s[from] += x
	s[to] -= x
}

func (s steps) values() []float64 {
	out := make([]float64, len(s)-1)
	sum := 0.0
	for i := range out {
		sum += s[i]
		out[i] = sum
	}
	return out
}

// sums are what a stretch's looks add up to: their weights, and their means by weight.
type sums struct{ weight, sum, squares float64 }

// weigh finds how likely each hypothesis is, and the levels of each. noise is the standard deviation of a round.
func (s *Search) weigh(open []int) (all []hypothesis, noise float64) {
	n := len(open)
	variance, extent := s.noise()
	noise = math.Sqrt(variance)
	// What the looks at each place add up to, and up to each place, so that a stretch takes no loop.
	upTo := make([]sums, n+1)
	good := sums{}
	at := make([]sums, n)
	own := ownNoise * s.size()
	for _, l := range s.looks {
		if len(l.Diffs) == 0 {
			continue
		}
		w := 1 / (variance/float64(len(l.Diffs)) + own*own)
		x := centre(l.Diffs)
		one := sums{w, w * x, w * x * x}
		if l.At < 0 {
			good = good.plus(one)
		} else if j, ok := slices.BinarySearch(open, l.At); ok {
			at[j] = at[j].plus(one)
		}
	}
	for j := range at {
		upTo[j+1] = upTo[j].plus(at[j])
	}
	prior := level{0, extent * extent}
	first := prior
	if s.Anchored {
		first = level{0, 0}
	}
	add := func(k1, k2 int, share float64) {
		h := hypothesis{k1: k1, k2: k2}
		var fits [3]float64
		h.levels[0], fits[0] = upTo[k1].plus(good).explain(first)
		h.levels[1], fits[1] = upTo[k2].minus(upTo[k1]).explain(prior)
		h.levels[2], fits[2] = upTo[n].minus(upTo[k2]).explain(prior)
		h.weight = math.Log(share) + fits[0] + fits[1] + fits[2]
		all = append(all, h)
	}
	add(n, n, priorNone)
	for k := range n {
		add(k, n, priorOne/float64(n))
	}
	pairs := float64(n*(n-1)) / 2
	for k1 := range n {
		for k2 := k1 + 1; k2 < n; k2++ {
			add(k1, k2, priorTwo/pairs)
		}
	}
	most := math.Inf(-1)
	for i := range all {
		most = max(most, all[i].weight)
	}
	total := 0.0
	for i := range all {
		all[i].weight = math.Exp(all[i].weight - most)
		total += all[i].weight
	}
	for i := range all {
		all[i].weight /= total
	}
	return all, noise
}

func (a sums) plus(b sums) sums {
	return sums{a.weight + b.weight, a.sum + b.sum, a.squares + b.squares}
}

func (a sums) minus(b sums) sums {
	return sums{a.weight - b.weight, a.sum - b.sum, a.squares - b.squares}
}

// explain is what looks say of a level with a prior, and how well the two fit: the logarithm of the marginal
// likelihood, but for what all hypotheses have in common.
func (a sums) explain(prior level) (after level, fit float64) {
	if a.weight <= 1e-9 {
		return prior, 0
	}
	mean := a.sum / a.weight
	if prior.variance == 0 {
		return prior, -0.5 * (a.squares - 2*prior.mean*a.sum + prior.mean*prior.mean*a.weight)
	}
	precision := 1/prior.variance + a.weight
	after = level{(prior.mean/prior.variance + a.sum) / precision, 1 / precision}
	off := mean - prior.mean
	total := prior.variance + 1/a.weight
	within := a.squares - a.sum*mean // about their own mean
	return after, -0.5 * (within + off*off/total + math.Log(total*a.weight))
}

// noise is the variance of a round, and how far levels may be apart.
func (s *Search) noise() (variance, extent float64) {
	sum, rounds := priorNoise*priorNoise*priorRounds, float64(priorRounds)
	extent = 2 * s.size()
	for _, l := range s.looks {
		if len(l.Diffs) == 0 {
			continue
		}
		c := centre(l.Diffs)
		extent = max(extent, math.Abs(c))
		for _, d := range l.Diffs {
			sum += (d - c) * (d - c)
		}
		rounds += float64(len(l.Diffs) - 1)
	}
	// few rounds may be quieter than the rest by chance
	return sum / rounds * rounds / (rounds - 2), extent
}

// size is what is looked for, in logarithms.
func (s *Search) size() float64 { return max(math.Abs(s.Worse), 0.02) }

// centre is the middle of a few differences, with little regard for one that lies far out: the mean without the lowest
// and the highest, where there are enough.
func centre(d []float64) float64 {
	sorted := slices.Sorted(slices.Values(d))
	cut := 0
	if len(sorted) >= 8 {
		cut = len(sorted) / 8
	}
	sum := 0.0
	for _, x := range sorted[cut : len(sorted)-cut] {
		sum += x
	}
	return sum / float64(len(sorted)-2*cut)
}

// above is how likely a stretch of a hypothesis is bad.
func (s *Search) above(h *hypothesis, stretch int) float64 {
	a, base := h.levels[stretch], level{}
	if h.weight < 1e-12 {
		return 0 // it does not matter
	}
	if !s.Absolute {
		if stretch == 0 {
			return 0
		}
		base = h.levels[0]
	}
	off, variance := a.mean-base.mean-s.Worse, a.variance+base.variance
	if variance == 0 {
		if off > 0 {
			return 1
		}
		return 0
	}
	return distuv.UnitNormal.CDF(off / math.Sqrt(variance))
}

// crossings adds where the first bad commit is, if a hypothesis is right.
func crossings(h *hypothesis, above [3]float64, open []int, st *State) {
	left := h.weight
	share := left * above[0] // of a claim alone
	st.Before += share
	left -= share
	for stretch, k := range [...]int{h.k1, h.k2} {
		if k >= len(open) {
			break
		}
		share := left * above[stretch+1]
		st.First[open[k]] += share
		left -= share
	}
	st.None += left
}

// spreadOverBroken gives commits that cannot be looked at what is known of their neighbours.
func (s *Search) spreadOverBroken(open []int, st *State) {
	for i := range s.n {
		if !s.broken[i] {
			continue
		}
		j, _ := slices.BinarySearch(open, i)
		after := min(j, len(open)-1)
		if after < 0 {
			continue
		}
		st.Bad[i], st.Level[i], st.Unsure[i] = st.Bad[open[after]], st.Level[open[after]], st.Unsure[open[after]]
	}
}

// surely is how sure of its answer a search is before it ends, since its assumptions are never quite right: so much of
// the error that is allowed is left for them.
const surely = 1

// decide says whether the search is over, and else which commit to look at: the one of whose level the hypotheses say
// the most different things.
func (s *Search) decide(open []int, spread []float64, st *State) {
	if len(open) == 0 {
		st.Known = true
		return
	}
	last := open[len(open)-1]
	switch {
	case !s.Anchored && !s.lookedAt(-1):
		return // the good one first: else nothing is known of what it was
	case !s.lookedAt(last):
		st.Next = last
		return
	}
	answer := slices.Index(st.First, slices.Max(st.First))
	limit := 1 - s.Error*surely
	switch {
	case st.None >= limit || st.Before >= limit:
		st.Known = true
		return
	case st.First[answer] >= limit && (st.Two <= 0.5-settledTwo || st.Two >= 0.5+settledTwo):
		st.Answer, st.Known = answer, true
		return
	}
	best := 0
	for j := range open {
		if spread[j] > spread[best] {
			best = j
		}
	}
	if st.Next = open[best]; !s.Anchored && !s.Absolute && goodEvery*s.looksAt(-1) <= len(s.looks) {
		st.Next = -1 // all are held to it, so that it has to be known as well as any
	}
}

// goodEvery is how rarely the good commit is looked at where looks are not held to it.
const goodEvery = 4

func (s *Search) looksAt(at int) (n int) {
	for _, l := range s.looks {
		if l.At == at {
			n++
		}
	}
	return n
}

// settledTwo is how far from even it has to be whether there is more than one step.
const settledTwo = 0.25

func (s *Search) lookedAt(at int) bool {
	return slices.ContainsFunc(s.looks, func(l Look) bool { return l.At == at })
}

// logOf is a share more as a logarithm, and share the other way round, in words.
func logOf(share float64) float64 { return math.Log1p(share) }

func share(log float64) string { return units.Share(math.Abs(math.Expm1(log))) }
