package screen

import "paceduel/core/judge"

// Stop names a place on the trail.
type Stop string

// The stops that others than their own folder speak of.
const (
	Ask     Stop = "ask"
	WeighIn Stop = "weigh-in"
	Rounds  Stop = "rounds"
	Verdict Stop = "verdict"
	Sweep   Stop = "sweep"
	Log     Stop = "log"
)

// Row is a stop as the application knows it: each view's folder has a function that makes its own, and the application
// a list of them in working order.
type Row struct {
	Stop Stop
	// Letter is where in the stop's name the letter stands that leads there. No two stops have the same one.
	Letter int
	View   View
	// Progress says how far the run in view has brought it; nil: it has nothing to do with one.
	Progress func(*Run) Progress
	// Shows is the evidence that is to be seen there.
	Shows []judge.Evidence
}

// Key is the letter that leads to the stop.
func (r Row) Key() string { return string(r.Stop[r.Letter : r.Letter+1]) }

// Progress is the state of a stop on the trail.
type Progress int

// The states.
const (
	Ahead Progress = iota
	Done
	Busy
	Trouble
)

// Judged is the progress of a stop that shows what was judged.
func Judged(r *Run) Progress {
	if !r.Live && r.Verdict != nil && r.Verdict.Rounds > 0 {
		return Done
	}
	return Ahead
}
