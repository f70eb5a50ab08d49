package rounds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// FirstRounds are the complete rounds with which a sweep that has a time begins, so that every interval is a sound one
// before the rest of the time is shared out.
const FirstRounds = 6

// Steering says how a sweep goes on after its first pass. Package judge answers; its results are not to be changed.
type Steering struct {
	// Needs says how much each point needs a further round, for plans that say within; the largest needs it most.
	Needs func(*result.Result) map[cell.Point]float64
	// Bends lists the stretches between neighbouring values that a further point would tell most of, the most telling
	// first, for plans that say where: bends.
	Bends func(*result.Result) []Stretch
}

// Stretch lies between two values of a sweep's one parameter that are next to each other, by their texts.
type Stretch struct{ From, To string }

// pass is how far a sweep has come.
type pass int

const (
	firstPass pass = iota // the points of the plan
	catching              // points that were added have the rounds of the others
	together              // all of them
)

// initialRounds is how many rounds are planned when a run begins; a sweep that is steered gets more later.
func initialRounds(p *plan.Plan) int {
	switch {
	case p.Until != nil:
		return p.Until.Most
	case p.Sweep != nil && p.Sweep.Within > 0:
		return FirstRounds
	case p.Sweep != nil && p.Sweep.Bends:
		return (p.Rounds + 1) / 2
	}
	return p.Rounds
}

// points are those of the run, with those that were added.
func (r *runner) points() (points []cell.Point) {
	for _, s := range r.stations {
		points = append(points, s.point)
	}
	return points
}

// goOn plans further rounds of a sweep once the last one that was planned is over.
func (r *runner) goOn(ctx context.Context, done int) error {
	s := r.cfg.Plan.Sweep
	if s == nil || s.Within == 0 && !s.Bends {
		return nil
	}
	if s.Within > 0 && done < len(r.result.Order) && r.timeLeft() < r.costOf(r.points()) && done > r.first {
		r.plan(r.result.Order[:done]) // what was planned does not fit into the time
	}
	if done < len(r.result.Order) {
		return nil
	}
	if r.pass == firstPass && s.Bends && r.cfg.Steering.Bends != nil {
		r.pass = catching
		if added, err := r.addPoints(ctx); err != nil || len(added) > 0 {
			r.planRounds(done, added)
			return err
		}
	}
	r.pass = max(r.pass, catching)
	switch {
	case s.Within > 0:
		if next := r.allot(); len(next) > 0 {
			r.planRounds(1, next)
		}
	case r.pass == catching:
		r.pass = together
		r.planRounds(r.cfg.Plan.Rounds-initialRounds(r.cfg.Plan), r.points())
	}
	return nil
}

// plan makes this the order of the rounds, and tells of it.
func (r *runner) plan(order [][]cell.Cell) {
	r.result.Order = slices.Clone(order)
	r.result.Plan.Rounds = len(r.result.Order)
	r.thin()
	r.send(OrderChanged{Head: r.head(), Left: r.left()})
}

// planRounds adds n rounds of these points.
func (r *runner) planRounds(n int, points []cell.Point) {
	r.addRounds(n, points)
	r.plan(r.result.Order)
}

// addRounds adds n rounds of these points without telling.
func (r *runner) addRounds(n int, points []cell.Point) {
	order := slices.Clone(r.result.Order)
	for range min(n, plan.MaxRounds-len(order)) {
		order = append(order, sweptRound(r.cfg.Plan, points, r.result.Seed, len(order)))
	}
	r.result.Order = order
}

// timeLeft is what is left of the time that the plan gives the whole.
func (r *runner) timeLeft() time.Duration {
	return r.cfg.Plan.Sweep.Within.D() - (r.clock.Now() - r.base - r.pausedNow)
}

// costOf is about how long a round of these points takes, by the latest heats of their cells.
func (r *runner) costOf(points []cell.Point) (all time.Duration) {
	for _, at := range points {
		for _, c := range cellsAt(r.cfg.Plan, at) {
			all += r.spent[c]
		}
	}
	return all
}

