package rounds

import (
	"cmp"
	"context"
	"errors"
	"runtime"
	"runtime/debug"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/footing"
	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shares"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/core/traces"
)

// place names one heat of a run.
type place struct {
	round int // from 1
	cell  cell.Cell
}

// heat is one heat under way: who is on, on which ground, driven by whom, and what was seen. It belongs to the
// goroutine of Run.
type heat struct {
	r *runner
	place
	at     *station
	entry  contender.Entry
	state  plan.State
	ground *footing.Ground
	began  time.Duration
	*recorderSet

	span       pace.Span
	conditions meter.Conditions
	seen       footing.Seen
	service    *result.Service // nil without one
	starts     []result.Start  // of processes that the driver started for it
	library    *library        // nil for what does not run within us
	account    map[string]int64
	traced     *traced       // nil where no spans are sent
	sentBefore traces.Counts // of spans, when it began
	queryPlan  string        // how it would be carried out, where that has changed since the weigh-in
	watching   *onlooker     // who asks meanwhile; nil: nobody
	piled      *result.Backlog
	shares     []result.Share // what those who drove it from elsewhere did
	// of a hand: which part of the heat is its own, when stages begin, and the seed of the heat
	part    shares.Part
	await   func(context.Context, pace.Stage) error
	seed    uint64
	swept   int64 // processes found after it
	sampled int64 // shots whose answers were compared
}

// heat prepares one heat, runs it and hands it out. A heat that its footing stops is kept and the run goes on; the
// error is ctx's.
func (r *runner) heat(ctx context.Context, round int, c cell.Cell) error {
	at := r.station(c.Point)
	h := &heat{
		r: r, place: place{round, c}, at: at, entry: at.entry(c.Contender), state: stateOf(c.State),
		ground: at.footing.Of(c.Contender), began: r.clock.Now(),
	}
	if r.result.IsPlace(c.State) {
		h.state = plan.AsFound
	}
	h.recorderSet = h.recorders(1) // until it is known who shoots
	r.send(HeatBegan{Round: round, Cell: c, At: h.began, Left: r.left()})
	stopped := h.run(ctx)
	var fault *panics.Error
	errors.As(stopped, &fault)
	doc, err := h.record()
	if err != nil {
		return err
	}
	doc.Cut = ctx.Err() != nil
	if stopped != nil && !doc.Cut {
		doc.Stopped = stopped.Error()
	}
	r.spent[c] = r.clock.Now() - h.began
	r.done++
	if doc.Shots() > 0 || !doc.Cut {
		r.texts(&doc)
		r.result.Heats = append(r.result.Heats, doc)
		r.send(HeatEnded{doc, r.left()})
	}
	if fault != nil {
		return fault // of ours: the next heat would have it, too
	}
	if again, err := r.doAgain(ctx, round-1, stopped); again {
		return err
	}
	return cmp.Or(ctx.Err(), at.footing.Harm())
}

// run lays the ground, has the clients shoot and takes the ground up again. The error says why the heat does not count.
func (h *heat) run(ctx context.Context) (stopped error) {
	resume := func() {}
	if h.r.hand == nil || !h.r.hand.guest {
		resume = holdCollector() // before anything is started, so that little passes until it is asked
	}
	h.span = pace.Span{Start: h.began, End: h.began}
	if stopped = h.ground.BeginHeat(ctx, h.state, h.round); stopped == nil {
		stopped = h.drive(ctx)
	}
	resume()
	var err error
	h.seen, err = h.ground.EndHeat(ctx)
	h.swept += int64(h.seen.Strays)
	if stopped == nil {
		stopped = err
	}
	return stopped
}

// drive lets the clients shoot, on ground that was prepared for the heat.
func (h *heat) drive(ctx context.Context) error {
	if h.r.cfg.Hands != nil {
		return h.handed(ctx)
	}
	r, p := h.r, h.at.plan
	n := h.part.Count(pace.Clients(p.Pace))
	if v, ok := h.entry.Driver.(contender.Visited); ok {
		v.Visit(h.state.IsCold())
	}
	clients, crew, err := h.shooters(n)
	if err != nil {
		return err
	}
	if crew != nil {
		defer crew.Close()
	}
	drive := pace.Heat{
		Clock: r.clock, Pace: p.Pace, Clients: clients, Crew: crew, Size: n,
		Warm: h.warm, Judged: h.judged, Wake: h.woken, Seed: cmp.Or(h.seed, r.result.Seed+uint64(h.round)),
		Part: h.part, All: pace.Clients(p.Pace), Await: h.await,
	}
	if h.ground.PerRun() {
		drive.Before = func(ctx context.Context, s pace.Stage) error { return h.ground.BeforeRun(ctx, s == pace.WarmingUp) }
		drive.After = h.ground.AfterRun
	}
	checkers := h.at.standard.Checkers(h.cell.Contender, n, r.result.Seed^uint64(r.done))
	for _, c := range checkers {
		drive.Checkers = append(drive.Checkers, c)
	}
	h.beginTraces()
	err = cmp.Or(h.ground.Rush(ctx), h.house(ctx, n))
	var account contender.Accounted
	if err == nil {
		account = h.openAccount(ctx)
	}
	if err == nil {
		err = h.accompanied(ctx, func() error {
			w := h.watch()
			defer w.stop()
			return h.driven(ctx, func(ctx context.Context, onStage func(pace.Stage, time.Duration)) (pace.Span, error) {
				drive.OnStage = onStage
				return drive.Drive(ctx)
			}, w.stage, account)
		})
	}
	for _, c := range clients {
		c.Close()
	}
	h.closeAccount(ctx, account)
	if housed, ok := h.entry.Driver.(contender.Housed); ok {
		housed.End()
	}
	if s, ok := h.entry.Driver.(contender.Sweeper); ok {
		h.swept += int64(s.Sweep())
	}
	for i := range checkers {
		into := h.judged[min(i, len(h.judged)-1)]
		h.sampled += checkers[i].Settle(ctx, func(shot *shots.Shot) { into.Record(shot, h.span.Start) })
	}
	h.collectTraces(ctx)
	return err
}

