package fleet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/files"
	"paceduel/core/pace"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/shares"
)

// hand is the driving half of a run, as an agent has it.
type hand struct {
	*rounds.Hand
	plan *plan.Plan

	mu  sync.Mutex
	job *job // that drives a heat; nil: none does
}

// close ends it. It may be called on nil.
func (h *hand) close() {
	if h != nil {
		h.Hand.Close()
	}
}

// glanced hands on how a heat goes to whoever asks for it.
func (h *hand) glanced(p rounds.Progress) {
	h.mu.Lock()
	j := h.job
	h.mu.Unlock()
	if j == nil {
		return
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	recent := p.Recent
	if j.glance != nil { // nobody has asked since
		recent = newest(slices.Concat(j.glance.Recent, recent))
	}
	j.glance = &glance{Stage: p.Stage, Shots: p.Shots, Rate: p.Rate, P50: p.P50, P99: p.P99, Recent: recent}
}

// job is what an agent does that takes time. What came of it is kept until the next one.
type job struct {
	id     string
	cancel context.CancelFunc
	over   chan struct{}

	mu      sync.Mutex
	phase   string
	changed chan struct{}         // closed when the phase is another
	begins  [2]chan time.Duration // moments of stages, by number
	stands  chan int              // number of the contender that stands
	outcome []byte                // packed
	sum     string
	failed  string
	byOwner bool // who does not allow it
	stood   time.Duration
	glance  *glance
}

// newest are the latest of some dots, as many as a glance holds.
func newest(dots []result.Dot) []result.Dot { return dots[max(len(dots)-maxRecent, 0):] }

// start begins a job, unless it is the one that is under way or over already: questions may be asked again.
func (h *hosted) start(id string, do func(ctx context.Context, j *job) (any, error)) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case id == "" || len(id) > maxName:
		return errors.New("a job needs an identifier")
	case h.ended:
		return fmt.Errorf("agent %s has let the run go", h.a.cfg.Name)
	case h.job != nil && h.job.id == id:
		return nil
	case h.job != nil && !h.job.isOver():
		return fmt.Errorf("agent %s is still busy with %s", h.a.cfg.Name, h.job.id)
	}
	ctx, cancel := context.WithCancel(context.Background())
	j := newJob(id, cancel)
	h.job = j
	go func() {
		defer close(j.over)
		defer cancel()
		alive := func() {}
		if !h.a.cfg.Guest {
			alive = j.watchOneself()
		}
		var out any
		err := panics.Guard("carry out "+id, func() (err error) { out, err = do(ctx, j); return err })
		alive()
		var packed []byte
		if err == nil {
			packed, err = h.a.cfg.press.squeeze(out)
		}
		j.finish(packed, err)
	}()
	return nil
}

func newJob(id string, cancel func()) *job {
	j := &job{
		id: id, cancel: cancel, over: make(chan struct{}), phase: works, changed: make(chan struct{}),
		stands: make(chan int, 1),
	}
	for i := range j.begins {
		j.begins[i] = make(chan time.Duration, 1)
	}
	return j
}

func (j *job) isOver() bool {
	select {
	case <-j.over:
		return true
	default:
		return false
	}
}

// beat is how often an agent makes sure that it runs.
const beat = 20 * time.Millisecond

// watchOneself notes for how long this process does not run at the longest, until the function that it returns is
// called.
func (j *job) watchOneself() (stop func()) {
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		tick := time.NewTicker(beat)
		defer tick.Stop()
		last := time.Now()
		for under := true; under; {
			select {
			case <-end: // perhaps at once with a beat that comes late
				under = false
			case <-tick.C:
			}
			now := time.Now()
			if stood := now.Sub(last) - beat; stood > 0 {
				j.mu.Lock()
				j.stood = max(j.stood, stood)
				j.mu.Unlock()
			}
			last = now
		}
	}()
	return func() {
		close(end)
		<-ended
	}
}

