package app

import (
	"fmt"
	"maps"
	"sync/atomic"
	"time"

	"paceduel/core/cell"
	"paceduel/core/judge"
	"paceduel/core/pace"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/units"
	"paceduel/screen"
)

// feed hands the newest state of a run to the screen: publishing never waits, and what nobody took in time is replaced.
type feed struct {
	last  atomic.Pointer[screen.Run]
	ready chan struct{} // capacity 1
}

func newFeed() *feed { return &feed{ready: make(chan struct{}, 1)} }

func (f *feed) publish(r screen.Run) {
	f.last.Store(&r)
	select {
	case f.ready <- struct{}{}:
	default:
	}
}

// follower turns a run's events into states of the run. It belongs to the goroutine that takes the events; what it
// publishes shares memory with it that is only ever appended to.
type follower struct {
	feed *feed
	run  screen.Run
	// the latest judged span by contender and state, to place dots of the heat under way
	typical map[cell.Cell]time.Duration
}

func newFollower(f *feed) *follower {
	return &follower{feed: f, typical: map[cell.Cell]time.Duration{}, run: screen.Run{Live: true, Left: -1}}
}

// follow takes the next event. It runs between heats, except for glances, which it only copies.
func (f *follower) follow(e rounds.Event) {
	switch e := e.(type) {
	case rounds.Started:
		f.run.Result = e.Result
	case rounds.Building:
		f.run.Asking = &screen.Asking{Cell: cell.Of(e.Contender, ""), Built: e.Revision}
	case rounds.WasBuilt:
		f.run.Asking = nil
	case rounds.Footed:
		f.run.Result = e.Head
	case rounds.Asking:
		f.run.Asking = &screen.Asking{Cell: e.Cell, Took: e.Took}
	case rounds.Touched:
		f.run.Result = e.Head
	case rounds.Weighed:
		f.run.Result, f.run.Asking = e.Head, nil
	case rounds.ServiceIs:
		f.service(e.Contender, screen.Service{Stage: e.Stage, Took: e.Took, Said: e.Said})
	case rounds.HeatBegan:
		f.begin(e)
	case rounds.StageBegan:
		f.stage(e)
		if e.Stage == pace.Judged {
			return // what is measured begins: it is drawn at the next glance
		}
	case rounds.Progress:
		f.glance(e)
	case rounds.HeatEnded:
		f.run.Now, f.run.Left = nil, e.Left
		f.run.Heats = append(f.run.Heats, e.Heat)
		f.typical[e.Heat.Cell] = e.Heat.Wall
		if f.dueForJudging() {
			f.judge()
		}
	case rounds.FloorFound:
		f.run.Result = e.Head
	case rounds.AgentsAwaited:
		f.run.Awaits = e.Words
	case rounds.AgentReady:
		f.run.Awaits = ""
	case rounds.AgentsReady:
		f.run.Result, f.run.Awaits = e.Head, ""
	case rounds.AgainRound:
		f.run.Again = fmt.Sprintf("round %d is done again at the end: %s", e.Round, e.Why)
		if len(e.Lost) > 0 {
			f.run.Again += "; the run goes on without " + units.List(e.Lost)
		}
	case rounds.Paused:
		f.run.Paused = true
	case rounds.Resumed:
		f.run.Paused = false
	case rounds.OrderChanged:
		f.run.Result, f.run.Left = e.Head, e.Left
	case rounds.NotKept:
		f.run.NotKept = e.Err
	case rounds.Ended:
		f.run.Paused, f.run.Asking = false, nil
		f.run.Live, f.run.Now, f.run.Err, f.run.Result, f.run.Heats = false, nil, e.Err, e.Result, e.Result.Heats
		f.judge()
	}
	f.feed.publish(f.run)
}

// service notes what a contender's service is about.
func (f *follower) service(contender string, is screen.Service) {
	next := maps.Clone(f.run.Services)
	if next == nil {
		next = map[string]screen.Service{}
	}
	next[contender] = is
	f.run.Services = next
}

func (f *follower) begin(e rounds.HeatBegan) {
	n := &screen.Now{Round: e.Round, Cell: e.Cell, Stage: pace.WarmingUp}
	if p := f.run.Result.Plan.Pace; p.WarmupFor == 0 && p.WarmupShots == 0 {
		n.Stage = pace.Judged // nothing comes before it
	}
	n.Heat = result.Heat{Round: e.Round, Cell: e.Cell, At: e.At, Wall: f.span(e.Cell)}
	f.run.Now, f.run.Left = n, e.Left
}

// span guesses how long the judged part of a heat will be.
func (f *follower) span(of cell.Cell) time.Duration {
	if d := f.run.Result.Plan.Pace.For; d > 0 {
		return d
	}
	if d, ok := f.typical[of]; ok {
		return d
	}
	return time.Second
}

func (f *follower) stage(e rounds.StageBegan) {
	n := *f.run.Now
	n.Stage = e.Stage
	n.Heat.At = e.At
	f.run.Now = &n
}

func (f *follower) glance(e rounds.Progress) {
	n := *f.run.Now
	n.Stage, n.Shots, n.Rate, n.P50, n.P99 = e.Stage, e.Shots, e.Rate, e.P50, e.P99
	n.Waits, n.Longest = e.Waits, e.Longest
	n.Agents = nil
	for _, a := range e.Agents {
		n.Agents = append(n.Agents, screen.Driving{
			Agent: a.Agent, Shots: a.Shots, P50: a.P50, P99: a.P99, Silent: a.Silent,
		})
	}
	n.Heat.Dots = append(n.Heat.Dots[:len(n.Heat.Dots):len(n.Heat.Dots)], e.Recent...)
	f.run.Now, f.run.Left = &n, e.Left
	if is, ok := f.run.Services[e.Contender]; ok && is.Said != e.Said {
		is.Said = e.Said
		f.service(e.Contender, is)
	}
}

// everyRound is how many rounds are judged one by one as they end; of n rounds beyond, about n/everyRound pass between
// two looks, since judging costs more the more heats there are.
const everyRound = 20

// dueForJudging says whether to look at the verdict now: at the end of a round, less often in long runs. In the first
// one each heat counts, since somebody may wait for a lane's first figures to see whether the run is a wrong one.
func (f *follower) dueForJudging() bool {
	ended, round := 0, 0
	for _, heats := range f.run.Result.Order {
		if ended >= len(f.run.Heats) {
			break
		}
		ended += len(heats)
		round++
	}
	return round <= 1 || ended == len(f.run.Heats) && (round <= everyRound || round%(round/everyRound+1) == 0)
}

// judge weighs the finished heats, so that the verdict can be watched as it settles.
func (f *follower) judge() {
	whole := *f.run.Result
	whole.Heats = f.run.Heats
	if whole.Sweep != nil {
		swept, err := judge.JudgeSweep(&whole)
		if f.run.Unjudged = err; err == nil {
			f.run.Judged = swept
		}
		return
	}
	v, err := judge.Judge(&whole)
	if f.run.Unjudged = err; err == nil {
		f.run.Verdict = v
	}
}

// fell takes down that the run ended by a fault of ours; what was measured stays in view.
func (f *follower) fell(err error) {
	f.run.Live, f.run.Paused, f.run.Now, f.run.Err = false, false, nil, err
	if f.run.Result == nil {
		f.run.Result = &result.Result{Reason: err.Error(), Ending: result.Failed}
	}
	f.feed.publish(f.run)
}
