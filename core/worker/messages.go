// Package worker speaks with workers: programs that run their own functions when they are asked to.
// docs/worker-protocol.md is the protocol.
//
// It starts a worker, asks, and holds what is answered to what can be seen from outside. What the answers mean for a
// duel is left to whoever drives it.
package worker

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"paceduel/core/quantile"
)

// Version is the protocol's.
const Version = 1

// Limits of what a worker may say.
const (
	MaxLine      = 1 << 20 // bytes, its end included
	MaxFunctions = 1000
	MaxThreads   = 4096
	MaxMeans     = 1000 // of a thread in a run
	MaxTimes     = 6000 // of operations in a run that differ
	MaxAmounts   = 32
)

// Hello is how a worker introduces itself.
type Hello struct {
	Protocol  int        `json:"protocol"`
	Name      string     `json:"name"`
	Runtime   string     `json:"runtime"`
	Version   string     `json:"version"` // of the runtime
	Functions []Function `json:"functions"`
}

// Function is one that a worker has.
type Function struct {
	Name    string         `json:"name"`
	About   string         `json:"about,omitempty"`
	Params  map[string]any `json:"params,omitempty"`  // by name, with their defaults
	Threads int            `json:"threads,omitempty"` // that may run it at once; 0: one
}

// Prepared is what a worker tells of a function that it has made ready.
type Prepared struct {
	Result  json.RawMessage `json:"result,omitempty"` // of one operation; nil where it returns nothing
	Batch   int64           `json:"batch"`            // operations between two looks at the clock
	Clock   float64         `json:"clock_ns"`         // a look at the clock
	Empty   float64         `json:"empty_ns"`         // an operation of an empty loop
	First   float64         `json:"first_ns"`         // the very first operation; 0 where it is not told
	Warmup  float64         `json:"warmup_ns"`
	Settled bool            `json:"settled"`
}

// Ran is what a worker tells of a run.
type Ran struct {
	Operations int64             `json:"operations"`
	Elapsed    float64           `json:"elapsed_ns"`
	Threads    []Thread          `json:"threads"`
	Times      []Times           `json:"times,omitempty"` // none where operations are too short to be timed by themselves
	Amounts    map[string]Amount `json:"amounts,omitempty"`
}

// Thread is what one thread did in a run.
type Thread struct {
	Operations int64     `json:"operations"`
	Busy       float64   `json:"busy_ns"`
	Means      []float64 `json:"means_ns,omitempty"` // the time of an operation, batch by batch
}

// Times is how long an operation took, in nanoseconds, and how many took that long.
type Times [2]float64

// Amount is something else that a worker knows of a run.
type Amount struct {
	Value float64 `json:"value"`
	Unit  string  `json:"unit,omitempty"`
}

// question is what we send.
type question struct {
	Say        string         `json:"say"`
	ID         int            `json:"id,omitempty"`
	Function   string         `json:"function,omitempty"`
	Params     map[string]any `json:"params,omitempty"`
	Threads    int            `json:"threads,omitempty"`
	Operations int64          `json:"operations,omitempty"`
	For        int64          `json:"for_ns,omitempty"`
}

// head is what every line of a worker begins with, as far as it has that.
type head struct {
	Say  string `json:"say"`
	ID   int    `json:"id"`
	What string `json:"what"`
}

// said are all that we understand.
var said = []string{"hello", "prepared", "ran", "trouble"}

// ErrLine is a line that is no message.
var ErrLine = errors.New("what came is not a line of the worker protocol")

// readLine reads the next line that we understand; the others are skipped. The error is io.EOF at the end.
func readLine(in *bufio.Reader) (h head, text []byte, err error) {
	for {
		text, err = oneLine(in)
		if err != nil {
			return h, nil, err
		}
		h = head{}
		if err := json.Unmarshal(text, &h); err != nil {
			return h, nil, fmt.Errorf("%w: %q: %w", ErrLine, cut(text), err)
		}
		if h.Say == "" {
			return h, nil, fmt.Errorf("%w: %q has no say", ErrLine, cut(text))
		}
		if slices.Contains(said, h.Say) {
			return h, text, nil
		}
	}
}

