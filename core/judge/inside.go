package judge

import (
	"math"
	"slices"

	"paceduel/core/cell"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/spans"
)

// Inside is what happens in the typical shot of a contender: of each figure the middle of its heats, each of which has
// the middle of its shots. Times are in seconds.
type Inside struct {
	Cell      cell.Cell
	Rounds    int
	Shots, Of int64 // looked into, and that they are a choice of
	Known     bool  // whether it is known which steps needed which
	Unjudged  bool  // the shots are of warm-ups
	// Grain is in what steps a clock of its service tells when spans began, in seconds; 0: exactly.
	Grain float64
	// Together is what it could take if all that needs nothing of each other ran together: an estimate.
	Length, Added, Idle, Together Value
	Mean                          Value        // of the length, which means on the path add up to
	Steps                         []InsideStep // parts after what they are parts of
	Held                          *Held        // what another contender says to the estimate
}

// InsideStep is a step of the typical shot. Its times are of the shots that have it.
type InsideStep struct {
	Name          string
	Path          string // its name behind those of the steps that it lies within
	Parent, Depth int
	Share         float64  // of the shots, that have it
	Count         float64  // how often these do it
	AtOnce        int      // how many are under way together, in half of the shots
	Needs         []string // paths of the steps that it needs, itself among them where its spans need each other
	Begin, End    [3]float64
	Total, Covers Value
	OnPath        Value // on average over all shots
	CPU           Value // that it used; NaN where that is not known
	Halved        Value // what the shot could take if it took half; NaN where that is not known
}

// Held is a contender that does what an estimate says, and by how much the estimate is off as a share of what was
// measured.
type Held struct {
	Contender string
	Length    float64
	Off       float64
}

// ToldTime is what half of the shots that tell it spent on something, in seconds.
type ToldTime struct {
	Name string
	V    float64
}

// PathSeparator stands between the names of steps that lie within one another.
const PathSeparator = " › "

// Inner are the insides that are known, in the order of the plan and of states.
func (v *Verdict) Inner(r *result.Result) (out []*Inside) {
	for _, e := range r.Entrants {
		for _, state := range r.States() {
			if in := v.Insides[cell.Of(e.Name, state)]; in != nil {
				out = append(out, in)
			}
		}
	}
	return out
}

// inside is a side's typical shot; nil where nothing is known of it.
func (f *field) inside(s cell.Cell) *Inside {
	var all []*result.Inside
	out := &Inside{Cell: s, Known: true}
	for _, h := range f.inOrder[s] {
		if in := h.Heat.Inside; in != nil {
			if t := h.Heat.Traced; t != nil {
				out.Grain = max(out.Grain, t.Grain.Seconds())
			}
			all = append(all, in)
			out.Shots, out.Of, out.Known = out.Shots+in.Shots, out.Of+in.Of, out.Known && in.Known
			out.Unjudged = in.Unjudged
		}
	}
	if out.Rounds = len(all); out.Rounds == 0 {
		return nil
	}
	middle := func(of func(*result.Inside) result.Quarters) Value {
		return f.over(len(all), func(i int) float64 { return of(all[i]).Middle().Seconds() })
	}
	out.Length = middle(func(in *result.Inside) result.Quarters { return in.Length })
	out.Mean = f.over(len(all), func(i int) float64 { return all[i].MeanLength.Seconds() })
	out.Added = middle(func(in *result.Inside) result.Quarters { return in.Added })
	out.Idle = middle(func(in *result.Inside) result.Quarters { return in.Idle })
	out.Together = middle(func(in *result.Inside) result.Quarters { return in.Together })
	f.steps(out, all)
	return out
}

// over is the typical heat's value of n heats' with its interval; those of which it is NaN are left out.
func (f *field) over(n int, of func(heat int) float64) Value {
	var each []float64
	for i := range n {
		if x := of(i); !math.IsNaN(x) {
			each = append(each, x)
		}
	}
	if len(each) == 0 {
		return unknown
	}
	sample := stats.NewSample(each)
	v := Value{V: sample.Centre(), Low: math.NaN(), High: math.NaN()}
	if low, high, ok := sample.Interval(f.alpha); ok {
		v.Low, v.High = max(low, 0), high
	}
	return v
}

// pathOf is the name of a step behind those that it lies within.
func pathOf(in *result.Inside, step int) string {
	path := in.Steps[step].Name
	for at := in.Steps[step].Parent; at != spans.None; at = in.Steps[at].Parent {
		path = in.Steps[at].Name + PathSeparator + path
	}
	return path
}

