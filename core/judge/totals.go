package judge

import (
	"math"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// totals are a contender's sums over the heats that count.
type totals struct {
	shots, failed, ok, warm, sampled, due, unsent, lag, latency, busy, received, sent float64

	clients float64
	heats   int
	left    float64
	amounts map[string]float64 // those that are known, in their units
}

// amount is so much of an amount in its unit; NaN where it is not known.
func (t totals) amount(name string) float64 {
	if figure.Name(name) == figure.Received {
		return t.received
	}
	if x, ok := t.amounts[name]; ok {
		return x
	}
	return math.NaN()
}

func (t totals) throughput() float64 {
	if t.ok == 0 {
		return 0
	}
	return t.ok * t.clients / t.busy
}

// divided is an amount by what its line divides it by; NaN where it is not known.
func (t totals) divided(a *shots.Amount) float64 {
	x, known := t.amounts[a.Name]
	if !known && (a.Unit == units.Second || a.Per == "") {
		return math.NaN()
	}
	switch a.Per {
	case "":
		return x
	case shots.PerShot:
		return x / t.shots
	case shots.PerSuccess:
		return x / t.ok
	}
	return x / t.amounts[a.Per]
}

// totals are a side's.
func (f *field) totals(s cell.Cell) totals {
	var heats []*result.Heat
	for _, h := range f.inOrder[s] {
		heats = append(heats, h.Heat)
	}
	return sum(f.r, heats)
}

func total(r *result.Result, name, state string) totals { return sum(r, r.Of(name, state)) }

func sum(r *result.Result, heats []*result.Heat) (t totals) {
	t.amounts = map[string]float64{}
	for _, h := range heats {
		t.sampled += float64(h.Sampled)
		t.due += float64(h.Due)
		t.unsent += float64(h.Unsent)
		t.lag += h.LagP99.Seconds()
		t.heats++
		t.left += float64(h.LeftBehind)
		t.shots += float64(h.Shots())
		t.failed += float64(h.Failed())
		t.ok += float64(h.OK)
		t.warm += float64(h.Warmup)
		t.latency += h.LatencySum.Seconds()
		t.busy += h.Busy.Seconds()
		t.received += float64(h.Received)
		t.sent += float64(h.Sent)
		t.clients = float64(h.Clients)
		for i := range r.Amounts {
			a := &r.Amounts[i]
			x, known := h.AmountOf(a)
			switch {
			case !known:
			case a.Fold == shots.Most:
				t.amounts[a.Name] = max(t.amounts[a.Name], x)
			default:
				t.amounts[a.Name] += x
			}
		}
	}
	return t
}

// failures counts failed and all shots of a contender's heats that count.
func failures(r *result.Result, name, state string) (failed, shots int64) {
	for _, h := range r.Of(name, state) {
		failed += h.Failed()
		shots += h.Shots()
	}
	return failed, shots
}

// causes names the classes of a side's failures, the most frequent first.
func causes(r *result.Result, s cell.Cell) string {
	all := map[string]int64{}
	for _, h := range r.Of(s.Contender, s.State) {
		for class, n := range h.Failures {
			all[class] += n
		}
	}
	return strings.Join(result.FailureClasses(all), ", ")
}

func failureShare(r *result.Result, name string) float64 {
	failed, shots := failures(r, name, result.AnyState)
	if shots == 0 {
		return 0
	}
	return float64(failed) / float64(shots)
}
