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
	"fmt"
	"math/big"
	mathrand "math/rand/v2"
	"runtime"
	"runtime/debug"
	"slices"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/footing"
	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/tally"
	"paceduel/core/weighin"
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
	OnShots func(h *result.Heat, shots []tally.Raw, sampled bool)
	// Control, when set, steers the run while it is on.
	Control *Control
	// Enough, when set, is asked after each complete round from the plan's number on whether the run may end; its result is
	// not to be changed. It is for a plan that says until.
	Enough func(*result.Result) bool
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
	err := r.prepare(ctx)
	if err == nil {
		err = r.run(ctx)
	}
	if downErr := r.takeDown(ctx); err == nil {
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
	footing  *footing.Footing
	entries  []contender.Entry
	standard *weighin.Standard // what answers are held to
	result   *result.Result
	warm     []*tally.Recorder // one for each client, reused from heat to heat
	judged   []*tally.Recorder
	sets     map[int]recorderSet      // by how many they are for
	woken    *tally.Recorder          // the shot after a silence
	spent    map[string]time.Duration // the latest heat's whole length by contender, for the time left
	done     int                      // heats
	begun    map[bout]bool            // heats
	swept    int64                    // processes found after the heat at hand
	service  *result.Service          // of the heat at hand; nil without one
	sampled  int64                    // shots of the heat at hand whose answers were compared
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
	r := &runner{cfg: cfg, out: out, clock: clock.Start(), spent: map[string]time.Duration{}, begun: map[bout]bool{}, sets: map[int]recorderSet{}}
	r.result = r.describe()
	r.hide(r.result)
	return r
}

// recorders makes sure that there are n of them for each part of a heat, and empties them.
func (r *runner) recorders(n int) {
	if len(r.judged) != n {
		set, made := r.sets[n]
		if !made { // contenders may be driven by clients or by a crew: each set serves heat after heat
			set = r.makeRecorders(n)
			r.sets[n] = set
		}
		r.warm, r.judged = set.warm, set.judged
	}
	if r.woken == nil {
		r.woken = tally.NewRecorder(0, 1)
	}
	r.woken.Reset(0)
	for i := range n {
		r.warm[i].Reset(0)
		r.judged[i].Reset(r.result.Seed + uint64(r.done*n+i))
	}
}

// recorders of a heat: of its warm-up and of its judged part.
type recorderSet struct{ warm, judged []*tally.Recorder }

// mostDrawn is how many shots of a heat are kept one by one when nobody wants them but for the picture, which shows fewer.
const mostDrawn = 8 * mostDots

func (r *runner) makeRecorders(n int) (set recorderSet) {
	keep, ring := tally.MaxShots, ringOf(n)
	if r.cfg.OnShots == nil {
		keep = mostDrawn
	}
	if r.cfg.Glance < 0 {
		ring = 1
	}
	if p := r.cfg.Plan.Pace; max(p.Repeat, p.Shots) > 0 {
		keep = min(keep, max(p.Repeat, p.Shots))
	}
	for range n {
		set.warm = append(set.warm, tally.NewRecorder(0, ring).KeepFirst(tally.MaxEarly/n))
		set.judged = append(set.judged, tally.NewRecorder(keep/n+1, ring).KeepFirst(tally.MaxEarly/n))
	}
	return set
}

