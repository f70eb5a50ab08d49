// Package rounds runs a duel: the weigh-in, then every contender's heat in every round, in shuffled order.
//
// It promises that each finished heat has been handed out as an event before the next one starts, that an interrupt
// keeps what was measured, and that nothing but the contender works during a heat: collecting memory, adding up and
// encoding happen between heats, and a heat is looked at a few times a second. Storing and showing are left to whoever
// takes the events.
package rounds

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math/big"
	mathrand "math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"paceduel/core/cell"
	"paceduel/core/clock"
	"paceduel/core/commits"
	"paceduel/core/contender"
	"paceduel/core/figure"
	"paceduel/core/files"
	"paceduel/core/footing"
	"paceduel/core/meter"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Config is what a run needs.
type Config struct {
	Plan    *plan.Plan
	Kinds   []contender.Kind
	Program string // our version
	Seed    uint64 // of the running order; 0: the plan's, or a fresh one
	// AcceptUnequal runs the duel although contenders break the plan's rules for the same work; the result says so.
	AcceptUnequal bool
	// OnAnswer, when set, is handed each contender's whole answer at the weigh-in, decoded, which it may keep.
	OnAnswer func(contender, state string, body []byte)
	// OnShots, when set, is handed the shots of each heat that were kept one by one before its HeatEnded, see tally.Kept.
	OnShots func(h *result.Heat, shape *shots.Shape, list []tally.Raw, sampled bool)
	// Control, when set, steers the run while it is on.
	Control *Control
	// Enough, when set, is asked after each complete round from the plan's number on whether the run may end; its result
	// is not to be changed. It is for a plan that says until.
	Enough func(*result.Result) bool
	// Before, when set, is an earlier run of the sweep that this one goes on from; Plan is then what Joined made of the
	// two.
	Before *result.Result
	// Steering says how a sweep goes on that has a time, or points to be added.
	Steering Steering
	// Within is how long the whole may take: rounds for which there is no time any more are left out, whatever was
	// found by then, so that it favours nobody. 0: as long as it takes. A sweep has a time of its own in its plan.
	Within time.Duration
	// Builds is where what is built from commits is kept.
	Builds commits.Cache
	// Hands, when set, drive the heats from elsewhere.
	Hands Hands
	// Glance is how often a heat is looked at; 0: 250 ms; negative: never, where nobody watches.
	Glance time.Duration
}

const defaultGlance = 250 * time.Millisecond

// Run runs the duel and sends what happens to out, which it closes at the end; the caller takes events until then. out
// is unbuffered, so that a heat begins only when the one before it has been dealt with, stored for instance. Run
// returns what the last event carries. When ctx ends, the heat under way is cut, the result is complete as far as it
// goes and the error is ctx's.
func Run(ctx context.Context, cfg Config, out chan<- Event) (*result.Result, error) {
	defer close(out)
	r := newRunner(cfg, out)
	r.send(Started{r.head()})
	err := panics.Guard("prepare the duel", func() error { return r.prepare(ctx) })
	if err == nil {
		err = panics.Guard("run the duel", func() error { return r.run(ctx) })
	}
	if downErr := panics.Guard("take the footing down", func() error { return r.takeDown(ctx) }); err == nil {
		err = downErr
	}
	err = r.finish(ctx, err)
	r.send(Ended{r.result, err})
	return r.result, err
}

// WeighIn does what a run does before its first heat, and no more. The result has no heats; the error names who failed.
func WeighIn(ctx context.Context, cfg Config) (*result.Result, error) {
	out := make(chan Event)
	go func() {
		for range out { // nobody watches
		}
	}()
	defer close(out)
	r := newRunner(cfg, out)
	r.weighsOnly = true
	err := r.prepare(ctx)
	if downErr := r.takeDown(ctx); err == nil {
		err = downErr
	}
	err = r.finish(ctx, err)
	return r.result, err
}

