package paper

import (
	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/result"
)

// Named is a picture with the name of its files, without an ending, and what it shows.
type Named struct {
	Picture
	Name, Title string
}

// All are the pictures of a finished run: the ladder of each face, the lanes of all where there are more than two, the
// distribution and the tail of all, how they start and what they hold where that is known, and the whole run by the
// clock. A run without a complete round has the last alone.
func All(r *result.Result, v *judge.Verdict, look chart.Look) (out []Named) {
	add := func(pic Picture, title string, name ...string) {
		out = append(out, Named{pic, Name(r, name...), title})
	}
	if v.Rounds > 0 {
		for i := range v.Faces {
			add(Ladder(
				chart.NewLadder(r, v, i, look),
			), v.Baseline+" and "+v.Faces[i].Contender+", face to face", v.Faces[i].Contender)
		}
		if len(v.Faces) > 1 {
			add(Tracks(chart.NewTracks(r, v, look)), "all contenders, figure by figure", "lanes")
		}
		shape := chart.NewShape(r, v, Keys(r), true, chart.Stretched{})
		add(Distribution(shape), "how latencies are distributed", "distribution")
		add(Tail(shape), "how many shots take longer", "tail")
		if s := chart.NewStarts(r, v, 1); s.Any() {
			add(Starts(s), "how they start", "start")
		}
		if in := chart.NewInside(r, v, chart.InsideLook{Depth: chart.AllSteps}); in.Any() {
			add(Inside(in), "what happens in a shot", "inside")
		}
		for i, m := range v.Moved {
			name := title(m.Contender, m.State)
			add(Moves(chart.NewMoves(r, v, i)), "what became of the steps of "+v.Baseline+" in "+name, name, "moved")
		}
		if m := chart.NewMeanwhile(r, v); m.Any() {
			add(Meanwhile(m), "who waits while they work", "meanwhile")
		}
		if a := chart.NewArrivals(r, v); a.Any() {
			add(Arrivals(a), "when effects are seen", "arrivals")
		}
		if s := chart.NewSurvival(r, v); s.Any() {
			add(Survival(s), "what is left after a crash", "survival")
		}
		if p := chart.NewPayload(r, v); len(p.Rows) > 0 {
			add(Payload(p), "what they ship, and what that consists of", "payload")
		}
		for _, over := range []struct {
			what        chart.Quantity
			about, name string
		}{
			{chart.HeldMemory, "what they hold", "memory"}, {chart.UsedProcessors, "the processors that they use", "processors"},
			{chart.ReadBytes, "what they read", "reading"}, {chart.WrittenBytes, "what they write", "writing"},
		} {
			if m := chart.NewMemory(r, v, r.Heats, chart.RoundWindow{}, over.what); m.Any() {
				add(Memory(m, r.Plan.Name), over.about, over.name)
			}
		}
	}
	if len(r.Heats) > 0 {
		add(OfRun(r, v), "the run by the clock", "timeline")
	}
	return out
}

// OfRun is the picture of the whole run by the clock.
func OfRun(r *result.Result, v *judge.Verdict) Picture {
	return Timeline(chart.NewTimeline(r, v, r.Heats, 0, 0, nil), r.Plan.Name, v.Sentence, chart.Conditions(r, v))
}

// Keys are all contenders in all states, in the order of the plan; the baseline's twin comes last.
func Keys(r *result.Result) (keys []cell.Cell) {
	for _, e := range r.Entrants {
		for _, state := range r.States() {
			keys = append(keys, cell.Of(e.Name, state))
		}
	}
	return keys
}
