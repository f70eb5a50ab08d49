package rounds

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// Joined is a sweep's plan with the points of an earlier run of it that the plan itself does not name, so that both can
// be one run. The plan's rounds are those of the whole; where it gives a time, that is of what follows. The error says
// why the two are not the same duel, or that nothing is left to be run.
func Joined(p *plan.Plan, before *result.Result) (*plan.Plan, error) {
	switch {
	case p.Sweep == nil:
		return nil, errors.New("the plan has no sweep to go on with")
	case before.Sweep == nil:
		return nil, fmt.Errorf("run %s was not swept over anything", before.ID)
	case before.Ending == result.Running:
		return nil, fmt.Errorf("run %s is still on", before.ID)
	}
	if err := sameDuel(p, before); err != nil {
		return nil, fmt.Errorf("run %s cannot be gone on with: %w", before.ID, err)
	}
	out, sweep := *p, *p.Sweep
	sweep.Points = slices.Clone(sweep.Points)
	sweep.Parameters = slices.Clone(sweep.Parameters)
	isNew := false
	for i := range sweep.Points {
		isNew = isNew || before.Sweep.Find(sweep.Points[i].At) < 0
	}
	for i := range before.Sweep.Points {
		own := &before.Sweep.Points[i]
		point := sweep.Find(own.At)
		if point == nil {
			made, err := madeAgain(&sweep, before.Sweep, own.At)
			if err != nil {
				return nil, fmt.Errorf("run %s has the point %s, which the plan cannot have: %w", before.ID, own.At, err)
			}
			sweep.Points = append(sweep.Points, made)
			point = &made
		}
		if err := sameAt(point, own); err != nil {
			return nil, fmt.Errorf("run %s cannot be gone on with: %w", before.ID, err)
		}
	}
	sortPoints(&sweep)
	out.Sweep = &sweep
	if !isNew && sweep.Within == 0 && p.Rounds <= len(kept(before)) {
		return nil, fmt.Errorf("run %s has the %d rounds of the plan already; ask for more, as with --rounds %d", before.ID,
			len(kept(before)), len(kept(before))+plan.DefaultRounds)
	}
	return &out, nil
}

// sameDuel says in what a plan is another duel than that of a run; nil where it is the same.
func sameDuel(p *plan.Plan, before *result.Result) error {
	if p.Baseline != before.Plan.Baseline || p.Decides != before.Plan.Decides {
		return fmt.Errorf("it was judged by %s against %s, and the plan is by %s against %s", before.Plan.Decides,
			before.Plan.Baseline, p.Decides, p.Baseline)
	}
	var now, was, nowOver, wasOver []string
	for i := range p.Contenders {
		now = append(now, p.Contenders[i].Name)
	}
	for i := range before.Entrants {
		was = append(was, before.Entrants[i].Name)
	}
	for i := range p.Sweep.Parameters {
		nowOver = append(nowOver, p.Sweep.Parameters[i].Name)
	}
	for i := range before.Sweep.Parameters {
		wasOver = append(wasOver, before.Sweep.Parameters[i].Name)
	}
	if !slices.Equal(now, was) {
		return fmt.Errorf("its contenders were %q, and those of the plan are %q", was, now)
	}
	if !slices.Equal(nowOver, wasOver) {
		return fmt.Errorf("it was over %q, and the plan is over %q", wasOver, nowOver)
	}
	return nil
}

// sameAt says in what a point of a plan is another one than that of a run; nil where it is the same.
func sameAt(p *plan.Point, was *result.Point) error {
	if now := paceOf(p.Plan); now.Words != was.Pace.Words {
		return fmt.Errorf("at %s its pace was %q, and that of the plan is %q", p.At, was.Pace.Words, now.Words)
	}
	for i := range p.Plan.Contenders {
		c := &p.Plan.Contenders[i]
		if does := c.Settings.Summary(); p.Plan.Mask(does) != was.Entrants[i].Does {
			return fmt.Errorf("at %s %s did %q, and in the plan it does %q", p.At, c.Name, was.Entrants[i].Does, does)
		}
	}
	return nil
}

