package calibration

import (
	"math"
	"math/rand/v2"
	"slices"
	"sync"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// Covered is how many duels' intervals hold the truth of what a contender needs and of what it saves.
type Covered struct{ own, saved int }

// What duels of stakes are drawn from: heats that differ much as wholes, so that what is saved does, too.
const (
	stakesRounds = 10
	stakesNoise  = 0.2
	baseSeconds  = 0.004
	ownSeconds   = 0.003
	items        = 1_000_000
	peakRate     = 3000.0
	stakeClients = 1
)

// stakesCovered draws duels whose truth is known and counts what the intervals of their stakes cover, by what they are
// counted in: seconds by the mean of shots that come one after another, and servers by throughput.
func stakesCovered(duels int) map[string]Covered {
	out := map[string]Covered{}
	for name, kind := range map[string]struct {
		clients int
		stakes  result.Stakes
		worth   func(latency float64) float64
		whole   bool
	}{
		"time for items": {
			stakes: result.Stakes{Items: items}, worth: func(x float64) float64 { return items * x },
		},
		"servers": {
			clients: stakeClients, stakes: result.Stakes{PeakRate: peakRate}, whole: true,
			worth: func(x float64) float64 { return peakRate * x / stakeClients },
		},
	} {
		own := kind.worth(ownSeconds)
		saved := typicalSaving(kind.worth)
		if kind.whole {
			own, saved = math.Ceil(own), math.Ceil(kind.worth(baseSeconds))-math.Ceil(kind.worth(ownSeconds))
		}
		var mu sync.Mutex
		onAllProcessors(duels, func(i int) {
			s := stakesDuel(uint64(i), kind.clients, &kind.stakes)
			mu.Lock()
			defer mu.Unlock()
			n := out[name]
			if s.Own.Low <= own && own <= s.Own.High {
				n.own++
			}
			if s.Saved.Low <= saved && saved <= s.Saved.High {
				n.saved++
			}
			out[name] = n
		})
	}
	return out
}

func stakesDuel(seed uint64, clients int, stakes *result.Stakes) judge.Stake {
	rng := rand.New(rand.NewPCG(seed, 7))
	heats := func(seconds float64) func(*rand.Rand, int) float64 {
		var at [stakesRounds]float64
		for i := range at {
			at[i] = seconds * math.Exp(stakesNoise*rng.NormFloat64())
		}
		return func(_ *rand.Rand, round int) float64 { return at[round] }
	}
	r := sample.Make(sample.Duel{Rounds: stakesRounds, Shots: 5, Clients: clients, Seed: seed, Entrants: []sample.Entrant{
		{Name: "a", Latency: heats(baseSeconds)}, {Name: "b", Latency: heats(ownSeconds)},
	}})
	r.Plan.Stakes = stakes
	v, err := judge.Judge(r)
	if err != nil {
		panic(err) // of a result that we made ourselves
	}
	return v.Stakes[0]
}

// typicalSaving is the pseudo-median of what rounds save, found by drawing very many.
func typicalSaving(worth func(float64) float64) float64 {
	rng := rand.New(rand.NewPCG(1, 8))
	draw := func() float64 {
		return worth(baseSeconds*math.Exp(stakesNoise*rng.NormFloat64())) -
			worth(ownSeconds*math.Exp(stakesNoise*rng.NormFloat64()))
	}
	pairs := make([]float64, 200_000)
	for i := range pairs {
		pairs[i] = (draw() + draw()) / 2
	}
	slices.Sort(pairs)
	return pairs[len(pairs)/2]
}
