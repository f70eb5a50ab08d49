package conduct

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"paceduel/core/commits"
	"paceduel/core/figure"
	"paceduel/core/find"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/weighin"
)

// Looker looks at commits for a search: it runs the search's plan with a contender as a commit has it, for few rounds.
type Looker struct {
	Spec                       // without a plan; its seed is drawn anew for each look
	File    string             // the plan's, whose folder paths start from
	Options read.Options       // what plans are read with, but for sets of their own
	Events  func(rounds.Event) // is told what happens; nil: nobody is
}

// Plan is the search's plan for a commit.
func (l *Looker) Plan(q *find.Question, commit commits.Commit) (*plan.Plan, error) {
	opt := l.Options
	opt.Sets = append(slices.Clone(opt.Sets), fmt.Sprintf("contenders.%s.from.git=%s", q.Contender, commit.Hash),
		fmt.Sprintf("rounds=%d", q.Rounds))
	if q.Claim == "" {
		opt.Only = []string{q.Contender} // and the baseline, which it is held to
	} else {
		opt.Sets = append(opt.Sets, fmt.Sprintf("claims=[%q]", q.Claim))
	}
	return read.Plan(l.File, []byte(q.Plan), opt)
}

// Look looks at a commit, as find.Hunt has it.
func (l *Looker) Look(ctx context.Context, q *find.Question, commit commits.Commit) (find.Seen, error) {
	p, err := l.Plan(q, commit)
	if err != nil {
		return find.Seen{}, err
	}
	s := l.Spec
	s.Plan = p
	watch := l.Events
	if watch == nil {
		watch = func(rounds.Event) {}
	}
	o, err := Duel(ctx, s, watch)
	if weighin.IsFailed(err) && o.Result != nil {
		return find.Seen{}, notWeighed(o.Result, q, err)
	}
	if err != nil {
		return find.Seen{}, err
	}
	seen := find.Seen{}
	if e := o.Result.Entrant(q.Contender); e != nil && e.From != nil && !e.From.Cached {
		seen.Built = e.From.Took
	}
	seen.Diffs, err = worse(o, q)
	return seen, err
}

// notWeighed is why a commit cannot be looked at. Where what it is held to fails, the search cannot go on; where it
// does other work, the commit is passed over like one that fails.
func notWeighed(r *result.Result, q *find.Question, err error) error {
	if e := r.Entrant(q.Against); e != nil && !weighin.Passed(e.Touch) {
		if e.Touch == nil {
			return err
		}
		return fmt.Errorf("%s, which commits are held to, did not pass the weigh-in: %s", e.Name, e.Touch.Err)
	}
	if e := r.Entrant(q.Contender); e != nil && e.Touch != nil && e.Touch.Err != "" {
		return &find.Unusable{Err: errors.New(e.Touch.Err)}
	}
	return &find.Unusable{Err: err}
}

// worse is by how much worse the commit was in each round, in logarithms.
func worse(o *Outcome, q *find.Question) (diffs []float64, err error) {
	if o.Verdict == nil {
		return nil, errors.New("a sweep cannot be searched with; fix its parameters with --set")
	}
	if q.Claim != "" {
		for _, c := range o.Verdict.Claims {
			if c.Text == q.Claim || strings.HasPrefix(c.Text, q.Claim+", ") { // in a state of caches
				if diffs = c.Leans(); len(diffs) == 0 {
					return nil, fmt.Errorf("the claim %q is not decided round by round: %s", c.Text, c.Why)
				}
			}
		}
	} else if _, diffs, err = judge.Gains(o.Result, figure.Name(q.Figure), q.Against, q.Contender); err != nil {
		return nil, err
	}
	if len(diffs) == 0 {
		return nil, fmt.Errorf("no round tells %s: heats have too few shots for it, or nothing tells it at all", q.Figure)
	}
	for i := range diffs {
		diffs[i] = -diffs[i]
	}
	return diffs, nil
}
