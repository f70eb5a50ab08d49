package judge

import (
	"fmt"
	"math"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

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
	Figure figure.Name
	State  string // of caches: cold, warm; empty where there is but one
	Main   bool   // it carries the verdict and stands on the ladder; the others are extra rungs
	// Baseline and Contender are the figures of the typical heat, which is what the ratio is of; NaN when shots are too
	// few.
	Baseline, Contender Value
	// AllBaseline and AllContender are the figures over all shots that count, or the most of any heat where more is what
	// it says; NaN when there are too few.
	AllBaseline, AllContender float64
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
	// AgainstNone says that one of the two had none of it in some heat. There is no ratio then: the word is that of the
	// difference.
	AgainstNone bool
	// HeatShots, when not 0, qualifies the figure: percentile "of heats of n shots", since few shots lie beyond it.
	HeatShots int64
	// NeedShots is how many shots a heat would need, when Word is TooFew.
	NeedShots int64
	// NeedRounds is about how many rounds would bring a still open figure to ±WantedFrac; 0 when that is not known.
	NeedRounds int
	// Noise is the furthest from 1 that the interval of the baseline against itself reaches, as a ratio above 1; NaN
	// where that was not tried.
	Noise float64

	interest float64
	tilted   bool     // see tilted
	mirror   bool     // of the baseline against itself: not one of the figures that words hold for together
	sample   estimate // of logarithms of the rounds' ratios; nil without any
}

// estimate is what an assessment rests on: a sample of rounds, or two of them that are held to each other.
type estimate interface {
	Centre() float64
	Interval(alpha float64) (low, high float64, ok bool)
	Len() int
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
	Contender  string
	Cold, Warm plan.State // what they are called
	Places     bool       // whether these are places: the farther one and the first
	Sentence   string
	Figures    []Assessment // Baseline is cold, Contender warm; their State is empty
}

// Lane is what one contender did, by itself, over the heats that count. Times are in seconds, NaN without enough shots.
type Lane struct {
	P50, P99, Mean, Throughput float64
	Shots, Failed              int64
	Causes                     string // classes of failures, the most frequent first
}

// HeatLatency is what half and what 99 of 100 of a heat's shots took at most, in seconds; NaN where there are too few.
type HeatLatency struct{ P50, P99 float64 }

// Row is a line of the scorecard: something counted, for every contender in the order of the plan.
type Row struct {
	Name   string
	Values []string
	Amount []float64 // the same as numbers; NaN where unknown
	Lower  bool      // whether less is better; otherwise more is
	Plain  bool      // neither is better

	interest float64
	growth   bool   // of a service's memory
	state    string // of caches
}

// IsGrowth reports whether the row tells by how much services grow, in a state of caches.
func (r Row) IsGrowth(state string) bool { return r.growth && r.state == state }

// Lean is negative when the i-th contender is better than the j-th, positive when the j-th is, and 0 when they differ
// by no more than the smallest difference that the plan calls interesting, or neither can be better.
func (r Row) Lean(i, j int) int {
	a, b := r.Amount[i], r.Amount[j]
	if r.Plain || math.IsNaN(a) || math.IsNaN(b) || math.Abs(a-b) <= r.interest*min(a, b) ||
		r.Values[i] == r.Values[j] { // as they are read, they are the same
		return 0
	}
	if (a < b) == r.Lower {
		return -1
	}
	return 1
}

// WantedFrac is the half-width of an interval that NeedRounds aims at.
const WantedFrac = 0.05

