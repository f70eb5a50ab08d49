// Package conduct puts a whole duel together: it runs the rounds, enters each heat in the logbook as it ends, and has
// the result judged. Screen and command line both start duels through it.
//
// A logbook that fails does not stop a run: the trouble is reported as an event and, unless it passes, in the outcome.
package conduct

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"paceduel/core/cell"
	"paceduel/core/commits"
	"paceduel/core/contender"
	"paceduel/core/figure"
	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Spec is what a duel needs.
type Spec struct {
	Plan    *plan.Plan
	Kinds   []contender.Kind
	Program string        // our version
	Seed    uint64        // 0: the plan's, or a fresh one
	Accept  bool          // unequal work
	Book    *logbook.Book // nil: none is kept
	// Aside is where a run goes that Book, or the one that could not be opened in its place, does not have; the zero
	// Aside keeps none.
	Aside Aside
	// OnAnswer, when set, is handed each contender's whole answer at the weigh-in.
	OnAnswer func(contender, state string, body []byte)
	// OnShots, when set, is handed the shots of each heat that were kept one by one.
	OnShots func(h *result.Heat, shape *shots.Shape, list []tally.Raw, sampled bool)
	Within  time.Duration   // how long the whole may take; 0: as long as it takes
	Builds  commits.Cache   // where what is built from commits is kept
	Control *rounds.Control // that steers the run; nil: none
	// Hands, when set, drive the heats from elsewhere.
	Hands rounds.Hands
	// Run, when set, runs the duel in place of rounds.Run, as an agent elsewhere does.
	Run func(context.Context, rounds.Config, chan<- rounds.Event) (*result.Result, error)
	// Before, when set, is an earlier run of the plan's sweep, which this one goes on from under its name.
	Before *result.Result
	Glance time.Duration // how often a heat is looked at; 0: as package rounds does
}

// Outcome is what came of a duel.
type Outcome struct {
	Result  *result.Result
	Verdict *judge.Verdict // nil for a sweep
	Sweep   *judge.Sweep   // of a run with one
	BookErr error          // why the run is not, or not wholly, in the logbook
	Aside   string         // the file that keeps it until it can be handed in; empty: none does
}

// Judged reports whether there is something to be said of the run.
func (o *Outcome) Judged() bool { return o.Verdict != nil || o.Sweep != nil }

// Upheld reports whether every claim of the plan was upheld; true without any.
func (o *Outcome) Upheld() bool {
	if o.Sweep != nil {
		return o.Sweep.Upheld()
	}
	return o.Verdict.Upheld()
}

// Duel runs the duel and calls watch for every event, in order, from one goroutine. The outcome is complete as far as
// the run went, also when the error says what kept it from going on: weighin.IsFailed, or ctx's.
func Duel(ctx context.Context, s Spec, watch func(rounds.Event)) (*Outcome, error) {
	if s.Before != nil {
		joined, err := Joined(s.Plan, s.Before)
		if err != nil {
			return &Outcome{}, err
		}
		s.Plan = joined
	}
	ctx, halt := context.WithCancel(ctx)
	defer halt()
	events := make(chan rounds.Event)
	finished := make(chan error, 1)
	run := s.Run
	if run == nil {
		run = rounds.Run
	}
	go func() {
		_, err := run(ctx, rounds.Config{
			Plan: s.Plan, Kinds: s.Kinds, Program: s.Program, Seed: s.Seed, AcceptUnequal: s.Accept, OnAnswer: s.OnAnswer,
			OnShots: s.OnShots, Control: s.Control, Enough: Enough(s.Plan), Steering: Steering(), Glance: s.Glance,
			Before: s.Before, Within: s.Within, Builds: s.Builds, Hands: s.Hands,
		}, events)
		finished <- err
	}()
	out := &Outcome{}
	defer func() { // whoever watches may be at fault: the run ends then, and its processes with it
		if p := recover(); p != nil {
			halt()
			for range events { // they have nobody else to go to
			}
			<-finished
			panic(p)
		}
	}()
	k := keeper{watch: watch, before: s.Before}
	if s.Book != nil {
		k.book = s.Book
	}
	var judgeErr error
	for e := range events {
		k.keep(e)
		if ended, ok := e.(rounds.Ended); ok {
			out.Result = ended.Result
			found, err := judged(ctx, ended.Result)
			out.Verdict, out.Sweep, judgeErr = found.verdict, found.sweep, err
			k.close(ended.Result, found)
		}
		watch(e)
	}
	if out.BookErr = k.err; out.Result != nil && (k.err != nil || s.Book == nil) {
		out.Aside = s.Aside.keep(out.Result)
	}
	if err := <-finished; err != nil {
		return out, err
	}
	return out, judgeErr
}

