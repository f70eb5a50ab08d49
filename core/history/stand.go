// Package history is what runs of the same duel say together: how its challengers stood from run to run, what changed
// between two of them, and where one surely differs from those before.
//
// A Stand is what of one run is needed for that; logbooks keep it, so that a time line does not read runs. Pairs of
// runs are judged from their documents (judge.Pairings); what is told of them here is what else differs. Nothing here
// reads a clock or a file.
package history

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Stand is how the challengers of a run stood to its baseline, and under which conditions.
type Stand struct {
	Plan     string            `json:"plan"` // hash of its text and of what was laid over it
	Program  string            `json:"program"`
	Machine  string            `json:"machine"`
	Kernel   string            `json:"kernel"`
	Baseline string            `json:"baseline"`
	Versions map[string]string `json:"versions,omitempty"` // of those that tell one
	Interest float64           `json:"interest"`
	Ratios   []Ratio           `json:"ratios,omitempty"` // of what verdicts are spoken of by

	// Agents are who drove it from elsewhere, each with what it runs on, and OtherLoad is the share of this machine that
	// others took; nil: not known.
	Agents    map[string]string `json:"agents"`
	OtherLoad *float64          `json:"other_load,omitempty"`

	source string // of the plan; empty: only its hash is known
	sets   []string
}

// Ratio is by how many times a challenger was better than the baseline in a figure.
type Ratio struct {
	Contender string      `json:"contender"`
	State     string      `json:"state,omitempty"`
	Point     string      `json:"point,omitempty"` // of a sweep, in words
	Figure    figure.Name `json:"figure"`
	Times     float64     `json:"times"`
	Low       float64     `json:"low,omitempty"` // of the 95 % interval; 0 where there is none
	High      float64     `json:"high,omitempty"`
	Rounds    int         `json:"rounds"`
	Word      judge.Word  `json:"word"`
}

// mostRatios bounds what is kept of a run: a sweep has many points.
const mostRatios = 400

// Of is the stand of a run. Its verdict, or its sweep's, may be nil: then only the conditions are known.
func Of(r *result.Result, v *judge.Verdict, s *judge.Sweep) *Stand {
	h := &r.Host
	out := &Stand{
		Plan: strings.Join(append([]string{r.Plan.SHA256}, r.Plan.Sets...), " "), Program: r.Program,
		Machine: machineOf(h),
		Kernel:  h.Kernel, Baseline: r.Plan.Baseline, Interest: r.Plan.Interest, source: r.Plan.Source, sets: r.Plan.Sets,
		Agents: agentsOf(r.Load),
	}
	if load, ok := judge.TakenByOthers(r); ok {
		out.OtherLoad = &load
	}
	for _, e := range r.Entrants {
		if e.Version != "" && !e.Mirror {
			if out.Versions == nil {
				out.Versions = map[string]string{}
			}
			out.Versions[e.Name] = e.Version
		}
	}
	if v != nil {
		out.add("", v, "")
	}
	for i := 0; s != nil && i < len(r.Sweep.Points); i++ {
		if at := s.Ready(i); at != nil {
			out.add(r.Sweep.Say(r.Sweep.Points[i].At), at, s.Decides)
		}
	}
	return out
}

func machineOf(h *result.Host) string {
	return fmt.Sprintf("%s, %d cores, %s, %s", h.CPU, h.Cores, h.OS, units.Bytes(float64(h.MemoryBytes)))
}

// agentsOf says who drove a run, from where and with which weight, each with what it runs on.
func agentsOf(l *result.Load) map[string]string {
	out := map[string]string{}
	for i := 0; l != nil && i < len(l.Agents); i++ {
		a := &l.Agents[i]
		name := a.Name
		if a.Place != "" {
			name += " at " + a.Place
		}
		if a.Weight > 0 {
			name += fmt.Sprintf(" of weight %d", a.Weight)
		}
		out[name] = machineOf(&a.Host) + ", " + a.Host.Kernel
	}
	return out
}

// add takes in what a verdict is spoken of by, or one figure alone.
func (s *Stand) add(point string, v *judge.Verdict, only figure.Name) {
	for i := range v.Faces {
		for _, a := range v.Faces[i].Spoken(v) {
			if only != "" && a.Figure != only || math.IsNaN(a.Ratio) || a.AgainstNone || len(s.Ratios) >= mostRatios {
				continue
			}
			one := Ratio{
				Contender: v.Faces[i].Contender, State: a.State, Point: point, Figure: a.Figure, Times: a.Ratio,
				Rounds: a.Rounds, Word: a.Word,
			}
			if !math.IsNaN(a.Low) {
				one.Low, one.High = a.Low, a.High
			}
			s.Ratios = append(s.Ratios, one)
		}
	}
}