// runner is one run under way. It belongs to the goroutine of Run.
type runner struct {
	cfg      Config
	out      chan<- Event
	clock    *clock.Clock
	stations []*station         // one for each point, in the order of the result's
	footings []*footing.Footing // of all of them
	pass     pass               // of a sweep
	result   *result.Result
	sets     map[recorderKey]*recorderSet // which serve heat after heat
	spent    map[cell.Cell]time.Duration  // the latest heat's whole length, for the time left
	done     int                          // heats
	// pausedNow is how long this sitting was paused.
	pausedNow time.Duration
	base      time.Duration // by the run's clock, when this sitting began
	started   time.Duration // from then until its first round
	first     int           // rounds of earlier sittings
	repeated  int           // rounds that were done again
	// weighsOnly says that no heats follow, so that nobody is needed to drive them.
	weighsOnly bool
	hand       *Hand             // that this is the driving half of; nil: a whole run
	ports      map[string]string // of services elsewhere, of a hand
	begun      map[place]bool    // heats
}

func newRunner(cfg Config, out chan<- Event) *runner {
	if cfg.Glance == 0 {
		cfg.Glance = defaultGlance
	}
	if cfg.Seed == 0 {
		cfg.Seed = cfg.Plan.Seed
	}
	if cfg.Seed == 0 {
		cfg.Seed = freshSeed()
	}
	cfg.Plan = ofCommits(cfg.Plan)
	began := clock.Start()
	if cfg.Before != nil {
		cfg.Seed = cfg.Before.Seed
		began = clock.StartAt(lastMoment(cfg.Before) + between)
	}
	r := &runner{
		cfg: cfg, out: out, clock: began, spent: map[cell.Cell]time.Duration{}, begun: map[place]bool{},
		sets: map[recorderKey]*recorderSet{},
	}
	r.makeStations()
	r.result = r.describe()
	r.hide(r.result)
	if cfg.Before != nil {
		r.takeOver(cfg.Before)
	}
	return r
}

// freshSeed draws a seed short enough to be typed again.
func freshSeed() uint64 {
	n, err := rand.Int(rand.Reader, big.NewInt(99_999))
	if err != nil {
		return 1
	}
	return n.Uint64() + 1
}

func (r *runner) describe() *result.Result {
	p := r.cfg.Plan
	sum := sha256.Sum256([]byte(p.Source))
	all := *p
	all.Rounds = initialRounds(p)
	order := Order(&all, r.cfg.Seed)
	res := &result.Result{
		Version: result.Version, Program: r.cfg.Program, ID: newID(r.clock.Wall()), Seed: r.cfg.Seed,
		Started: r.clock.Wall(),
		Ending:  result.Running, Host: result.Host(meter.ReadHost()), Order: order,
		Plan: result.Plan{
			Name: p.Name, Question: p.Question, Baseline: p.Baseline, File: p.File, Source: p.Source,
			SHA256: hex.EncodeToString(sum[:]), Files: files.Named(p.Source+"\n"+strings.Join(p.Sets, "\n"), p.Dir),
			Sets: p.Sets, Vars: p.Vars(), Rounds: all.Rounds, Interest: float64(p.Interest), Decides: p.Decides,
			Looks: p.Looks, Interests: interests(p), Rungs: p.Rungs, Stakes: stakes(p.Stakes),
			Pace: paceOf(p),
		},
	}
	if l := p.Load; l != nil {
		res.Load = &result.Load{Places: l.Places, Words: l.String()}
	}
	res.Parts, res.Amounts = contender.Shapes(p, r.cfg.Kinds)
	for _, k := range r.cfg.Kinds {
		if slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Kind == k.Name }) {
			res.Brings = append(res.Brings, k.Brings...)
		}
	}
	res.Parts = append([]string{tally.Late}, res.Parts...)
	res.Plan.Marks, res.Plan.Sums = plan.MarkNames(p.Contenders), plan.MarkSums(p.Contenders)
	for _, c := range p.Claims {
		res.Plan.Claims = append(res.Plan.Claims, c.Text)
	}
	if u := p.Until; u != nil {
		res.Plan.Until = &result.Until{
			Figure: figure.Name(u.Figure), Within: float64(u.Within), Least: p.Rounds, Most: u.Most,
		}
	}
	res.Entrants, res.Sweep = r.entrants(p), r.describeSweep()
	for _, s := range p.Footing.Caches {
		if s != plan.AsFound {
			res.Footing.States = append(res.Footing.States, string(s))
		}
	}
	res.Footing.Steps = stepsOf(p)
	return res
}

