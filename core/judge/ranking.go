package judge

import (
	"fmt"
	"slices"

	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/units"
)

// Ranking puts contenders into the order of a figure, as far as they can be told apart.
type Ranking struct {
	Figure plan.Figure
	State  string
	Places []Rank // the best first
}

// Rank is a contender's place: First and Last enclose it, counted from 1. They differ where it cannot be told apart from
// others.
type Rank struct {
	Contender   string
	Value       float64 // over all shots that count, in the figure's unit
	First, Last int
}

// String writes a place for people: "2" or "2 to 3".
func (r Rank) String() string {
	if r.First == r.Last {
		return fmt.Sprint(r.First)
	}
	return fmt.Sprintf("%d to %d", r.First, r.Last)
}

// ranking compares all pairs, with Holm over them, where there are more than two contenders. A contender's place is at
// least behind those that are surely better, and before those that are surely worse.
func (f *field) ranking(decides plan.Figure) (out []Ranking) {
	var names []string
	for _, e := range f.r.Entrants {
		if !e.Mirror {
			names = append(names, e.Name)
		}
	}
	if len(names) < 3 {
		return nil
	}
	figure := f.leading()
	for _, state := range f.r.States() {
		type pair struct{ a, b int }
		var pairs []pair
		var p []float64
		var words []Word
		centre := make([]float64, len(names)) // how good, on the average, against all others
		for a := range names {
			for b := a + 1; b < len(names); b++ {
				d, _ := f.differences(figure, side{names[b], state}, side{names[a], state})
				if len(d) < stats.MinRounds {
					continue
				}
				s := stats.NewSample(d)
				centre[a] += s.Centre()
				centre[b] -= s.Centre()
				pairs = append(pairs, pair{a, b})
				p = append(p, surest(s, f.alpha, f.interest(figure)))
				words = append(words, word(s, f.alpha, f.interest(figure)))
			}
		}
		if len(pairs) < len(names)*(len(names)-1)/2 {
			continue // not all of them have been run often enough
		}
		weights := make([]float64, len(p))
		for i := range weights {
			weights[i] = 1
		}
		better, worse := make([]int, len(names)), make([]int, len(names)) // how many surely are
		for i, holds := range stats.Together(p, weights, f.alpha) {
			if !holds {
				continue
			}
			switch words[i] {
			case Better:
				worse[pairs[i].a]++
				better[pairs[i].b]++
			case Worse:
				better[pairs[i].a]++
				worse[pairs[i].b]++
			}
		}
		r := Ranking{Figure: figure, State: state}
		order := make([]int, len(names))
		for i := range order {
			order[i] = i
		}
		slices.SortStableFunc(order, func(a, b int) int {
			if centre[a] > centre[b] {
				return -1
			}
			return 1
		})
		for _, i := range order {
			r.Places = append(r.Places, Rank{
				Contender: names[i], Value: f.value(figure, side{names[i], state}).V, First: 1 + better[i], Last: len(names) - worse[i],
			})
		}
		out = append(out, r)
	}
	return out
}

// Sentence is the ranking in words.
func (r *Ranking) Sentence() string {
	var places []string
	apart := false
	for _, p := range r.Places {
		apart = apart || p.First > 1 || p.Last < len(r.Places)
		places = append(places, fmt.Sprintf("%s %s (%s)", p, p.Contender, Show(r.Figure, p.Value)))
	}
	text := "By " + Label(r.Figure)
	if r.State != "" {
		text += ", " + r.State
	}
	if !apart {
		return text + fmt.Sprintf(" no two of the %d can be told apart yet.", len(r.Places))
	}
	return text + ": " + units.List(places) + "."
}
