package worker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"
)

// Finding is what came of one check of a worker.
type Finding struct {
	Check string
	Err   error // nil: it keeps this
	May   bool  // it need not
}

// Check starts a worker and tries each of its functions, and what every worker owes besides. say hears each finding as
// it comes. It stops at what leaves nothing more to try.
func Check(ctx context.Context, run []string, dir string, environ []string, say func(Finding)) (ok bool) {
	ok = true
	var p *Process
	try := func(check string, do func() error) bool {
		err := do()
		if p != nil && err != nil {
			if text := p.Said(); text != "" {
				err = fmt.Errorf("%w; it printed: %s", err, text)
			}
		}
		ok = ok && err == nil
		say(Finding{Check: check, Err: err})
		return err == nil
	}
	if !try("it connects and says hello", func() (err error) {
		p, err = Start(ctx, Launch{Run: run, Dir: dir, Env: environ})
		return err
	}) {
		return false
	}
	ended := false
	defer func() {
		if !ended {
			p.End()
		}
	}()
	for i := range p.Hello.Functions {
		if !p.tryFunction(ctx, &p.Hello.Functions[i], try) {
			return false
		}
	}
	first := &p.Hello.Functions[0]
	if !try("it says trouble to a function that it does not have", func() error {
		_, err := p.Prepare(ctx, "no function of that name", nil, 1)
		return wantTrouble(err)
	}) {
		return false
	}
	if !try("it says trouble to a parameter that it does not have", func() error {
		_, err := p.Prepare(ctx, first.Name, map[string]any{"no parameter of that name": 1}, 1)
		return wantTrouble(err)
	}) {
		return false
	}
	try("it ends when it is told to", func() error {
		ended = true
		if !p.End() {
			return fmt.Errorf("it is still there %s after stop", StopLimit)
		}
		return nil
	})
	if ok {
		err := tryPings(ctx, Launch{Run: run, Dir: dir, Env: environ, Pings: true})
		say(Finding{Check: "it answers pings beside its functions, as bystanders send them", Err: err, May: true})
	}
	return ok
}

// tryPings starts a worker that is to answer pings, and sends it one.
func tryPings(ctx context.Context, how Launch) error {
	p, err := Start(ctx, how)
	if err != nil {
		return err
	}
	defer p.End()
	const sent = "8 bells\n"
	p.Pings().SetDeadline(time.Now().Add(HelloLimit))
	if _, err := p.Pings().Write([]byte(sent)); err != nil {
		return err
	}
	back := make([]byte, len(sent))
	if _, err := io.ReadFull(p.Pings(), back); err != nil {
		return fmt.Errorf("what was sent did not come back: %w", err)
	}
	if string(back) != sent {
		return fmt.Errorf("%q was sent and %q came back", sent, back)
	}
	return nil
}

// wantTrouble is nil where a worker said trouble.
func wantTrouble(err error) error {
	var trouble *Trouble
	switch {
	case errors.As(err, &trouble):
		if trouble.What == "" {
			return errors.New("its trouble does not say what")
		}
		return nil
	case err == nil:
		return errors.New("it answered as if there were nothing wrong")
	}
	return err
}

// tryFunction tries one function on one thread, and on two where it may be run on these.
func (p *Process) tryFunction(ctx context.Context, f *Function, try func(string, func() error) bool) bool {
	for threads := 1; threads <= min(max(f.Threads, 1), 2); threads++ {
		on := fmt.Sprintf("%s on %d", f.Name, threads)
		var made Prepared
		if !try(on+": it is prepared, and lines that it does not know are skipped", func() (err error) {
			if err = p.Chat(); err != nil {
				return err
			}
			made, err = p.Prepare(ctx, f.Name, nil, threads)
			return err
		}) {
			return false
		}
		if !try(on+": it does as many operations as it is asked for", func() error {
			r, err := p.Run(ctx, 3*made.Batch+1, PrepareLimit)
			if err != nil {
				return err
			}
			return r.coherent(made.Batch)
		}) {
			return false
		}
		if !try(on+": it goes on for as long as it is asked to", func() error {
			const long = 50 * time.Millisecond
			r, err := p.RunFor(ctx, long)
			if err == nil && (r.Elapsed < float64(long)/2 || r.Elapsed > 20*float64(long)) {
				err = fmt.Errorf("it was asked to go on for %s, and did for %s", long, time.Duration(r.Elapsed))
			}
			return err
		}) {
			return false
		}
	}
	return true
}

// coherent reports whether the means of a run's batches add up to how long it took.
func (r *Ran) coherent(batch int64) error {
	for i := range r.Threads {
		t := &r.Threads[i]
		if t.Operations == 0 || len(t.Means) == 0 {
			continue
		}
		sum, left := 0.0, t.Operations
		for _, m := range t.Means {
			n := min(batch, left)
			sum, left = sum+m*float64(n), left-n
		}
		const off = 0.1 // a share
		if left == 0 && t.Busy > 1e5 && (sum < t.Busy*(1-off) || sum > t.Busy*(1+off)) {
			return fmt.Errorf("thread %d was busy for %.0f ns, and its means add up to %.0f", i+1, t.Busy, sum)
		}
	}
	return nil
}
