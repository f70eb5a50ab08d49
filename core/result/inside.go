package result

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"paceduel/core/spans"
)

// Quarters are quartiles over shots: a quarter of them took at most the first, half the second, three quarters the
// third.
type Quarters [3]time.Duration

// Middle is the median.
func (q Quarters) Middle() time.Duration { return q[1] }

// Inside is what happened inside those shots of a heat that were looked into. Times of steps count from where their
// shot's latency does.
type Inside struct {
	Shots int64 `json:"shots"`    // that were looked into
	Of    int64 `json:"of_shots"` // that they are a uniform choice of
	// Known says that it is known which steps needed which; else it is taken that none needs what stands beside it.
	Known bool `json:"needs_known,omitempty"`
	// Unjudged says that these are runs of the warm-up, which are looked into as judged ones must not be.
	Unjudged bool         `json:"unjudged,omitempty"`
	Steps    []InsideStep `json:"steps"` // parts after what they are parts of
	// What these shots took, what their innermost spans took added up, how long nothing was under way, and what they could
	// take if all that needs nothing of each other ran together.
	Length     Quarters      `json:"length_ns"`
	MeanLength time.Duration `json:"mean_length_ns"`
	Added      Quarters      `json:"added_ns"`
	Idle       Quarters      `json:"idle_ns"`
	Together   Quarters      `json:"together_ns"`
	// Real are single shots, the typical one first.
	Real []RealShot `json:"real,omitempty"`
}

// Traced is what a service sent of a heat's sampled shots.
type Traced struct {
	Sampled int64         `json:"sampled_shots"`
	Lost    int64         `json:"lost_shots,omitempty"`     // of these, shots of which no span came
	Spans   int64         `json:"spans"`                    // that were kept
	Orphans int64         `json:"orphan_spans,omitempty"`   // whose parent did not come
	Late    int64         `json:"late_spans,omitempty"`     // of shots of heats that were over
	Doubled int64         `json:"doubled_spans,omitempty"`  // that had come already
	Foreign int64         `json:"foreign_spans,omitempty"`  // of traces that are none of ours
	Broken  int64         `json:"broken_spans,omitempty"`   // that cannot be, and requests that could not be read
	Dropped int64         `json:"dropped_spans,omitempty"`  // that there was no room for
	Grain   time.Duration `json:"clock_grain_ns,omitempty"` // of the coarsest clock, where beginnings are told no closer
	// by how much a process's clock was off from ours at most
	Shifted time.Duration `json:"clocks_off_ns,omitempty"`
}

// InsideStep is all spans of one name within the same step. Quartiles are over the shots that have it.
type InsideStep struct {
	Name   string `json:"name"`
	Parent int    `json:"within"`  // place of the step that it is part of, before its own; -1: of the shot itself
	Shots  int64  `json:"shots"`   // that have it
	Spans  int64  `json:"spans"`   // in all of them
	AtOnce int    `json:"at_once"` // in half of the shots so many were under way together
	// Needs are the places of the steps that it needs, itself among them where its spans need each other.
	Needs  []int    `json:"needs,omitempty"`
	Total  Quarters `json:"total_ns"`   // its spans added up
	Own    Quarters `json:"own_ns"`     // of that, what no part of theirs covered
	Covers Quarters `json:"covered_ns"` // in which at least one was under way
	Begin  Quarters `json:"begin_ns"`   // of the first
	End    Quarters `json:"end_ns"`     // of the last
	OnPath Quarters `json:"on_path_ns"` // of the critical path
	// how much of the critical path it is on average over all shots that were looked into: means add up to the mean length
	MeanOnPath time.Duration `json:"mean_on_path_ns"`
	CPU        Quarters      `json:"cpu_ns,omitzero"` // processor time that its spans used, where they are processes
	Halved     Quarters      `json:"if_halved_ns"`    // what the shot could take if its spans took half; zero where not computed
}

// RealShot is one shot as it was.
type RealShot struct {
	At      string        `json:"at" text:"ours"` // p50, p90, p99 or slowest
	Latency time.Duration `json:"latency_ns"`
	Spans   [][4]int64    `json:"spans"` // step, begin, end, and how much of the critical path it is
	Left    int           `json:"left_out,omitempty"`
}

