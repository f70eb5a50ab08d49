// Package worker drives functions inside programs: a worker is started for a heat or for the duel, and each shot has it
// do so many operations of one of its functions.
//
// A shot's latency is what the worker told of these operations: from the moment at which all threads began until the
// last was done, by its own clock and without asking and answering. What it told is held to our clock first. Starting
// the worker, making the function's state and warming it up come before the first shot and are no part of any. How to
// speak with a worker is left to core/worker.
package worker

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"paceduel/core/plan"
	"paceduel/core/units"
	"paceduel/core/worker"
)

// Settings are the keys under worker: in a plan.
type Settings struct {
	Run        []plan.Word          `json:"run,omitempty" jsonschema:"minItems=1" jsonschema_description:"the worker's program and arguments, as a list"`
	Function   string               `json:"function,omitempty" jsonschema:"minLength=1" jsonschema_description:"which of its functions"`
	Params     map[string]plan.Word `json:"params,omitempty" jsonschema_description:"the function's parameters; its defaults unless said"`
	Threads    int                  `json:"threads,omitempty" jsonschema:"minimum=1,maximum=4096" jsonschema_description:"on so many threads at once; 1 unless said"`
	Operations int64                `json:"operations,omitempty" jsonschema:"minimum=1,maximum=1000000000000" jsonschema_description:"of one shot, shared out among the threads; 1000000 unless said. All contenders do as many as the one that is to do most"`
	For        plan.Span            `json:"for,omitempty" jsonschema_description:"instead of operations: each shot does as many as this time holds. All contenders take the longest time of any"`
	Dir        string               `json:"dir,omitempty" jsonschema_description:"working directory, from the plan's folder"`
	Env        map[string]plan.Word `json:"env,omitempty" jsonschema_description:"laid over our own environment"`
	Stdout     string               `json:"stdout,omitempty" jsonschema:"enum=discard,enum=pipe,enum=file,enum=terminal" jsonschema_description:"where it prints to: discard (the null device), pipe (read by us), file (on a disk, without a name) or terminal (a pseudo-terminal that we read); discard unless said"`
	Size       plan.Size            `json:"size,omitempty" jsonschema_description:"with stdout: terminal, its columns and rows; 80x24 unless said"`
	Fresh      string               `json:"fresh,omitempty" jsonschema:"enum=heat,enum=duel" jsonschema_description:"how often it is started anew: for each heat, so that what differs between two starts of one program evens out, or once for the duel; heat unless said"`
	Limits     *plan.Limits         `json:"limits,omitempty" jsonschema_description:"what it and all that it starts may take, where this machine has control groups"`
	Timeout    plan.Span            `json:"timeout,omitempty" jsonschema_description:"a shot that takes longer fails, and the worker is ended; 60s unless said"`
}

// Limits and defaults.
const (
	defaultOperations = 1_000_000
	maxOperations     = 1_000_000_000_000
	defaultTimeout    = time.Minute
	leastFor          = time.Millisecond
)

// New returns settings with their defaults. Operations are left open, since contenders may share those of one.
func New() plan.Settings {
	return &Settings{
		Threads: 1, Stdout: "discard", Size: plan.Size{Columns: 80, Rows: 24}, Fresh: plan.EveryHeat,
		Timeout: plan.Span(defaultTimeout),
	}
}

// How its process is kept, see plan.Housed.

func (s *Settings) Held() *plan.Limits { return s.Limits }
func (s *Settings) StartsAnew() bool   { return s.Fresh == plan.EveryHeat }
func (s *Settings) Tasks() int         { return s.Threads }