// ringOf is how many shots of each of n recorders a watcher can look back on.
func ringOf(n int) int { return max(1<<14/n, 64) }

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
	if p.Until != nil {
		all.Rounds = p.Until.Most
	}
	order := Order(&all, r.cfg.Seed)
	res := &result.Result{
		Version: result.Version, Program: r.cfg.Program, ID: newID(r.clock.Wall()), Seed: r.cfg.Seed, Started: r.clock.Wall(),
		Ending: result.Running, Host: meter.ReadHost(), Order: names(order), OrderStates: states(p, order),
		Plan: result.Plan{
			Name: p.Name, Question: p.Question, Baseline: p.Baseline, File: p.File, Source: p.Source, SHA256: hex.EncodeToString(sum[:]),
			Sets: p.Sets, Vars: p.Vars(), Rounds: all.Rounds, Interest: p.Interest, Decides: p.Decides,
			Looks: p.Looks, Interests: p.Interests, Rungs: p.Rungs, Stakes: p.Stakes,
			Pace: result.Pace{
				Repeat: p.Pace.Repeat, Clients: p.Pace.Clients, Rate: float64(p.Pace.Rate), Spread: p.Pace.Spread, Most: p.Pace.Most, For: p.Pace.For.D(), Shots: p.Pace.Shots,
				WarmupFor: p.Pace.Warmup.For.D(), WarmupShots: p.Pace.Warmup.Shots, Words: p.Pace.String(),
			},
		},
	}
	res.Plan.Pace.Think, res.Plan.Pace.Stagger = p.Pace.Think.D(), p.Pace.Stagger.D()
	res.Plan.Pace.Rush, res.Plan.Pace.Wake = p.Pace.Rush, p.Pace.Wake.D()
	res.Plan.Marks, res.Plan.Sums = plan.MarkNames(p.Contenders), plan.MarkSums(p.Contenders)
	if c := p.Pace.Climb; c != nil {
		res.Plan.Pace.Climb = &result.Climb{Levels: c.Levels(), Open: c.From.Rate > 0, Under: c.Under.D(), At: plan.Figure(c.At)}
	}
	for _, c := range p.Claims {
		res.Plan.Claims = append(res.Plan.Claims, c.Text)
	}
	if u := p.Until; u != nil {
		res.Plan.Until = &result.Until{Figure: plan.Figure(u.Figure), Within: u.Within, Least: p.Rounds, Most: u.Most}
	}
	for _, c := range p.Contenders {
		res.Entrants = append(res.Entrants, result.Entrant{
			Name: c.Name, Note: c.Note, Avoid: c.Avoid, Kind: c.Kind, Does: c.Settings.Summary(), Mirror: c.Mirror,
		})
	}
	for _, s := range p.Footing.Caches {
		if s != plan.AsFound {
			res.Footing.States = append(res.Footing.States, string(s))
		}
	}
	for i := range p.Contenders {
		for _, s := range footing.StatesOf(p) {
			res.Footing.Steps = append(res.Footing.Steps, footing.Steps(p, &p.Contenders[i], s)...)
		}
	}
	return res
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
	return &head
}

// Order is the running order that seed gives: for each round, every contender in every state, shuffled.
func Order(p *plan.Plan, seed uint64) [][]result.Bout {
	rng := mathrand.New(mathrand.NewPCG(seed, 0x70616365))
	order := make([][]result.Bout, p.Rounds)
	for i := range order {
		for _, c := range p.Contenders {
			for _, s := range footing.StatesOf(p) {
				order[i] = append(order[i], result.Bout{Contender: c.Name, State: stateName(s)})
			}
		}
		rng.Shuffle(len(order[i]), func(a, b int) { order[i][a], order[i][b] = order[i][b], order[i][a] })
	}
	return order
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

func names(order [][]result.Bout) (out [][]string) {
	for _, bouts := range order {
		var list []string
		for _, b := range bouts {
			list = append(list, b.Contender)
		}
		out = append(out, list)
	}
	return out
}

// states lists the states in order, where there is more than one.
func states(p *plan.Plan, order [][]result.Bout) (out [][]string) {
	if len(footing.StatesOf(p)) < 2 {
		return nil
	}
	for _, bouts := range order {
		var list []string
		for _, b := range bouts {
			list = append(list, b.State)
		}
		out = append(out, list)
	}
	return out
}

// prepare puts up the footing, opens the contenders on it and weighs them in.
func (r *runner) prepare(ctx context.Context) (err error) {
	p := r.cfg.Plan
	if r.footing, err = footing.Open(p, r.clock); err != nil {
		return fmt.Errorf("prepare the footing: %w", err)
	}
	r.footing.OnService = func(n footing.News) { r.send(ServiceIs(n)) }
	cannot, err := r.footing.Begin(ctx)
	r.result.Footing.Cannot = append(r.result.Footing.Cannot, cannot...)
	r.result.Footing.Costs = r.footing.Costs
	if err == nil {
		r.entries = contender.OpenAll(p, r.cfg.Kinds, func(name string) contender.Setup { return r.footing.Of(name).Setup() })
		err = r.room()
	}
	r.hide(r.result)
	r.send(Footed{r.result.Footing})
	if err != nil {
		return err
	}
	return cmp.Or(r.weighIn(ctx), r.footing.Harm())
}

// takeDown undoes what prepare put up; also after an interrupt.
func (r *runner) takeDown(ctx context.Context) error {
	contender.CloseAll(r.entries)
	if r.footing == nil {
		return nil
	}
	defer r.footing.Close()
	err := r.footing.End(context.WithoutCancel(ctx))
	r.result.Footing.Costs = r.footing.Costs
	return cmp.Or(r.footing.Harm(), err)
}

func (r *runner) run(ctx context.Context) error {
	if err := r.measureFloor(ctx); err != nil {
		return err
	}
	for i := 0; i < len(r.result.Order); i++ { // rounds may be added
		done, err := r.footing.Round(ctx, i+1)
		if err != nil {
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
			r.result.OrderStates = r.result.OrderStates[:min(i+1, len(r.result.OrderStates))]
			r.result.Plan.Rounds = i + 1
		}
	}
	return nil
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
		var next *result.Bout
		for _, b := range r.result.Bouts(i) {
			if !r.ran(i+1, b.Contender, b.State) {
				next = &b
				break
			}
		}
		if next == nil {
			return nil
		}
		r.begun[bout{i + 1, next.Contender, next.State}] = true
		if err := r.heat(ctx, i+1, r.entry(next.Contender), stateOf(next.State)); err != nil {
			return err
		}
	}
}

