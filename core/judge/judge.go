// Package judge says what the figures of a run bear out: for each figure the ratio to the baseline, how sure it is, and
// a word for it. docs/statistics.md gives the methods and their sources.
//
// The same result always gives the same verdict: nothing here reads a clock, a file or chance. It draws nothing and
// knows no screen; the sentences it writes are the same on screen, in reports and in charts.
package judge

import (
	"fmt"
	"math"
	"slices"

	"paceduel/core/plan"
	"paceduel/core/result"
)

// level is one minus the confidence of every interval shown.
const level = 0.05

// Word is what may be said of a figure.
type Word string

// The words. Better and Worse are said of the contender, as against the baseline.
const (
	Better Word = "better"
	Worse  Word = "worse"
	Alike  Word = "too close to call"
	Open   Word = "still open"
	TooFew Word = "too few"
	NoWord Word = "nothing to compare"
)

// Assessment is one figure of one contender as against the baseline.
type Assessment struct {
	Figure plan.Figure
	State  string // of caches: cold, warm; empty where there is but one
	// Baseline and Contender are the figures over all shots that count, for orientation; NaN when there are too few.
	Baseline, Contender Value
	// Ratio is how many times better the contender's typical round is: baseline time over contender time, or contender
	// throughput over the baseline's. Below 1 it is worse. NaN when there is none.
	Ratio float64
	// Low and High bound the ratio at 95 %; NaN with under five rounds.
	Low, High float64
	Rounds    int // that the ratio rests on
	Word      Word
	// Corrected says that the word holds after the correction for the number of figures; Alone is the word that the
	// figure would have had by itself.
	Corrected bool
	Alone     Word
	// HeatShots, when not 0, qualifies the figure: percentile "of heats of n shots", since few shots lie beyond it.
	HeatShots int64
	// NeedShots is how many shots a heat would need, when Word is TooFew.
	NeedShots int64
	// NeedRounds is about how many rounds would bring a still open figure to ±WantedFrac; 0 when that is not known.
	NeedRounds int

	sample *sample // of logarithms of the rounds' ratios; nil without any
}

// WantedFrac is the half-width of an interval that NeedRounds aims at.
const WantedFrac = 0.05

// Value is a figure of a contender.
type Value struct {
	V         float64 // over all shots that count
	Low, High float64 // lower and upper quartile of its heats; NaN with under four
}

// Face is the baseline and one contender face to face.
type Face struct {
	Contender string
	Sentence  string
	Figures   []Assessment
	Holds     bool // every figure found better or worse is better: it wins
}

// Gain is what warm caches bring a contender: its warm runs as against its cold ones.
type Gain struct {
	Contender string
	Sentence  string
	Figures   []Assessment // Baseline is cold, Contender warm; their State is empty
}

// Lane is what one contender did, by itself, over the heats that count. Times are in seconds, NaN without enough shots.
type Lane struct {
	P50, P99, Throughput float64
	Shots, Failed        int64
}

// Row is a line of the scorecard: something counted, for every contender in the order of the plan.
type Row struct {
	Name   string
	Values []string
	Amount []float64 // the same as numbers; NaN where unknown
	Lower  bool      // whether less is better; otherwise more is
	Plain  bool      // neither is better

	interest float64
}

// Lean is negative when the i-th contender is better than the j-th, positive when the j-th is, and 0 when they differ by
// no more than the smallest difference that the plan calls interesting, or neither can be better.
func (r Row) Lean(i, j int) int {
	a, b := r.Amount[i], r.Amount[j]
	if r.Plain || math.IsNaN(a) || math.IsNaN(b) || math.Abs(a-b) <= r.interest*min(a, b) {
		return 0
	}
	if (a < b) == r.Lower {
		return -1
	}
	return 1
}

// Key names a contender in a state; State is empty where there is but one.
type Key struct{ Contender, State string }

// Caution weakens a verdict.
type Caution struct {
	What string // with its figure
	Try  string // what to do about it
}

