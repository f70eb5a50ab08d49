package harbour

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"time"
)

// The tide office is one clerk, who owns the day's ledger and does whatever is asked for, one thing after another: no
// lock is needed, and nobody else is let in while something is done. Asked for the highest tides of a year, the clerk
// computes them in one go, in slices between which others are let in, or has a helper do it, who is at work beside.
type office struct {
	asked  chan func()
	closed <-chan struct{} // when the clerk goes home
	ledger map[string]int  // how often each tide was looked up; the clerk's alone
}

// clerk does what is asked for until ctx ends.
func (o *office) clerk(ctx context.Context) {
	for {
		select {
		case do := <-o.asked:
			do()
		case <-ctx.Done():
			return
		}
	}
}

// have has the clerk do something, and waits until it is done. It reports false where ctx ended before.
func (o *office) have(ctx context.Context, do func()) bool {
	done := make(chan struct{})
	select {
	case o.asked <- func() { do(); close(done) }:
	case <-ctx.Done():
		return false
	case <-o.closed:
		return false
	}
	select {
	case <-done:
		return true
	case <-ctx.Done():
		return false
	case <-o.closed:
		return false
	}
}

// HighTide is the highest water at a gauge in a year.
type HighTide struct {
	Gauge  int   `json:"gauge"`
	Step   int   `json:"step"` // of the year, ten minutes each
	Height int16 `json:"height_cm"`
}

// highest are the highest waters of some gauges, computed from the harmonic constituents; each, when set, is called
// after every slice of so many steps.
func highest(gauge, steps int, each func()) HighTide {
	waves, high := wavesOf(gauge), HighTide{Gauge: gauge, Height: -1 << 15}
	for at := range yearSteps {
		if h := heightAt(waves, at); h > high.Height {
			high.Step, high.Height = at, h
		}
		if each != nil && at%steps == steps-1 {
			each()
		}
	}
	return high
}

// yearOf is how the highest waters of all gauges are computed, by its name.
func (o *office) yearOf(ctx context.Context, way string) (out []HighTide, err error) {
	const slice = 2_000 // steps: well under a millisecond
	all := func(each func()) {
		for gauge := range gauges {
			out = append(out, highest(gauge, slice, each))
		}
	}
	switch way {
	case "one-go":
		o.have(ctx, func() { all(nil) })
	case "slices": // each slice is a thing of its own for the clerk, in turn with what others ask for
		err = o.inSlices(ctx, all)
	case "helper":
		all(nil) // on the goroutine of whoever asks
	default:
		return nil, fmt.Errorf("there is no way to compute called %q: one-go, slices or helper", way)
	}
	return out, cmp.Or(err, ctx.Err())
}

var errClosed = errors.New("the office is closed")

// inSlices has the clerk do something slice by slice, each in turn with what others ask for. all does it, and calls
// what it is given after each slice.
func (o *office) inSlices(ctx context.Context, all func(each func())) error {
	turn, next, finished := make(chan struct{}), make(chan struct{}), make(chan struct{})
	given := func() {
		select {
		case <-turn:
		case <-o.closed:
		}
	}
	go func() {
		defer close(finished)
		given()
		all(func() {
			select {
			case next <- struct{}{}:
			case <-o.closed:
			}
			given()
		})
	}()
	for {
		ok := o.have(ctx, func() {
			select {
			case turn <- struct{}{}:
			case <-finished:
				return
			}
			select {
			case <-next:
			case <-finished:
			}
		})
		select {
		case <-finished:
			return nil
		default:
			if !ok {
				return errClosed
			}
		}
	}
}

// Office answers at address until ctx ends: /year?how=WAY with the highest tides of a year, /look-up?tide=NAME with how
// often that was looked up. It prints a line every so often while the clerk is not held up.
func Office(ctx context.Context, address string, every time.Duration, said io.Writer) error {
	o := &office{asked: make(chan func()), closed: ctx.Done(), ledger: map[string]int{}}
	go o.clerk(ctx)
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, what any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(what)
	}
	mux.HandleFunc("GET /year", func(w http.ResponseWriter, r *http.Request) {
		tides, err := o.yearOf(context.WithoutCancel(r.Context()), r.FormValue("how"))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		answer(w, tides)
	})
	mux.HandleFunc("GET /look-up", func(w http.ResponseWriter, r *http.Request) {
		n := 0
		if o.have(r.Context(), func() { o.ledger[r.FormValue("tide")]++; n = o.ledger[r.FormValue("tide")] }) {
			answer(w, map[string]string{"tide": r.FormValue("tide"), "looked_up": strconv.Itoa(n)})
		}
	})
	if every > 0 {
		go o.ticks(ctx, every, said)
	}
	return listen(ctx, "the tide office", address, mux, said)
}

// ticks prints a line at each of its moments at which the clerk is free.
func (o *office) ticks(ctx context.Context, every time.Duration, said io.Writer) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			o.have(ctx, func() { fmt.Fprintln(said, "the clerk is free") })
		case <-ctx.Done():
			return
		}
	}
}

// listen serves until ctx ends, and says where.
func listen(ctx context.Context, who, address string, h http.Handler, said io.Writer) error {
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err != nil {
		return fmt.Errorf("%s cannot answer at %s: %w", who, address, err)
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: 5 * time.Second}
	go func() {
		<-ctx.Done()
		server.Close()
	}()
	fmt.Fprintln(said, who, "answers at", l.Addr())
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
