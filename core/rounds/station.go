package rounds

import (
	"cmp"
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/footing"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/weighin"
)

// station is where the heats of one point of a sweep are run: its plan, its contenders opened, on their ground. A duel
// without a sweep has one.
type station struct {
	point    cell.Point
	plan     *plan.Plan
	footing  *footing.Footing // shared by points that start from the same
	entries  []contender.Entry
	standard *weighin.Standard // what answers are held to
	// drivers of those who ask meanwhile, by contender
	bystanders map[string]contender.Driver
	watched    map[string]contender.Accounted // databases, by the contender that uses them
}

func (s *station) entry(name string) contender.Entry {
	i := slices.IndexFunc(s.entries, func(e contender.Entry) bool { return e.Name == name })
	return s.entries[i]
}

// station is where the heats of a cell are run.
func (r *runner) station(at cell.Point) *station {
	i := slices.IndexFunc(r.stations, func(s *station) bool { return s.point == at })
	return r.stations[i]
}

// makeStations makes a station for every point, without opening it.
func (r *runner) makeStations() {
	p := r.cfg.Plan
	if p.Sweep == nil {
		r.stations = []*station{{plan: p}}
		return
	}
	for i := range p.Sweep.Points {
		r.stations = append(r.stations, &station{point: p.Sweep.Points[i].At, plan: p.Sweep.Points[i].Plan})
	}
}

// open puts up a station's footing, unless one that starts from the same stands already, and opens its contenders.
func (r *runner) open(ctx context.Context, s *station) error {
	for _, o := range r.stations {
		if s.footing == nil && o.footing != nil && sameGround(o.plan, s.plan) {
			s.footing = o.footing
		}
	}
	if s.footing == nil {
		f, err := footing.Open(s.plan, r.clock)
		if err != nil {
			return fmt.Errorf("prepare the footing: %w", err)
		}
		s.footing = f
		r.footings = append(r.footings, f)
		f.OnService = func(n footing.News) { r.send(ServiceIs(n)) }
		cannot, err := f.Begin(ctx)
		for _, words := range cannot {
			if !slices.Contains(r.result.Footing.Cannot, words) {
				r.result.Footing.Cannot = append(r.result.Footing.Cannot, words)
			}
		}
		r.takeCosts()
		if err != nil {
			return err
		}
	}
	s.entries = contender.OpenAll(s.plan, r.cfg.Kinds, func(name string) contender.Setup {
		setup := s.footing.Of(name).Setup()
		if port := r.ports[portOf(name, s.point)]; port != "" {
			setup.Port = port
		}
		return setup
	})
	if err := cmp.Or(r.watch(s), r.openBystanders(s)); err != nil {
		return err
	}
	return r.room(s)
}

// sameGround reports whether runs of two points start from the same, so that workspaces and services serve both.
func sameGround(a, b *plan.Plan) bool {
	if !reflect.DeepEqual(a.Footing, b.Footing) || len(a.Contenders) != len(b.Contenders) {
		return false
	}
	for i := range a.Contenders {
		if !reflect.DeepEqual(a.Contenders[i].Ground, b.Contenders[i].Ground) {
			return false
		}
	}
	return true
}

// takeCosts enters what was done for the duel and for rounds so far.
func (r *runner) takeCosts() {
	r.result.Footing.Costs = nil
	for _, f := range r.footings {
		r.result.Footing.Costs = append(r.result.Footing.Costs, f.Costs...)
	}
}

// harm is what was done to originals of workspaces anywhere; nil when nothing was seen.
func (r *runner) harm() error {
	for _, f := range r.footings {
		if err := f.Harm(); err != nil {
			return err
		}
	}
	return nil
}