// Verdict is what may be said of a run.
type Verdict struct {
	Sentence  string // the whole in a sentence or two
	Baseline  string
	Faces     []Face // one for each other contender, in the order of the plan
	Best      int    // the face to look at first: of the contender that wins by most, or the first
	Scorecard []Row
	Cautions  []Caution
	Claims    []Claim      // of the plan, in its order
	Gains     []Gain       // for each contender, where they are run cold and warm
	Lanes     map[Key]Lane // by contender and state
	Rounds    int          // in which every contender finished
	Decides   plan.Figure
	Note      string // how the words were reached: which figure decides, or what was corrected for
}

// figuresOf lists the figures that a pace gives, in the order in which they are shown.
func figuresOf(r *result.Result) []plan.Figure {
	if c := r.Plan.Pace.Climb; c != nil { // its latencies are of all loads together
		if c.Open {
			return []plan.Figure{plan.Holds}
		}
		return []plan.Figure{HoldsClients}
	}
	figures := []plan.Figure{plan.P50, plan.P90, plan.P99, plan.Mean}
	if !r.Plan.Pace.Sequential() && !r.Plan.Pace.Open() { // a set rate is no finding
		figures = append(figures, plan.Throughput)
	}
	if slices.ContainsFunc(r.Heats, func(h result.Heat) bool { return h.CPUKnown }) {
		figures = append(figures, plan.CPU)
	}
	return figures
}

// Judge reaches the verdict. The error says that the document cannot be read.
func Judge(r *result.Result) (*Verdict, error) {
	field, err := gather(r)
	if err != nil {
		return nil, err
	}
	v := &Verdict{Baseline: r.Plan.Baseline, Decides: r.Plan.Decides, Rounds: field.rounds()}
	for _, e := range r.Entrants {
		if e.Name == v.Baseline {
			continue
		}
		face := Face{Contender: e.Name}
		for _, f := range figuresOf(r) {
			for _, state := range r.States() {
				face.Figures = append(face.Figures, field.assess(f, side{v.Baseline, state}, side{e.Name, state}))
			}
		}
		v.Faces = append(v.Faces, face)
	}
	v.Gains = field.gains()
	v.Lanes = map[Key]Lane{}
	for _, s := range field.sides() {
		failed, shots := failures(r, s.name, s.state)
		v.Lanes[Key{s.name, s.state}] = Lane{
			P50: field.value(plan.P50, s).V, P99: field.value(plan.P99, s).V, Throughput: field.value(plan.Throughput, s).V,
			Shots: shots, Failed: failed,
		}
	}
	v.Note = settle(v, float64(r.Plan.Interest))
	for i := range v.Gains {
		v.Gains[i].Sentence = gainSentence(&v.Gains[i], v.Decides)
	}
	for i := range v.Faces {
		v.Faces[i].Sentence = sentence(field, &v.Faces[i])
		v.Faces[i].Holds = holds(v.Faces[i].Figures)
	}
	v.Best = best(v)
	v.Scorecard = scorecard(r)
	if r.Ending != result.Running { // while it runs they are not worth what they cost to decode
		splits, err := splitRows(field)
		if err != nil {
			return nil, err
		}
		v.Scorecard = append(v.Scorecard, splits...)
	}
	floor, err := floorCautions(field)
	if err != nil {
		return nil, err
	}
	v.Scorecard = append(climbRows(field), v.Scorecard...)
	v.Scorecard = append(v.Scorecard, gainRows(r, v)...)
	v.Cautions = append(append(cautions(r, v), climbCautions(field)...), floor...)
	if v.Claims, err = field.claims(); err != nil {
		return nil, err
	}
	v.Sentence = overall(r, v)
	return v, nil
}

// word is what the interval at level 1-alpha bears out when differences of up to interest do not matter.
func (s *sample) word(alpha, interest float64) Word {
	low, high, ok := s.interval(alpha)
	edge := math.Log1p(interest)
	switch {
	case !ok:
		return Open
	case low > edge:
		return Better
	case high < -edge:
		return Worse
	case low >= -edge && high <= edge:
		return Alike
	}
	return Open
}

