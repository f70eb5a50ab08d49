package sample

import (
	"math/rand/v2"
	"time"

	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// Serve gives every heat of a made-up run a service that was started for it: the splits of its start, what it printed,
// and what it held from before its first shot to after its last. The i-th contender's start takes a third of the time
// of the one before.
func Serve(r *result.Result) {
	rng := rand.New(rand.NewPCG(r.Seed, 0x73657276))
	for i := range r.Heats {
		h := &r.Heats[i]
		scale, held := 0.6, float64(16<<20)
		for _, e := range r.Entrants {
			if e.Name == h.Contender {
				break
			}
			scale, held = scale/3, held*1.5
		}
		scale *= 1 + 0.03*rng.NormFloat64()
		part := func(x float64) time.Duration { return time.Duration(x * scale * 1e9) }
		h.Starts = []result.Start{{
			At: h.At - part(1.2), Prepared: part(2), Output: part(0.7), Ready: part(0.75), Asked: part(0.76), First: part(1),
			FirstTook: part(0.24),
			Second:    part(1.02), SecondTook: part(0.02), Settled: part(1.6), Shot: 12, Marks: []result.StartMark{
				{Name: "tables", Unit: units.Second, Value: 0.5 * scale}, {Name: "rows", Unit: "rows", Value: 365},
			},
		}}
		s := &result.Service{CPU: h.Wall / 2, Peak: int64(held * 1.3), Exact: true, Proportional: int64(held * 0.8)}
		const moments = 20
		for k := range moments {
			share := float64(k) / (moments - 1)
			s.Moments = append(s.Moments, result.Moment{
				At: h.At + time.Duration(
					share*float64(h.Wall),
				), Resident: int64(held * (1 + 0.3*min(4*share, 1) - 0.1*max(share-0.9, 0))), Threads: 7, Processes: 1,
			})
		}
		h.Service = s
		h.SetAmount(shots.Memory, s.Peak)
		h.SetAmount(shots.CPU, int64(s.CPU))
	}
}