func (j *job) finish(outcome []byte, err error) {
	sum := sha256.Sum256(outcome)
	j.mu.Lock()
	j.outcome, j.sum = outcome, hex.EncodeToString(sum[:])
	if err != nil {
		j.failed, j.byOwner = short(err.Error()), isOwnersWord(err)
	}
	j.mu.Unlock()
	j.is(done)
}

// is changes the phase.
func (j *job) is(phase string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.phase = phase
	close(j.changed)
	j.changed = make(chan struct{})
}

// end ends a job and waits for it. It may be called on nil.
func (j *job) end() {
	if j == nil {
		return
	}
	j.cancel()
	<-j.over
}

// await says that a stage may begin as far as this agent goes, and waits for the moment at which it does.
func (j *job) await(ctx context.Context, s pace.Stage, now func() time.Duration) (began time.Duration, err error) {
	j.is(fmt.Sprint(awaits, int(s)))
	select {
	case at := <-j.begins[s]:
		until(ctx, at, now)
		j.is(works)
		return now(), ctx.Err()
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// awaitFooting says that this agent is about to ask a contender, and waits until what it starts from stands.
func (j *job) awaitFooting(ctx context.Context, at int) {
	j.is(fmt.Sprint(standing, at))
	for {
		select {
		case n := <-j.stands:
			if n != at { // said twice of another
				continue
			}
			j.is(works)
			return
		case <-ctx.Done():
			return
		}
	}
}

// nearly is how long before a moment it is no longer slept, since a sleep ends late.
const nearly = 2 * time.Millisecond

// until waits for a moment, to some microseconds.
func until(ctx context.Context, at time.Duration, now func() time.Duration) {
	if left := at - now() - nearly; left > 0 {
		timer := time.NewTimer(left)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-ctx.Done():
			return
		}
	}
	for now() < at {
		time.Sleep(20 * time.Microsecond)
	}
}

// job is the run's job of that identifier.
func (h *hosted) jobOf(id string) (*job, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.job == nil || h.job.id != id {
		return nil, fmt.Errorf("agent %s knows nothing of %s", h.a.cfg.Name, short(id))
	}
	return h.job, nil
}

func (a *Agent) job(q *asked) (*hosted, *job, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return nil, nil, err
	}
	j, err := run.jobOf(q.Job)
	return run, j, err
}

// open has the plan read and its contenders opened.
func (a *Agent) open(q *openAsk) (answered, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return answered{}, err
	}
	return answered{}, run.start(q.Job, func(ctx context.Context, j *job) (any, error) { return run.open(ctx, j, q) })
}

func (h *hosted) open(ctx context.Context, j *job, q *openAsk) (*opened, error) {
	h.mu.Lock()
	old := h.hand
	h.hand = nil
	h.mu.Unlock()
	old.close()
	if q.Who < 0 || q.Who >= len(q.Weights) || len(q.Weights) > plan.MaxAgents {
		return nil, errors.New("it is not said which part of the load is this agent's")
	}
	laid, err := h.check(q)
	if err != nil {
		return nil, err
	}
	p, err := read.Plan(filepath.Join(h.dir, filepath.Base(q.File)), []byte(q.Source), read.Options{
		Kinds: contender.PlanKinds(h.a.cfg.Kinds), Lookup: h.a.cfg.Rules.lookup(h.a.cfg.Env), Sets: q.Sets, Only: q.Only,
		Mirror: q.Mirror, Blind: true,
	})
	if err != nil {
		words := strings.ReplaceAll(err.Error(), h.dir+string(filepath.Separator), "")
		if strings.Contains(words, "is not set") {
			words += "; values come from the agent's own environment, and only those that its owner lends: " +
				"paceduel join --lend NAME"
		}
		return nil, fmt.Errorf("the plan cannot be driven from here: %s", words)
	}
	part := shares.NewDeal(q.Weights).Part(q.Who)
	if err := h.a.cfg.Rules.refuse(p, h.a.cfg.Kinds, part, laid); err != nil {
		return nil, err
	}
	own := &hand{plan: p}
	cfg := rounds.HandConfig{
		Config: rounds.Config{Plan: p, Kinds: h.a.cfg.Kinds, Program: h.a.cfg.Program, Seed: q.Seed, Glance: q.Glance},
		Ports:  q.Ports, Parts: len(q.Weights), Clock: h.clock, KeepShots: q.Shots, Guest: h.a.cfg.Guest,
	}
	cells := rounds.Asked(p)
	cfg.Await = func(ctx context.Context, at cell.Cell) { j.awaitFooting(ctx, slices.Index(cells, at)) }
	if q.Glance > 0 {
		cfg.OnGlance = own.glanced
	}
	opened, seen, err := rounds.OpenHand(ctx, cfg)
	own.Hand = opened
	if err != nil {
		own.close()
		return nil, err
	}
	h.mu.Lock()
	h.hand = own
	h.mu.Unlock()
	return outcomeOf(seen), nil
}