// stepsOf are the steps of a plan's footing, contender by contender.
func stepsOf(p *plan.Plan) (steps []result.Cost) {
	for i := range p.Contenders {
		for _, s := range p.CacheStates() {
			steps = append(steps, footing.Steps(p, &p.Contenders[i], s)...)
		}
	}
	return steps
}

// paceOf is a plan's pace as results have it.
func paceOf(p *plan.Plan) result.Pace {
	out := result.Pace{
		Repeat: p.Pace.Repeat, Clients: p.Pace.Clients, Rate: float64(p.Pace.Rate), Spread: p.Pace.Spread,
		Most: p.Pace.Most, For: p.Pace.For.D(), Shots: p.Pace.Shots,
		WarmupFor: p.Pace.Warmup.For.D(), WarmupShots: p.Pace.Warmup.Shots, Words: p.Pace.String(),
		Think: p.Pace.Think.D(), Stagger: p.Pace.Stagger.D(), Rush: p.Pace.Rush, Wake: p.Pace.Wake.D(),
	}
	if c := p.Pace.Climb; c != nil {
		out.Climb = &result.Climb{Levels: c.Levels(), Open: c.From.Rate > 0, Under: c.Under.D(), At: figure.Name(c.At)}
	}
	return out
}

// entrants are a plan's contenders as results have them.
func (r *runner) entrants(p *plan.Plan) (out []result.Entrant) {
	for _, c := range p.Contenders {
		housed, lasts := c.Settings.(plan.Housed)
		s := c.Ground.Service
		kept := s != nil && s.Running == nil && s.Fresh == plan.EveryDuel
		var streams []string
		var floors map[string]time.Duration
		if s, ok := c.Settings.(plan.Streaming); ok {
			streams, floors = s.Streams(), s.Floors()
		}
		out = append(out, result.Entrant{
			Streams: streams, Floors: floors,
			OneProcess: kept || lasts && !housed.StartsAnew(),
			Name:       c.Name, Note: c.Note, Avoid: c.Avoid, Kind: c.Kind, Does: c.Settings.Summary(), Mirror: c.Mirror,
			OwnProcess: r.ownProcess(c.Kind), Marks: c.Marks(),
		})
	}
	return out
}

// ownProcess reports whether each shot of a kind is a process of its own.
func (r *runner) ownProcess(kind string) bool {
	return slices.ContainsFunc(r.cfg.Kinds, func(k contender.Kind) bool { return k.Name == kind && k.Shape.OwnProcess })
}

func interests(p *plan.Plan) (out map[figure.Name]float64) {
	for f, share := range p.Interests {
		if out == nil {
			out = map[figure.Name]float64{}
		}
		out[f] = float64(share)
	}
	return out
}

func stakes(s *plan.Stakes) *result.Stakes {
	if s == nil {
		return nil
	}
	return &result.Stakes{
		RunsPerDay: float64(s.RunsPerDay), MinutePrice: float64(s.MinutePrice), PeakRate: float64(s.PeakRate),
		Spare:       float64(s.Spare),
		ServerPrice: float64(s.ServerPrice), Items: float64(s.Items), Currency: string(s.Currency), Prices: s.Each,
	}
}

// newID makes an identifier that sorts by time and can be typed: date, time and two random letters.
func newID(at time.Time) string {
	letters := "abcdefghjkmnpqrstuvwxyz"
	pick := func() byte { return letters[mathrand.N(len(letters))] }
	return at.Format("0102-1504") + string([]byte{pick(), pick(), pick()})
}

// head is a copy of the result as it stands, without heats.
func (r *runner) head() *result.Result {
	head := *r.result
	head.Heats = nil
	head.Entrants = slices.Clone(head.Entrants)
	head.Floor = slices.Clone(head.Floor)
	if r.result.Sweep != nil {
		swept := *r.result.Sweep
		swept.Points = slices.Clone(swept.Points)
		for i := range swept.Points {
			swept.Points[i].Entrants = slices.Clone(swept.Points[i].Entrants)
		}
		head.Sweep = &swept
	}
	return &head
}

