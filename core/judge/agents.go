package judge

import (
	"fmt"
	"slices"
	"time"

	"paceduel/core/result"
	"paceduel/core/units"
)

// Thresholds of what agents may do before it is told.
const (
	clockWithin   = time.Millisecond // at set rates: how well clocks have to be known
	beganWithin   = 5 * time.Millisecond
	unlikeFloor   = 1.5 // times the floor of the others
	unlikeLag     = 3.0 // times theirs
	unlikeLagFrom = 0.001
	unlikeLoad    = 0.2  // of an agent's machine, more than with the others
	unlikeLatency = 1.25 // times what the others at the place see
)

// agentSums is what one agent did over all heats that count.
type agentSums struct {
	*result.Agent
	heats                    int
	lag, own, others, middle float64 // sums over heats; lag and middle in seconds
	within, drift, began     time.Duration
}

// agentsOf adds up what agents did.
func agentsOf(r *result.Result) (out []*agentSums) {
	if r.Load == nil {
		return nil
	}
	for i := range r.Load.Agents {
		out = append(out, &agentSums{Agent: &r.Load.Agents[i]})
	}
	for i := range r.Heats {
		h := &r.Heats[i]
		if !h.Counts() {
			continue
		}
		for j := range h.Shares {
			s := &h.Shares[j]
			at := slices.IndexFunc(out, func(a *agentSums) bool { return a.Name == s.Agent })
			if at < 0 {
				continue
			}
			a := out[at]
			a.heats++
			a.lag += s.LagP99.Seconds()
			a.own += s.Conditions.OwnFrac
			a.others += s.Conditions.OthersFrac
			a.middle += s.P50.Seconds()
			a.within, a.drift, a.began = max(a.within, s.Within), max(a.drift, s.Drift), max(a.began, s.Began)
		}
	}
	return slices.DeleteFunc(out, func(a *agentSums) bool { return a.heats == 0 })
}

// floor is the middle latency of an agent's floor; 0 where it has none.
func (a *agentSums) floor() float64 {
	for i := range a.Floor {
		if d, err := a.Floor[i].Histogram(); err == nil && d.Total > 0 {
			return d.Quantile(0.5)
		}
	}
	return 0
}

// agentCautions say what of those who drove a run from elsewhere speaks against its figures.
func agentCautions(r *result.Result) (out []Caution) {
	add := func(kind CautionKind, see Evidence, try, what string, args ...any) {
		out = append(out, Caution{Kind: kind, See: see, What: fmt.Sprintf(what, args...), Try: try})
	}
	agents := agentsOf(r)
	for _, a := range agents {
		if a.LostIn > 0 {
			add(Agents, InFooting, "run it again with all of them",
				"agent %s was lost in round %d: from then on the others drove its part", a.Name, a.LostIn)
		}
		if r.Plan.Pace.Open() && a.within > clockWithin {
			add(Agents, InFooting, "bring the bus nearer, or its traffic onto a way of its own",
				"the clock of agent %s was known within %s only: moments of its shots may be off by as much", a.Name,
				units.Duration(a.within))
		}
		if a.drift > clockWithin {
			add(Agents, InFooting, "see what sets that machine's clock, and whether it was suspended",
				"the clock of agent %s went off by %s within a heat", a.Name, units.Duration(a.drift))
		}
		if a.began > beganWithin {
			add(Agents, InFooting, "give it a processor that has time, or a shorter way to the bus",
				"agent %s began a heat %s after the others", a.Name, units.Duration(a.began))
		}
		if own := a.own / float64(a.heats); own > busySelfFrac {
			add(Busy, InFooting, "add agents, or use fewer clients",
				"agent %s used %s of its machine to ask: the asking may be what was measured", a.Name, units.Share(own))
		}
	}
	return append(out, unlike(agents)...)
}

// unlike names agents that differ from the others at their place in what should be alike.
func unlike(agents []*agentSums) (out []Caution) {
	for _, a := range agents {
		var others []*agentSums
		for _, o := range agents {
			if o != a && o.Place == a.Place {
				others = append(others, o)
			}
		}
		if len(others) == 0 {
			continue
		}
		middle := func(of func(*agentSums) float64) float64 {
			var list []float64
			for _, o := range others {
				list = append(list, of(o))
			}
			slices.Sort(list)
			return list[(len(list)-1)/2]
		}
		mean := func(of func(*agentSums) float64) func(*agentSums) float64 {
			return func(a *agentSums) float64 { return of(a) / float64(a.heats) }
		}
		lag := mean(func(a *agentSums) float64 { return a.lag })
		load := mean(func(a *agentSums) float64 { return a.others })
		seen := mean(func(a *agentSums) float64 { return a.middle })
		var words string
		switch {
		case a.floor() > unlikeFloor*middle((*agentSums).floor) && middle((*agentSums).floor) > 0:
			words = fmt.Sprintf("needs %s to drive a shot at least, the others %s", units.Seconds(a.floor()),
				units.Seconds(middle((*agentSums).floor)))
		case lag(a) > unlikeLag*middle(lag) && lag(a) > unlikeLagFrom:
			words = fmt.Sprintf("sent its shots %s late at p99, the others %s", units.Seconds(lag(a)),
				units.Seconds(middle(lag)))
		case load(a) > middle(load)+unlikeLoad:
			words = fmt.Sprintf("had other programs use %s of its machine, the others %s", units.Share(load(a)),
				units.Share(middle(load)))
		case seen(a) > unlikeLatency*middle(seen):
			words = fmt.Sprintf("saw a p50 of %s, the others there %s", units.Seconds(seen(a)), units.Seconds(middle(seen)))
		default:
			continue
		}
		out = append(out, Caution{
			Kind: Agents, See: InFooting, What: fmt.Sprintf("agent %s is unlike the others: it %s", a.Name, words),
			Try: "look at the figures by agent; leave it out, or give it less by weights:",
		})
	}
	return out
}
