package judge

import (
	"fmt"
	"math"
	"slices"

	"paceduel/core/plan"
	"paceduel/core/units"
)

// claims weighs what the plan claims, each at the points that it is about: it is upheld where it is at all of them,
// each at the level of the run's intervals; refuted where it is at any, at a level for as many as there are.
func (s *Sweep) claims() (out []Claim, err error) {
	var names []string
	for _, e := range s.r.Entrants {
		names = append(names, e.Name)
	}
	var params []plan.Parameter
	for i := range s.r.Sweep.Parameters {
		p := plan.Parameter{Name: s.r.Sweep.Parameters[i].Name}
		for _, v := range s.r.Sweep.Parameters[i].Values {
			p.Values = append(p.Values, plan.Value{Text: v.Text, Called: v.Called, Number: v.Number})
		}
		params = append(params, p)
	}
	for _, text := range s.r.Plan.Claims {
		rest, along, err := plan.SplitAlong(text, params)
		if err != nil {
			return nil, fmt.Errorf("the plan's claim %q: %w", text, err)
		}
		c, err := plan.ParseClaim(rest, names, s.r.Places(), s.fields[0].brought()...)
		if err != nil {
			return nil, fmt.Errorf("the plan's claim %q: %w", text, err)
		}
		if c.State != "" && !slices.Contains(s.r.States(), c.State) {
			out = append(out, notRun(text, c.State))
			continue
		}
		for _, state := range s.r.States() {
			if c.State != "" && state != c.State {
				continue
			}
			one := s.weigh(&c, along, state)
			one.Text = text
			if c.Reading != "" {
				one.Why += "; it is read as " + c.Reading
			}
			if c.State == "" && len(s.r.States()) > 1 {
				one.Text += ", " + state
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// weigh weighs one claim in one state of caches. What is told is the point that speaks against it most.
func (s *Sweep) weigh(c *plan.Claim, along plan.Along, state string) Claim {
	var about []int
	for i := range s.r.Sweep.Points {
		if along.Holds(s.r.Sweep.Points[i].At) {
			about = append(about, i)
		}
	}
	if len(about) == 0 {
		return Claim{Finding: Undecided, Why: "it is about no point of this sweep"}
	}
	worst, at := Claim{Finding: Upheld, margin: math.Inf(1)}, about[0]
	for _, i := range about {
		one := s.fields[i].weigh(c, state)
		if one.Finding == Refuted {
			strict := *s.fields[i]
			strict.alpha /= float64(len(about))
			if one.Finding = strict.weigh(c, state).Finding; one.Finding != Refuted {
				one.Finding = Undecided
			}
		}
		rank := map[Finding]int{Upheld: 0, Undecided: 1, Refuted: 2}
		if rank[one.Finding] > rank[worst.Finding] ||
			one.Finding == worst.Finding && (one.margin < worst.margin || worst.Why == "") {
			worst, at = one, i
		}
	}
	where := s.r.Sweep.Say(s.r.Sweep.Points[at].At)
	if len(about) > 1 {
		where = fmt.Sprintf("closest of %s is %s", units.Plural(len(about), "point"), where)
		switch worst.Finding {
		case Refuted:
			where = "not so at " + s.r.Sweep.Say(s.r.Sweep.Points[at].At)
		case Undecided:
			where = "open at " + s.r.Sweep.Say(s.r.Sweep.Points[at].At)
		}
	}
	worst.Why = where + ": " + worst.Why
	return worst
}