// Joined is a plan with what an earlier run of it has besides. The error says why that cannot be gone on with.
func Joined(p *plan.Plan, before *result.Result) (*plan.Plan, error) {
	if keys := read.Differ(before.Plan.Source, p.Source); before.Plan.Source != "" && len(keys) > 0 {
		return nil, fmt.Errorf("run %s cannot be gone on with: the plan measures something else now, see %s:; run it anew",
			before.ID, strings.Join(keys, ":, "))
	}
	return rounds.Joined(p, before)
}

// judgeLimit is how long an interrupted run may be judged for.
const judgeLimit = 500 * time.Millisecond

// verdicts is what may be said of a run: one of the two, or neither.
type verdicts struct {
	verdict *judge.Verdict
	sweep   *judge.Sweep
}

// of judges a run, as a sweep or as a single duel.
func of(r *result.Result) (v verdicts, err error) {
	if r.Sweep != nil {
		v.sweep, err = judge.JudgeSweep(r)
		return v, err
	}
	v.verdict, err = judge.Judge(r)
	return v, err
}

// summary is what lists show of it.
func (v verdicts) summary(r *result.Result) logbook.Summary {
	out := logbook.Summary{Lead: math.NaN(), Stand: history.Of(r, v.verdict, v.sweep).Encode()}
	switch {
	case v.sweep != nil:
		out.Sentence, out.Lead = v.sweep.Sentence, v.sweep.Lead()
	case v.verdict != nil:
		out.Sentence, out.Lead = v.verdict.Sentence, v.verdict.Lead()
	}
	return out
}

// Summarize judges a finished run for the lists of a logbook.
func Summarize(r *result.Result) (logbook.Summary, error) {
	v, err := of(r)
	return v.summary(r), err
}

// judged judges a result. Once the run is interrupted that has a limit: a verdict that takes longer can be had from the
// logbook.
func judged(ctx context.Context, r *result.Result) (verdicts, error) {
	type outcome struct {
		found verdicts
		err   error
	}
	done := make(chan outcome, 1)
	go func() { // ends by itself, whoever waits
		var o outcome
		defer func() {
			if p := recover(); p != nil {
				o.err = fmt.Errorf("judge the run: %v", p)
			}
			done <- o
		}()
		o.found, o.err = of(r)
	}()
	select {
	case o := <-done:
		return o.found, o.err
	case <-ctx.Done():
	}
	limit := time.NewTimer(judgeLimit)
	defer limit.Stop()
	select {
	case o := <-done:
		return o.found, o.err
	case <-limit.C:
		return verdicts{}, ctx.Err()
	}
}

// Enough says when a plan's until is reached, or a look at it finds everything settled; nil where the plan gives the
// number of rounds. What cannot be read shows when the run is judged.
func Enough(p *plan.Plan) func(*result.Result) bool {
	u := p.Until
	if len(p.Looks) > 0 {
		return func(r *result.Result) bool {
			settled, err := judge.Settled(r)
			return settled && err == nil
		}
	}
	if u == nil {
		return nil
	}
	return func(r *result.Result) bool {
		known, _, err := judge.Known(r, figure.Name(u.Figure), float64(u.Within))
		return known && err == nil
	}
}

