package chart

import (
	"fmt"
	"strings"
	"time"

	"paceduel/core/cell"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Agent is a machine that drives heats from elsewhere, as pictures show it. All of it is text.
type Agent struct {
	Name, Place string
	Machine     string // "2 processors, Intel …"
	Floor       string // what driving a shot costs it at least
	Clock       string // "within 64.5 µs"
	Trip        string // there and back over the bus
	Lost        string // "in round 3"; empty: it has its part to the end
}

// Agents are those of a run, in the order in which load is dealt to them.
func Agents(r *result.Result) (out []Agent) {
	if r.Load == nil {
		return nil
	}
	for i := range r.Load.Agents {
		a := &r.Load.Agents[i]
		one := Agent{
			Name: a.Name, Place: a.Place, Clock: "within " + units.Duration(a.Within), Trip: units.Duration(a.Trip),
			Machine: units.Plural(a.Host.Cores, "processor"), Floor: units.None,
		}
		if a.Host.CPU != "" {
			one.Machine += ", " + a.Host.CPU
		}
		for j := range a.Floor {
			if d, err := a.Floor[j].Histogram(); err == nil && d.Total > 0 {
				one.Floor = units.Seconds(d.Quantile(0.5))
			}
		}
		if a.LostIn > 0 {
			one.Lost = fmt.Sprintf("in round %d", a.LostIn)
		}
		out = append(out, one)
	}
	return out
}

// AgentTitles head the columns of AgentCells.
var AgentTitles = []string{"agent", "place", "machine", "floor", "clock", "there and back", "lost"}

// Cells are what stands in a row of a table of agents.
func (a *Agent) Cells() []string {
	dash := func(text string) string {
		if text == "" {
			return units.None
		}
		return text
	}
	return []string{a.Name, dash(a.Place), a.Machine, a.Floor, a.Clock, a.Trip, dash(a.Lost)}
}

// ByAgent is what one agent drove of a contender: the middle of its heats.
type ByAgent struct {
	Agent            string
	Shots, Failed    string
	P50, P90, P99    string
	Lag, Own, Others string // send lag at p99; shares of its machine
	Parts            string // of latencies, at their medians: "send 4.70 µs · wait 270 µs"
}

// ByAgentTitles head the columns of its Cells.
var ByAgentTitles = []string{"agent", "shots", "failed", "p50", "p90", "p99", "lag at p99", "own load", "other load",
	"parts at p50"}

// Cells are what stands in a row of a table of what agents drove.
func (b *ByAgent) Cells() []string {
	return []string{b.Agent, b.Shots, b.Failed, b.P50, b.P90, b.P99, b.Lag, b.Own, b.Others, b.Parts}
}

// ByAgents are the figures of a cell by agent, over the heats that count: counts are added up, latencies and loads are
// the middle one of the agent's heats.
func ByAgents(r *result.Result, heats []result.Heat, of cell.Cell) (out []ByAgent) {
	type seen struct {
		ok, failed                     int64
		p50, p90, p99, lag, own, other []float64
		parts                          map[string][]float64
	}
	by := map[string]*seen{}
	for i := range heats {
		h := &heats[i]
		if h.Cell != of || !h.Counts() {
			continue
		}
		for j := range h.Shares {
			s := &h.Shares[j]
			b := by[s.Agent]
			if b == nil {
				b = &seen{parts: map[string][]float64{}}
				by[s.Agent] = b
			}
			b.ok += s.OK
			b.failed += s.Shots() - s.OK
			add := func(list *[]float64, d time.Duration) {
				if d > 0 {
					*list = append(*list, d.Seconds())
				}
			}
			add(&b.p50, s.P50)
			add(&b.p90, s.P90)
			add(&b.p99, s.P99)
			add(&b.lag, s.LagP99)
			for name, d := range s.Parts {
				b.parts[name] = append(b.parts[name], d.Seconds())
			}
			b.own = append(b.own, s.Conditions.OwnFrac)
			b.other = append(b.other, s.Conditions.OthersFrac)
		}
	}
	for _, a := range Agents(r) {
		b := by[a.Name]
		if b == nil {
			continue
		}
		var parts []string
		for _, name := range r.Parts {
			if list := b.parts[name]; len(list) > 0 {
				parts = append(parts, name+" "+middling(list, units.Seconds))
			}
		}
		out = append(out, ByAgent{
			Parts: strings.Join(parts, " · "),
			Agent: a.Name, Shots: units.Count(b.ok + b.failed), Failed: units.Share(float64(b.failed) /
				float64(max(b.ok+b.failed, 1))),
			P50: middling(b.p50, units.Seconds), P90: middling(b.p90, units.Seconds), P99: middling(b.p99, units.Seconds),
			Lag: middling(b.lag, units.Seconds), Own: middling(b.own, units.Share), Others: middling(b.other, units.Share),
		})
	}
	return out
}

// middling is the median of some values, written out; a dash without any.
func middling(list []float64, write func(float64) string) string {
	if len(list) == 0 {
		return units.None
	}
	return write(stats.Median(list))
}