func (r *runner) entry(name string) contender.Entry {
	i := slices.IndexFunc(r.entries, func(e contender.Entry) bool { return e.Name == name })
	return r.entries[i]
}

func (r *runner) weighIn(ctx context.Context) error {
	w, standard, err := weighin.Run(ctx, r.cfg.Plan, r.entries, r.footing, r.cfg.AcceptUnequal, func(name string, t *result.Touch, body []byte) {
		e := r.result.Entrant(name)
		if e.Touch == nil {
			e.Touch, e.Version = t, t.Version
		} else {
			e.Again = t
		}
		if r.cfg.OnAnswer != nil {
			r.cfg.OnAnswer(name, t.State, []byte(r.cfg.Plan.Mask(string(body))))
		}
		r.send(Touched{name, t})
	})
	r.standard = standard
	if w != nil {
		r.result.Weighing = w
		r.send(Weighed{w})
	}
	return err
}

// heat prepares one heat, runs it and hands it out. A heat that its footing stops is kept and the run goes on; the error
// is ctx's.
func (r *runner) heat(ctx context.Context, round int, e contender.Entry, state plan.State) error {
	r.recorders(max(len(r.judged), 1)) // until it is known who shoots
	r.sampled, r.swept, r.service = 0, 0, nil
	began := r.clock.Now()
	r.send(HeatBegan{round, e.Name, stateName(state), began, r.left()})
	ground := r.footing.Of(e.Name)
	resume := holdCollector() // before anything is started, so that little passes until it is asked
	stopped := ground.BeginHeat(ctx, state, round)
	span, conditions := pace.Span{Start: began, End: began}, meter.Conditions{}
	if stopped == nil {
		span, conditions, stopped = r.drive(ctx, round, e, state, ground)
	}
	resume()
	seen, err := ground.EndHeat(ctx)
	r.swept += int64(seen.Strays)
	if stopped == nil && err != nil {
		stopped = err
	}
	h, err := r.record(round, e, span)
	if err != nil {
		return err
	}
	h.Starts = seen.Starts
	if s := e.Ground.Service; s != nil && s.Fresh != plan.EveryRun && len(h.Starts) > 0 {
		r.follow(&h, &h.Starts[len(h.Starts)-1])
	}
	h.State, h.Costs, h.Changes = stateName(state), seen.Costs, seen.Changes
	h.ColdLeft, h.WarmLacks, h.Unfilled = seen.Check.ColdLeft, seen.Check.WarmMissing, seen.Check.Unfilled
	h.Conditions, h.Sampled = conditions, r.sampled
	h.Cut = ctx.Err() != nil
	if stopped != nil && !h.Cut {
		h.Stopped = stopped.Error()
	}
	r.spent[e.Name+"\x00"+h.State] = r.clock.Now() - began
	r.done++
	if h.Shots() > 0 || !h.Cut {
		r.texts(&h)
		r.result.Heats = append(r.result.Heats, h)
		r.send(HeatEnded{h, r.left()})
	}
	return cmp.Or(ctx.Err(), r.footing.Harm())
}

