package rounds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Hands drive the heats of a run from other machines, in this process's place: what contenders start from, services and
// what is watched stay here. One run has them at a time, and asks for one thing after another.
type Hands interface {
	// Open has everybody get ready: read the plan, open its contenders, ask each of them once. When all are, it tells
	// of each by o.Ready, and returns who they are, in the order in which load is dealt to them. The error names who is
	// missing, or what one of them found.
	Open(ctx context.Context, o Opening) (*result.Load, error)
	// Drive has those at a place drive a heat together and hand over what they recorded; empty: all. The error is a
	// *HandsError where one of them is to blame, and ctx's when that ends.
	Drive(ctx context.Context, h *Handed) (*Driven, error)
	// Mend makes up for those that an error named: it waits for them, or leaves them out where that may be. It returns
	// the names of those that are lost for good; the error says why the run cannot go on.
	Mend(ctx context.Context, err *HandsError) (lost []string, fatal error)
	// Close lets everybody go.
	Close()
}

// Opening is what hands are opened for.
type Opening struct {
	Plan   *plan.Plan
	Run    string // its identifier
	Seed   uint64
	Clock  *clock.Clock
	Ports  map[string]string  // that contenders' services listen on, for HandConfig
	Glance time.Duration      // how often to tell of a heat under way; 0 or less: never
	Ready  func(result.Agent) // is told of each when all are ready
	// Waits is told in words whom is waited for.
	Waits func(words string)
	// Touches are the first touches of this process, which those elsewhere are held to.
	Touches map[string]*result.Touch
	// Footed has what a contender starts from stand for as long as it takes to do something: whoever asks it from
	// elsewhere, outside of a heat, needs its service.
	Footed func(ctx context.Context, at cell.Cell, do func(context.Context) error) error
}

// Asked are the cells in which whoever opens a plan asks a contender, in that order, as an Opening and a HandConfig
// have them.
func Asked(p *plan.Plan) (cells []cell.Cell) {
	points := []cell.Point{""}
	if p.Sweep != nil {
		points = nil
		for i := range p.Sweep.Points {
			points = append(points, p.Sweep.Points[i].At)
		}
	}
	for _, at := range points {
		own := p.AtPoint(at)
		for _, c := range own.Contenders {
			for _, s := range own.CacheStates() {
				cells = append(cells, cell.Cell{Contender: c.Name, State: stateName(s), Point: at})
			}
		}
	}
	return cells
}

// footed is the Footed of an Opening.
func (r *runner) footed(ctx context.Context, at cell.Cell, do func(context.Context) error) error {
	ground := r.station(at.Point).footing.Of(at.Contender)
	err := ground.BeginHeat(ctx, stateOf(at.State), 0)
	if err == nil {
		err = do(ctx)
	}
	_, ended := ground.EndHeat(ctx)
	return cmp.Or(err, ended)
}

// Handed is a heat that hands are to drive.
type Handed struct {
	Round int
	cell.Cell
	Place string // empty: everybody
	Seed  uint64
	Shape *shots.Shape
	// What they record is added up in these, by the run's clock.
	Warm, Judged, Woken *tally.Recorder
	OnStage             func(pace.Stage, time.Duration)
	// OnGlance, when set, is told how it goes. It is called from the goroutine that called Drive.
	OnGlance func(HandsGlance)
}

// HandsGlance is how a heat goes that is driven from elsewhere.
type HandsGlance struct {
	Stage    pace.Stage
	Shots    int64
	Rate     float64
	P50, P99 time.Duration
	Recent   []result.Dot
	Agents   []AgentGlance
}

// AgentGlance is the same of one agent.
type AgentGlance struct {
	Agent    string
	Shots    int64
	Rate     float64
	P50, P99 time.Duration
	Silent   time.Duration // how long nothing has been heard of it, where that is too long
}

// Driven is a heat that was driven from elsewhere.
type Driven struct {
	Span    pace.Span
	Sampled int64 // shots whose answers were compared
	Shares  []result.Share
}

// HandsError is a heat that was stopped since somebody elsewhere did not do its part.
type HandsError struct {
	Names []string // of agents
	What  string   // what became of them: "agent quay-2 has not answered for 5 s"
	Final bool     // it would come again, however often the heat is done
}

func (e *HandsError) Error() string { return e.What }

// openHands has those elsewhere get ready, where there are any.
func (r *runner) openHands(ctx context.Context) error {
	if r.cfg.Hands == nil {
		return nil
	}
	o := Opening{
		Plan: r.cfg.Plan, Run: r.result.ID, Seed: r.result.Seed, Clock: r.clock, Ports: map[string]string{},
		Glance: r.cfg.Glance, Touches: map[string]*result.Touch{},
		Ready:  func(a result.Agent) { r.send(AgentReady{a, r.head()}) },
		Waits:  func(words string) { r.send(AgentsAwaited{words}) },
		Footed: r.footed,
	}
	for _, s := range r.stations {
		for _, e := range s.entries {
			o.Ports[portOf(e.Name, s.point)] = s.footing.Of(e.Name).Setup().Port
		}
	}
	for i := range r.result.Entrants {
		o.Touches[r.result.Entrants[i].Name] = r.result.Entrants[i].Touch
	}
	load, err := r.cfg.Hands.Open(ctx, o)
	if load != nil {
		r.result.Load, r.result.Floor = load, highest(load)
		r.texts(load)
		for i := range load.Agents {
			for _, words := range load.Agents[i].Cannot {
				r.result.Footing.Cannot = append(r.result.Footing.Cannot, "agent "+load.Agents[i].Name+": "+words)
			}
		}
		r.send(AgentsReady{r.head()})
	}
	return err
}