// steps enters the steps that at least half of the heats have, in the order in which they begin.
func (f *field) steps(out *Inside, all []*result.Inside) {
	at := make([]map[string]int, len(all))
	in := map[string]int{} // how many heats have it
	var paths []string
	for i, one := range all {
		at[i] = map[string]int{}
		for step := range one.Steps {
			path := pathOf(one, step)
			at[i][path] = step
			if in[path]++; in[path] == 1 {
				paths = append(paths, path)
			}
		}
	}
	place := map[string]int{}
	var steps []InsideStep
	var parents []int
	for _, path := range paths {
		if 2*in[path] < len(all) {
			continue
		}
		step := f.step(all, at, path)
		first := f.first(at, path)
		step.Parent = spans.None
		if parent := all[first].Steps[at[first][path]].Parent; parent != spans.None {
			known, ok := place[pathOf(all[first], parent)]
			if !ok {
				continue
			}
			step.Parent, step.Depth = known, steps[known].Depth+1
		}
		place[path] = len(steps)
		steps, parents = append(steps, step), append(parents, step.Parent)
	}
	to := spans.Ordered(parents, func(a, b int) int { return compare(steps[a].Begin[1], steps[b].Begin[1]) })
	out.Steps = make([]InsideStep, len(steps))
	for i, step := range steps {
		if step.Parent != spans.None {
			step.Parent = to[step.Parent]
		}
		out.Steps[to[i]] = step
	}
}

func compare(a, b float64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

func (f *field) first(at []map[string]int, path string) int {
	for i := range at {
		if _, ok := at[i][path]; ok {
			return i
		}
	}
	return 0
}

// step is a step of the typical shot.
func (f *field) step(all []*result.Inside, at []map[string]int, path string) InsideStep {
	of := func(heat int) *result.InsideStep {
		if step, ok := at[heat][path]; ok {
			return &all[heat].Steps[step]
		}
		return nil
	}
	value := func(get func(*result.InsideStep) result.Quarters) Value {
		return f.over(len(all), func(heat int) float64 {
			if s := of(heat); s != nil && get(s).Middle() != 0 {
				return get(s).Middle().Seconds()
			}
			return math.NaN()
		})
	}
	out := InsideStep{Path: path}
	var shots, had, spansOf int64
	var atOnce []float64
	var begins, ends [3][]float64
	for i, in := range all {
		shots += in.Shots
		s := of(i)
		if s == nil {
			continue
		}
		out.Name = s.Name
		had, spansOf = had+s.Shots, spansOf+s.Spans
		atOnce = append(atOnce, float64(s.AtOnce))
		for _, need := range s.Needs {
			if needed := pathOf(in, need); !slices.Contains(out.Needs, needed) {
				out.Needs = append(out.Needs, needed)
			}
		}
		for q := range begins {
			begins[q], ends[q] = append(begins[q], s.Begin[q].Seconds()), append(ends[q], s.End[q].Seconds())
		}
	}
	out.Share, out.Count = float64(had)/float64(shots), float64(spansOf)/float64(had)
	out.AtOnce = int(stats.Median(atOnce))
	for q := range begins {
		out.Begin[q], out.End[q] = stats.Median(begins[q]), stats.Median(ends[q])
	}
	out.Total = value(func(s *result.InsideStep) result.Quarters { return s.Total })
	out.Covers = value(func(s *result.InsideStep) result.Quarters { return s.Covers })
	out.CPU = value(func(s *result.InsideStep) result.Quarters { return s.CPU })
	out.Halved = value(func(s *result.InsideStep) result.Quarters { return s.Halved })
	out.OnPath = f.over(len(all), func(i int) float64 { return onPath(of(i)) })
	return out
}

// onPath is how much of the critical path a step is on average over the shots of a heat, in seconds.
func onPath(s *result.InsideStep) float64 {
	if s == nil {
		return 0
	}
	return s.MeanOnPath.Seconds()
}

// hold holds an estimate to what was measured of a contender that has the same steps and leaves none of them waiting:
// the first of all that has.
func (in *Inside) hold(all []*Inside) {
	if in.gain() < leastGain {
		return
	}
	for _, other := range all {
		if other == nil || other.Cell.State != in.Cell.State || other == in || !sameSteps(in, other) ||
			other.gain() >= leastGain {
			continue
		}
		in.Held = &Held{
			Contender: other.Cell.Contender, Length: other.Length.V, Off: (in.Together.V - other.Length.V) / other.Length.V,
		}
		return
	}
}

// leastGain is the share of a shot that has to be saved by less waiting for that to be said.
const leastGain = 0.05

// gain is the share of the shot that would be saved if all that needs nothing of each other ran together.
func (in *Inside) gain() float64 { return 1 - in.Together.V/in.Length.V }

// sameSteps reports whether two have the same steps on top, each as often.
func sameSteps(a, b *Inside) bool {
	count := func(in *Inside) map[string]float64 {
		out := map[string]float64{}
		for i := range in.Steps {
			if s := &in.Steps[i]; s.Depth == 0 {
				out[s.Path] = math.Round(s.Count * s.Share)
			}
		}
		return out
	}
	of, and := count(a), count(b)
	if len(of) != len(and) {
		return false
	}
	for path, n := range of {
		if and[path] != n {
			return false
		}
	}
	return true
}

// Saves is the share of the shot that would be saved if all that needs nothing of each other ran together, where it is
// known what does; where not, half of what could be saved at best.
func (in *Inside) Saves() float64 {
	if in.Known {
		return in.gain()
	}
	return in.gain() / 2
}

// Rest is what of the shot no step on top accounts for, in seconds.
func (in *Inside) Rest() float64 {
	rest := in.Mean.V
	for i := range in.Steps {
		if in.Steps[i].Depth == 0 {
			rest -= in.Steps[i].OnPath.V
		}
	}
	return max(rest, 0)
}
