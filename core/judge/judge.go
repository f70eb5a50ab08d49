// Package judge says what the figures of a run bear out: for each figure the ratio to the baseline, how sure it is, and
// a word for it. docs/statistics.md gives the methods and their sources.
//
// The same result always gives the same verdict: nothing here reads a clock, a file or chance. It draws nothing and
// knows no screen; the sentences it writes are the same on screen, in reports and in charts.
//
// It is in layers, from the bottom up: values are numbers out of heats, each summed once (values.go, field.go);
// assessments are what these bear out (assess.go, claims.go, ranking.go, stakes.go); then comes what is said of it
// (words.go, phrases.go, scorecard.go, cautions.go). No layer knows one above it.
package judge

import (
	"fmt"
	"math"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/result"
)

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
	Insides    map[cell.Cell]*Inside    // of those of which it is known what happens in their shots
	Told       map[cell.Cell][]ToldTime // what shots tell of their time without saying when, as Server-Timing does
	Meanwhile  []*Meanwhile             // who waited while each worked, as its bystander saw it
	// Survival is what is left of contenders that were ended while they worked, and SurvivalSentence who keeps what had
	// been promised.
	Survival         []*Survival
	SurvivalSentence string
	// Arrivals are when effects of deeds are seen, and ArrivalsSentence says which is seen first.
	Arrivals         []*Arrival
	ArrivalsSentence string
	// MeanwhileSentence says who lets others in soonest, and at what cost.
	MeanwhileSentence string
	Moved             []*Moved           // of the other contenders, in the order of the plan, in each state
	Lanes             map[cell.Cell]Lane // by contender and state
	Latencies         map[cell.Cell]*Latencies
	Heats             map[cell.Cell]map[int]HeatLatency // by round
	Rounds            int                               // in which every contender finished
	Decides           figure.Name
	on                basis
	Note              string // how the words were reached: which figure decides, or what was corrected for
}

// Judge reaches the verdict. The error says that the document cannot be read.
func Judge(r *result.Result) (*Verdict, error) {
	// While it runs, what latencies are made of is not worth what it costs to decode.
	field, err := gather(r, r.Ending != result.Running)
	if err != nil {
		return nil, err
	}
	return field.describe(field.compare())
}

// describe adds to what a comparison found all that is said and shown of it.
func (f *field) describe(v *Verdict) (*Verdict, error) {
	r, field := f.r, f
	var err error
	v.Lanes, v.Latencies, v.Heats = map[cell.Cell]Lane{}, map[cell.Cell]*Latencies{}, map[cell.Cell]map[int]HeatLatency{}
	for _, s := range field.sides() {
		failed, shots := failures(r, s.Contender, s.State)
		v.Lanes[s] = Lane{
			P50: field.value(figure.P50, s).V, P99: field.value(figure.P99, s).V, Mean: field.value(figure.Mean, s).V,
			Throughput: field.value(
				figure.Throughput, s,
			).V,
			Shots: shots, Failed: failed, Causes: causes(r, s),
		}
		v.Latencies[s] = newLatencies(field.pooled[s])
		v.Heats[s] = map[int]HeatLatency{}
		for _, h := range field.inOrder[s] {
			v.Heats[s][h.Round] = HeatLatency{h.percentile(0.5), h.percentile(0.99)}
		}
	}
	field.insides(v)
	field.meanwhile(v)
	field.arrivals(v)
	field.survival(v)
	v.Beginnings = field.beginnings()
	for i := range v.Gains {
		v.Gains[i].Sentence = gainSentence(&v.Gains[i], v.Decides)
	}
	for i := range v.Faces {
		v.Faces[i].Sentence = sentence(field, &v.Faces[i])
		v.Faces[i].Holds = holds(v.Faces[i].Figures)
	}
	v.Best = best(v)
	v.Scorecard = append(climbRows(field), scorecard(field)...)
	v.Scorecard = append(v.Scorecard, field.growthRows()...)
	if r.Ending != result.Running {
		v.Scorecard = append(append(v.Scorecard, sortRows(field)...), splitRows(field)...)
	}
	v.Scorecard = append(v.Scorecard, gainRows(r, v)...)
	v.Ranking = field.ranking()
	v.Stakes = field.stakes()
	if v.Cautions, err = field.cautions(v); err != nil {
		return nil, err
	}
	if v.Claims, err = field.claims(); err != nil {
		return nil, err
	}
	v.Sentence = overall(field, v)
	if slices.ContainsFunc(v.Survival, func(s *Survival) bool { return s.Losing > 0 }) {
		v.Sentence += " " + v.SurvivalSentence
	}
	return v, nil
}

// Facing is Judge with another contender in the baseline's place, so that any two stand face to face.
func Facing(r *result.Result, base string) (*Verdict, error) {
	if r.Entrant(base) == nil {
		return nil, fmt.Errorf("%q is not a contender of this run", base)
	}
	turned := *r
	turned.Plan.Baseline = base
	return Judge(&turned)
}

// Settled reports whether every figure that carries the verdict has its word, for all contenders. A run that is looked
// at now and then may end when it has (plan.Looks).
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

// Known reports whether the ratio of a figure is known within a share, for every contender in every state, and the
// widest half-width. It looks at the width alone, never at the verdict, so that stopping by it does not favour one.
func Known(r *result.Result, fig figure.Name, within float64) (known bool, widest float64, err error) {
	f, err := gather(r, false)
	if err != nil {
		return false, 0, err
	}
	for _, e := range r.Entrants {
		if e.Name == r.Plan.Baseline || e.LeftOut > 0 || e.Mirror {
			continue
		}
		for _, state := range r.States() {
			a := f.assess(fig, cell.Of(r.Plan.Baseline, state), cell.Of(e.Name, state))
			if math.IsNaN(a.Low) {
				return false, math.Inf(1), nil
			}
			widest = max(widest, a.Width())
		}
	}
	return widest <= within, widest, nil
}