// assess computes by how much a side is better than another in a figure, and the intervals. The word is settled later,
// with all figures in view.
func (f *field) assess(fig figure.Name, base, own cell.Cell) Assessment {
	a := Assessment{
		Figure: fig, Baseline: f.typical(fig, base), Contender: f.typical(fig, own), Level: 1 - f.alpha,
		AllBaseline: f.value(fig, base).V, AllContender: f.value(fig, own).V,
		Ratio: math.NaN(), Low: math.NaN(), High: math.NaN(), Difference: math.NaN(), DifferenceLow: math.NaN(),
		DifferenceHigh: math.NaN(),
		Word:           NoWord, interest: f.interest(fig),
	}
	if len(f.r.States()) > 1 {
		a.State = own.State
	}
	fewest := min(f.fewest(fig, base), f.fewest(fig, own))
	if q, ok := fig.Quantile(); ok {
		switch k := beyond(fewest, q); {
		case fewest < 0:
			return a
		case k < fewBeyond-1e-9:
			a.Word, a.NeedShots = TooFew, needFor(q)
			a.Baseline, a.Contender = unknown, unknown // a heat has no such percentile
			return a
		case k < plainBeyond-1e-9:
			a.HeatShots = fewest
		}
	}
	if fig == figure.Longest {
		a.HeatShots = fewest // the more shots, the longer the longest
	}
	if none, ok := f.againstNone(a, base, own); ok {
		return none
	}
	d, apart := f.differences(fig, base, own)
	a.Rounds = len(d)
	if len(d) == 0 {
		if fig.IsLoad() {
			_, _, _, _, need := f.climbed(own)
			_, _, _, _, baseNeed := f.climbed(base)
			if a.NeedShots = max(need, baseNeed); a.NeedShots > 0 {
				a.Word = TooFew
			}
		}
		return a
	}
	grainBase, grainOwn := f.grain(fig, base), f.grain(fig, own)
	a.sample = stats.NewSample(d).Blurred(relative(grainBase, a.Baseline.V) + relative(grainOwn, a.Contender.V))
	a.Ratio = math.Exp(a.sample.Centre())
	a.Word = Open
	if a.HeatShots > 0 && len(d) < stats.SignedRankFrom {
		// Student's interval wants differences that are nearly normal; a percentile of few shots may jump between humps.
		a.Difference, a.sample = stats.NewSample(apart).Centre(), nil
		return a
	}
	a.tilted = tilted(a.sample)
	if low, high, ok := a.sample.Interval(f.alpha); ok {
		a.Low, a.High = math.Exp(low), math.Exp(high)
	}
	inUnits := stats.NewSample(apart).Blurred(grainBase + grainOwn)
	a.Difference = inUnits.Centre()
	if low, high, ok := inUnits.Interval(f.alpha); ok {
		a.DifferenceLow, a.DifferenceHigh = low, high
	}
	a.Counted = fig.Row().Constant && a.Baseline.Low == a.Baseline.High && a.Contender.Low == a.Contender.High &&
		constant(d)
	return a
}

// tilted reports whether the middle half of what a ratio may be, its interval at 50 %, lies on one side of none.
func tilted(s estimate) bool {
	low, high, ok := s.Interval(0.5)
	return ok && (low > 0 || high < 0)
}

// againstNone assesses an amount of which one of the two has none in some heat: a ratio says nothing then, and the word
// is that of the difference, as a share of the larger one. ok is false for all others.
func (f *field) againstNone(a Assessment, base, own cell.Cell) (_ Assessment, ok bool) {
	if !a.Figure.Row().Constant {
		return a, false
	}
	var apart []float64
	none := false
	for round := 1; round <= f.last(); round++ {
		b, c := f.heats[base][round].figure(a.Figure), f.heats[own][round].figure(a.Figure)
		if !math.IsNaN(b) && !math.IsNaN(c) {
			apart, none = append(apart, c-b), none || b == 0 || c == 0
		}
	}
	if !none {
		return a, false
	}
	larger := max(a.Baseline.V, a.Contender.V, slices.Max(apart), -slices.Min(apart))
	if larger == 0 {
		larger = 1
	}
	better := make([]float64, len(apart))
	for i, x := range apart {
		if better[i] = -x / larger; a.Figure.MoreIsBetter() {
			better[i] = x / larger
		}
	}
	a.AgainstNone, a.Rounds, a.Word, a.Counted = true, len(apart), Open, constant(apart)
	a.sample = stats.NewSample(better)
	inUnits := stats.NewSample(apart)
	a.Difference = inUnits.Centre()
	if low, high, ok := inUnits.Interval(f.alpha); ok {
		a.DifferenceLow, a.DifferenceHigh = low, high
	}
	return a, true
}