// oneLine reads up to the end of a line, at most MaxLine bytes.
func oneLine(in *bufio.Reader) (line []byte, err error) {
	for {
		part, err := in.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case len(line) > MaxLine:
			return nil, fmt.Errorf("%w: a line is longer than %d bytes", ErrLine, MaxLine)
		case err == nil:
			if !utf8.Valid(line) {
				return nil, fmt.Errorf("%w: %q is not UTF-8", ErrLine, cut(line))
			}
			return line, nil
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF) && len(line) > 0:
			return nil, fmt.Errorf("%w: it ends in the middle of a line: %q", ErrLine, cut(line))
		default:
			return nil, err
		}
	}
}

// cut is the beginning of a text of somebody else's.
func cut(text []byte) []byte {
	const most = 120
	return text[:min(len(text), most)]
}

// check says what of a hello cannot be.
func (h *Hello) check() error {
	switch {
	case h.Protocol != Version:
		return fmt.Errorf("it speaks version %d of the protocol, and this program speaks %d", h.Protocol, Version)
	case len(h.Functions) == 0:
		return errors.New("it has no functions")
	case len(h.Functions) > MaxFunctions:
		return fmt.Errorf("it has %d functions; %d are the most", len(h.Functions), MaxFunctions)
	}
	seen := map[string]bool{}
	for i := range h.Functions {
		f := &h.Functions[i]
		if f.Name == "" || seen[f.Name] {
			return fmt.Errorf("its function %d is called %q, which is no name of its own", i+1, f.Name)
		}
		if f.Threads < 0 || f.Threads > MaxThreads {
			return fmt.Errorf("its function %s has %d threads", f.Name, f.Threads)
		}
		seen[f.Name] = true
	}
	return nil
}

// Find is the function of that name; nil without one.
func (h *Hello) Find(name string) *Function {
	for i := range h.Functions {
		if h.Functions[i].Name == name {
			return &h.Functions[i]
		}
	}
	return nil
}

func isTime(ns float64) bool { return ns >= 0 && !math.IsInf(ns, 0) }

// check says what of an answer cannot be.
func (p *Prepared) check() error {
	switch {
	case p.Batch < 1:
		return fmt.Errorf("a batch is of %d operations", p.Batch)
	case !isTime(p.Clock) || !isTime(p.Empty) || !isTime(p.First) || !isTime(p.Warmup):
		return fmt.Errorf("clock_ns %g, empty_ns %g, first_ns %g and warmup_ns %g are not all times", p.Clock, p.Empty,
			p.First, p.Warmup)
	}
	return nil
}

// check says what of an answer cannot be, from wall nanoseconds after the question and for so many threads.
func (r *Ran) check(q *question, threads int, wall float64) error {
	const (
		slack = 1e6 // nanoseconds: clocks may differ by the grain of either
		late  = 1e9 // a busy machine may hold up an answer
	)
	switch {
	case r.Operations < 1 || !isTime(r.Elapsed):
		return fmt.Errorf("%d operations in %g ns is nothing that can be", r.Operations, r.Elapsed)
	case q.Operations > 0 && r.Operations != q.Operations:
		return fmt.Errorf("%d operations were asked for, and %d were done", q.Operations, r.Operations)
	case r.Elapsed > wall+slack:
		return fmt.Errorf("elapsed_ns is %.0f, and the answer came after %.0f", r.Elapsed, wall)
	case wall > 2*r.Elapsed+late:
		return fmt.Errorf("elapsed_ns is %.0f, and the answer came only after %.0f", r.Elapsed, wall)
	case len(r.Threads) != threads:
		return fmt.Errorf("%d threads were asked for, and %d are told of", threads, len(r.Threads))
	case len(r.Amounts) > MaxAmounts:
		return fmt.Errorf("%d amounts; %d are the most", len(r.Amounts), MaxAmounts)
	}
	var all int64
	for i := range r.Threads {
		t := &r.Threads[i]
		all += t.Operations
		switch {
		case t.Operations < 0 || !isTime(t.Busy):
			return fmt.Errorf("thread %d did %d operations in %g ns", i+1, t.Operations, t.Busy)
		case t.Busy > r.Elapsed+slack:
			return fmt.Errorf("thread %d was busy for %.0f ns of %.0f", i+1, t.Busy, r.Elapsed)
		case len(t.Means) > MaxMeans:
			return fmt.Errorf("thread %d tells %d means; %d are the most", i+1, len(t.Means), MaxMeans)
		case slices.ContainsFunc(t.Means, func(m float64) bool { return !isTime(m) }):
			return fmt.Errorf("thread %d tells a mean that is no time", i+1)
		}
	}
	for name, a := range r.Amounts {
		switch {
		case !isWord(name) || a.Unit != "" && !isWord(a.Unit):
			return fmt.Errorf("an amount is called %q, in %q; letters, digits, spaces, - and _ are for that, 40 at most",
				name, a.Unit)
		case a.Value < 0 || math.IsInf(a.Value, 0):
			return fmt.Errorf("the amount %s is %g", name, a.Value)
		}
	}
	if all != r.Operations {
		return fmt.Errorf("threads did %d operations, %d are told of", all, r.Operations)
	}
	return r.checkTimes()
}

