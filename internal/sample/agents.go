package sample

import (
	"time"

	"paceduel/core/cell"
	"paceduel/core/result"
)

// Places makes a result of two that were measured alike: the heats of near as seen from one place, those of far from
// another, each driven by two agents that are called after it.
func Places(near, far *result.Result) *result.Result {
	r := *near
	r.Heats, r.Order = nil, nil
	r.Load = &result.Load{Places: []string{"near", "far"}, Words: "2 agents at each of near and far"}
	for _, place := range r.Load.Places {
		for _, no := range []string{"1", "2"} {
			r.Load.Agents = append(r.Load.Agents, result.Agent{
				Name: place + "-" + no, Place: place, Host: result.Host{CPU: "Harbour 9000", Cores: 2},
				Within: 60 * time.Microsecond, Trip: 130 * time.Microsecond,
			})
		}
	}
	for round := range near.Order {
		var cells []cell.Cell
		for i, of := range []*result.Result{near, far} {
			place := r.Load.Places[i]
			for _, h := range of.Heats {
				if h.Round != round+1 {
					continue
				}
				h.State = place
				h.Shares = nil
				for no, agent := range []string{place + "-1", place + "-2"} {
					h.Shares = append(h.Shares, result.Share{
						Agent: agent, OK: (h.OK + int64(1-no)) / 2, P50: time.Millisecond, P90: 2 * time.Millisecond,
						P99: 3 * time.Millisecond, LagP99: 50 * time.Microsecond, Within: 60 * time.Microsecond,
						Parts: map[string]time.Duration{"send": 5 * time.Microsecond, "wait": 900 * time.Microsecond},
					})
				}
				cells = append(cells, h.Cell)
				r.Heats = append(r.Heats, h)
			}
		}
		r.Order = append(r.Order, cells)
	}
	return &r
}
