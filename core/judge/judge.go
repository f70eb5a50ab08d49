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

	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// level is one minus the confidence of intervals, unless the run was looked at on the way.
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
	Main   bool   // it carries the verdict and stands on the ladder; the others are extra rungs
	// Baseline and Contender are the figures over all shots that count, for orientation; NaN when there are too few.
	Baseline, Contender Value
	// Ratio is how many times better the contender's typical round is: baseline time over contender time, or contender
	// throughput over the baseline's. Below 1 it is worse. NaN when there is none.
	Ratio float64
	// Low and High bound the ratio at Level; NaN with under five rounds.
	Low, High float64
	// Difference is by how much the contender has more in the typical round, in the figure's unit; negative: less.
	Difference, DifferenceLow, DifferenceHigh float64
	Level                                     float64 // of the intervals, a share: 0.95
	Rounds                                    int     // that the ratio rests on
	Word                                      Word
	// Corrected says that the word holds after the correction for the number of figures; Alone is the word that the
	// figure would have had by itself.
	Corrected bool
	Alone     Word
	Counted   bool // the same in every heat: told, not estimated
	// HeatShots, when not 0, qualifies the figure: percentile "of heats of n shots", since few shots lie beyond it.
	HeatShots int64
	// NeedShots is how many shots a heat would need, when Word is TooFew.
	NeedShots int64
	// NeedRounds is about how many rounds would bring a still open figure to ±WantedFrac; 0 when that is not known.
	NeedRounds int
	// Noise is the furthest from 1 that the interval of the baseline against itself reaches, as a ratio above 1; NaN where
	// that was not tried.
	Noise float64

	interest float64
	mirror   bool          // of the baseline against itself: not one of the figures that words hold for together
	sample   *stats.Sample // of logarithms of the rounds' ratios; nil without any
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
	P50, P99, Mean, Throughput float64
	Shots, Failed              int64
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

// Verdict is what may be said of a run.
type Verdict struct {
	Sentence  string // the whole in a sentence or two
	Baseline  string
	Faces     []Face // one for each other contender, in the order of the plan
	Best      int    // the face to look at first: of the contender that wins by most, or the first
	Scorecard []Row
	Cautions  []Caution
	Claims    []Claim   // of the plan, in its order
	Stakes    []Stake   // what the difference is worth, by the plan's own figures
	Ranking   []Ranking // of three and more contenders, one for each state
	Mirror    *Face     // the baseline against itself; nil where that was not tried
	Gains     []Gain    // for each contender, where they are run cold and warm
	// Beginnings say how first shots compare with later ones, where that is known.
	Beginnings []Beginning
	Lanes      map[Key]Lane // by contender and state
	Latencies  map[Key]*Latencies
	Rounds     int // in which every contender finished
	Decides    plan.Figure
	Note       string // how the words were reached: which figure decides, or what was corrected for
}

// Judge reaches the verdict. The error says that the document cannot be read.
func Judge(r *result.Result) (*Verdict, error) {
	// While it runs, what latencies are made of is not worth what it costs to decode.
	field, err := gather(r, r.Ending != result.Running)
	if err != nil {
		return nil, err
	}
	v := field.compare()
	v.Lanes, v.Latencies = map[Key]Lane{}, map[Key]*Latencies{}
	for _, s := range field.sides() {
		failed, shots := failures(r, s.name, s.state)
		v.Lanes[Key{s.name, s.state}] = Lane{
			P50: field.value(plan.P50, s).V, P99: field.value(plan.P99, s).V, Mean: field.value(plan.Mean, s).V, Throughput: field.value(plan.Throughput, s).V,
			Shots: shots, Failed: failed,
		}
		v.Latencies[Key{s.name, s.state}] = newLatencies(field.pooled[s])
	}
	v.Beginnings = field.beginnings()
	for i := range v.Gains {
		v.Gains[i].Sentence = gainSentence(&v.Gains[i], v.Decides)
	}
	for i := range v.Faces {
		v.Faces[i].Sentence = sentence(field, &v.Faces[i])
		v.Faces[i].Holds = holds(v.Faces[i].Figures)
	}
	v.Best = best(v)
	v.Scorecard = append(climbRows(field), scorecard(r)...)
	v.Scorecard = append(v.Scorecard, field.growthRows()...)
	if r.Ending != result.Running {
		v.Scorecard = append(v.Scorecard, splitRows(field)...)
	}
	v.Scorecard = append(v.Scorecard, gainRows(r, v)...)
	v.Ranking = field.ranking(v.Decides)
	v.Stakes = field.stakes()
	if v.Cautions, err = field.cautions(v); err != nil {
		return nil, err
	}
	if v.Claims, err = field.claims(); err != nil {
		return nil, err
	}
	v.Sentence = overall(r, v)
	return v, nil
}