// grain is the resolution of a figure of a side, in its unit: by so much all its heats may be off in the same way.
func (f *field) grain(fig figure.Name, s cell.Cell) (coarsest float64) {
	if fig != figure.Memory {
		return 0
	}
	for _, h := range f.inOrder[s] {
		coarsest = max(coarsest, float64(h.PeakGrain))
	}
	return coarsest
}

// relative is a grain as a share of a value, in logarithms.
func relative(grain, of float64) float64 {
	if grain == 0 || !(of > 0) {
		return 0
	}
	return math.Log1p(grain / of)
}

// constant reports whether all values are the same.
func constant(d []float64) bool {
	return !slices.ContainsFunc(d, func(x float64) bool { return x != d[0] })
}

// differences are the logarithms of how many times better the contender was, one for each round that both finished, and
// by how much it had more, in the figure's unit. Figures of zero, as CPU time too short for its clock, give none.
func (f *field) differences(fig figure.Name, base, own cell.Cell) (d, apart []float64) {
	for round := 1; round <= f.last(); round++ {
		b, c := f.heats[base][round].figure(fig), f.heats[own][round].figure(fig)
		x := math.Log(b / c)
		if fig.MoreIsBetter() {
			x = -x
		}
		if !math.IsNaN(x) && !math.IsInf(x, 0) {
			d, apart = append(d, x), append(apart, c-b)
		}
	}
	return d, apart
}

// interest is the smallest difference of a figure that is worth telling apart, as a share.
func (f *field) interest(fig figure.Name) float64 {
	if own, ok := f.r.Plan.Interests[fig]; ok {
		return float64(own)
	}
	return float64(f.r.Plan.Interest)
}

// leading is the figure by which heats are looked at: the one that decides; of shots that are many operations the time
// of one; the median where heats have shots enough for it, else the mean.
func (f *field) leading() figure.Name {
	if c := f.r.Plan.Pace.Climb; c != nil {
		return ownFigures(f.r)[0]
	}
	fig := f.r.Plan.Decides
	if fig == "" && len(f.r.Plan.Rungs) > 0 {
		fig = f.r.Plan.Rungs[0]
	}
	if operations, all := ofOperations(f.r); fig == "" && all {
		fig = operations[0]
	}
	if fig == "" {
		fig = figure.P50
	}
	q, ok := fig.Quantile()
	for _, s := range f.sides() {
		if n := f.fewest(fig, s); ok && n >= 0 && beyond(n, q) < fewBeyond-1e-9 {
			return figure.Mean
		}
	}
	return fig
}

// reflect enters into every figure how far the baseline is from itself.
func (f *field) reflect(v *Verdict) {
	v.each(func(a *Assessment) {
		a.Noise = math.NaN()
		if v.Mirror == nil {
			return
		}
		for _, m := range v.Mirror.Figures {
			if m.Figure == a.Figure && m.State == a.State && !math.IsNaN(m.Low) {
				a.Noise = max(m.High, 1/m.Low)
			}
		}
	})
}