// Steering says how sweeps go on after their first rounds.
func Steering() rounds.Steering {
	return rounds.Steering{
		Needs: func(r *result.Result) map[cell.Point]float64 { return judge.Needs(r, rounds.FirstRounds) },
		Bends: func(r *result.Result) (out []rounds.Stretch) {
			for _, b := range judge.Bends(r) {
				out = append(out, rounds.Stretch(b))
			}
			return out
		},
	}
}

// book is what a run is kept in.
type book interface {
	Begin(head *result.Result) error
	Reopen(head *result.Result) (heats int, err error)
	AddHeat(run string, seq int, h *result.Heat) error
	End(r *result.Result, s logbook.Summary) error
}

// keeper enters events in the logbook. What it cannot enter it holds, and tries again: a disk may have room later.
type keeper struct {
	book  book // nil: none
	watch func(rounds.Event)
	head  *result.Result
	begun bool
	kept  int           // heats that are in the book
	held  []result.Heat // those that are not
	wait  int           // heats until it is tried again
	tries int           // that failed in a row

	before *result.Result // that the run goes on from; nil: none
	err    error          // why it is behind; nil while it is not
}

func (k *keeper) keep(e rounds.Event) {
	if k.book == nil {
		return
	}
	switch e := e.(type) {
	case rounds.Started:
		if k.head = e.Result; k.before == nil { // an earlier run stays as it is until there is more of it
			k.settle(k.catchUp())
		}
	case rounds.HeatEnded:
		k.held = append(k.held, e.Heat)
		if k.wait--; k.wait < 0 {
			k.settle(k.catchUp())
		}
	}
}

// begin enters the run, or opens the earlier one again that it goes on from: what the book does not have of that is
// entered, too.
func (k *keeper) begin() error {
	if k.before == nil {
		return k.book.Begin(k.head)
	}
	heats, err := k.book.Reopen(k.head)
	if errors.Is(err, logbook.ErrNoRun) {
		heats, err = 0, k.book.Begin(k.head)
	}
	if err != nil {
		return err
	}
	if heats > len(k.before.Heats) {
		return fmt.Errorf("run %s has been gone on with by somebody else meanwhile", k.head.ID)
	}
	k.kept, k.held = heats, slices.Concat(k.before.Heats[heats:], k.held)
	return nil
}

// catchUp enters what is not in the book yet.
func (k *keeper) catchUp() error {
	if !k.begun {
		if err := k.begin(); err != nil {
			return err
		}
		k.begun = true
	}
	for len(k.held) > 0 {
		if err := k.book.AddHeat(k.head.ID, k.kept, &k.held[0]); err != nil {
			return err
		}
		k.kept, k.held = k.kept+1, k.held[1:]
	}
	return nil
}

// close enters the rest and the end.
func (k *keeper) close(r *result.Result, found verdicts) {
	if k.book == nil || k.head == nil || k.before != nil && len(r.Heats) == len(k.before.Heats) {
		return
	}
	err := k.catchUp()
	if err == nil {
		err = k.book.End(r, found.summary(r))
	}
	k.settle(err)
}

// settle takes down whether the book is behind, and tells when that changes. After each failure it waits for twice as
// many heats, since a file that is locked takes its time to say so.
func (k *keeper) settle(err error) {
	before := k.err
	k.err, k.wait = nil, 0
	if err == nil {
		k.tries = 0
		if before != nil {
			k.watch(rounds.NotKept{})
		}
		return
	}
	k.wait = 1 << min(k.tries, 6)
	k.tries++
	k.err = errors.Join(errors.New("the run goes on, but the logbook does not keep it for now"), err)
	if before == nil {
		k.watch(rounds.NotKept{Err: k.err})
	}
}
