package rounds

import (
	"context"
	"fmt"
	"slices"

	"paceduel/core/commits"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// ofCommits is a plan in which where contenders were built may be entered: one of its own, where any comes from a
// commit, since plans are shared.
func ofCommits(p *plan.Plan) *plan.Plan {
	if !slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Ground.From != nil }) {
		return p
	}
	own := *p
	own.Contenders = slices.Clone(p.Contenders)
	if p.Sweep != nil {
		swept := *p.Sweep
		swept.Points = slices.Clone(p.Sweep.Points)
		for i := range swept.Points {
			at := *swept.Points[i].Plan
			at.Contenders = slices.Clone(at.Contenders)
			swept.Points[i].Plan = &at
		}
		own.Sweep = &swept
	}
	return &own
}

// build builds what comes from commits, each once.
func (r *runner) build(ctx context.Context) error {
	p := r.cfg.Plan
	for i := range p.Contenders {
		c := &p.Contenders[i]
		if c.Ground.From == nil {
			continue
		}
		r.send(Building{Contender: c.Name, Revision: c.Ground.From.Git, Line: c.Ground.From.Build})
		tree, build, err := r.buildOne(ctx, c.Ground.From)
		if err != nil {
			return fmt.Errorf("%s: %w", c.Name, err)
		}
		r.enterBuild(i, tree, build)
		r.send(WasBuilt{Contender: c.Name, Build: *build})
	}
	return nil
}

func (r *runner) buildOne(ctx context.Context, f *plan.From) (tree string, out *result.Build, err error) {
	repo, err := commits.Open(ctx, f.Folder(r.cfg.Plan.Dir))
	if err != nil {
		return "", nil, err
	}
	commit, err := repo.Resolve(ctx, f.Git)
	if err != nil {
		return "", nil, err
	}
	dirty, err := repo.Dirty(ctx)
	if err != nil {
		return "", nil, err
	}
	built, err := r.cfg.Builds.Build(ctx, repo, commit, f.Build, f.Limit())
	if err != nil {
		return "", nil, err
	}
	return built.Dir, &result.Build{
		Revision: f.Git, Commit: commit.Hash, Subject: commit.Subject, Line: f.Build, Took: built.Took,
		Cached: built.Cached,
		Dirty:  dirty,
	}, nil
}

// enterBuild enters where the i-th contender was built, at every point.
func (r *runner) enterBuild(i int, tree string, build *result.Build) {
	p := r.cfg.Plan
	p.Contenders[i].Ground.Tree, r.result.Entrants[i].From = tree, build
	if p.Sweep == nil {
		return
	}
	for j := range p.Sweep.Points {
		p.Sweep.Points[j].Plan.Contenders[i].Ground.Tree = tree
		r.result.Sweep.Points[j].Entrants[i].From = build
	}
}