// word is what the interval at level 1-alpha bears out when differences of up to interest do not matter.
func word(s estimate, alpha, interest float64) Word {
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

// surest returns the smallest alpha at which the word of level 1-most still holds: how strongly the figure is settled.
// It is 1 when nothing is settled.
func surest(s estimate, most, interest float64) float64 {
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

// settle gives every assessment its word. When the plan names the figure that decides, each stands alone and only that
// one carries the verdict. Otherwise all figures of all contenders count, and Holm's step-down keeps the chance of any
// wrong word at that of one interval; the figures that carry the verdict have four fifths of it.
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
	note = settleAll(all, v.Decides, f.alpha)
	for _, a := range all {
		a.NeedRounds = needRounds(a)
	}
	return note
}

// settleAll gives words to assessments as settle says; decides is the figure that the plan names, or empty.
func settleAll(all []*Assessment, decides figure.Name, alpha float64) (note string) {
	if len(all) == 0 {
		return "there is nothing to compare yet"
	}
	if decides == "" {
		return settleTogether(all, alpha)
	}
	sure := units.Share(1 - alpha)
	var deciding []*Assessment
	for _, a := range all {
		if a.Figure == decides {
			deciding = append(deciding, a)
		}
		a.Word = word(a.sample, alpha, a.interest)
	}
	if len(deciding) > 1 { // of several contenders
		settleTogether(deciding, alpha)
		return fmt.Sprintf(
			"%s was named beforehand and carries the verdict, its words holding for all %d comparisons together (Holm); the "+
				"others are shown at %s each",
			decides.Label(), len(deciding), sure,
		)
	}
	return fmt.Sprintf(
		"%s was named beforehand and carries the verdict; the others are shown at %s each", decides.Label(), sure,
	)
}

// settleTogether gives words that hold all at once.
func settleTogether(all []*Assessment, alpha float64) (note string) {
	p, weights := make([]float64, len(all)), make([]float64, len(all))
	own := 0
	for i, a := range all {
		p[i] = surest(a.sample, alpha, a.interest)
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
	for i, holds := range stats.Together(p, weights, alpha) {
		a := all[i]
		a.Word, a.Corrected, a.Alone = Open, true, word(a.sample, alpha, a.interest)
		if holds && a.sample.Len() >= stats.SignedRankFrom { // Student's five are for the one that was named beforehand
			a.Word = a.Alone
		}
	}
	sure := units.Share(1 - alpha)
	switch {
	case len(all) == 1:
		return "the one figure stands at " + sure
	case own > 0 && own < len(all):
		return fmt.Sprintf(
			"words hold for all %d figures together at %s (Holm; the %d on the ladder carry four fifths of the risk)",
			len(all),
			sure, own,
		)
	}
	return fmt.Sprintf("words hold for all %d figures together at %s (Holm)", len(all), sure)
}

// told is the word of a figure that is the same in every heat of either side, and so is known.
func told(a *Assessment) Word {
	if a.AgainstNone {
		switch by := a.sample.Centre(); {
		case by > a.interest:
			return Better
		case by < -a.interest:
			return Worse
		}
		return Alike
	}
	switch edge := 1 + a.interest; {
	case a.Ratio > edge:
		return Better
	case a.Ratio < 1/edge:
		return Worse
	}
	return Alike
}

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

// ownShare is the share of the risk of a wrong word that the figures which carry the verdict have among them; the rest
// is for all others.
const ownShare = 0.8

// estimateFrom is how many rounds an estimate of further rounds needs to be good within a factor of two.
const estimateFrom = 8

// unsettleable is how many figures of the ladder nothing can be said of together, whatever was measured, since there
// are too few rounds for so many, and how many rounds they need; least is 0 where there are enough.
func (v *Verdict) unsettleable() (own, least int) {
	if v.Decides != "" || v.Rounds < stats.MinRounds {
		return 0, 0
	}
	others, alpha := 0, level
	for _, f := range v.Faces {
		for _, a := range f.Figures {
			switch {
			case a.Corrected && a.Main:
				own++
				alpha = 1 - a.Level
			case a.Corrected:
				others++
			}
		}
	}
	if others > 0 {
		alpha *= ownShare
	}
	if least = stats.LeastRounds(alpha / float64(max(own, 1))); v.Rounds >= least || own == 0 {
		return own, 0
	}
	return own, least
}

// Width is the half-width of the interval as a share: 0.06 for a ratio known to within 6 %. NaN when there is none.
func (a Assessment) Width() float64 { return math.Sqrt(a.High/a.Low) - 1 }

// find returns a face's assessment of a figure.
func (f *Face) find(fig figure.Name) (Assessment, bool) {
	for _, a := range f.Figures {
		if a.Figure == fig {
			return a, true
		}
	}
	return Assessment{}, false
}

// basis is what a verdict rests on: the figure that decides, or the rungs that the plan names, or else what the ladder
// has of its own.
type basis struct {
	decides figure.Name // empty without one
	rungs   bool        // whether the plan names them
}

func basisOf(r *result.Result) basis { return basis{r.Plan.Decides, len(r.Plan.Rungs) > 0} }

// spoken lists the figures that a face is spoken of by: what the verdict rests on. Of a ladder of its own these are the
// percentiles, middle first, then tail, or the mean where the shots are too few for them, and of shots that are many
// operations the times of these; what a shot costs besides time is told apart.
func (f *Face) spoken(on basis) (out []Assessment) {
	for _, a := range f.Figures {
		if a.Figure.IsLoad() {
			return []Assessment{a}
		}
	}
	if a, ok := f.find(on.decides); ok {
		return []Assessment{a}
	}
	if on.rungs {
		for _, a := range f.Figures {
			if a.Main && a.Word != TooFew && a.Word != NoWord {
				out = append(out, a)
			}
		}
		return out
	}
	var start []Assessment // is said first, where the plan has it on the ladder
	for _, a := range f.Figures {
		if !a.Main || a.Word == TooFew || a.Word == NoWord {
			continue
		}
		if _, ok := a.Figure.Quantile(); ok || a.Figure.Unit() == units.Nanosecond && !a.Figure.IsCPU() {
			out = append(out, a)
		} else if a.Figure.Row().OfStart {
			start = append(start, a)
		}
	}
	if len(out) == 0 {
		if a, ok := f.find(figure.Mean); ok && a.Word != NoWord {
			out = append(out, a)
		}
	}
	return append(start, out...)
}

// Spoken lists the figures that a face of a verdict is spoken of by, the leading one first.
func (f *Face) Spoken(v *Verdict) []Assessment { return f.spoken(v.on) }

// best is the face of the contender that wins by most, or the first when none wins.
func best(v *Verdict) int {
	best := -1
	for i := range v.Faces {
		if a := lead(&v.Faces[i], v.on); v.Faces[i].Holds && (best < 0 ||
			a.Ratio > lead(&v.Faces[best], v.on).Ratio) {
			best = i
		}
	}
	return max(best, 0)
}

// lead is the figure that a face is first spoken of by.
func lead(f *Face, on basis) Assessment {
	if said := f.spoken(on); len(said) > 0 {
		return said[0]
	}
	return Assessment{Ratio: math.NaN()}
}

// Lead is the ratio that the verdict is first spoken of by: that of the contender that does best. NaN when there is
// none.
func (v *Verdict) Lead() float64 {
	best := math.NaN()
	for i := range v.Faces {
		if ratio := lead(&v.Faces[i], v.on).Ratio; math.IsNaN(best) || ratio > best {
			best = ratio
		}
	}
	return best
}

// of are a face's assessments of one state.
func (f *Face) of(state string) *Face {
	own := &Face{Contender: f.Contender}
	for _, a := range f.Figures {
		if a.State == state {
			own.Figures = append(own.Figures, a)
		}
	}
	return own
}

// spokenGain is the figure that a gain is put into words by: the one that decides, else the middle, else the mean.
func (g *Gain) spokenGain(decides figure.Name) (Assessment, bool) {
	for _, fig := range []figure.Name{decides, figure.P50, figure.Mean} {
		for _, a := range g.Figures {
			if a.Figure == fig && a.Word != TooFew && a.Word != NoWord {
				return a, true
			}
		}
	}
	return Assessment{}, false
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
