package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/units"
)

// conductAsk has an agent run a duel where it stands, beside the service that is measured.
type conductAsk struct {
	asked
	File   string        `json:"file"`
	Source string        `json:"source"`
	Sets   []string      `json:"sets,omitempty"`
	Only   []string      `json:"only,omitempty"`
	Mirror bool          `json:"mirror,omitempty"`
	Seed   uint64        `json:"seed"`
	Accept bool          `json:"accept,omitempty"`
	Glance time.Duration `json:"glance_ns"`
	Within time.Duration `json:"within_ns,omitempty"`
	Wait   time.Duration `json:"wait_ns"`
}

// nextAsk asks for a part of the n-th event of a run, from 1. That those before it are not needed any more goes without
// saying.
type nextAsk struct {
	asked
	No   int           `json:"no"`
	At   int           `json:"at"`
	Hold time.Duration `json:"hold_ns"`
}

// nextAnswer is that part; without data there is no such event yet.
type nextAnswer struct {
	answered
	Size int    `json:"size"`
	Data []byte `json:"data,omitempty"`
	Over bool   `json:"over,omitempty"` // there are no more
	// Failed says why the run could not be begun.
	Failed string `json:"failed,omitempty"`
}

// steerAsk hands on what whoever watches a run wants of it.
type steerAsk struct {
	asked
	Paused bool     `json:"paused"`
	Out    []string `json:"out,omitempty"`
	More   int      `json:"more,omitempty"`
}

// outbox holds the one event of a run that waits to be asked for.
type outbox struct {
	mu      sync.Mutex
	no      int // of the event in it, from 1; those before have been taken
	event   []byte
	taken   chan struct{} // closed when the event has been taken
	changed chan struct{} // closed when there is another, or no more
	over    bool
}

func newOutbox() *outbox { return &outbox{changed: make(chan struct{})} }

// put puts an event in; the channel is closed when it has been taken.
func (o *outbox) put(event []byte) (taken <-chan struct{}) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.no, o.event, o.taken = o.no+1, event, make(chan struct{})
	close(o.changed)
	o.changed = make(chan struct{})
	return o.taken
}

func (o *outbox) end() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.over = true
	close(o.changed)
	o.changed = make(chan struct{})
}

// next answers with a part of an event, or with none when there is none within a while.
func (o *outbox) next(q *nextAsk) nextAnswer {
	deadline := time.NewTimer(min(max(q.Hold, 0), longestHold))
	defer deadline.Stop()
	for {
		o.mu.Lock()
		if q.No > o.no && o.taken != nil {
			close(o.taken) // who asks for the next one has all of this one
			o.taken = nil
		}
		if q.No == o.no && o.event != nil && q.At >= 0 && q.At <= len(o.event) {
			out := nextAnswer{Size: len(o.event), Data: o.event[q.At:min(q.At+partSize, len(o.event))]}
			o.mu.Unlock()
			return out
		}
		over, changed := o.over && q.No > o.no, o.changed
		o.mu.Unlock()
		if over {
			return nextAnswer{Over: true}
		}
		select {
		case <-changed:
		case <-deadline.C:
			return nextAnswer{}
		}
	}
}

// leaves is how long the events of a run that was ended are kept for whoever asks for them.
const leaves = 5 * time.Second

// conduct runs a duel here.
func (a *Agent) conduct(q *conductAsk) (answered, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return answered{}, err
	}
	if a.cfg.Dir == "" {
		return answered{}, fmt.Errorf("agent %s runs no services: whoever owns it has to join with --beside DIR",
			a.cfg.Name)
	}
	p, err := read.Plan(filepath.Join(a.cfg.Dir, filepath.Base(q.File)), []byte(q.Source), read.Options{
		Kinds: contender.PlanKinds(a.cfg.Kinds), Lookup: a.cfg.Rules.lookup(a.cfg.Env), Sets: q.Sets, Only: q.Only,
		Mirror: q.Mirror,
	})
	if err != nil {
		return answered{}, fmt.Errorf("agent %s: the plan cannot be run beside it: %w", a.cfg.Name, err)
	}
	for _, one := range p.Plans() {
		if err := a.cfg.Rules.refuseHosts(one); err != nil {
			return answered{}, fmt.Errorf("agent %s: %w", a.cfg.Name, err)
		}
	}
	p.File = q.File
	box := newOutbox()
	control := &rounds.Control{}
	run.mu.Lock()
	if run.box == nil {
		run.box, run.control = box, control
	} else {
		box, control = run.box, run.control // it was asked before
	}
	run.mu.Unlock()
	return answered{}, run.start(q.Job, func(ctx context.Context, _ *job) (any, error) {
		defer box.end()
		return struct{}{}, run.conduct(ctx, q, p, box, control)
	})
}

