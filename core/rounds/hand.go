package rounds

import (
	"context"
	"time"

	"paceduel/core/cell"
	"paceduel/core/clock"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shares"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Hand drives its part of the heats of a run that is conducted elsewhere: it opens the contenders and shoots, and has
// no footing of its own. Its methods are called one after the other.
type Hand struct {
	r       *runner
	drained chan struct{}
	parts   int  // among how many a heat is shared
	guest   bool // see HandConfig
	await   func(context.Context, cell.Cell)
}

// HandConfig is what a hand needs beside what a run does.
type HandConfig struct {
	Config
	Ports    map[string]string // that contenders' services listen on, as an Opening has them
	Parts    int               // among how many heats are shared
	OnGlance func(Progress)    // is told how a heat goes; nil: nobody is
	Clock    *clock.Clock      // by which its moments are
	// Guest says that the process is shared with others, who see to when memory is collected.
	Guest bool
	// Await is called before a contender is asked at first, and returns when what it starts from stands; nil: it does.
	Await func(context.Context, cell.Cell)
	// KeepShots has as many shots kept one by one as are written out.
	KeepShots bool
}

// OpenHand opens a plan's contenders and asks each of them once, as a run does before its first heat. The result has
// what was seen, and what driving costs here at least; the error names who failed. The caller closes the hand.
func OpenHand(ctx context.Context, cfg HandConfig) (*Hand, *result.Result, error) {
	cfg.Plan = afar(cfg.Plan)
	if cfg.OnGlance == nil {
		cfg.Glance = -1
	}
	if cfg.KeepShots {
		cfg.OnShots = func(*result.Heat, *shots.Shape, []tally.Raw, bool) {}
	}
	out := make(chan Event)
	h := &Hand{drained: make(chan struct{}), parts: max(cfg.Parts, 1), guest: cfg.Guest, await: cfg.Await}
	go func() {
		defer close(h.drained)
		for e := range out {
			if p, ok := e.(Progress); ok {
				cfg.OnGlance(p)
			}
		}
	}()
	h.r = newRunner(cfg.Config, out)
	h.r.ports, h.r.hand, h.r.clock = cfg.Ports, h, cfg.Clock
	err := h.r.prepare(ctx)
	if err == nil {
		err = h.r.measureFloor(ctx)
	}
	h.r.result.Ended = time.Now()
	h.r.hide(h.r.result)
	return h, h.r.result, h.r.cfg.Plan.Masks().Error(err)
}

// Close lets the contenders go. It may be called twice.
func (h *Hand) Close() {
	if h.r == nil {
		return
	}
	h.r.takeDown(context.Background())
	close(h.r.out)
	<-h.drained
	h.r = nil
}

// afar is what of a plan is carried out where its contenders are driven from: no services, no steps, nothing to watch.
func afar(p *plan.Plan) *plan.Plan {
	out := *p
	out.Load, out.Footing = nil, plan.Footing{Caches: p.Footing.Caches}
	out.Contenders = make([]plan.Contender, len(p.Contenders))
	for i, c := range p.Contenders {
		c.Ground = plan.Ground{}
		out.Contenders[i] = c
	}
	if p.Sweep != nil {
		swept := *p.Sweep
		swept.Points = make([]plan.Point, len(p.Sweep.Points))
		for i, at := range p.Sweep.Points {
			at.Plan = afar(at.Plan)
			swept.Points[i] = at
		}
		out.Sweep = &swept
	}
	return &out
}

// Task is a heat of which a hand drives a part.
type Task struct {
	Round int
	cell.Cell
	Seed uint64
	Part shares.Part
	// Await returns when a stage begins everywhere.
	Await func(context.Context, pace.Stage) error
}

// Harvest is what a hand recorded of a heat, by its own clock.
type Harvest struct {
	Span                pace.Span
	Sampled             int64
	Warm, Judged, Woken *tally.Parcel
	Conditions          result.Conditions
}

// Drive drives a part of a heat. The error says why it was stopped, or is ctx's.
func (h *Hand) Drive(ctx context.Context, t Task) (*Harvest, error) {
	r := h.r
	at := r.station(t.Point)
	state := plan.AsFound
	for _, s := range at.plan.CacheStates() {
		if string(s) == t.State {
			state = s
		}
	}
	one := &heat{
		r: r, place: place{t.Round, t.Cell}, at: at, entry: at.entry(t.Contender), state: state,
		ground: at.footing.Of(t.Contender), began: r.clock.Now(), part: t.Part, await: t.Await, seed: t.Seed,
	}
	one.recorderSet = one.recorders(1)
	err := one.run(ctx)
	r.done++
	if err != nil {
		return nil, r.cfg.Plan.Masks().Error(err)
	}
	out := &Harvest{
		Span: one.span, Sampled: one.sampled, Warm: tally.Together(one.warm).Pack(),
		Conditions: result.Conditions(one.conditions), Woken: one.woken.Pack(),
	}
	judged := tally.Together(one.judged)
	out.Span.Busy = one.busy(judged)
	for i := range judged.Causes {
		judged.Causes[i] = r.cfg.Plan.Mask(judged.Causes[i])
	}
	out.Judged = judged.Pack()
	return out, nil
}

// busy is each client's time to the end of its last shot, summed, however the heat was driven.
func (h *heat) busy(judged *tally.Recorder) time.Duration {
	if h.span.Busy > 0 {
		return h.span.Busy
	}
	all := max(judged.Elapsed-h.span.Aside, 0)
	for _, r := range h.judged {
		if r.Total() == 0 { // it found nothing left to do, and was there all the same
			all += h.span.End - h.span.Start
		}
	}
	return all
}
