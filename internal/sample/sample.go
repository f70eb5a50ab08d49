// Package sample makes results of made-up duels for tests: latencies are drawn from given shapes with a fixed seed, so
// the true ratio is known.
package sample

import (
	"math/rand/v2"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/spans"
	"paceduel/core/tally"
	"paceduel/core/units"
)

// Entrant is a contender of a made-up duel.
type Entrant struct {
	Name string
	// Latency draws one shot's latency in seconds, in a round counted from 0.
	Latency func(rng *rand.Rand, round int) float64
	// FailFrac is the share of shots that fail.
	FailFrac float64
	CPU      time.Duration // a shot; 0: not known
	Bytes    int64         // a shot
	// Inside, when set, is what happens in each of a heat's shots.
	Inside func(rng *rand.Rand, round int) []spans.Shot
}

// Duel is what is made.
type Duel struct {
	Entrants []Entrant // the first is the baseline
	Rounds   int
	Shots    int // a heat
	Clients  int // 0: one after another
	Seed     uint64
	Decides  figure.Name
}

// Times returns a shape whose every latency is median times a lognormal-like factor of about the given spread.
func Times(median, spread float64) func(*rand.Rand, int) float64 {
	return func(rng *rand.Rand, _ int) float64 {
		f := 1 + spread*rng.NormFloat64()
		if f < 0.1 {
			f = 0.1
		}
		return median * f
	}
}

// Shape is that of made-up shots.
var Shape = shots.Shape{Amounts: []shots.Amount{
	{Name: shots.CPU, Unit: units.Second}, {Name: shots.Memory, Unit: units.Byte, Fold: shots.Most},
	{
		Name: shots.Connections, Unit: "connections", Row: "new connections a shot", Per: shots.PerShot, Site: shots.Connects,
	},
}}

// Start is when every made-up duel started.
var Start = time.Date(2031, 3, 9, 6, 40, 0, 0, time.UTC)

// Make makes the result. It panics on a histogram that cannot be encoded, which no input leads to.
func Make(d Duel) *result.Result {
	rng := rand.New(rand.NewPCG(d.Seed, 99))
	r := &result.Result{
		Version: result.Version, Program: "test", ID: "0309-0640abc", Seed: d.Seed, Started: Start,
		Ended: Start.Add(time.Minute), Ending: result.Done,
		Amounts: Shape.Amounts,
		Host:    result.Host{OS: "linux/amd64", CPU: "Harbour 9000", Cores: 2, Go: "go"},
		Plan: result.Plan{
			Name: "Berth board", Question: "Which way is faster?", Baseline: d.Entrants[0].Name, Rounds: d.Rounds,
			Interest: plan.DefaultInterest, Decides: d.Decides,
			File: "berth-board.duel.yaml", Source: "duel: Berth board\n",
			Pace: result.Pace{Repeat: d.Shots, Words: "one after another"},
		},
	}
	if d.Clients > 0 {
		r.Plan.Pace = result.Pace{Clients: d.Clients, Shots: d.Shots, Words: "clients at once"}
	}
	for _, e := range d.Entrants {
		r.Entrants = append(r.Entrants, result.Entrant{
			Name: e.Name, Kind: "http", OwnProcess: e.CPU > 0, Does: "GET ${HARBOUR}/berths",
			Touch: &result.Touch{
				Class: "ok", Outcome: "200 OK", Latency: 2 * time.Millisecond, Bytes: e.Bytes, Type: "application/json",
				Body: `{"tide":"001-high"}`,
			},
		})
	}
	at := time.Second
	for round := range d.Rounds {
		var cells []cell.Cell
		for _, e := range d.Entrants {
			h := heat(rng, d, e, round, at)
			at += h.Wall + 100*time.Millisecond
			r.Heats = append(r.Heats, h)
			cells = append(cells, h.Cell)
		}
		r.Order = append(r.Order, cells)
	}
	return r
}

func heat(rng *rand.Rand, d Duel, e Entrant, round int, at time.Duration) result.Heat {
	clients := max(d.Clients, 1)
	recorder := tally.NewRecorder(&Shape, 0, 0)
	h := result.Heat{
		Round: round + 1, Cell: cell.Of(e.Name, ""), At: at, Clients: clients, Conditions: result.Conditions{OwnFrac: 0.1},
	}
	var busy time.Duration
	for i := range d.Shots {
		latency := time.Duration(e.Latency(rng, round) * 1e9)
		busy += latency
		shot := shots.Shot{Start: at, End: at + latency, Received: e.Bytes, Sent: 100}
		shot.Count(0, int64(e.CPU))
		if rng.Float64() < e.FailFrac {
			shot.Class = shots.Status
		}
		recorder.Record(&shot, at)
		if i%max(d.Shots/40, 1) == 0 {
			dot := result.Dot{At: at + busy/time.Duration(clients), Latency: latency}
			if shot.Class.Failed() {
				dot.Class = shot.Class.String()
			}
			h.Dots = append(h.Dots, dot)
		}
	}
	sums := tally.Merge([]*tally.Recorder{recorder})
	text, err := result.EncodeHistogram(sums.Latencies)
	if err != nil {
		panic(err)
	}
	h.Latencies, h.LatencySum, h.OK = text, sums.Latency, sums.Counts[shots.OK]
	if e.CPU > 0 {
		h.SetAmount(shots.CPU, sums.Amounts[0])
	}
	h.Sent, h.Received, h.Busy, h.Wall = sums.Sent, sums.Received, busy, busy/time.Duration(clients)
	if e.Inside != nil {
		looked := e.Inside(rng, round)
		h.Inside, _ = result.LookInside(looked, int64(len(looked)))
	}
	if failed := sums.Failures(); failed > 0 {
		h.Failures = map[string]int64{shots.Status.String(): failed}
		h.Causes = []string{"status 503 Service Unavailable, expected 200 to 299"}
	}
	return h
}