// beginRound performs the steps before a round on every footing; done performs those after it.
func (r *runner) beginRound(ctx context.Context, round int) (done func(context.Context) error, err error) {
	var dones []func(context.Context) error
	done = func(ctx context.Context) (err error) {
		for _, d := range slices.Backward(dones) {
			err = cmp.Or(err, d(ctx))
		}
		return err
	}
	for _, f := range r.footings {
		d, err := f.Round(ctx, round)
		dones = append(dones, d)
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// weighIn asks the contenders of a station.
func (r *runner) weighIn(ctx context.Context, s *station) error {
	asked := func() {} // ends telling of whom is asked
	defer func() { asked() }()
	asks := func(name string, state plan.State) {
		asked()
		at := cell.Cell{Contender: name, State: stateName(state), Point: s.point}
		if r.hand != nil && r.hand.await != nil {
			r.hand.await(ctx, at)
		}
		asked = r.tellOf(at)
	}
	entrants := r.entrantsAt(s.point)
	w, standard, err := weighin.Run(ctx, s.plan, s.entries, s.footing, r.cfg.AcceptUnequal, asks, func(
		name string, t *result.Touch, body []byte,
	) {
		asked()
		asked = func() {}
		r.texts(t)
		t.Body = cutTo(t.Body, maxBodies/len(r.stations))
		for _, list := range entrants {
			i := slices.IndexFunc(list, func(e result.Entrant) bool { return e.Name == name })
			if e := &list[i]; e.Touch == nil {
				e.Touch, e.Version = t, t.Version
				if e.From != nil {
					e.Version = strings.TrimSpace("commit " + e.From.Short() + " " + t.Version)
				}
			} else {
				e.Again = t
			}
		}
		if r.cfg.OnAnswer != nil && s == r.stations[0] {
			r.cfg.OnAnswer(name, t.State, []byte(r.cfg.Plan.Mask(string(body))))
		}
		r.send(Touched{name, t, r.head()})
	})
	s.standard = standard
	for _, e := range s.entries { // what is started for each heat is not there while others have theirs
		if housed, ok := e.Driver.(contender.Housed); ok {
			housed.End()
		}
	}
	if w != nil {
		r.texts(w)
		if i := r.pointAt(s.point); i >= 0 {
			r.result.Sweep.Points[i].Weighing = w
		}
		if s == r.stations[0] {
			r.result.Weighing = w
		}
		r.send(Weighed{w, r.head()})
	}
	if err != nil && s.point != "" && ctx.Err() == nil {
		return fmt.Errorf("at %s: %w", s.point, err)
	}
	return err
}

// maxBodies is how much of a contender's answers at all points is kept, in bytes.
const maxBodies = 64 << 10

// cutTo cuts a text to so many bytes, at a whole character.
func cutTo(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && text[most]&0xc0 == 0x80 {
		most--
	}
	return text[:most]
}

// pointAt is the number of a point in the result; -1 without a sweep.
func (r *runner) pointAt(at cell.Point) int {
	if r.result.Sweep == nil {
		return -1
	}
	return r.result.Sweep.Find(at)
}

// entrantsAt are the lists in which what is seen of contenders at a point is entered: that of the point, and the
// result's own for the first one.
func (r *runner) entrantsAt(at cell.Point) (lists [][]result.Entrant) {
	if i := r.pointAt(at); i >= 0 {
		lists = append(lists, r.result.Sweep.Points[i].Entrants)
	}
	if at == r.stations[0].point {
		lists = append(lists, r.result.Entrants)
	}
	return lists
}

// describeSweep is what the result says of a plan's sweep before anything was run; nil without one.
func (r *runner) describeSweep() *result.Sweep {
	s := r.cfg.Plan.Sweep
	if s == nil {
		return nil
	}
	out := &result.Sweep{Within: s.Within.D(), Bends: s.Bends}
	for i := range s.Parameters {
		p := &s.Parameters[i]
		own := result.Parameter{Name: p.Name, Sets: p.Sets, Counts: string(p.Counts), Log: p.Log}
		for _, v := range p.Values {
			own.Values = append(own.Values, valueOf(v))
		}
		out.Parameters = append(out.Parameters, own)
	}
	for i := range s.Points {
		out.Points = append(out.Points, r.describePoint(&s.Points[i]))
	}
	return out
}

func valueOf(v plan.Value) result.Value {
	out := result.Value{Text: v.Text, Called: v.Called, Number: v.Number}
	if v.Number != v.Number { // a word
		out.Number = 0
	}
	return out
}

func (r *runner) describePoint(p *plan.Point) result.Point {
	return result.Point{At: p.At, Pace: paceOf(p.Plan), Entrants: r.entrants(p.Plan), Steps: stepsOf(p.Plan)}
}

// forgets is above how many clients recorders are not kept from heat to heat while several numbers of them take turns.
const forgets = 64

// dropLarge drops recorders for many clients but those of a key. A sweep over clients needs many sets; the large ones
// are made anew, between heats, so that they are not all held at once.
func (r *runner) dropLarge(keep recorderKey) {
	if len(r.stations) == 1 {
		return
	}
	for key := range r.sets {
		if key != keep && key.n > forgets {
			delete(r.sets, key)
		}
	}
}
