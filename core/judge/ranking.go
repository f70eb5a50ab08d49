package judge

import (
	"cmp"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
)

// Ranking puts contenders into the order of a figure, as far as they can be told apart.
type Ranking struct {
	Figure figure.Name
	State  string
	Places []Rank // the best first
}

// Rank is a contender's place: First and Last enclose it, counted from 1. They differ where it cannot be told apart
// from others.
type Rank struct {
	Contender   string
	Value       float64 // of its typical heat, in the figure's unit
	First, Last int
}

// ranking compares all pairs, with Holm over them, where there are more than two contenders. A contender's place is at
// least behind those that are surely better, and before those that are surely worse.
func (f *field) ranking() (out []Ranking) {
	var names []string
	for _, e := range f.r.Entrants {
		if !e.Mirror {
			names = append(names, e.Name)
		}
	}
	if len(names) < 3 {
		return nil
	}
	for _, state := range f.r.States() {
		if r, ok := f.rank(f.leading(), names, state); ok {
			out = append(out, r)
		}
	}
	return out
}

// rank compares all pairs in a state; ok is false where not all of them have been run often enough.
func (f *field) rank(fig figure.Name, names []string, state string) (r Ranking, ok bool) {
	type pair struct{ a, b int }
	var pairs []pair
	var p, weights []float64
	var words []Word
	for a := range names {
		for b := a + 1; b < len(names); b++ {
			d, _ := f.differences(fig, cell.Of(names[b], state), cell.Of(names[a], state))
			if len(d) < stats.MinRounds {
				return r, false
			}
			s := stats.NewSample(d)
			pairs, weights = append(pairs, pair{a, b}), append(weights, 1)
			p = append(p, surest(s, f.alpha, f.interest(fig)))
			words = append(words, word(s, f.alpha, f.interest(fig)))
		}
	}
	better, worse := make([]int, len(names)), make([]int, len(names)) // how many surely are
	for i, holds := range stats.Together(p, weights, f.alpha) {
		switch {
		case holds && words[i] == Better:
			worse[pairs[i].a]++
			better[pairs[i].b]++
		case holds && words[i] == Worse:
			better[pairs[i].a]++
			worse[pairs[i].b]++
		}
	}
	r = Ranking{Figure: fig, State: state}
	for i, name := range names {
		r.Places = append(r.Places, Rank{
			Contender: name, Value: f.typical(fig, cell.Of(name, state)).V, First: 1 + better[i], Last: len(names) - worse[i],
		})
	}
	slices.SortStableFunc(r.Places, func(a, b Rank) int { // those that share a place by what is shown of them
		byValue := cmp.Compare(a.Value, b.Value)
		if fig.MoreIsBetter() {
			byValue = -byValue
		}
		return cmp.Or(a.First-b.First, a.Last-b.Last, byValue)
	})
	return r, true
}