// Facing is Judge with another contender in the baseline's place, so that any two stand face to face.
func Facing(r *result.Result, base string) (*Verdict, error) {
	if r.Entrant(base) == nil {
		return nil, fmt.Errorf("%q is no contender of this run", base)
	}
	turned := *r
	turned.Plan.Baseline = base
	return Judge(&turned)
}

// compare holds every contender to the baseline, in every figure, and gives each its word.
func (f *field) compare() *Verdict {
	r := f.r
	v := &Verdict{Baseline: r.Plan.Baseline, Decides: r.Plan.Decides, Rounds: f.rounds()}
	own, others := f.figures()
	for _, e := range r.Entrants {
		if e.Name == v.Baseline {
			continue
		}
		face := Face{Contender: e.Name}
		for _, figure := range append(own[:len(own):len(own)], others...) {
			isOwn := slices.Contains(own, figure)
			for _, state := range r.States() {
				a := f.assess(figure, side{v.Baseline, state}, side{e.Name, state})
				if a.Main = isOwn; isOwn || a.Rounds > 0 {
					face.Figures = append(face.Figures, a)
				}
			}
		}
		slices.SortStableFunc(face.Figures, func(a, b Assessment) int { return order(a.Figure) - order(b.Figure) })
		if e.Mirror && len(r.Entrants) > plan.MinContenders {
			if e.Name != v.Baseline+plan.MirrorSuffix {
				continue // the twin of another, whose place somebody has taken
			}
			for j := range face.Figures {
				face.Figures[j].mirror = true
			}
			v.Mirror = &face
			continue
		}
		v.Faces = append(v.Faces, face)
	}
	v.Gains = f.gains()
	v.Note = f.settle(v)
	f.reflect(v)
	v.each(func(a *Assessment) { a.sample = nil }) // they have served
	return v
}

// each calls use for every figure of every comparison.
func (v *Verdict) each(use func(*Assessment)) {
	all := [][]Assessment{}
	for i := range v.Faces {
		all = append(all, v.Faces[i].Figures)
	}
	for i := range v.Gains {
		all = append(all, v.Gains[i].Figures)
	}
	if v.Mirror != nil {
		all = append(all, v.Mirror.Figures)
	}
	for _, figures := range all {
		for i := range figures {
			use(&figures[i])
		}
	}
}

// order is where a figure is shown among the others.
func order(f plan.Figure) int {
	if at := slices.Index(plan.Judged, f); at >= 0 {
		return at
	}
	return len(plan.Judged)
}

