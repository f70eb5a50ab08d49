package footing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"syscall"
	"time"

	"paceduel/core/contender"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// Stage is what a service is about.
type Stage string

// The stages of a service.
const (
	Preparing Stage = "preparing"
	Starting  Stage = "starting"
	Ready     Stage = "ready"
	Rushed    Stage = "rushed" // shots come already, ready or not
	Stopping  Stage = "stopping"
	Stopped   Stage = "stopped"
	Died      Stage = "died"
)

// News is what becomes of a contender's service.
type News struct {
	Contender string        `text:"name"`
	Stage     Stage         `text:"ours"`
	At        time.Duration // on the run's clock
	Took      time.Duration // until it was ready, or had stopped
	Said      string        // the end of its output
}

// tell hands on what becomes of the service.
func (g *Ground) tell(stage Stage, took time.Duration) {
	if g.f.OnService != nil {
		g.f.OnService(News{g.name, stage, g.f.clock.Now(), took, g.Said()})
	}
}

// Said is the end of what the contender's latest service printed; empty without one.
// It may be called from anywhere.
func (g *Ground) Said() string {
	if o := g.output.Load(); o != nil {
		return o.tail()
	}
	return ""
}

// Port is the port of the contender's service; empty without one.
func (g *Ground) Port() string { return g.port }

// Resident is the process of the contender's service, to be looked at while a heat is on; its PID is 0 while there is
// none that lasts for the heat.
func (g *Ground) Resident() (r contender.Resident) {
	switch {
	case g.service != nil:
		r.PID, r.Every = g.service.cmd.Process.Pid, g.said.Service.Watch.D()
		if g.service.group != nil {
			r.CPU, r.Killed = g.service.cpu(), g.service.group.Killed
			r.Limits = g.service.said.Limits.Words()
		}
	case g.running != 0:
		r.PID, r.Every = g.running, g.said.Service.Watch.D()
	}
	return r
}

// meet finds the contender's service where somebody else runs it.
func (g *Ground) meet() error {
	s := g.said.Service
	if s == nil || s.Running == nil {
		return nil
	}
	g.running = s.Running.PID
	if port := s.Running.Port; port != 0 {
		pid, err := meter.Listener(port)
		if err != nil {
			return &ServiceError{Does: s.Summary(), Why: "cannot be found: " + err.Error()}
		}
		g.running = pid
	}
	return g.there()
}

// there says that the running service has ended; nil while it is there, and where there is none.
func (g *Ground) there() error {
	if g.running != 0 && syscall.Kill(g.running, 0) == syscall.ESRCH {
		return &ServiceError{
			Does: g.said.Service.Summary(), Why: fmt.Sprintf("is not there: no process has the number %d", g.running),
		}
	}
	return nil
}

// create does what is to be done before the service starts, and creates its process.
func (g *Ground) create(ctx context.Context, level string) (*service, result.Start, error) {
	s := g.said.Service
	var start result.Start
	scope := map[string]*scope{
		plan.EveryDuel: &g.f.duel, plan.EveryRound: &g.f.round, plan.EveryHeat: &g.heat, plan.EveryRun: &g.run,
	}[level]
	g.output.Store(nil) // what the one before said is over
	if len(s.Prepare) > 0 {
		g.tell(Preparing, 0)
	}
	for _, line := range s.Prepare {
		began := g.f.clock.Now()
		if err := g.own(ctx, scope, "before "+level, line); err != nil {
			return nil, start, err
		}
		start.Prepared += g.f.clock.Now() - began
	}
	g.tell(Starting, 0)
	v, err := begin(
		*s, g.f.clock, g.dir, g.f.plan.Dir, g.f.environment(g.name, g.state, g.round, g.dir), g.Setup(), g.f.cgroups,
		g.tracingVariables(), g.listener(),
	)
	if err != nil {
		g.tell(Died, 0)
		return nil, start, err
	}
	start.At = v.created
	g.output.Store(v.output)
	return v, start, nil
}

// serve starts the contender's service when it is to be fresh at this level and is not there.
func (g *Ground) serve(ctx context.Context, level string, warmUp bool) error {
	s := g.said.Service
	if s == nil || s.Running != nil || s.Fresh != level || g.service != nil || g.rushed() {
		return nil
	}
	v, start, err := g.create(ctx, level)
	if err != nil {
		return err
	}
	return g.cost(result.Cost{When: level, Start: true, What: "start " + s.Summary()}, func() (string, error) {
		if err := v.ready(ctx, g.dir, g.Setup()); err != nil {
			v.stop()
			g.tell(Died, 0)
			return "", err
		}
		g.service = v
		start.Ready, start.Unjudged = v.isReady-v.created, warmUp
		g.starts = append(g.starts, start)
		g.tell(Ready, start.Ready)
		return "ready in " + units.Duration(start.Ready) + ": " + s.Ready.Words(), nil
	})
}