// worthShare is the share of the largest need from which on a point has part in a round.
const worthShare = 0.5

// allot chooses the points of the next round: those that need it about as much as the neediest, as far as the time that
// is left holds them.
func (r *runner) allot() (chosen []cell.Point) {
	needs := map[cell.Point]float64{}
	if r.cfg.Steering.Needs != nil {
		needs = r.cfg.Steering.Needs(r.result)
	}
	points := r.points()
	slices.SortStableFunc(points, func(a, b cell.Point) int { return cmp.Compare(needs[b], needs[a]) })
	left := r.timeLeft()
	for _, at := range points {
		if needs[at] < worthShare*needs[points[0]] {
			break
		}
		if left -= r.costOf([]cell.Point{at}); left < 0 {
			break
		}
		chosen = append(chosen, at)
	}
	return chosen
}

// addPoints adds points where lines bend, opens them and weighs their contenders in. A point that its plan refuses, or
// at which a contender fails, is told and left out: those of the plan go on.
func (r *runner) addPoints(ctx context.Context) (added []cell.Point, err error) {
	p := r.cfg.Plan
	param := p.Sweep.Parameters[0]
	most := min(plan.MostAdded, len(r.stations))
	if p.Sweep.Within > 0 { // they catch up in at most half of the time that is left
		one := r.costOf(r.points()) / time.Duration(len(r.stations)) * time.Duration(len(r.result.Order))
		most = min(most, int(r.timeLeft()/2/max(one, 1)))
	}
	for _, stretch := range r.cfg.Steering.Bends(r.result) {
		if len(added) >= most {
			break
		}
		from, to := valueNamed(&param, stretch.From), valueNamed(&param, stretch.To)
		value, ok := param.Between(from, to)
		if !ok {
			continue
		}
		point, err := p.Sweep.Make([]plan.Value{value})
		if err == nil {
			err = r.addPoint(ctx, &point, value)
		}
		var fault *panics.Error
		switch {
		case ctx.Err() != nil:
			return added, ctx.Err()
		case errors.As(err, &fault):
			return added, err
		case err != nil:
			r.result.Footing.Cannot = append(r.result.Footing.Cannot,
				fmt.Sprintf("no point was added at %s %s: %s", param.Name, value.Text, err))
			continue
		}
		param.Values = append(param.Values, value)
		added = append(added, point.At)
	}
	return added, nil
}

func valueNamed(p *plan.Parameter, text string) plan.Value {
	for _, v := range p.Values {
		if v.Text == text {
			return v
		}
	}
	return plan.Value{}
}

// addPoint takes a point in, in the order of its value.
func (r *runner) addPoint(ctx context.Context, point *plan.Point, value plan.Value) error {
	s := &station{point: point.At, plan: point.Plan}
	if err := r.open(ctx, s); err != nil {
		return err
	}
	sweep := *r.result.Sweep // what heads hold is not touched
	params := slices.Clone(sweep.Parameters)
	values := slices.Clone(params[0].Values)
	at, _ := slices.BinarySearchFunc(values, value.Number, func(v result.Value, n float64) int {
		return cmp.Compare(v.Number, n)
	})
	params[0].Values = slices.Insert(values, at, valueOf(value))
	made := r.describePoint(point)
	made.Added = true
	sweep.Parameters, sweep.Points = params, slices.Insert(slices.Clone(sweep.Points), at, made)
	before, stations := r.result.Sweep, r.stations
	r.result.Sweep, r.stations = &sweep, slices.Insert(slices.Clone(r.stations), at, s)
	if err := r.weighIn(ctx, s); err != nil {
		r.result.Sweep, r.stations = before, stations
		contender.CloseAll(s.entries)
		s.closeBystanders()
		return err
	}
	return nil
}