func (h *hosted) conduct(
	ctx context.Context, q *conductAsk, p *plan.Plan, box *outbox, control *rounds.Control,
) error {
	hands := New(Config{Link: h.a.link, Program: h.a.cfg.Program, Kinds: h.a.cfg.Kinds, Wait: q.Wait})
	if h.a.changes != nil {
		h.a.changes(hands)
	}
	cfg := rounds.Config{
		Plan: p, Kinds: h.a.cfg.Kinds, Program: h.a.cfg.Program, Seed: q.Seed, AcceptUnequal: q.Accept, Glance: q.Glance,
		Within: q.Within, Control: control, Builds: h.a.cfg.Builds,
		Hands: hands,
	}
	if h.a.cfg.Enough != nil {
		cfg.Enough = h.a.cfg.Enough(p)
	}
	if h.a.cfg.Steering != nil {
		cfg.Steering = h.a.cfg.Steering()
	}
	events := make(chan rounds.Event)
	ended := make(chan error, 1)
	go func() {
		_, err := rounds.Run(ctx, cfg, events)
		ended <- err
	}()
	// After an interrupt what is left to say is kept for a while; then nobody asks any more.
	asked, enough := context.WithCancel(context.Background())
	defer enough()
	context.AfterFunc(ctx, func() { time.AfterFunc(leaves, enough) })
	for e := range events {
		text, err := rounds.PackEvent(e)
		if err != nil || text == nil {
			continue
		}
		taken := box.put(text)
		if _, last := e.(rounds.Ended); last {
			continue // it is kept until the run is let go
		}
		select {
		case <-taken: // a heat begins only when the one before it has been dealt with
		case <-asked.Done():
		}
	}
	return <-ended
}

// next hands out the events of a run.
func (a *Agent) next(q *nextAsk) (nextAnswer, error) {
	run, j, err := a.job(&q.asked)
	if err != nil {
		return nextAnswer{}, err
	}
	run.mu.Lock()
	box := run.box
	run.mu.Unlock()
	if box == nil {
		return nextAnswer{}, errors.New("no duel is run here")
	}
	out := box.next(q)
	if out.Over {
		j.mu.Lock()
		out.Failed = j.failed
		j.mu.Unlock()
	}
	return out, nil
}

// halt has a job end, and does not wait for it.
func (a *Agent) halt(q *asked) (answered, error) {
	_, j, err := a.job(q)
	if err == nil {
		j.cancel()
	}
	return answered{}, err
}

// steer does what whoever watches a run wants of it.
func (a *Agent) steer(q *steerAsk) (answered, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return answered{}, err
	}
	run.mu.Lock()
	control := run.control
	run.mu.Unlock()
	if control == nil {
		return answered{}, errors.New("no duel is run here")
	}
	for _, name := range q.Out {
		control.LeaveOut(name)
	}
	if q.More > 0 {
		control.AddRounds(min(q.More, plan.MaxRounds))
	}
	if q.Paused {
		control.Pause()
	} else {
		control.Resume()
	}
	return answered{}, nil
}

// RunBeside runs a duel as rounds.Run does, but on the agent that its plan says sits beside the service: what
// contenders start from, their services and what is watched are there, events come from there. What of cfg is a
// function is not used, but for its Control.
func (f *Fleet) RunBeside(
	ctx context.Context, cfg rounds.Config, out chan<- rounds.Event,
) (*result.Result, error) {
	defer close(out)
	f.plan, f.patience, f.glance = cfg.Plan, cfg.Plan.Load.Patience(), cfg.Glance
	f.run = f.unique(time.Now().Format("0102-1504"))
	r := &result.Result{
		Version: result.Version, Program: cfg.Program, Started: time.Now(), Ending: result.Failed,
		Plan: result.Plan{Name: cfg.Plan.Name, Baseline: cfg.Plan.Baseline, File: cfg.Plan.File, Source: cfg.Plan.Source},
	}
	err := f.beside(ctx, &cfg, out, &r)
	f.Close()
	if err != nil && r.Ending != result.Interrupted && r.Ending != result.Done {
		r.Ending, r.Reason, r.Ended = result.Failed, err.Error(), time.Now()
	}
	out <- rounds.Ended{Result: r, Err: err}
	return r, err
}

