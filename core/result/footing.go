package result

import (
	"slices"
	"time"

	"paceduel/core/cell"
)

// AnyState stands for heats of whatever state.
const AnyState = "*"

// Footing is what runs started from.
type Footing struct {
	States []string `json:"states,omitempty" text:"ours"` // of caches, each a figure of its own; empty: as found
	// in the order in which they happen, for each contender and state; without cost
	Steps []Cost `json:"steps,omitempty"`
	Costs []Cost `json:"costs,omitempty"` // of what was done for the duel and for rounds
	// Cannot is what the plan asks for and the machine could not do, in words.
	Cannot []string `json:"cannot,omitempty"`
}

// Planned is how many heats the whole run has.
func (r *Result) Planned() (n int) {
	for _, round := range r.Order {
		n += len(round)
	}
	return n
}

// Expected is about how long the heats of the run take, from what the plan says and, where that does not set it, what
// each contender took at the weigh-in; 0 where that is not known. What lies between heats comes on top, except of a
// sweep that is given a time.
func (r *Result) Expected() (all time.Duration) {
	if r.Sweep != nil && r.Sweep.Within > 0 {
		return r.Sweep.Within
	}
	for _, round := range r.Order {
		for _, c := range round {
			p := r.paceAt(c)
			if p.For > 0 {
				all += p.For + p.WarmupFor
				continue
			}
			one := r.touched(c)
			shots := p.Repeat + p.WarmupShots
			if p.Repeat == 0 {
				shots = (p.Shots + p.WarmupShots) / max(p.Clients, 1)
			}
			if one == 0 || shots == 0 {
				return 0
			}
			all += time.Duration(shots)*one + p.WarmupFor
		}
	}
	return all
}

// touched is what a contender took at the weigh-in, in the state of a heat where it was asked in several; 0 where it
// has not been asked.
func (r *Result) touched(c cell.Cell) time.Duration {
	e := r.entrantAt(c)
	if e == nil || e.Touch == nil {
		return 0
	}
	if e.Again != nil && e.Again.State == c.State {
		return e.Again.Latency
	}
	return e.Touch.Latency
}

// Cost is a step of the footing and what it took. Steps that belong to no contender name none.
type Cost struct {
	Contender string        `json:"contender,omitempty" text:"name"`
	State     string        `json:"state,omitempty" text:"ours"`
	When      string        `json:"when" text:"ours"` // duel, round, heat, run, or before or after one of them
	What      string        `json:"what"`
	Start     bool          `json:"service_start,omitempty"` // of the contender's service, until it is ready
	Times     int64         `json:"times,omitempty"`
	Took      time.Duration `json:"took_ns,omitempty"` // in all
	Said      string        `json:"said,omitempty"`    // the end of its output, at the last time
}

// Same reports whether two costs are of the same step.
func (c Cost) Same(o Cost) bool {
	either := func(a, b string) bool { return a == "" || b == "" || a == b } // what belongs to all belongs to each
	return c.When == o.When && c.What == o.What && either(c.Contender, o.Contender) && either(c.State, o.State)
}

// Spent adds up what the steps of the footing took, over the duel, the weigh-in and the given heats, in the order of
// the steps.
func (r *Result) Spent(heats []Heat) []Cost {
	f := &r.Footing
	out := slices.Clone(f.Steps)
	if r.Sweep != nil { // steps may say other things at other points
		for i := range r.Sweep.Points {
			for _, own := range r.Sweep.Points[i].Steps {
				if !slices.ContainsFunc(out, own.Same) {
					out = append(out, own)
				}
			}
		}
	}
	enter := func(costs []Cost) {
		for _, c := range costs {
			for i := range out {
				if out[i].Same(c) {
					out[i].Times += c.Times
					out[i].Took += c.Took
					if c.Said != "" {
						out[i].Said = c.Said
					}
				}
			}
		}
	}
	enter(f.Costs)
	asked := r.Entrants
	if r.Sweep != nil { // the first point's are the run's own
		asked = nil
		for i := range r.Sweep.Points {
			asked = append(asked, r.Sweep.Points[i].Entrants...)
		}
	}
	for _, e := range asked {
		for _, t := range []*Touch{e.Touch, e.Again} {
			if t != nil {
				enter(t.Costs)
			}
		}
	}
	for i := range heats {
		enter(heats[i].Costs)
	}
	return out
}

// Changes are what differs in a workspace from the copy as it was laid.
type Changes struct {
	Added      int      `json:"added,omitempty"`
	Changed    int      `json:"changed,omitempty"`
	Removed    int      `json:"removed,omitempty"`
	Rewritten  int      `json:"rewritten,omitempty"` // with the same bytes as before
	Bytes      int64    `json:"bytes,omitempty"`     // of what was added and changed
	StoreFiles int      `json:"store_files,omitempty"`
	StoreBytes int64    `json:"store_bytes,omitempty"` // in the contender's own caches
	List       []Change `json:"list,omitempty"`        // the first ones by path
}

// How a file changed.
const (
	Added     = "added"
	Changed   = "changed"
	Removed   = "removed"
	Rewritten = "rewritten, same bytes"
)

// Change is one file.
type Change struct {
	Path  string `json:"path"`
	How   string `json:"how" text:"ours"`
	Bytes int64  `json:"bytes,omitempty"`
	Was   int64  `json:"was,omitempty"`
}