// drive lets the clients shoot, on footing that was prepared for the heat.
func (r *runner) drive(ctx context.Context, round int, e contender.Entry, state plan.State, ground *footing.Ground) (pace.Span, meter.Conditions, error) {
	n := pace.Clients(r.cfg.Plan.Pace)
	var clients []contender.Client
	crew, err := r.crew(e, n, ground)
	switch {
	case err != nil:
		return pace.Span{}, meter.Conditions{}, err
	case crew != nil:
		defer crew.Close()
		r.recorders(1)
	default:
		for i := range n {
			clients = append(clients, e.Driver.Client(i, n))
		}
		r.recorders(n)
	}
	drive := pace.Heat{Clock: r.clock, Pace: r.cfg.Plan.Pace, Clients: clients, Crew: crew, Size: n, Warm: r.warm, Judged: r.judged, Wake: r.woken, Seed: r.result.Seed + uint64(round)}
	if ground.PerRun() {
		drive.Before = func(ctx context.Context, s pace.Stage) error { return ground.BeforeRun(ctx, s == pace.WarmingUp) }
		drive.After = ground.AfterRun
	}
	checkers := r.standard.Checkers(e.Name, n, r.result.Seed^uint64(r.done))
	for _, c := range checkers {
		drive.Checkers = append(drive.Checkers, c)
	}
	span, conditions := pace.Span{}, meter.Conditions{}
	err = ground.Rush(ctx)
	w := r.watch(round, e.Name, stateName(state), ground.Said)
	if err == nil {
		span, conditions, err = r.driven(ctx, &drive, ground, w)
	}
	w.stop()
	for _, c := range clients {
		c.Close()
	}
	if s, ok := e.Driver.(contender.Sweeper); ok {
		r.swept += int64(s.Sweep())
	}
	for i := range checkers {
		r.sampled += checkers[i].Settle(ctx, func(shot *contender.Shot) { r.judged[min(i, len(r.judged)-1)].Record(shot, span.Start) })
	}
	return span, conditions, err
}

// driven has the heat driven with an eye on the contender's service.
func (r *runner) driven(ctx context.Context, drive *pace.Heat, ground *footing.Ground, w *watcher) (pace.Span, meter.Conditions, error) {
	service := r.watchService(ground)
	watched, release := ground.Watched(ctx)
	before := meter.Read()
	after := before
	drive.OnStage = func(s pace.Stage, at time.Duration) {
		switch s {
		case pace.Judged:
			service.mark()
		case pace.Silent:
			after = meter.Read()
			service.pass()
		}
		w.stage(s, at)
	}
	span, err := drive.Drive(watched)
	if drive.Pace.Wake == 0 || after == before {
		after = meter.Read()
		service.pass()
	}
	r.service = service.end()
	if died := release(slices.ContainsFunc(r.judged, func(t *tally.Recorder) bool { return t.Failures() > 0 })); died != nil && ctx.Err() == nil {
		err = died
	}
	return span, meter.Between(before, after), err
}

// crew is who performs the heat in the clients' place; nil where clients do.
func (r *runner) crew(e contender.Entry, n int, ground *footing.Ground) (contender.Crew, error) {
	crewed, ok := e.Driver.(contender.Crewed)
	if !ok || ground.PerRun() {
		return nil, nil
	}
	return crewed.Crew(n)
}

// heapCeiling is by how much the heap may grow in a heat before memory is collected all the same.
const heapCeiling = 256 << 20

// holdCollector collects memory now and then not again before resume is called or the heap reaches its ceiling: a
// collection in mid-heat would show in the tail of whoever is on. It acts on the whole process.
func holdCollector() (resume func()) {
	runtime.GC()
	var held runtime.MemStats
	runtime.ReadMemStats(&held)
	percent, limit := debug.SetGCPercent(-1), debug.SetMemoryLimit(int64(held.HeapAlloc+held.StackSys)+heapCeiling)
	return func() {
		debug.SetMemoryLimit(limit)
		debug.SetGCPercent(percent)
	}
}