// beside has the agent run the duel and hands its events on; r is kept as it comes to be known.
func (f *Fleet) beside(
	ctx context.Context, cfg *rounds.Config, out chan<- rounds.Event, r **result.Result,
) error {
	m, err := f.sits(ctx, cfg.Plan.Load)
	if err != nil {
		return err
	}
	f.set([]*member{m})
	if err := f.engage(ctx, m); err != nil {
		return err
	}
	f.resting = f.keepInTouch()
	job := f.fresh(conduct)
	q := &conductAsk{
		asked: f.asked(job), File: cfg.Plan.File, Source: cfg.Plan.Source, Sets: cfg.Plan.Sets, Seed: cfg.Seed,
		Accept: cfg.AcceptUnequal, Glance: cfg.Glance, Within: cfg.Within, Wait: f.cfg.Wait,
	}
	q.Only, q.Mirror = takesPart(cfg.Plan)
	if err := f.insist(ctx, m, conduct, q, &answered{}); err != nil {
		return err
	}
	stop := f.passOn(cfg.Control, m)
	defer stop()
	var heats []result.Heat
	within := ctx
	for no := 1; ; no++ {
		if ctx.Err() != nil && within == ctx { // the agent is told, and what is left to say is still taken
			f.ask(context.WithoutCancel(ctx), m, halt, f.asked(job), &answered{})
			late, cancel := context.WithTimeout(context.WithoutCancel(ctx), leaves)
			defer cancel()
			within = late
		}
		text, over, err := f.event(within, m, job, no)
		switch {
		case err != nil && ctx.Err() != nil && within == ctx:
			no--
			continue
		case err != nil:
			(*r).Heats = heats
			return err
		case over:
			(*r).Heats = heats
			return fmt.Errorf("agent %s ended without a word", m.card.Name)
		}
		e, err := rounds.UnpackEvent(text)
		if err != nil {
			(*r).Heats = heats
			return fmt.Errorf("agent %s: %w", m.card.Name, err)
		}
		switch e := e.(type) {
		case rounds.Started:
			*r = e.Result
		case rounds.HeatEnded:
			heats = append(heats, e.Heat)
		case rounds.Ended:
			*r = e.Result
			(*r).Heats = heats
			if errors.Is(e.Err, context.Canceled) {
				return ctx.Err()
			}
			return e.Err
		}
		out <- e
	}
}

// takesPart is who is left of a plan's contenders, as plans are read with.
func takesPart(p *plan.Plan) (only []string, mirror bool) {
	for _, c := range p.Contenders {
		if mirror = mirror || c.Mirror; !c.Mirror && c.Name != p.Baseline {
			only = append(only, c.Name)
		}
	}
	return only, mirror
}

// sits finds the agent that sits beside the service.
func (f *Fleet) sits(ctx context.Context, l *plan.Load) (*member, error) {
	began := time.Now()
	for {
		cards, _, err := List(ctx, f.cfg.Link, 250*time.Millisecond)
		if err != nil {
			return nil, err
		}
		for _, c := range cards {
			if c.Name == l.Beside {
				return newMember(c, l), nil
			}
		}
		if time.Since(began) > f.cfg.Wait {
			return nil, fmt.Errorf("agent %s, which is to sit beside the service, is not there; paceduel agents lists those "+
				"that are", l.Beside)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// event fetches the n-th event of a run; over says that there are no more.
func (f *Fleet) event(ctx context.Context, m *member, job string, no int) (text []byte, over bool, err error) {
	for {
		var a nextAnswer
		q := &nextAsk{f.asked(job), no, len(text), longestHold}
		if err := f.insistFor(ctx, longestHold+tryLimit, m, next, q, &a); err != nil {
			return nil, false, err
		}
		switch {
		case a.Failed != "":
			return nil, true, errors.New(units.Printable(short(a.Failed)))
		case a.Over:
			return nil, true, nil
		case a.Size > maxOutcome || a.Size < 0:
			return nil, false, fmt.Errorf("agent %s tells of %d bytes at once", m.card.Name, a.Size)
		}
		if text = append(text, a.Data...); a.Size > 0 && len(text) >= a.Size {
			if !json.Valid(text) {
				return nil, false, fmt.Errorf("agent %s tells what cannot be read", m.card.Name)
			}
			return text, false, nil
		}
	}
}

// steered is how often it is looked whether somebody wants something of a run.
const steered = 200 * time.Millisecond

// passOn hands on what is wanted of a run, until the function that it returns is called.
func (f *Fleet) passOn(c *rounds.Control, m *member) (stop func()) {
	if c == nil {
		return func() {}
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		beat := time.NewTicker(steered)
		defer beat.Stop()
		was := false
		for {
			select {
			case <-ctx.Done():
				return
			case <-beat.C:
			}
			paused, out, more := c.Wishes()
			if paused == was && len(out) == 0 && more == 0 {
				continue
			}
			was = paused
			f.insist(ctx, m, steer, &steerAsk{f.asked(""), paused, out, more}, &answered{})
		}
	}()
	return func() {
		cancel()
		<-ended
	}
}
