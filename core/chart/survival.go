package chart

import (
	"math"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Survival is the picture of what is left of contenders that were ended while they worked: of each a column for every
// crash, what was kept above the line, and below it what had been acknowledged and is not there.
type Survival struct {
	Title, Sentence, Note string
	Conditions            []string
	Scale                 Scale   // records, above the line and below it
	Deepest               float64 // the most that was lost, 0 to 1 of the scale
	Lanes                 []SurvivalLane
}

// SurvivalLane is one contender.
type SurvivalLane struct {
	Side
	Crashes []SurvivalBar
	Says    string
}

// SurvivalBar is one crash: 0 to 1 of the scale.
type SurvivalBar struct {
	Kept, Lost float64
	Torn       bool
	Label      string // what was lost, in records; empty: nothing
}

// NewSurvival arranges what crashes left.
func NewSurvival(r *result.Result, v *judge.Verdict) *Survival {
	p := &Survival{
		Title: r.Plan.Name, Conditions: Conditions(r, v), Sentence: v.SurvivalSentence,
		Note: "each column is a crash: upwards the acknowledged records that are there, downwards those that are not. Its " +
			"process was ended with SIGKILL; what the machine itself would lose without power is not in it.",
	}
	if len(v.Survival) == 0 {
		p.Sentence = "Nobody was ended while at work: crash: in the plan tells what is left of what was acknowledged."
		return p
	}
	var all []float64
	for _, s := range v.Survival {
		for i := range s.All {
			c := &s.All[i]
			all = append(all, float64(c.Acknowledged-c.Lost()), float64(c.Lost()))
		}
	}
	show := func(x float64) string { return units.Count(int64(math.Round(x))) }
	p.Scale = NewScale(all, false, show)
	for _, s := range v.Survival {
		l := SurvivalLane{Side: sideFor(r, s.Contender), Says: s.Few()}
		for i := range s.All {
			c := &s.All[i]
			b := SurvivalBar{
				Kept: p.Scale.At(float64(c.Acknowledged - c.Lost())), Lost: p.Scale.At(float64(c.Lost())),
				Torn: c.Torn > 0,
			}
			p.Deepest = max(p.Deepest, b.Lost)
			if c.Lost() > 0 {
				b.Label = units.Count(c.Lost())
			}
			l.Crashes = append(l.Crashes, b)
		}
		p.Lanes = append(p.Lanes, l)
	}
	return p
}

// Any reports whether anybody was ended.
func (p *Survival) Any() bool { return len(p.Lanes) > 0 }