// surest returns the smallest alpha at which the word of level still holds: how strongly the figure is settled. It is
// above level when nothing is settled.
func (s *sample) surest(interest float64) float64 {
	word := s.word(level, interest)
	if word == Open {
		return 1
	}
	low, high := 0.0, level
	for range 40 {
		mid := (low + high) / 2
		if s.word(mid, interest) == word {
			high = mid
		} else {
			low = mid
		}
	}
	return high
}

// settle gives every assessment its word. When the plan names the figure that decides, each stands at 95 % and only
// that one carries the verdict. Otherwise all figures of all contenders count, and Holm's step-down (1979) keeps the
// chance of any wrong word at 5 %.
func settle(v *Verdict, interest float64) (note string) {
	type candidate struct {
		a     *Assessment
		s     *sample
		alpha float64
	}
	var all []candidate
	enter := func(figures []Assessment) {
		for j := range figures {
			if a := &figures[j]; a.sample != nil {
				all = append(all, candidate{a, a.sample, a.sample.surest(interest)})
			}
		}
	}
	for i := range v.Faces {
		enter(v.Faces[i].Figures)
	}
	for i := range v.Gains {
		enter(v.Gains[i].Figures)
	}
	if len(all) == 0 {
		return "there is nothing to compare yet"
	}
	if v.Decides != "" {
		for _, c := range all {
			c.a.Word = c.s.word(level, interest)
		}
		note = fmt.Sprintf("%s was named beforehand and carries the verdict; the others are shown at 95 %% each", v.Decides)
	} else {
		slices.SortStableFunc(all, func(a, b candidate) int { return compare(a.alpha, b.alpha) })
		holds := true
		for i, c := range all {
			share := level / float64(len(all)-i)
			holds = holds && c.alpha <= share
			c.a.Word, c.a.Corrected, c.a.Alone = Open, true, c.s.word(level, interest)
			if holds {
				c.a.Word = c.s.word(level, interest)
			}
		}
		note = fmt.Sprintf("words hold for all %d figures together at 95 %% (Holm)", len(all))
		if len(all) == 1 {
			note = "the one figure stands at 95 %"
		}
	}
	for _, c := range all {
		c.a.NeedRounds = needRounds(c.a)
		c.a.sample = nil // it has served
	}
	return note
}

func compare(a, b float64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// estimateFrom is how many rounds an estimate of further rounds needs to be good within a factor of two.
const estimateFrom = 8

func needRounds(a *Assessment) int {
	if a.Word != Open || a.Alone != Open && a.Corrected || a.Rounds < estimateFrom || math.IsNaN(a.Low) {
		return 0
	}
	half := math.Log(a.High/a.Low) / 2
	need := float64(a.Rounds) * math.Pow(half/math.Log1p(WantedFrac), 2)
	if need <= float64(a.Rounds) || need > plan.MaxRounds {
		return 0
	}
	return int(math.Ceil(need))
}

// leastRounds is how many rounds are needed before any of m figures can be settled together.
func leastRounds(m int) int {
	for n := signedRankFrom; ; n++ {
		if 2*math.Pow(0.5, float64(n)) <= level/float64(m) {
			return n
		}
	}
}

func holds(as []Assessment) bool {
	better := false
	for _, a := range as {
		if a.Word == Worse {
			return false
		}
		better = better || a.Word == Better
	}
	return better
}

// Known reports whether the ratio of a figure is known within a share, for every contender in every state, and the widest
// half-width. It looks at the width alone, never at the verdict, so that stopping by it does not favour one.
func Known(r *result.Result, figure plan.Figure, within float64) (known bool, widest float64, err error) {
	f, err := gather(r)
	if err != nil {
		return false, 0, err
	}
	for _, e := range r.Entrants {
		if e.Name == r.Plan.Baseline || e.LeftOut > 0 {
			continue
		}
		for _, state := range r.States() {
			a := f.assess(figure, side{r.Plan.Baseline, state}, side{e.Name, state})
			if math.IsNaN(a.Low) {
				return false, math.Inf(1), nil
			}
			widest = max(widest, a.Width())
		}
	}
	return widest <= within, widest, nil
}