// record turns the recorders of a heat that is over into the document's heat.
func (r *runner) record(round int, e contender.Entry, span pace.Span) (result.Heat, error) {
	m := tally.Merge(r.judged)
	h := result.Heat{
		Round: round, Contender: e.Name, At: span.Start, Wall: span.End - span.Start, Clients: pace.Clients(r.cfg.Plan.Pace),
		OK: m.Counts[contender.OK], LatencySum: m.Latency, Busy: max(m.Elapsed-span.Aside, 0),
		CPU: m.CPU, Resources: m.Resources, CPUKnown: e.MetersCPU, Sent: m.Sent, Received: m.Received, Lines: m.Lines, LeftBehind: m.LeftBehind + r.swept,
		Connects: m.Connections, Replaced: m.Replaced, ConnectSum: m.Connect, FirstByteSum: m.FirstByte, Redirects: m.Redirects, Dots: pick(tally.Points(r.judged), min(max(allDots/max(r.result.Planned(), 1), leastDots), mostDots)),
	}
	var err error
	if h.Latencies, err = result.EncodeHistogram(m.Latencies); err != nil {
		return result.Heat{}, err
	}
	for _, p := range m.Parts {
		split := result.Split{Name: p.Name, Told: p.Told, Sum: p.Sum}
		if split.Lengths, err = result.EncodeHistogram(p.Histogram); err != nil {
			return result.Heat{}, err
		}
		h.Splits = append(h.Splits, split)
	}
	for _, b := range m.Buckets {
		h.Buckets = append(h.Buckets, result.Bucket{b.Shots, b.Failed, int64(b.Latency), int64(b.Max)})
	}
	for i, st := range m.Steps {
		own := result.Step{OK: st.Histogram.TotalCount(), Failed: st.Failed}
		if i < len(span.UnsentAt) {
			own.Unsent = span.UnsentAt[i]
		}
		if own.Latencies, err = result.EncodeHistogram(st.Histogram); err != nil {
			return result.Heat{}, err
		}
		h.Steps = append(h.Steps, own)
	}
	if p := r.cfg.Plan.Pace; p.Think > 0 || p.Stagger > 0 || p.Climb != nil {
		h.Busy, span.Busy = h.Wall*time.Duration(h.Clients), 1 // who thinks, or has not joined yet, is there
	}
	if r.cfg.Plan.Pace.Open() {
		h.Due, h.Unsent = m.Shots()+span.Unsent, span.Unsent
		h.LagP50, h.LagP99, h.LagMax, h.Late = m.Lags.Quantile(0.5), m.Lags.Quantile(0.99), m.Lags.Max, m.Lags.Late
		h.Busy = h.Wall * time.Duration(h.Clients) // throughput is what was answered within the heat
	} else if span.Busy > 1 {
		h.Busy = span.Busy
	}
	if s := r.service; s != nil {
		h.Service = s
		if !h.CPUKnown { // the kind starts no processes: what computes is the service
			h.CPU, h.CPUKnown, h.Peak = s.CPU, true, s.Peak
			if s.Exact { // the kernel's mark
				h.PeakGrain = meter.MarkGrain()
			}
		}
	}
	for class := contender.Cut + 1; class < contender.Classes; class++ {
		if n := m.Counts[class]; n > 0 {
			if h.Failures == nil {
				h.Failures = map[string]int64{}
			}
			h.Failures[class.String()] = n
		}
	}
	r.beginnings(&h)
	h.Causes = append(h.Causes, m.Causes...)
	for i, w := range r.warm {
		if w.Peak > h.Peak {
			h.Peak, h.PeakGrain = w.Peak, w.PeakGrain
		}
		h.Warmup += w.Total()
		if r.judged[i].Total() == 0 && span.Busy == 0 {
			h.Busy += h.Wall // a client that found nothing left to do was there all the same
		}
	}
	if r.cfg.OnShots != nil {
		shots, sampled := tally.Kept(r.judged)
		r.cfg.OnShots(&h, shots, sampled)
	}
	return h, nil
}

// left estimates the time to the end of the run from the latest heat of each contender; negative when unknown.
func (r *runner) left() time.Duration {
	p := r.cfg.Plan
	var known time.Duration
	for _, d := range r.spent {
		known += d
	}
	if len(r.spent) == 0 {
		if p.Pace.For == 0 {
			return -1
		}
		known = p.Pace.For.D() + p.Pace.Warmup.For.D()
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
