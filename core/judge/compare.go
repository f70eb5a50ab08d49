package judge

import (
	"slices"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/plan"
)

// compare holds every contender to the baseline, in every figure, and gives each its word.
func (f *field) compare() *Verdict {
	v := f.hold()
	v.Note = f.settle(v) + untimed(f.r)
	f.reflect(v)
	v.forget()
	return v
}

// forget lets go of what words were found by.
func (v *Verdict) forget() { v.each(func(a *Assessment) { a.sample = nil }) }

// hold holds every contender to the baseline, in every figure; words are left to settle.
func (f *field) hold() *Verdict {
	own, others := f.figures()
	v := f.holdIn(own, others)
	v.Gains = f.gains()
	return v
}

// holdIn is hold in these figures alone: those that carry the verdict, and others.
func (f *field) holdIn(own, others []figure.Name) *Verdict {
	r := f.r
	v := &Verdict{Baseline: r.Plan.Baseline, Decides: r.Plan.Decides, Rounds: f.rounds(), on: basisOf(r)}
	for _, e := range r.Entrants {
		if e.Name == v.Baseline {
			continue
		}
		face := Face{Contender: e.Name}
		for _, fig := range append(own[:len(own):len(own)], others...) {
			isOwn := slices.Contains(own, fig)
			for _, state := range r.States() {
				a := f.assess(fig, cell.Of(v.Baseline, state), cell.Of(e.Name, state))
				if a.Main = isOwn; isOwn || a.Rounds > 0 {
					face.Figures = append(face.Figures, a)
				}
			}
		}
		slices.SortStableFunc(face.Figures, func(a, b Assessment) int { return a.Figure.Place() - b.Figure.Place() })
		if e.Mirror && len(r.Entrants) > plan.MinContenders {
			if e.Name != v.Baseline+plan.MirrorSuffix {
				continue // the twin of another, whose place somebody has taken
			}
			for j := range face.Figures {
				face.Figures[j].mirror = true
			}
			v.Mirror = &face
			continue
		}
		v.Faces = append(v.Faces, face)
	}
	return v
}
