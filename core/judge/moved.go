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
	// Whole is by how much the shot itself differs, in seconds, and Rest what of it no step on top accounts for.
	Whole, Rest Value
	Kept        bool // steps grew and shrank, and what they come to stayed as it was
}

// Move is a step, by how much of the critical path it is, in seconds.
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

// moved holds a contender's steps against the baseline's, in one state of caches; nil where it is not known of both
// what happens inside.
func (f *field) moved(v *Verdict, contender, state string) *Moved {
	base, other := cell.Of(v.Baseline, state), cell.Of(contender, state)
	from, to := v.Insides[base], v.Insides[other]
	if from == nil || to == nil {
		return nil
	}
	m := &Moved{Contender: contender, State: state}
	var rounds [][2]*result.Inside
	for _, h := range f.inOrder[base] {
		if o := f.heats[other][h.Round]; o != nil && h.Heat.Inside != nil && o.Heat.Inside != nil {
			rounds = append(rounds, [2]*result.Inside{h.Heat.Inside, o.Heat.Inside})
		}
	}
	if len(rounds) == 0 {
		return nil
	}
	by := func(get func(*result.Inside) float64) Value {
		var d []float64
		for _, r := range rounds {
			d = append(d, get(r[1])-get(r[0]))
		}
		sample := stats.NewSample(d)
		out := Value{V: sample.Centre(), Low: math.NaN(), High: math.NaN()}
		if low, high, ok := sample.Interval(f.alpha); ok {
			out.Low, out.High = low, high
		}
		return out
	}
	m.Whole = by(func(in *result.Inside) float64 { return in.Length.Middle().Seconds() })
	interest := f.r.Plan.Interest * from.Length.V
	called := samePaths(from, to)
	paths := map[string]bool{}
	add := func(steps []InsideStep) {
		for i := range steps {
			s := &steps[i]
			path := called(s.Path)
			if paths[path] {
				continue
			}
			paths[path] = true
			move := Move{Name: s.Name, Path: path, Depth: s.Depth}
			if path == wholeRequest {
				move.Name = path
			}
			var b, c *InsideStep
			if b = from.step(path, called); b != nil {
				move.Baseline, move.BaselineCount = b.OnPath.V, b.Count*b.Share
			}
			if c = to.step(path, called); c != nil {
				move.Contender, move.ContenderCount = c.OnPath.V, c.Count*c.Share
			}
			move.By = by(func(in *result.Inside) float64 { return pathTime(in, path, called) })
			move.How = howMoved(&move, b != nil, c != nil, interest)
			m.Moves = append(m.Moves, move)
		}
	}
	add(from.Steps)
	add(to.Steps)
	m.Rest = by(func(in *result.Inside) float64 {
		rest := in.Length.Middle().Seconds()
		for i := range in.Steps {
			if in.Depth(i) == 0 {
				rest -= onPath(in, &in.Steps[i])
			}
		}
		return rest
	})
	is := func(kinds ...MoveKind) bool {
		return slices.ContainsFunc(m.Moves, func(move Move) bool { return slices.Contains(kinds, move.How) })
	}
	m.Kept = is(Grew, Came, Joined) && is(Shrank, Went, Left) && m.Whole.Low >= -interest && m.Whole.High <= interest
	return m
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
			return onPath(in, &in.Steps[i])
		}
	}
	return 0
}

// howMoved chooses the word for a step: it is there and was there, and how much of the path it is. What moved by less
// than interest, in seconds, stayed as it was.
func howMoved(m *Move, was, is bool, interest float64) MoveKind {
	switch {
	case !was:
		return Came
	case !is:
		return Went
	case math.IsNaN(m.By.Low):
		return Unsure
	case m.By.Low >= -interest && m.By.High <= interest:
		return Same
	case m.Baseline > 0 && m.Contender == 0 && m.By.High < 0:
		return Left
	case m.Baseline == 0 && m.Contender > 0 && m.By.Low > 0:
		return Joined
	case m.By.Low > 0:
		return Grew
	case m.By.High < 0:
		return Shrank
	}
	return Unsure
}