// The places of real shots among those of their heat.
const (
	AtMiddle  = "p50"
	AtP90     = "p90"
	AtP99     = "p99"
	AtSlowest = "slowest"
)

func (in *Inside) check() error {
	if in == nil {
		return nil
	}
	if in.Shots < 1 || in.Of < in.Shots || len(in.Steps) > 2*spans.MaxSteps {
		return fmt.Errorf("the inside of %d of %d shots, of %d steps", in.Shots, in.Of, len(in.Steps))
	}
	for i := range in.Steps {
		if s := &in.Steps[i]; s.Parent < spans.None || s.Parent >= i || s.Shots < 1 || s.Spans < s.Shots {
			return fmt.Errorf("step %d of an inside is part of %d, with %d spans in %d shots", i, s.Parent, s.Spans, s.Shots)
		}
		for _, need := range in.Steps[i].Needs {
			if need < 0 || need >= len(in.Steps) {
				return fmt.Errorf("step %d of an inside needs step %d, of %d", i, need, len(in.Steps))
			}
		}
	}
	for _, r := range in.Real {
		for _, sp := range r.Spans {
			if sp[0] < 0 || sp[0] >= int64(len(in.Steps)) {
				return fmt.Errorf("a span of step %d, of %d", sp[0], len(in.Steps))
			}
		}
	}
	return nil
}

// Depth is within how many others a step lies.
func (in *Inside) Depth(step int) (n int) {
	for at := in.Steps[step].Parent; at != spans.None; at = in.Steps[at].Parent {
		n++
	}
	return n
}

// LookInside looks into shots, which are a choice of so many. It also returns what became of each.
func LookInside(looked []spans.Shot, of int64) (*Inside, []*spans.Inside) {
	all := make([]*spans.Inside, len(looked))
	known := true
	for i := range looked {
		all[i] = spans.Look(&looked[i])
		known = known && looked[i].Known
	}
	sum, steps := spans.Summarize(all)
	in := &Inside{
		Shots: int64(sum.Shots), Of: of, Known: known, Length: Quarters(sum.Length), Added: Quarters(sum.Added),
		Idle: Quarters(sum.Idle), Together: Quarters(sum.Together), MeanLength: sum.MeanLength,
	}
	for i := range sum.Steps {
		s := &sum.Steps[i]
		in.Steps = append(in.Steps, InsideStep{
			Name: s.Name, Parent: s.Parent, Shots: int64(s.Shots), Spans: int64(s.Spans), AtOnce: s.AtOnce,
			Total: Quarters(s.Total), Own: Quarters(s.Own), Covers: Quarters(s.Covered), Begin: Quarters(s.Begin),
			End: Quarters(s.End), OnPath: Quarters(s.OnPath), CPU: Quarters(s.CPU), Halved: Quarters(s.Halved),
			MeanOnPath: s.MeanOnPath, Needs: s.Needs,
		})
	}
	in.Real = realShots(looked, all, steps)
	return in, all
}

// mostReal is how many spans of a real shot are kept.
const mostReal = 500

// realShots are single shots of those that were looked into, as they were. A place among them that too few lie beyond
// has none.
func realShots(looked []spans.Shot, all []*spans.Inside, steps [][]int) (out []RealShot) {
	byLength := make([]int, len(all))
	for i := range byLength {
		byLength[i] = i
	}
	slices.SortFunc(byLength, func(a, b int) int { return cmp.Compare(all[a].Length, all[b].Length) })
	n := len(all)
	for _, one := range []struct {
		name         string
		place, least int // of how many shots there have to be
	}{{AtMiddle, (n - 1) / 2, 1}, {AtP90, n * 9 / 10, 20}, {AtP99, n * 99 / 100, 200}, {AtSlowest, n - 1, 2}} {
		if n < one.least {
			continue
		}
		at := byLength[one.place]
		shot := RealShot{At: one.name, Latency: all[at].Length}
		for i, sp := range looked[at].Spans {
			if len(shot.Spans) == mostReal {
				shot.Left = len(looked[at].Spans) - mostReal
				break
			}
			shot.Spans = append(shot.Spans, [4]int64{
				int64(steps[at][all[at].Of(i)]), int64(sp.Begin), int64(sp.End), int64(all[at].OnPath(i)),
			})
		}
		out = append(out, shot)
	}
	return out
}
