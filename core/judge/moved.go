package judge

import (
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
)

// Moved is what became of the steps of the baseline's typical shot in another contender's.
type Moved struct {
	Contender, State string
	Sentence         string
	Moves            []Move // in the order of the baseline's steps, then what came
	// Whole is by how much the mean shot itself differs, in seconds, and Rest what of it no step on top accounts for.
	Whole, Rest Value
	Kept        bool // steps grew and shrank, and what they come to stayed as it was
}

// Move is a step, by how much of the critical path it is on average, in seconds.
type Move struct {
	Name, Path          string
	Depth               int
	Baseline, Contender float64
	// Counts are how often a shot does it.
	BaselineCount, ContenderCount float64
	By                            Value // how much more of the path it is, in the typical round
	How                           MoveKind
}

// MoveKind is what became of a step.
type MoveKind string

// The kinds of moves. A step that left the path, or joined it, is still done, but nobody waits for it, or somebody now
// does.
const (
	Grew   MoveKind = "grew"
	Shrank MoveKind = "shrank"
	Came   MoveKind = "came"
	Went   MoveKind = "went"
	Left   MoveKind = "left the path"
	Joined MoveKind = "joined the path"
	Same   MoveKind = "as it was"
	Unsure MoveKind = "still open"
)

// moving holds two shots against each other, step by step.
type moving struct {
	alpha    float64
	rounds   [][2]*result.Inside // of the two, in each round that both have
	from, to *Inside
	called   func(path string) string // see samePaths
	interest float64                  // what moved by less, in seconds, stayed as it was
	moves    []Move
}

// moved holds a contender's steps against the baseline's, in one state of caches; nil where it is not known of both
// what happens inside.
func (f *field) moved(v *Verdict, contender, state string) *Moved {
	base, other := cell.Of(v.Baseline, state), cell.Of(contender, state)
	w := moving{alpha: f.alpha, from: v.Insides[base], to: v.Insides[other]}
	if w.from == nil || w.to == nil {
		return nil
	}
	for _, h := range f.inOrder[base] {
		if o := f.heats[other][h.Round]; o != nil && h.Heat.Inside != nil && o.Heat.Inside != nil {
			w.rounds = append(w.rounds, [2]*result.Inside{h.Heat.Inside, o.Heat.Inside})
		}
	}
	if len(w.rounds) == 0 {
		return nil
	}
	w.interest, w.called = f.r.Plan.Interest*w.from.Length.V, samePaths(w.from, w.to)
	w.add(w.from.Steps)
	w.add(w.to.Steps)
	m := &Moved{Contender: contender, State: state, Moves: w.moves}
	m.Whole = w.by(func(in *result.Inside) float64 { return in.MeanLength.Seconds() })
	m.Rest = w.by(func(in *result.Inside) float64 {
		rest := in.MeanLength.Seconds()
		for i := range in.Steps {
			if in.Depth(i) == 0 {
				rest -= onPath(&in.Steps[i])
			}
		}
		return rest
	})
	is := func(kinds ...MoveKind) bool {
		return slices.ContainsFunc(m.Moves, func(move Move) bool { return slices.Contains(kinds, move.How) })
	}
	m.Kept = is(Grew, Came, Joined) && is(Shrank, Went, Left) && m.Whole.Low >= -w.interest && m.Whole.High <= w.interest
	return m
}

// by is by how much more the contender has of something in the typical round.
func (w *moving) by(of func(*result.Inside) float64) Value {
	var d []float64
	for _, r := range w.rounds {
		d = append(d, of(r[1])-of(r[0]))
	}
	sample := stats.NewSample(d)
	out := Value{V: sample.Centre(), Low: math.NaN(), High: math.NaN()}
	if low, high, ok := sample.Interval(w.alpha); ok {
		out.Low, out.High = low, high
	}
	return out
}

// add says what became of steps, as far as they have not been added before.
func (w *moving) add(steps []InsideStep) {
	for i := range steps {
		s := &steps[i]
		path := w.called(s.Path)
		if slices.ContainsFunc(w.moves, func(m Move) bool { return m.Path == path }) {
			continue
		}
		move := Move{Name: s.Name, Path: path, Depth: s.Depth}
		if path == wholeRequest {
			move.Name = path
		}
		b, c := w.from.step(path, w.called), w.to.step(path, w.called)
		if b != nil {
			move.Baseline, move.BaselineCount = b.OnPath.V, b.Count*b.Share
		}
		if c != nil {
			move.Contender, move.ContenderCount = c.OnPath.V, c.Count*c.Share
		}
		move.By = w.by(func(in *result.Inside) float64 { return pathTime(in, path, w.called) })
		move.How = howMoved(&move, b, c, w.interest)
		w.moves = append(w.moves, move)
	}
}

// wholeRequest is how the steps are called that all else of a shot lies within, where they have different names: two
// addresses of one service, as a rule.
const wholeRequest = "the whole request"

// samePaths makes paths of two shots comparable: where each has but one step on top, that is the same of both.
func samePaths(a, b *Inside) func(path string) string {
	top := func(in *Inside) (name string, alone bool) {
		n := 0
		for i := range in.Steps {
			if in.Steps[i].Depth == 0 {
				name = in.Steps[i].Path
				n++
			}
		}
		return name, n == 1
	}
	one, aloneA := top(a)
	other, aloneB := top(b)
	if !aloneA || !aloneB || one == other {
		return func(path string) string { return path }
	}
	return func(path string) string {
		for _, name := range []string{one, other} {
			if rest, ok := strings.CutPrefix(path, name); ok && (rest == "" || strings.HasPrefix(rest, PathSeparator)) {
				return wholeRequest + rest
			}
		}
		return path
	}
}

// step is the step of a path, as paths are called; nil where there is none.
func (in *Inside) step(path string, called func(string) string) *InsideStep {
	for i := range in.Steps {
		if called(in.Steps[i].Path) == path {
			return &in.Steps[i]
		}
	}
	return nil
}

// pathTime is how much of the critical path the step of a path is in a heat's typical shot, in seconds.
func pathTime(in *result.Inside, path string, called func(string) string) float64 {
	for i := range in.Steps {
		if called(pathOf(in, i)) == path {
			return onPath(&in.Steps[i])
		}
	}
	return 0
}

// beside reports whether hardly anybody waits for a step: it is under way for much longer than it is on the critical
// path.
func (s *InsideStep) beside() bool {
	const hardly = 0.1
	return s.OnPath.V < hardly*s.Covers.V
}

// howMoved chooses the word for a step of two shots, nil where it is none of one, by how much of the path it is. What
// moved by less than interest, in seconds, stayed as it was.
func howMoved(m *Move, was, is *InsideStep, interest float64) MoveKind {
	switch {
	case was == nil:
		return Came
	case is == nil:
		return Went
	case math.IsNaN(m.By.Low):
		return Unsure
	case m.By.Low >= -interest && m.By.High <= interest:
		return Same
	case !was.beside() && is.beside() && m.By.High < 0:
		return Left
	case was.beside() && !is.beside() && m.By.Low > 0:
		return Joined
	case m.By.Low > 0:
		return Grew
	case m.By.High < 0:
		return Shrank
	}
	return Unsure
}