// Order is the running order that seed gives: for each round, every cell, shuffled.
func Order(p *plan.Plan, seed uint64) [][]cell.Cell {
	order := make([][]cell.Cell, p.Rounds)
	if p.Sweep != nil {
		points := make([]cell.Point, len(p.Sweep.Points))
		for i := range points {
			points[i] = p.Sweep.Points[i].At
		}
		for i := range order {
			order[i] = sweptRound(p, points, seed, i)
		}
		return order
	}
	rng := mathrand.New(mathrand.NewPCG(seed, orderStream))
	for i := range order {
		order[i] = cellsAt(p, "")
		rng.Shuffle(len(order[i]), func(a, b int) { order[i][a], order[i][b] = order[i][b], order[i][a] })
	}
	return order
}

// orderStream keeps the shuffling apart from what else is drawn by a run's seed.
const orderStream = 0x70616365

// sweptRound is the running order of a round counted from 0 that has these points: all their cells, shuffled together,
// so that whatever drifts falls on all points alike. Rounds are drawn each by itself, since some are added later.
func sweptRound(p *plan.Plan, points []cell.Point, seed uint64, round int) (cells []cell.Cell) {
	for _, at := range points {
		cells = append(cells, cellsAt(p, at)...)
	}
	rng := mathrand.New(mathrand.NewPCG(seed, orderStream+uint64(round)+1))
	rng.Shuffle(len(cells), func(a, b int) { cells[a], cells[b] = cells[b], cells[a] })
	return cells
}

// cellsAt are the cells of a point.
func cellsAt(p *plan.Plan, at cell.Point) (cells []cell.Cell) {
	for _, c := range p.Contenders {
		for _, s := range p.States() {
			cells = append(cells, cell.Cell{Contender: c.Name, State: stateName(s), Point: at})
		}
	}
	return cells
}

// stateName is how results name a state.
func stateName(s plan.State) string {
	if s == plan.AsFound {
		return ""
	}
	return string(s)
}

func stateOf(name string) plan.State {
	if name == "" {
		return plan.AsFound
	}
	return plan.State(name)
}

// ErrNoBus is a plan that agents are to drive, run without a bus to find them on.
var ErrNoBus = errors.New("the plan has agents drive it (load:), and no bus was named to find them on; give --bus " +
	"nats://HOST:PORT, or --bus listen")

// prepare puts up the footing, opens the contenders on it and weighs them in.
func (r *runner) prepare(ctx context.Context) (err error) {
	if r.cfg.Plan.Load != nil && r.cfg.Hands == nil && r.hand == nil && !r.weighsOnly {
		return ErrNoBus
	}
	if err = r.build(ctx); err != nil {
		return err
	}
	for _, s := range r.stations {
		if err = r.open(ctx, s); err != nil {
			break
		}
	}
	r.hide(r.result)
	r.send(Footed{r.result.Footing, r.head()})
	if err != nil {
		return err
	}
	for _, s := range r.stations {
		if err := cmp.Or(r.weighIn(ctx, s), r.harm()); err != nil {
			return err
		}
	}
	return r.openHands(ctx)
}

// takeDown undoes what prepare put up; also after an interrupt.
func (r *runner) takeDown(ctx context.Context) error {
	if r.cfg.Hands != nil {
		r.cfg.Hands.Close()
	}
	for _, s := range r.stations {
		contender.CloseAll(s.entries)
		s.closeBystanders()
	}
	var err error
	for _, f := range slices.Backward(r.footings) { // each gives our processors back as it found them
		defer f.Close()
	}
	for _, f := range r.footings {
		err = cmp.Or(err, f.End(context.WithoutCancel(ctx)))
	}
	r.takeCosts()
	return cmp.Or(r.harm(), err)
}