// rushed reports whether shots are to come from the service's creation on, so that it is created only when they do.
func (g *Ground) rushed() bool { return g.f.plan.Pace.Rush && g.round > 0 }

// Rush creates the service of a heat whose shots come from that moment on. It does nothing for others.
func (g *Ground) Rush(ctx context.Context) error {
	s := g.said.Service
	if s == nil || !g.rushed() {
		return nil
	}
	v, start, err := g.create(ctx, s.Fresh)
	if err != nil {
		return err
	}
	g.service = v
	g.starts = append(g.starts, start)
	g.tell(Rushed, 0)
	waiting, cancel := context.WithCancel(ctx)
	landed := make(chan error, 1)
	go func() { landed <- v.ready(waiting, g.dir, g.Setup()) }()
	g.land = func() error {
		cancel() // by the end of a heat it is ready, or it was not in time
		err := <-landed
		if errors.Is(err, context.Canceled) && ctx.Err() == nil {
			err = &ServiceError{s.Summary(), "was not ready by the end of the heat (" + s.Ready.Words() + ")", g.Said()}
		}
		if err == nil {
			took := v.isReady - v.created
			g.starts[len(g.starts)-1].Ready = took
			g.costs = append(g.costs, result.Cost{
				When: s.Fresh, Start: true, What: "start " + s.Summary(), Times: 1, Took: took,
				Said: "ready in " + units.Duration(took) + ", under load",
			})
		}
		return err
	}
	return nil
}

// landing waits until it is known how a rushed start went.
func (g *Ground) landing() error {
	if g.land == nil {
		return nil
	}
	land := g.land
	g.land = nil
	return land()
}

// heard adds to the latest start what the service printed of it.
func (g *Ground) heard() {
	if n := len(g.starts); n > 0 && g.service != nil && g.starts[n-1].At == g.service.created {
		start := &g.starts[n-1]
		first, list := g.service.output.told()
		if start.Marks = list; first > 0 {
			start.Output = first - g.service.created
		}
	}
}

// answered adds to the latest start of a run what became of its one shot.
func (g *Ground) answered(shot *shots.Shot) {
	if n := len(g.starts); n > 0 && g.service != nil && g.starts[n-1].At == g.service.created && shot.Class == shots.OK {
		start := &g.starts[n-1]
		start.Asked, start.First, start.FirstTook = shot.Start-start.At, shot.End-start.At, shot.Latency()
	}
}

// dismiss stops the service when it was fresh at this level.
func (g *Ground) dismiss(level string) {
	s := g.said.Service
	if g.service == nil || s.Fresh != level {
		return
	}
	g.heard()
	g.tell(Stopping, 0)
	began := g.f.clock.Now()
	g.cost(result.Cost{
		When: "after " + level, What: "stop " + s.Summary(),
	}, func() (string, error) { return g.service.stop(), nil })
	g.tell(Stopped, g.f.clock.Now()-began)
	g.service = nil
}

// lastBreath is how long a service that no longer answers may take to be seen to have ended.
const lastBreath = 200 * time.Millisecond

// Watched is ctx, ended also when the contender's service dies. release gives back what that took, and why the service
// died, if it did; it is told whether shots failed, in which case the service may be about to.
func (g *Ground) Watched(ctx context.Context) (watched context.Context, release func(failed bool) error) {
	v := g.service
	if v == nil {
		return ctx, func(bool) error { return g.there() }
	}
	watched, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		select {
		case <-v.gone:
			cancel()
		case <-watched.Done():
		}
	}()
	return watched, func(failed bool) error {
		cancel()
		<-done
		if failed && ctx.Err() == nil {
			wait := time.NewTimer(lastBreath)
			select {
			case <-v.gone:
			case <-wait.C:
			}
			wait.Stop()
		}
		late := g.landing()
		died := v.died()
		if died != nil {
			g.tell(Died, 0)
		}
		return cmp.Or(died, late)
	}
}

// portOf is the port that a contender's service is met on: a free one where it is started for it.
func portOf(s *plan.Service) (string, error) {
	switch {
	case s == nil:
		return "", nil
	case s.Running == nil:
		return freePort()
	case s.Running.Port != 0:
		return strconv.Itoa(s.Running.Port), nil
	}
	return "", nil
}