// Check reports contradictions and missing folders. What the worker has no function or parameter for is left to the
// weigh-in.
func (s *Settings) Check(in plan.Surroundings) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	switch {
	case len(s.Run) == 0:
		fault("", "set run: [program, argument]", "nothing says which worker to start")
	case s.Run[0] == "":
		fault("run", "set run: [program, argument]", "the program's name is empty")
	}
	if s.Function == "" {
		fault("", "set function: NAME", "nothing says which function")
	}
	if s.Threads < 1 || s.Threads > worker.MaxThreads {
		fault("threads", fmt.Sprintf("use 1 to %d", worker.MaxThreads), "%d threads", s.Threads)
	}
	if s.Operations < 0 || s.Operations > maxOperations {
		fault("operations", fmt.Sprintf("use 1 to %d", maxOperations), "%d operations", s.Operations)
	}
	switch {
	case s.For > 0 && s.Operations > 0:
		fault("for", "keep one of them", "both operations and for are set")
	case s.For > 0 && (s.For.D() < leastFor || s.For >= s.Timeout):
		fault("for", "use 1ms or more, and less than timeout", "a shot of %s", s.For.D())
	}
	if s.Timeout == 0 {
		fault("timeout", "set a positive time", "a limit of no time at all")
	}
	if s.Dir != "" {
		if dir, info, err := in.Find(s.Dir); err != nil || !info.IsDir() {
			fault("dir", "create it, or name another", "%s is not a folder", dir)
		}
	}
	return faults
}

// Summary is the function as one would call it, and who has it.
func (s *Settings) Summary() string {
	var params []string
	for _, name := range slices.Sorted(maps.Keys(s.Params)) {
		params = append(params, name+": "+string(s.Params[name]))
	}
	text := s.Function
	if len(params) > 0 {
		text += " (" + strings.Join(params, ", ") + ")"
	}
	words := make([]string, len(s.Run))
	for i, w := range s.Run {
		words[i] = string(w)
	}
	text += " of " + strings.Join(words, " ")
	if s.Threads > 1 {
		text += fmt.Sprintf(" on %d threads", s.Threads)
	}
	if s.Stdout != "discard" {
		text += ", printing to a " + s.Stdout
	}
	if !s.StartsAnew() {
		text += ", in one process"
	}
	switch { // runs of other amounts of work are not to be joined
	case s.For > 0:
		text += ", shots of " + s.For.D().String()
	case s.Operations > 0:
		text += ", " + units.Count(s.Operations) + " operations a shot"
	}
	return text
}

// level gives all contenders the operations of the one that is to do most, or the time of the one that takes longest
// where any has one: latencies of different amounts of work say nothing of each other.
func level(all []plan.Settings) []plan.Settings {
	var most int64
	var longest plan.Span
	for _, s := range all {
		most, longest = max(most, s.(*Settings).Operations), max(longest, s.(*Settings).For)
	}
	switch {
	case longest > 0:
		most = 0
	case most == 0:
		most = defaultOperations
	}
	out := make([]plan.Settings, len(all))
	for i, s := range all {
		own := *s.(*Settings)
		own.Operations, own.For = most, longest
		out[i] = &own
	}
	return out
}

// params are the parameters of a function as its worker takes them: numbers where its defaults are numbers.
func (s *Settings) params(f *worker.Function) (map[string]any, error) {
	out := map[string]any{}
	for name, word := range s.Params {
		def, known := f.Params[name]
		if !known {
			names := slices.Sorted(maps.Keys(f.Params))
			if len(names) == 0 {
				return nil, fmt.Errorf("its function %s has no parameters, and %s is set", f.Name, name)
			}
			return nil, fmt.Errorf("its function %s has no parameter %s; it has %s", f.Name, name, strings.Join(names, ", "))
		}
		switch def.(type) {
		case float64:
			v, err := strconv.ParseFloat(string(word), 64)
			if err != nil {
				return nil, fmt.Errorf("%s of its function %s is a number, and %q is none", name, f.Name, word)
			}
			out[name] = v
		case bool:
			v, err := strconv.ParseBool(string(word))
			if err != nil {
				return nil, fmt.Errorf("%s of its function %s is true or false, and %q is neither", name, f.Name, word)
			}
			out[name] = v
		default:
			out[name] = string(word)
		}
	}
	return out, nil
}
