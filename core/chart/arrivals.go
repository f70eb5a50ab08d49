package chart

import (
	"fmt"
	"math"
	"strings"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Arrivals is the picture of when the effects of deeds are seen: a lane for each effect, on one logarithmic scale from
// the deed.
type Arrivals struct {
	Title, Sentence, Note string
	Conditions            []string
	Scale                 Scale
	Lanes                 []ArrivalLane
	Backlogs              bool // they are known
}

// ArrivalLane is one effect of one contender in one state.
type ArrivalLane struct {
	Side
	State, Effect string
	First         bool      // of its contender in this state
	Density       []float64 // so many of all by column of the scale, 0 to 1 of the fullest
	P50, P99      float64   // 0 to 1 of the scale; NaN where there are too few
	Floor         float64   // up to where what is seen may be our asking; 0: none of it is
	Says          string
	Counted       string // what went wrong, in few words
	Backlog       []Dot  // how many deeds were under way over the heat, 0 to 1 of the most of all; of a first lane alone
	Piled         string // the same in words
}

// arrivalColumns is how finely the scale of arrivals is divided.
const arrivalColumns = 240

// NewArrivals arranges when effects are seen.
func NewArrivals(r *result.Result, v *judge.Verdict) *Arrivals {
	p := &Arrivals{
		Title: r.Plan.Name, Conditions: Conditions(r, v), Sentence: v.ArrivalsSentence,
		Note: "from the moment at which the deed begins: the darker, the more arrive then; marks are half of them and 99 " +
			"of 100. Where it is asked again and again, what is seen may be late by up to the dotted stretch.",
	}
	if len(v.Arrivals) == 0 {
		p.Sentence = "There is nothing that arrives: a relay does something, and tells when what it brings about is seen."
		return p
	}
	var ends []float64
	for _, a := range v.Arrivals {
		ends = append(ends, max(a.Least, 1e-6), a.Longest, a.Floor)
	}
	p.Scale = NewScale(ends, true, units.Seconds)
	lasted, fullest := pileScale(v)
	for i, a := range v.Arrivals {
		l := ArrivalLane{
			Side: sideFor(r, a.Contender), State: a.State, Effect: a.Effect, First: i == 0 || v.Arrivals[i-1].Cell != a.Cell,
			Density: make([]float64, arrivalColumns), P50: math.NaN(), P99: math.NaN(),
		}
		most := 0.0
		for _, b := range a.All.Bars {
			at := p.Scale.At(float64(b.From+b.To) / 2 / a.All.PerUnit)
			column := min(int(at*arrivalColumns), arrivalColumns-1)
			l.Density[column] += float64(b.Count)
			most = max(most, l.Density[column])
		}
		for c := range l.Density {
			l.Density[c] /= max(most, 1)
		}
		said := []string{"p50 " + units.Seconds(a.All.Quantile(0.5))}
		if !math.IsNaN(a.P50.V) {
			said[0] = "p50 " + units.Seconds(a.P50.V)
			l.P50 = p.Scale.At(a.P50.V)
		}
		if !math.IsNaN(a.P99.V) {
			said = append(said, "p99 "+units.Seconds(a.P99.V))
			l.P99 = p.Scale.At(a.P99.V)
		}
		said = append(said, "longest "+units.Seconds(a.Longest))
		if a.Floor > 0 {
			l.Floor = p.Scale.At(a.Floor)
			said = append(said, "asked every "+units.Seconds(a.Floor))
		}
		l.Says = strings.Join(said, ", ")
		var wrong []string
		for _, w := range []struct {
			n   int64
			how string
		}{{a.Never, "never came"}, {a.Twice, "came twice"}, {a.Late, "out of order"}} {
			if w.n > 0 && l.First {
				wrong = append(wrong, fmt.Sprintf("%s %s", units.Count(w.n), w.how))
			}
		}
		l.Counted = strings.Join(wrong, ", ")
		if l.First && a.Backlog != nil {
			l.pile(a, lasted, fullest)
			p.Backlogs = true
		}
		p.Lanes = append(p.Lanes, l)
	}
	if p.Backlogs {
		p.Note += " Above them is how many deeds were under way over the heat in the middle, all to one scale."
	}
	return p
}

// pileScale is what backlogs are drawn to: the longest heat in nanoseconds, and the most deeds under way.
func pileScale(v *judge.Verdict) (lasted, fullest int64) {
	lasted, fullest = 1, 1
	for _, a := range v.Arrivals {
		if b := a.Backlog; b != nil {
			lasted, fullest = max(lasted, b.Over[len(b.Over)-1][0]), max(fullest, b.Most)
		}
	}
	return lasted, fullest
}

// pile draws how many deeds were under way, to the longest heat and the most of all contenders.
func (l *ArrivalLane) pile(a *judge.Arrival, lasted, fullest int64) {
	sum := int64(0)
	for _, at := range a.Backlog.Over {
		l.Backlog = append(l.Backlog, Dot{
			X: min(max(float64(at[0])/float64(lasted), 0), 1), Y: min(max(float64(at[1])/float64(fullest), 0), 1),
		})
		sum += at[1]
	}
	l.Piled = fmt.Sprintf("%s deeds/s come through; over a heat %s under way on average, %s at most",
		units.Significant(a.Through.V), units.Significant(float64(sum)/float64(len(a.Backlog.Over))),
		units.Count(a.Backlog.Most))
	if a.Grows {
		l.Piled += ", and more and more"
	}
}

// Any reports whether anything arrives.
func (p *Arrivals) Any() bool { return len(p.Lanes) > 0 }