// word is what the interval at level 1-alpha bears out when differences of up to interest do not matter.
func word(s *stats.Sample, alpha, interest float64) Word {
	low, high, ok := s.Interval(alpha)
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

// surest returns the smallest alpha at which the word of level 1-most still holds: how strongly the figure is settled. It
// is 1 when nothing is settled.
func surest(s *stats.Sample, most, interest float64) float64 {
	settled := word(s, most, interest)
	if settled == Open {
		return 1
	}
	low, high := 0.0, most
	for range 40 {
		mid := (low + high) / 2
		if word(s, mid, interest) == settled {
			high = mid
		} else {
			low = mid
		}
	}
	return high
}

// ownShare is the share of the risk of a wrong word that the figures which carry the verdict have among them; the rest is
// for all others.
const ownShare = 0.8

// settle gives every assessment its word. When the plan names the figure that decides, each stands alone and only that one
// carries the verdict. Otherwise all figures of all contenders count, and Holm's step-down keeps the chance of any wrong
// word at that of one interval; the figures that carry the verdict have four fifths of it.
func (f *field) settle(v *Verdict) (note string) {
	var all []*Assessment
	v.each(func(a *Assessment) {
		switch {
		case a.sample == nil:
		case a.Counted:
			a.Word = told(a)
		case a.mirror:
			a.Word = word(a.sample, f.alpha, a.interest)
		default:
			all = append(all, a)
		}
	})
	sure := units.Share(1 - f.alpha)
	switch {
	case len(all) == 0:
		note = "there is nothing to compare yet"
	case v.Decides != "":
		var deciding []*Assessment
		for _, a := range all {
			if a.Figure == v.Decides {
				deciding = append(deciding, a)
			}
			a.Word = word(a.sample, f.alpha, a.interest)
		}
		note = fmt.Sprintf("%s was named beforehand and carries the verdict; the others are shown at %s each", v.Decides, sure)
		if len(deciding) > 1 { // of several contenders
			f.settleTogether(deciding)
			note = fmt.Sprintf("%s was named beforehand and carries the verdict, its words holding for all %d comparisons together (Holm); the others are shown at %s each", v.Decides, len(deciding), sure)
		}
	default:
		note = f.settleTogether(all)
	}
	for _, a := range all {
		a.NeedRounds = needRounds(a)
	}
	return note
}

// settleTogether gives words that hold all at once.
func (f *field) settleTogether(all []*Assessment) (note string) {
	p, weights := make([]float64, len(all)), make([]float64, len(all))
	own := 0
	for i, a := range all {
		p[i] = surest(a.sample, f.alpha, a.interest)
		if a.Main {
			own++
		}
	}
	for i, a := range all {
		switch others := len(all) - own; {
		case own == 0 || others == 0:
			weights[i] = 1
		case a.Main:
			weights[i] = ownShare / float64(own)
		default:
			weights[i] = (1 - ownShare) / float64(others)
		}
	}
	for i, holds := range stats.Together(p, weights, f.alpha) {
		a := all[i]
		a.Word, a.Corrected, a.Alone = Open, true, word(a.sample, f.alpha, a.interest)
		if holds && a.sample.Len() >= stats.SignedRankFrom { // Student's five are for the one that was named beforehand
			a.Word = a.Alone
		}
	}
	sure := units.Share(1 - f.alpha)
	switch {
	case len(all) == 1:
		return "the one figure stands at " + sure
	case own > 0 && own < len(all):
		return fmt.Sprintf("words hold for all %d figures together at %s (Holm; the %d on the ladder carry four fifths of the risk)", len(all), sure, own)
	}
	return fmt.Sprintf("words hold for all %d figures together at %s (Holm)", len(all), sure)
}

// told is the word of a figure that is the same in every heat of either side, and so is known.
func told(a *Assessment) Word {
	switch edge := 1 + a.interest; {
	case a.Ratio > edge:
		return Better
	case a.Ratio < 1/edge:
		return Worse
	}
	return Alike
}

// estimateFrom is how many rounds an estimate of further rounds needs to be good within a factor of two.
const estimateFrom = 8

func needRounds(a *Assessment) int {
	if a.Word != Open || a.Alone != Open && a.Corrected || a.Rounds < estimateFrom || math.IsNaN(a.Low) {
		return 0
	}
	half := math.Log(a.High/a.Low) / 2
	need := stats.RoundsFor(a.Rounds, half, math.Log1p(WantedFrac))
	if need <= float64(a.Rounds) || need > plan.MaxRounds {
		return 0
	}
	return int(math.Ceil(need))
}

// Settled reports whether every figure that carries the verdict has its word, for all contenders. A run that is looked at
// now and then may end when it has (plan.Looks).
func Settled(r *result.Result) (bool, error) {
	f, err := gather(r, false)
	if err != nil {
		return false, err
	}
	v := f.compare()
	for _, face := range v.Faces {
		for _, a := range face.Figures {
			carries := a.Main
			if v.Decides != "" {
				carries = a.Figure == v.Decides
			}
			if e := r.Entrant(face.Contender); carries && a.Word == Open && (e == nil || e.LeftOut == 0) {
				return false, nil
			}
		}
	}
	return true, nil
}

func holds(as []Assessment) bool {
	better := false
	for _, a := range as {
		if !a.Main {
			continue
		}
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
	f, err := gather(r, false)
	if err != nil {
		return false, 0, err
	}
	for _, e := range r.Entrants {
		if e.Name == r.Plan.Baseline || e.LeftOut > 0 || e.Mirror {
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