func (r *runner) run(ctx context.Context) error {
	if r.cfg.Hands == nil { // who drives measures it
		if err := r.measureFloor(ctx); err != nil {
			return err
		}
	}
	if r.first > 0 && r.first == len(r.result.Order) {
		if err := r.goOn(ctx, r.first); err != nil {
			return err
		}
	}
	r.started = r.clock.Now() - r.base - r.pausedNow
	for i := r.first; i < len(r.result.Order); i++ { // rounds may be added
		done, err := r.beginRound(ctx, i+1)
		if err != nil {
			done(ctx) // as far as it came
			return err
		}
		if err := r.round(ctx, i); err != nil {
			done(ctx) // the run ends for err, whatever becomes of this
			return err
		}
		if err := done(ctx); err != nil {
			return err
		}
		if i+1 < len(r.result.Order) && r.isLook(i+1) && r.cfg.Enough != nil && r.cfg.Enough(r.result) {
			r.result.Order = r.result.Order[:i+1]
			r.result.Plan.Rounds = i + 1
		}
		if i+1 < len(r.result.Order) && r.isOver(i+1-r.first) {
			r.result.Plan.Short = &result.Short{Planned: len(r.result.Order), Within: r.cfg.Within}
			r.plan(r.result.Order[:i+1])
		}
		if err := r.goOn(ctx, i+1); err != nil {
			return err
		}
	}
	if hasCrashes(r.stations[0].plan) {
		return r.crashes(ctx)
	}
	return nil
}

// isOver reports whether there is no time for one more round as long as those of this sitting were.
func (r *runner) isOver(rounds int) bool {
	if r.cfg.Within == 0 || r.cfg.Plan.Sweep != nil {
		return false
	}
	took := r.clock.Now() - r.base - r.pausedNow
	return took+(took-r.started)/time.Duration(rounds) > r.cfg.Within
}

// isLook reports whether the plan has the run looked at after so many rounds, to end it.
func (r *runner) isLook(rounds int) bool {
	p := r.cfg.Plan
	return slices.Contains(p.Looks, rounds) || p.Until != nil && rounds >= p.Rounds
}

// round runs the heats of a round counted from 0, as far as they stand in its order when their turn comes.
func (r *runner) round(ctx context.Context, i int) error {
	for {
		r.steer(ctx, i)
		next := slices.IndexFunc(r.result.Order[i], func(c cell.Cell) bool { return !r.begun[place{i + 1, c}] })
		if next < 0 {
			return nil
		}
		c := r.result.Order[i][next]
		r.begun[place{i + 1, c}] = true
		if err := r.heat(ctx, i+1, c); err != nil {
			return err
		}
	}
}

// askedEvery is how often it is told whom a weigh-in is at.
const askedEvery = time.Second

// tellOf tells whom the weigh-in is at, again and again until the function that it returns is called.
func (r *runner) tellOf(c cell.Cell) (done func()) {
	began := r.clock.Now()
	r.send(Asking{c, 0})
	stop := make(chan struct{})
	var telling sync.WaitGroup
	telling.Go(func() {
		tick := time.NewTicker(askedEvery)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				r.send(Asking{c, r.clock.Now() - began})
			}
		}
	})
	return func() {
		close(stop)
		telling.Wait()
	}
}

// left estimates the time to the end of the run from the latest heat of each contender; negative when unknown.
func (r *runner) left() time.Duration {
	if s := r.cfg.Plan.Sweep; s != nil && s.Within > 0 {
		return max(r.timeLeft(), 0)
	}
	var known time.Duration
	for _, d := range r.spent {
		known += d
	}
	if len(r.spent) == 0 {
		if left := r.result.Expected(); left > 0 {
			return left
		}
		return -1
	} else {
		known /= time.Duration(len(r.spent))
	}
	return known * time.Duration(max(r.result.Planned()-r.done, 0))
}

// finish completes the result and returns the run's error as it may leave us.
func (r *runner) finish(ctx context.Context, err error) error {
	r.result.Ended = time.Now()
	switch {
	case err == nil:
		r.result.Ending = result.Done
	case ctx.Err() != nil:
		r.result.Ending = result.Interrupted
		r.result.Reason = fmt.Sprintf("stopped after %d of %d heats", len(r.complete()), r.result.Planned())
	default:
		r.result.Ending = result.Failed
		r.result.Reason = err.Error()
	}
	r.hide(r.result)
	return r.cfg.Plan.Masks().Error(err)
}

func (r *runner) complete() (out []result.Heat) {
	for _, h := range r.result.Heats {
		if h.Counts() {
			out = append(out, h)
		}
	}
	return out
}
