package result

import (
	"slices"
	"time"
)

// Load says who drove a run from elsewhere.
type Load struct {
	// Places are where its shots came from, each a state of its own; one or none: they all came from alike.
	Places []string `json:"places,omitempty" text:"name"`
	Agents []Agent  `json:"agents"` // by place and name
	Words  string   `json:"words" text:"ours"`
}

// Agent is a machine that drove heats.
type Agent struct {
	Name   string  `json:"name" text:"name"`
	Place  string  `json:"place,omitempty" text:"name"`
	Weight int     `json:"weight,omitempty"` // of its share, where shares differ
	Host   Host    `json:"host"`
	Floor  []Floor `json:"floor,omitempty"`
	// Within is how well its clock was known when it got ready: its moments may be off by so much.
	Within time.Duration `json:"clock_within_ns"`
	// Trip is the shortest way to it and back over the bus.
	Trip time.Duration `json:"round_trip_ns"`
	// Cannot is what its machine could not do, in words.
	Cannot []string `json:"cannot,omitempty"`
	// LostIn is the round from which it had no part any more; 0: it had to the end.
	LostIn int `json:"lost_in_round,omitempty"`
}

// Share is what one agent drove of a heat.
type Share struct {
	Agent    string           `json:"agent" text:"name"`
	OK       int64            `json:"ok"`
	Failures map[string]int64 `json:"failures,omitempty" text:"ours"`
	Unsent   int64            `json:"unsent,omitempty"`
	P50      time.Duration    `json:"p50_ns,omitempty"`
	P90      time.Duration    `json:"p90_ns,omitempty"`
	P99      time.Duration    `json:"p99_ns,omitempty"`
	// Parts are its latencies' parts at the median, by their names.
	Parts  map[string]time.Duration `json:"parts_p50_ns,omitempty" text:"ours"`
	LagP99 time.Duration            `json:"lag_p99_ns,omitempty"`
	Late   int64                    `json:"late,omitempty"`
	// Within is how well its clock was known in the heat, and Drift by how much it went off meanwhile.
	Within time.Duration `json:"clock_within_ns"`
	Drift  time.Duration `json:"clock_drift_ns,omitempty"`
	// Began is how long after the common moment it began.
	Began      time.Duration `json:"began_after_ns,omitempty"`
	Conditions Conditions    `json:"conditions"`
}

// Shots is how many there were.
func (s *Share) Shots() int64 {
	n := s.OK
	for _, f := range s.Failures {
		n += f
	}
	return n
}

// Places are the places that contenders were compared from; none where they were driven from one.
func (r *Result) Places() []string {
	if r.Load == nil || len(r.Load.Places) < 2 {
		return nil
	}
	return r.Load.Places
}

// IsPlace reports whether a state of a cell is a place.
func (r *Result) IsPlace(state string) bool { return slices.Contains(r.Places(), state) }

// Agent finds an agent by name; nil when there is none.
func (r *Result) Agent(name string) *Agent {
	if r.Load == nil {
		return nil
	}
	for i := range r.Load.Agents {
		if r.Load.Agents[i].Name == name {
			return &r.Load.Agents[i]
		}
	}
	return nil
}