// madeAgain reads a plan at the values of a run's point.
func madeAgain(s *plan.Sweep, was *result.Sweep, at cell.Point) (p plan.Point, err error) {
	texts := at.Values()
	values := make([]plan.Value, len(s.Parameters))
	for i := range s.Parameters {
		own := &s.Parameters[i]
		v, _ := was.Parameters[i].Find(texts[own.Name])
		values[i] = plan.Value{Text: v.Text, Called: v.Called, Number: v.Number}
		if !was.Parameters[i].Numbers() {
			values[i].Number = math.NaN()
		}
		if !slices.ContainsFunc(own.Values, func(o plan.Value) bool { return o.Text == v.Text }) {
			own.Values = append(slices.Clone(own.Values), values[i])
		}
	}
	return s.Make(values)
}

// sortPoints puts numbers in rising order again after some were added.
func sortPoints(s *plan.Sweep) {
	rank := func(at cell.Point) (r [plan.MaxParameters]int) {
		texts := at.Values()
		for i := range s.Parameters {
			r[i] = slices.IndexFunc(s.Parameters[i].Values, func(v plan.Value) bool {
				return v.Text == texts[s.Parameters[i].Name]
			})
		}
		return r
	}
	for i := range s.Parameters {
		slices.SortStableFunc(s.Parameters[i].Values, func(a, b plan.Value) int {
			switch {
			case a.Number < b.Number:
				return -1
			case a.Number > b.Number:
				return 1
			}
			return 0
		})
	}
	slices.SortStableFunc(s.Points, func(a, b plan.Point) int {
		x, y := rank(a.At), rank(b.At)
		return slices.Compare(x[:], y[:])
	})
}

// kept are the rounds of an earlier run as far as they were run, each with the cells that were.
func kept(before *result.Result) (order [][]cell.Cell) {
	run := map[place]bool{}
	for i := range before.Heats {
		run[place{before.Heats[i].Round, before.Heats[i].Cell}] = true
	}
	for i, cells := range before.Order {
		var own []cell.Cell
		for _, c := range cells {
			if run[place{i + 1, c}] {
				own = append(own, c)
			}
		}
		if len(own) == 0 {
			break
		}
		order = append(order, own)
	}
	return order
}

// between is how long the clock of a run lies still between two sittings, so that their heats stand apart.
const between = time.Second

// lastMoment is when a run's last heat was over, by the run's clock.
func lastMoment(r *result.Result) (at time.Duration) {
	for i := range r.Heats {
		at = max(at, r.Heats[i].At+r.Heats[i].Wall)
	}
	return at
}

// takeOver makes an earlier run's heats the beginning of this one, and plans what is left to be run: points that are
// new have the rounds of the others first.
func (r *runner) takeOver(before *result.Result) {
	p, own := r.cfg.Plan, r.result
	order := kept(before)
	own.ID, own.Started, own.Paused = before.ID, before.Started, before.Paused
	own.Heats, own.Floor = slices.Clone(before.Heats), slices.Clone(before.Floor)
	r.base, r.first, r.done = lastMoment(before)+between, len(order), len(before.Heats)
	own.Sittings = append(slices.Clone(before.Sittings), result.Sitting{
		Round: r.first + 1, At: r.base, Began: r.clock.Wall().Add(r.base),
	})
	var added []cell.Point
	for i := range own.Sweep.Points {
		point := &own.Sweep.Points[i]
		if was := before.Sweep.Find(point.At); was < 0 {
			added = append(added, point.At)
		} else {
			point.Added = before.Sweep.Points[was].Added
		}
	}
	for i := range own.Entrants {
		if e := before.Entrant(own.Entrants[i].Name); e != nil {
			own.Entrants[i].LeftOut = e.LeftOut
		}
	}
	for i := range own.Heats { // about what a heat takes
		r.spent[own.Heats[i].Cell] = own.Heats[i].Wall
	}
	for i := range order {
		for _, c := range order[i] {
			r.begun[place{i + 1, c}] = true
		}
	}
	own.Order, r.pass = order, together
	if len(added) > 0 {
		r.addRounds(r.first, added)
	}
	if p.Sweep.Within == 0 {
		r.addRounds(p.Rounds-r.first, r.points())
	}
	own.Plan.Rounds = len(own.Order)
}
