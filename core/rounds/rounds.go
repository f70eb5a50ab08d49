// Package rounds runs a duel: the weigh-in, then every contender's heat in every round, in shuffled order.
//
// It promises that each finished heat has been handed out as an event before the next one starts, that an interrupt
// keeps what was measured, and that nothing but the contender works during a heat: collecting memory, adding up and
// encoding happen between heats, and a heat is looked at a few times a second. Storing and showing are left to whoever
// takes the events.
package rounds

import (
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
	// Glance is how often a heat is looked at; 0: 250 ms.
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
	defer contender.CloseAll(r.entries)
	out <- Started{r.head()}
	err := r.run(ctx)
	r.finish(ctx, err)
	out <- Ended{r.result, err}
	return r.result, err
}

// runner is one run under way. It belongs to the goroutine of Run.
type runner struct {
	cfg     Config
	out     chan<- Event
	clock   *clock.Clock
	entries []contender.Entry
	result  *result.Result
	warm    []*tally.Recorder // one for each client, reused from heat to heat
	judged  []*tally.Recorder
	spent   map[string]time.Duration // the latest heat's whole length by contender, for the time left
	done    int                      // heats
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
	r := &runner{cfg: cfg, out: out, clock: clock.Start(), spent: map[string]time.Duration{}}
	r.entries = contender.OpenAll(cfg.Plan, cfg.Kinds, r.clock)
	n := pace.Clients(cfg.Plan.Pace)
	for range n {
		r.warm = append(r.warm, tally.NewRecorder(tally.MaxPoints/n/10+1))
		r.judged = append(r.judged, tally.NewRecorder(tally.MaxPoints/n+1))
	}
	r.result = r.describe()
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
	res := &result.Result{
		Version: result.Version, Program: r.cfg.Program, ID: newID(r.clock.Wall()), Seed: r.cfg.Seed, Started: r.clock.Wall(),
		Ending: result.Running, Host: meter.ReadHost(), Order: Order(p, r.cfg.Seed),
		Plan: result.Plan{
			Name: p.Name, Question: p.Question, Baseline: p.Baseline, File: p.File, Source: p.Source, SHA256: hex.EncodeToString(sum[:]),
			Sets: p.Sets, Vars: p.Vars(), Rounds: p.Rounds, Interest: p.Interest, Decides: p.Decides,
			Pace: result.Pace{
				Repeat: p.Pace.Repeat, Clients: p.Pace.Clients, For: p.Pace.For.D(), Shots: p.Pace.Shots,
				WarmupFor: p.Pace.Warmup.For.D(), WarmupShots: p.Pace.Warmup.Shots, Words: p.Pace.String(),
			},
		},
	}
	for _, c := range p.Contenders {
		res.Entrants = append(res.Entrants, result.Entrant{
			Name: c.Name, Note: c.Note, Avoid: c.Avoid, Kind: c.Kind, Does: p.Mask(c.Settings.Summary()),
		})
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

// Order is the running order that seed gives: for each round, the names of the contenders in shuffled order.
func Order(p *plan.Plan, seed uint64) [][]string {
	rng := mathrand.New(mathrand.NewPCG(seed, 0x70616365))
	order := make([][]string, p.Rounds)
	for i := range order {
		for _, c := range p.Contenders {
			order[i] = append(order[i], c.Name)
		}
		rng.Shuffle(len(order[i]), func(a, b int) { order[i][a], order[i][b] = order[i][b], order[i][a] })
	}
	return order
}

func (r *runner) run(ctx context.Context) error {
	if err := r.weighIn(ctx); err != nil {
		return err
	}
	for i, names := range r.result.Order {
		for _, name := range names {
			if err := r.heat(ctx, i+1, r.entry(name)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *runner) entry(name string) contender.Entry {
	i := slices.IndexFunc(r.entries, func(e contender.Entry) bool { return e.Name == name })
	return r.entries[i]
}

func (r *runner) weighIn(ctx context.Context) error {
	w, err := weighin.Run(ctx, r.cfg.Plan, r.entries, r.cfg.AcceptUnequal, func(name string, t *result.Touch) {
		e := r.result.Entrant(name)
		e.Touch, e.Version = t, t.Version
		r.out <- Touched{name, t}
	})
	if w != nil {
		r.result.Weighing = w
		r.out <- Weighed{w}
	}
	return err
}

// heat runs one heat and hands it out. The error is ctx's.
func (r *runner) heat(ctx context.Context, round int, e contender.Entry) error {
	n := pace.Clients(r.cfg.Plan.Pace)
	clients := make([]contender.Client, n)
	for i := range clients {
		clients[i] = e.Driver.Client(i, n)
		r.warm[i].Reset()
		r.judged[i].Reset()
	}
	began := r.clock.Now()
	r.out <- HeatBegan{round, e.Name, began, r.left()}
	w := r.watch(round, e.Name)
	drive := pace.Heat{Clock: r.clock, Pace: r.cfg.Plan.Pace, Clients: clients, Warm: r.warm, Judged: r.judged, OnStage: w.stage}

	resume := holdCollector()
	before := meter.Read()
	start, end, err := drive.Drive(ctx)
	after := meter.Read()
	resume()
	w.stop()
	for _, c := range clients {
		c.Close()
	}
	h, encodeErr := r.record(round, e, start, end)
	if encodeErr != nil {
		return encodeErr
	}
	h.Cut = err != nil
	h.Conditions = meter.Between(before, after)
	r.spent[e.Name] = r.clock.Now() - began
	r.done++
	if h.Shots() > 0 || !h.Cut {
		r.result.Heats = append(r.result.Heats, h)
		r.out <- HeatEnded{h, r.left()}
	}
	return err
}

// heapCeiling is how far the heap may grow in a heat before memory is collected all the same.
const heapCeiling = 256 << 20

// holdCollector collects memory now and then not again before resume is called or the heap reaches its ceiling: a
// collection in mid-heat would show in the tail of whoever is on. It acts on the whole process.
func holdCollector() (resume func()) {
	runtime.GC()
	percent, limit := debug.SetGCPercent(-1), debug.SetMemoryLimit(heapCeiling)
	return func() {
		debug.SetMemoryLimit(limit)
		debug.SetGCPercent(percent)
	}
}

// record turns the recorders of a heat that is over into the document's heat.
func (r *runner) record(round int, e contender.Entry, start, end time.Duration) (result.Heat, error) {
	sums, histogram := tally.Merge(r.judged)
	text, err := result.EncodeHistogram(histogram)
	if err != nil {
		return result.Heat{}, err
	}
	h := result.Heat{
		Round: round, Contender: e.Name, At: start, Wall: end - start, Clients: len(r.judged),
		OK: sums.Counts[contender.OK], Latencies: text, LatencySum: sums.Latency, Busy: sums.Elapsed,
		CPU: sums.CPU, CPUKnown: e.MetersCPU, Sent: sums.Sent, Received: sums.Received,
		Connects: sums.Connections, ConnectSum: sums.Connect, Dots: dots(r.judged, maxDots),
	}
	for class := contender.Cut + 1; class < contender.Classes; class++ {
		if n := sums.Counts[class]; n > 0 {
			if h.Failures == nil {
				h.Failures = map[string]int64{}
			}
			h.Failures[class.String()] = n
		}
	}
	for _, cause := range sums.Causes {
		h.Causes = append(h.Causes, r.cfg.Plan.Mask(cause))
	}
	for i, w := range r.warm {
		h.Warmup += w.Total()
		if r.judged[i].Total() == 0 {
			h.Busy += h.Wall // a client that found nothing left to do was there all the same
		}
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
	return known * time.Duration(p.Rounds*len(p.Contenders)-r.done)
}

func (r *runner) finish(ctx context.Context, err error) {
	r.result.Ended = time.Now()
	switch {
	case err == nil:
		r.result.Ending = result.Done
	case ctx.Err() != nil:
		r.result.Ending = result.Interrupted
		r.result.Reason = fmt.Sprintf("stopped after %d of %d heats", len(r.complete()), r.cfg.Plan.Rounds*len(r.entries))
	default:
		r.result.Ending = result.Failed
		r.result.Reason = err.Error()
	}
}

func (r *runner) complete() (out []result.Heat) {
	for _, h := range r.result.Heats {
		if !h.Cut {
			out = append(out, h)
		}
	}
	return out
}
