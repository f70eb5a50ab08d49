package fleet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"paceduel/core/bus"
	"paceduel/core/panics"
	"paceduel/core/rounds"
	"paceduel/core/units"
)

const (
	tryLimit    = time.Second            // for one answer
	tryAgain    = 100 * time.Millisecond // after one that did not come
	busPatience = 2 * time.Minute        // with a bus that is away
)

// refusal is what an agent answered in place of doing what it was asked.
type refusal struct {
	words   string
	byOwner bool // who will say so again
}

func (r *refusal) Error() string { return r.words }

// silence is an agent that does not answer.
type silence struct {
	name string
	long time.Duration
}

func (s *silence) Error() string {
	return fmt.Sprintf("agent %s has not answered for %s", s.name, units.Duration(s.long))
}

// ask asks a member once.
func (f *Fleet) ask(ctx context.Context, m *member, verb string, q any, a answer) error {
	return f.askFor(ctx, tryLimit, m, verb, q, a)
}

func (f *Fleet) askFor(
	ctx context.Context, limit time.Duration, m *member, verb string, q any, a answer,
) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	text, err := f.cfg.Link.Ask(ctx, agentOf+m.card.Name+"."+m.card.Instance+"."+verb, encode(q))
	if err != nil {
		return err
	}
	m.heard.Store(time.Now().UnixNano())
	if err := decode(text, a); err != nil {
		return &refusal{words: fmt.Sprintf("agent %s answered with %s", m.card.Name, err)}
	}
	if no, byOwner := a.why(); no != "" {
		return &refusal{units.Printable(short(no)), byOwner}
	}
	return nil
}

// insist asks a member until it answers, for as long as the plan has patience. While our own link to the bus is broken
// nobody's silence counts.
func (f *Fleet) insist(ctx context.Context, m *member, verb string, q any, a answer) error {
	return f.insistFor(ctx, tryLimit, m, verb, q, a)
}

func (f *Fleet) insistFor(
	ctx context.Context, limit time.Duration, m *member, verb string, q any, a answer,
) error {
	var silent time.Time
	for {
		began := time.Now()
		err := f.askFor(ctx, limit, m, verb, q, a)
		var no *refusal
		switch {
		case err == nil || errors.As(err, &no) || errors.Is(err, bus.ErrTooLong):
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		}
		if away := f.cfg.Link.Away(); away > busPatience {
			return fmt.Errorf("the bus has been away for %s", units.Duration(away))
		} else if away > 0 {
			silent = time.Time{}
		} else if silent.IsZero() {
			silent = began
		} else if long := time.Since(silent); long > f.patience {
			return &silence{m.card.Name, long}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(tryAgain):
		}
	}
}