// checkTimes says what of the times of single operations cannot be.
func (r *Ran) checkTimes() error {
	if len(r.Times) > MaxTimes {
		return fmt.Errorf("%d times of operations; %d are the most", len(r.Times), MaxTimes)
	}
	timed, took, busy := 0.0, 0.0, 0.0
	for _, t := range r.Times {
		if !isTime(t[0]) || t[1] < 0 || t[1] != math.Trunc(t[1]) {
			return fmt.Errorf("%g operations that took %g ns each", t[1], t[0])
		}
		timed, took = timed+t[1], took+t[0]*t[1]
	}
	for i := range r.Threads {
		busy += r.Threads[i].Busy
	}
	const off = 0.02 // each is told to a hundredth
	switch {
	case len(r.Times) == 0:
		return nil
	case timed != float64(r.Operations):
		return fmt.Errorf("times of %.0f operations, and %d were done", timed, r.Operations)
	case math.Abs(took-busy) > off*busy+float64(r.Operations): // and may be off by a nanosecond
		return fmt.Errorf("the times of all operations come to %.0f ns, and threads were busy for %.0f", took, busy)
	}
	return nil
}

// Quantile is the time of single operations at a share of them, in nanoseconds. ok is false where they were not timed
// by themselves, or are too few for that: ten are to lie beyond it.
func (r *Ran) Quantile(q float64) (ns float64, ok bool) {
	const beyond = 10
	all := float64(r.Operations)
	if len(r.Times) == 0 || all*min(q, 1-q) < beyond {
		return 0, false
	}
	sorted := slices.SortedFunc(slices.Values(r.Times), func(a, b Times) int { return cmp.Compare(a[0], b[0]) })
	want, sum := float64(quantile.Rank(q, r.Operations)), 0.0
	for _, t := range sorted {
		if sum += t[1]; sum >= want {
			return t[0], true
		}
	}
	return sorted[len(sorted)-1][0], true
}

// isWord reports whether a text can be the name of an amount or its unit.
func isWord(text string) bool {
	const most = 40
	return text != "" && len(text) <= most && strings.TrimSpace(text) == text &&
		!strings.ContainsFunc(text, func(c rune) bool {
			return !unicode.IsLetter(c) && !unicode.IsDigit(c) && !strings.ContainsRune(" -_", c)
		})
}

// AmountNames are the names of a run's amounts, in the order of the alphabet.
func (r *Ran) AmountNames() []string { return slices.Sorted(maps.Keys(r.Amounts)) }

// PerOperation is the time of an operation as a thread sees it, in nanoseconds.
func (r *Ran) PerOperation() float64 {
	busy := 0.0
	for i := range r.Threads {
		busy += r.Threads[i].Busy
	}
	return busy / float64(r.Operations)
}