// check holds what was handed over to what whoever runs the duel has, and returns the hashes of files by their names.
func (h *hosted) check(q *openAsk) (laid map[string]string, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for name := range h.laid {
		sum, err := files.SHA256(filepath.Join(h.dir, name), maxFile)
		if err != nil {
			return nil, fmt.Errorf("read %s again: %w", name, err)
		}
		h.laid[name] = sum
	}
	if sumOf(q.Source, q.Sets, h.laid) != q.SHA256 {
		return nil, errors.New("the plan or a file of it is not what it is where the duel is run")
	}
	return maps.Clone(h.laid), nil
}

// heat has a part of a heat driven.
func (a *Agent) heat(q *heatAsk) (answered, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return answered{}, err
	}
	if q.Who < 0 || q.Who >= len(q.Weights) || len(q.Weights) > plan.MaxAgents {
		return answered{}, errors.New("it is not said which part of the heat is this agent's")
	}
	run.mu.Lock()
	own := run.hand
	run.mu.Unlock()
	if own == nil {
		return answered{}, fmt.Errorf("agent %s is not ready", a.cfg.Name)
	}
	p := own.plan.AtPoint(q.Point)
	if p == nil {
		return answered{}, fmt.Errorf("the plan has no heat of %s", short(q.Cell.String()))
	}
	if _, ok := p.Find(q.Contender); !ok {
		return answered{}, fmt.Errorf("the plan has no heat of %s", short(q.Cell.String()))
	}
	// Where others are lost, this agent's part grows.
	if err := a.cfg.Rules.refuseAmounts(p.Pace, shares.NewDeal(q.Weights).Part(q.Who)); err != nil {
		return answered{}, err
	}
	return answered{}, run.start(q.Job, func(ctx context.Context, j *job) (any, error) {
		return run.drive(ctx, own, j, q)
	})
}

// drive drives a part of a heat, for no longer than the owner allows, however long its shots take.
func (h *hosted) drive(ctx context.Context, own *hand, j *job, q *heatAsk) (*driven, error) {
	longest := h.a.cfg.Rules.Heat
	within, stop := context.WithTimeout(ctx, longest)
	defer stop()
	own.mu.Lock()
	own.job = j
	own.mu.Unlock()
	defer func() {
		own.mu.Lock()
		own.job = nil
		own.mu.Unlock()
	}()
	out := &driven{}
	harvest, err := own.Drive(within, rounds.Task{
		Round: q.Round, Cell: q.Cell, Seed: q.Seed, Part: shares.NewDeal(q.Weights).Part(q.Who),
		Await: func(ctx context.Context, s pace.Stage) (err error) {
			out.Began[s], err = j.await(ctx, s, h.clock.Now)
			return err
		},
	})
	if err != nil && ctx.Err() == nil && within.Err() != nil {
		return nil, &ownersWord{fmt.Sprintf("the heat takes longer than the %s that whoever owns the agent allows",
			longest)}
	}
	if err != nil {
		return nil, err
	}
	out.Span, out.Sampled, out.Conditions = harvest.Span, harvest.Sampled, harvest.Conditions
	out.Warm, out.Judged, out.Woken = harvest.Warm, harvest.Judged, harvest.Woken
	return out, nil
}