// each does something with several members at once, and ends it with all of them when one fails. Meanwhile, when set,
// is called now and then from this goroutine. The error is a *rounds.HandsError that names who failed, or ctx's.
func (f *Fleet) each(
	ctx context.Context, members []*member, meanwhile func(), do func(context.Context, *member) error,
) error {
	within, stop := context.WithCancel(ctx)
	defer stop()
	failures := make([]error, len(members))
	var all sync.WaitGroup
	for i, m := range members {
		all.Go(func() {
			err := panics.Guard("ask agent "+m.card.Name, func() error { return do(within, m) })
			if err != nil && within.Err() == nil {
				stop()
				failures[i] = err
			}
		})
	}
	over := make(chan struct{})
	go func() {
		all.Wait()
		close(over)
	}()
	if meanwhile == nil {
		<-over
	} else {
		f.meanwhile(over, meanwhile)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var failed *rounds.HandsError
	for i, err := range failures {
		if err == nil {
			continue
		}
		no := (*refusal)(nil)
		final := errors.As(err, &no) && no.byOwner
		if failed == nil || final && !failed.Final {
			failed = &rounds.HandsError{What: blame(members[i], err), Final: final}
		}
		failed.Names = append(failed.Names, members[i].card.Name)
	}
	if failed == nil {
		return nil
	}
	return failed
}

// meanwhile calls do as often as a heat is looked at, until over is closed.
func (f *Fleet) meanwhile(over <-chan struct{}, do func()) {
	tick := time.NewTicker(max(f.glance, 50*time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-over:
			return
		case <-tick.C:
			do()
		}
	}
}

// blame is an error in a sentence that names the agent.
func blame(m *member, err error) string {
	name := "agent " + m.card.Name
	if text := err.Error(); len(text) >= len(name) && text[:len(name)] == name {
		return text
	}
	return name + ": " + err.Error()
}

// stoodLimit is for how long an agent's process may not run within a heat: by then its shots were not sent as they were
// due.
const stoodLimit = 500 * time.Millisecond

// follow waits until a job of a heat has come to a phase, and hands each answer to see. The error says what became of
// the job.
func (f *Fleet) follow(ctx context.Context, m *member, job, until string, see func(*waitAnswer)) (*waitAnswer, error) {
	return f.watch(ctx, m, job, func(a *waitAnswer) (bool, error) {
		if a.Stood > f.stood {
			return true, fmt.Errorf("agent %s did not run for %s: its process was stopped, or its machine had no time for it",
				m.card.Name, units.Duration(a.Stood))
		}
		if a.Phase != until && a.Phase != done && see != nil {
			see(a)
		}
		return a.Phase == until, nil
	})
}

// watch waits until a job is over, or has come as far as is wanted.
func (f *Fleet) watch(
	ctx context.Context, m *member, job string, reached func(*waitAnswer) (bool, error),
) (*waitAnswer, error) {
	seen, hold := "", longestHold
	if f.glance > 0 {
		hold = min(max(f.glance, time.Duration(len(f.everybody()))*time.Millisecond), longestHold)
	}
	for {
		var a waitAnswer
		err := f.insistFor(ctx, hold+tryLimit, m, wait, &waitAsk{f.asked(job), seen, hold}, &a)
		switch {
		case err != nil:
			return nil, err
		case a.Failed != "":
			return nil, &refusal{units.Printable(short(a.Failed)), a.ByOwner}
		}
		is, err := reached(&a)
		if err != nil {
			return nil, err
		}
		if is || a.Phase == done {
			return &a, nil
		}
		seen = a.Phase
	}
}

// carriedOut waits for a job and fetches what came of it.
func (f *Fleet) carriedOut(ctx context.Context, m *member, job string, out any) error {
	a, err := f.watch(ctx, m, job, func(*waitAnswer) (bool, error) { return false, nil })
	if err != nil {
		return err
	}
	return f.bring(ctx, m, job, a, out)
}

// bring fetches what came of a job that is over.
func (f *Fleet) bring(ctx context.Context, m *member, job string, a *waitAnswer, out any) error {
	if a.Size < 0 || a.Size > maxOutcome {
		return fmt.Errorf("agent %s wants to hand over %s", m.card.Name, units.Bytes(float64(a.Size)))
	}
	var packed []byte
	for len(packed) < a.Size {
		var part fetchAnswer
		if err := f.insist(ctx, m, fetch, &fetchAsk{f.asked(job), len(packed)}, &part); err != nil {
			return err
		}
		if len(part.Data) == 0 || len(packed)+len(part.Data) > a.Size {
			return fmt.Errorf("agent %s handed over another length than it said", m.card.Name)
		}
		packed = append(packed, part.Data...)
	}
	if hashOf(packed) != a.SHA256 {
		return fmt.Errorf("what agent %s handed over did not arrive whole", m.card.Name)
	}
	if err := unsqueeze(packed, out); err != nil {
		return fmt.Errorf("agent %s: %w", m.card.Name, err)
	}
	return nil
}

func hashOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// How often clocks are compared at a time: at least so often, and more as long as none came and went quickly, within a
// time.
const (
	fewestReadings = 8
	fewestAfter    = 4 // after a heat: between two comparisons a clock does not go far
	mostReadings   = 64
	quickTrip      = time.Millisecond
	comparing      = 300 * time.Millisecond
)

// comparedAtOnce is with how many agents clocks are compared at a time: more would wait for each other.
const comparedAtOnce = 4

// compare compares a member's clock with ours.
func (f *Fleet) compare(ctx context.Context, m *member, fewest int) (offset, error) {
	select {
	case f.comparing <- struct{}{}:
		defer func() { <-f.comparing }()
	case <-ctx.Done():
		return offset{}, ctx.Err()
	}
	var list []reading
	quick, began := false, f.clock.Now()
	for n := range mostReadings {
		if n >= fewest && (quick || f.clock.Now()-began > comparing) {
			break
		}
		var a tickAnswer
		r := reading{asked: f.clock.Now()}
		err := f.ask(ctx, m, tick, f.asked(""), &a)
		r.answered, r.other = f.clock.Now(), a.Now
		if err == nil {
			list = append(list, r)
			quick = quick || r.answered-r.asked < quickTrip
			continue
		}
		// one that had to be repeated tells little
		if err := f.insist(ctx, m, tick, f.asked(""), &a); err != nil {
			return offset{}, err
		}
	}
	return compare(list), nil
}

// weights are how much of a load each of some members takes.
func weights(members []*member) (out []int) {
	for _, m := range members {
		out = append(out, m.weight)
	}
	return slices.Clip(out)
}
