package chart

import (
	"slices"

	"paceduel/core/judge"
	"paceduel/core/result"
)

// Tracks is the picture of a verdict over more than two: for each figure a lane for every contender, from a common
// start.
type Tracks struct {
	Title, Sentence string
	Log             bool
	Figures         []Track
	Note            string
	Conditions      []string
}

// Track is one figure.
type Track struct {
	Label string
	Scale Scale
	Lanes []TrackLane
}

// TrackLane is a contender's figure.
type TrackLane struct {
	Side
	Bar
	Ratio, Interval, Say string // as against the baseline; empty for itself
	Word                 judge.Word
}

// TooFew is what is said of a figure that no contender has; ok is false where one has.
func (t *Track) TooFew() (say string, ok bool) {
	for _, l := range t.Lanes {
		if l.Ratio != "" || l.Length > 0 {
			return "", false
		}
		if !l.Baseline {
			say = l.Say
		}
	}
	return say, true
}

// NewTracks arranges all faces of a verdict, figure by figure.
func NewTracks(r *result.Result, v *judge.Verdict, look Look) *Tracks {
	t := &Tracks{Title: r.Plan.Name, Sentence: v.Sentence, Log: look.Log, Conditions: Conditions(r, v)}
	t.Note = "bars: the typical heat; shaded: the middle half of the heats; ratios: against " + v.Baseline +
		", typical round. " +
		capital(v.Note) + "."
	if len(v.Faces) == 0 {
		return t
	}
	var all []judge.Assessment
	for _, f := range v.Faces {
		for _, a := range f.Figures {
			if a.Main || look.All {
				all = append(all, a)
			}
		}
	}
	seen := map[string]int{}
	scaleOf := func(a judge.Assessment) Scale {
		axis := a.Figure.Row().Axis
		if look.Log || !farApart(all, axis) {
			return scaleFor(all, axis, look.Log)
		}
		another := func(b judge.Assessment) bool { return b.Title() != a.Title() }
		return scaleFor(slices.DeleteFunc(slices.Clone(all), another), axis, false)
	}
	for _, f := range v.Faces {
		for _, a := range f.Figures {
			if !a.Main && !look.All {
				continue
			}
			at, ok := seen[a.Title()]
			if !ok {
				at = len(t.Figures)
				seen[a.Title()] = at
				scale := scaleOf(a)
				t.Figures = append(t.Figures, Track{Label: a.Title(), Scale: scale, Lanes: []TrackLane{{
					Side: Side{v.Baseline, SignFor(r, v.Baseline), true}, Bar: bar(a.Figure, a.Baseline, scale),
				}}})
			}
			lane := TrackLane{Side: Side{
				f.Contender, SignFor(r, f.Contender), false,
			}, Bar: bar(a.Figure, a.Contender, t.Figures[at].Scale), Say: a.Say(), Word: a.Word}
			if a.Rounds > 0 && !a.AgainstNone {
				lane.Ratio, lane.Interval = a.Factor(), a.Interval()
			}
			t.Figures[at].Lanes = append(t.Figures[at].Lanes, lane)
		}
	}
	return t
}