// begin hands a job the moment at which a stage begins.
func (a *Agent) begin(q *beginAsk) (beganAnswer, error) {
	run, j, err := a.job(&q.asked)
	if err != nil {
		return beganAnswer{}, err
	}
	if q.Stage < 0 || int(q.Stage) >= len(j.begins) {
		return beganAnswer{}, errors.New("there is no such stage")
	}
	late := max(run.clock.Now()-q.At, 0)
	select {
	case j.begins[q.Stage] <- q.At:
	default: // it was told before
	}
	return beganAnswer{Late: late}, nil
}

// touch lets a job ask the contender that it awaits.
func (a *Agent) touch(q *touchAsk) (answered, error) {
	_, j, err := a.job(&q.asked)
	if err != nil {
		return answered{}, err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if standingAt(j.phase) != q.At { // it was told before
		return answered{}, nil
	}
	select {
	case j.stands <- q.At:
	default:
	}
	return answered{}, nil
}

// longestHold bounds how long a question is left unanswered.
const longestHold = time.Second

// wait tells how a job stands, when it stands otherwise than it was last seen to, or after a while.
func (a *Agent) wait(q *waitAsk) (waitAnswer, error) {
	_, j, err := a.job(&q.asked)
	if err != nil {
		return waitAnswer{}, err
	}
	j.mu.Lock()
	phase, changed := j.phase, j.changed
	j.mu.Unlock()
	if phase == q.Seen {
		timer := time.NewTimer(min(max(q.Hold, 0), longestHold))
		defer timer.Stop()
		select {
		case <-changed:
		case <-timer.C:
		}
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	seen := j.glance
	if seen != nil { // its dots are told once
		told := *seen
		told.Recent = nil
		j.glance = &told
	}
	return waitAnswer{
		answered: answered{ByOwner: j.byOwner}, Phase: j.phase, Failed: j.failed, Size: len(j.outcome), SHA256: j.sum,
		Stood: j.stood, Glance: seen,
	}, nil
}

// fetch hands over a part of what came of a job.
func (a *Agent) fetch(q *fetchAsk) (fetchAnswer, error) {
	_, j, err := a.job(&q.asked)
	if err != nil {
		return fetchAnswer{}, err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.phase != done || q.At < 0 || q.At > len(j.outcome) {
		return fetchAnswer{}, errors.New("there is nothing there to hand over")
	}
	return fetchAnswer{Data: j.outcome[q.At:min(q.At+partSize, len(j.outcome))]}, nil
}

// cut ends a job.
func (a *Agent) cut(q *asked) (answered, error) {
	_, j, err := a.job(q)
	if err != nil {
		return answered{}, err
	}
	j.end()
	return answered{}, nil
}

// rest ends whatever is under way.
func (a *Agent) rest(q *asked) (answered, error) {
	run, err := a.of(q.Run)
	if err != nil {
		return answered{}, err
	}
	run.mu.Lock()
	j := run.job
	run.mu.Unlock()
	j.end()
	return answered{}, nil
}

// outcomeOf is what comes of getting ready.
func outcomeOf(seen *result.Result) *opened {
	out := &opened{Touches: map[string]touched{}, Floor: seen.Floor, Cannot: seen.Footing.Cannot}
	for i := range seen.Entrants {
		if e := &seen.Entrants[i]; e.Touch != nil {
			out.Touches[e.Name] = touchOf(e.Touch)
		}
	}
	return out
}