// highest are the floors of those agents that need most to drive a shot, kind by kind: whoever is dearest may be what
// is measured.
func highest(load *result.Load) (out []result.Floor) {
	cost := func(f *result.Floor) float64 { return f.Wall.Seconds() / float64(max(f.Shots, 1)) }
	for i := range load.Agents {
		for _, f := range load.Agents[i].Floor {
			at := slices.IndexFunc(out, func(o result.Floor) bool { return o.Kind == f.Kind })
			switch {
			case at < 0:
				out = append(out, f)
			case cost(&f) > cost(&out[at]):
				out[at] = f
			}
		}
	}
	return out
}

// portOf is by which name the port of a contender's service at a point travels.
func portOf(contender string, at cell.Point) string {
	return cell.Cell{Contender: contender, Point: at}.String()
}

// handed has the heat driven from elsewhere.
func (h *heat) handed(ctx context.Context) error {
	h.recorderSet = h.recorders(1)
	h.warm[0].Reset(0)
	var account contender.Accounted
	err := h.house(ctx, 1)
	if err == nil {
		account = h.openAccount(ctx)
	}
	drive := func(ctx context.Context, onStage func(pace.Stage, time.Duration)) (pace.Span, error) {
		ask := &Handed{
			Round: h.round, Cell: h.cell, Seed: h.r.result.Seed + uint64(h.round), Shape: h.entry.Shape,
			Warm: h.warm[0], Judged: h.judged[0], Woken: h.woken, OnStage: onStage,
		}
		if h.r.result.IsPlace(h.cell.State) {
			ask.Place = h.cell.State
		}
		if h.r.cfg.Glance > 0 {
			ask.OnGlance = h.glanced
		}
		d, err := h.r.cfg.Hands.Drive(ctx, ask)
		if err != nil {
			now := h.r.clock.Now()
			return pace.Span{Start: now, End: now}, err
		}
		h.shares = d.Shares
		h.sampled += d.Sampled
		return d.Span, nil
	}
	if err == nil {
		w := &watcher{h: h}
		err = h.accompanied(ctx, func() error { return h.driven(ctx, drive, w.stage, account) })
	}
	h.closeAccount(ctx, account)
	return err
}

// glanced tells how a heat goes that is driven from elsewhere.
func (h *heat) glanced(g HandsGlance) {
	h.r.offer(Progress{
		Round: h.round, Cell: h.cell, Stage: g.Stage, At: h.r.clock.Now(), Left: h.r.left(), Shots: g.Shots, Rate: g.Rate,
		Recent: g.Recent, Said: h.ground.Said(), P50: g.P50, P99: g.P99, Agents: g.Agents,
	})
}

// doAgain makes up for a heat that somebody elsewhere did not do their part of: those who failed are waited for or
// left out, what is left of the round is dropped, and it is done again at the end, so that it favours nobody. It
// reports false where err is none of that.
func (r *runner) doAgain(ctx context.Context, i int, err error) (bool, error) {
	var failed *HandsError
	if !errors.As(err, &failed) || r.cfg.Hands == nil || ctx.Err() != nil {
		return false, nil
	}
	if failed.Final {
		return true, failed
	}
	lost, fatal := r.cfg.Hands.Mend(ctx, failed)
	for _, name := range lost {
		if a := r.result.Agent(name); a != nil && fatal == nil {
			a.LostIn = i + 1
		}
	}
	if fatal != nil {
		return true, cmp.Or(ctx.Err(), fatal)
	}
	planned := r.result.Plan.Rounds - r.repeated // those that are done again are rounds, too
	if r.repeated++; r.repeated > max(planned, leastRepeats) {
		return true, fmt.Errorf("%d rounds had to be done again, the last since %w; see to the agents", r.repeated, failed)
	}
	order := slices.Clone(r.result.Order)
	order[i] = slices.DeleteFunc(slices.Clone(order[i]), func(c cell.Cell) bool { return !r.begun[place{i + 1, c}] })
	r.result.Order = order
	r.extend(len(order) + 1)
	r.send(AgainRound{Round: i + 1, Why: failed.What, Lost: lost})
	r.send(OrderChanged{Head: r.head(), Left: r.left()})
	return true, nil
}

// leastRepeats is how many rounds may be done again however few were planned.
const leastRepeats = 5

// AgentReady says that an agent is ready to drive.
type AgentReady struct {
	Agent result.Agent
	Head  *result.Result `text:"ours"`
}

// AgentsReady says that all are, and who they are.
type AgentsReady struct {
	Head *result.Result `text:"ours"`
}

// AgainRound says that a round is done again at the end, and why; Lost are agents that have no part any more.
type AgainRound struct {
	Round int
	Why   string
	Lost  []string
}

// AgentsAwaited says whom is waited for, in words.
type AgentsAwaited struct{ Words string }

func (AgentsAwaited) event() {}
func (AgentReady) event()    {}
func (AgentsReady) event()   {}
func (AgainRound) event()    {}