// Encode is the text form of a stand.
func (s *Stand) Encode() []byte {
	text, err := json.Marshal(s)
	if err != nil {
		return nil // of numbers that no run has
	}
	return text
}

// Decode reads a stand; nil where there is none, or one that cannot be read.
func Decode(text []byte) *Stand {
	var s Stand
	if len(text) == 0 || json.Unmarshal(text, &s) != nil {
		return nil
	}
	for i := range s.Ratios {
		r := &s.Ratios[i]
		r.Contender, r.State, r.Point = units.Printable(r.Contender), units.Printable(r.State), units.Printable(r.Point)
		if !(r.Times > 0) {
			r.Times = math.NaN()
		}
	}
	s.Ratios = slices.DeleteFunc(s.Ratios, func(r Ratio) bool { return math.IsNaN(r.Times) })
	return &s
}

// Change is something that differs between two runs besides what they found.
type Change struct {
	What    string // "plan", "version of joined", "machine", "kernel", "agents", "other load", "baseline" and the like
	Was, Is string // empty where it says no more
}

// String is "version of joined (2.3, now 2.4)".
func (c Change) String() string {
	switch {
	case c.Was == "" && c.Is == "":
		return c.What
	case c.Was == "":
		return fmt.Sprintf("%s (%s)", c.What, c.Is)
	}
	return fmt.Sprintf("%s (%s, now %s)", c.What, c.Was, orNone(c.Is))
}

func orNone(text string) string {
	if text == "" {
		return "none told"
	}
	return text
}

// Changes are what differs between two runs, in the order in which people ask. Nil stands differ in nothing that is
// known.
func Changes(then, now *Stand) (out []Change) {
	if then == nil || now == nil {
		return nil
	}
	if then.Plan != now.Plan {
		out = append(out, Change{What: "plan", Is: planKeys(then, now)})
	}
	if then.Baseline != now.Baseline {
		out = append(out, Change{"baseline", then.Baseline, now.Baseline})
	}
	names := map[string]bool{}
	for _, versions := range []map[string]string{then.Versions, now.Versions} {
		for name := range versions {
			names[name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if was, is := then.Versions[name], now.Versions[name]; was != is {
			out = append(out, Change{"version of " + name, orNone(was), orNone(is)})
		}
	}
	for _, c := range []Change{
		{"machine", then.Machine, now.Machine}, {"kernel", then.Kernel, now.Kernel},
		{"version of Pace Duel", then.Program, now.Program},
	} {
		if c.Was != c.Is {
			out = append(out, c)
		}
	}
	if c, ok := otherAgents(then.Agents, now.Agents); ok {
		out = append(out, c)
	}
	if then.OtherLoad != nil && now.OtherLoad != nil && math.Abs(*then.OtherLoad-*now.OtherLoad) > otherLoad {
		out = append(out, Change{"other load", units.Share(*then.OtherLoad) + " of the machine", units.Share(*now.OtherLoad)})
	}
	return out
}

// otherAgents says which agents drove one of two runs alone, or on another machine. ok is false where all are the same.
func otherAgents(then, now map[string]string) (c Change, ok bool) {
	only := func(here, there map[string]string) string {
		if len(here) == 0 {
			return "none, driven from here"
		}
		var out []string
		for _, name := range slices.Sorted(maps.Keys(here)) {
			if machine, both := there[name]; !both {
				out = append(out, name)
			} else if machine != here[name] {
				out = append(out, name+" on "+here[name])
			}
		}
		if more := len(out) - mostNamed; more > 0 {
			out = append(out[:mostNamed:mostNamed], units.Count(int64(more))+" more")
		}
		return cmp.Or(units.List(out), "without them")
	}
	return Change{"agents", only(then, now), only(now, then)}, then != nil && now != nil && !maps.Equal(then, now)
}

// otherLoad is from which share of the machine on more or less other load is told.
const otherLoad = 0.1

// mostNamed is how many agents are named that differ.
const mostNamed = 4

// planKeys are the keys in which two plans measure something else, where their texts are known.
func planKeys(then, now *Stand) string {
	if then.source == "" || now.source == "" {
		return ""
	}
	keys := read.Differ(then.source, now.source)
	if len(keys) == 0 && then.source != now.source {
		keys = append(keys, "how much is measured, or what is asked of it")
	}
	if !slices.Equal(then.sets, now.sets) {
		keys = append(keys, "what --set laid over it")
	}
	return units.List(keys)
}

// Say lists changes as words, the shortest way.
func Say(changes []Change) string {
	var out []string
	for _, c := range changes {
		out = append(out, c.What)
	}
	return units.List(out)
}