// backlog is how many shots were under way at a time since it was last asked; nil unless they come at a set rate and
// wait for long.
func (h *heat) backlog() *result.Backlog {
	d, ok := h.entry.Driver.(contender.Waiting)
	if !ok || !h.at.plan.Pace.Open() {
		return nil
	}
	most, over := d.Backlog()
	b := &result.Backlog{Most: int64(most)}
	for _, one := range over {
		b.Over = append(b.Over, [2]int64{max(int64(one.At-h.span.Start), 0), int64(one.Shots)})
	}
	return b
}

// house has the driver's own processes be there, where it has some that last.
func (h *heat) house(ctx context.Context, clients int) error {
	housed, ok := h.entry.Driver.(contender.Housed)
	if !ok {
		return nil
	}
	starts, err := housed.Begin(ctx, clients)
	for _, s := range starts {
		h.starts = append(h.starts, result.Start{At: s.Created, Ready: s.Ready - s.Created})
	}
	return err
}

// driving drives the heat, and is handed whoever wants to know of its stages.
type driving func(ctx context.Context, onStage func(pace.Stage, time.Duration)) (pace.Span, error)

// driven has the heat driven with an eye on the contender's service; staged is told of stages.
func (h *heat) driven(
	ctx context.Context, drive driving, staged func(pace.Stage, time.Duration), account contender.Accounted,
) (err error) {
	resident := h.ground.Resident()
	lasting, _ := h.entry.Driver.(contender.Lasting)
	if housed, ok := h.entry.Driver.(contender.Housed); ok && resident.PID == 0 {
		if resident = housed.Resident(); resident.PID != 0 {
			lasting = nil // what it uses is seen by watching it
		}
	}
	service := h.r.watchService(resident)
	h.library = embeddedIn(h.entry.Driver)
	watched, release := h.ground.Watched(ctx)
	reading := func() meter.Reading { return h.library.reading(readingWith(lasting)) }
	others := workersOf(account, resident.PID)
	before := reading()
	after, worked, passed := before, time.Duration(0), false
	pass := func() {
		after, worked, passed = reading(), others.used(), true
		service.pass()
		h.library.pass()
	}
	onStage := func(s pace.Stage, at time.Duration) {
		switch s {
		case pace.Judged:
			h.backlog() // of the warm-up
			service.mark()
			h.library.mark()
		case pace.Silent:
			pass()
		}
		staged(s, at)
	}
	err = panics.Guard("drive the heat of "+h.cell.String(), func() (err error) {
		h.span, err = drive(watched, onStage)
		return err
	})
	if !passed {
		pass()
	}
	h.piled = h.backlog()
	h.conditions = meter.Between(before, after)
	h.conditions.OthersFrac = max(h.conditions.OthersFrac-meter.ShareOf(before, after, worked), 0)
	if h.service = service.end(); h.service != nil {
		h.service.Share = meter.ShareOf(before, after, service.whole)
	}
	failed := slices.ContainsFunc(h.judged, func(t *tally.Recorder) bool { return t.Failures() > 0 })
	if died := release(failed); died != nil && ctx.Err() == nil {
		err = died
	}
	return err
}

// readingWith is what the machine is like at this moment; what a driver's own processes used is nobody else's. Lasting
// is nil without such, or where they are watched.
func readingWith(lasting contender.Lasting) meter.Reading {
	r := meter.Read()
	if lasting != nil {
		r = r.Children(lasting.Used())
	}
	return r
}

// shooters are who performs the heat: n clients, or a crew in their place; and who records it.
func (h *heat) shooters(n int) (clients []contender.Client, crew contender.Crew, err error) {
	all := pace.Clients(h.at.plan.Pace)
	if crew, err = h.crew(n); err != nil {
		return nil, nil, err
	}
	if crew != nil {
		if d, ok := crew.(contender.Dealt); ok && !h.part.Whole() {
			d.Deal(h.part, all)
		}
		h.recorderSet = h.recorders(1)
		return nil, crew, nil
	}
	for i := range n {
		clients = append(clients, h.entry.Driver.Client(h.part.Number(i), all))
	}
	h.recorderSet = h.recorders(n)
	return clients, nil, nil
}

// crew is who performs the heat in the clients' place; nil where clients do.
func (h *heat) crew(n int) (contender.Crew, error) {
	crewed, ok := h.entry.Driver.(contender.Crewed)
	if !ok || h.ground.PerRun() {
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
