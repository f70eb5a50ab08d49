package judge_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"paceduel/core/figure"
	"paceduel/core/judge"
)

// Value and ratio lean the same way, although one heat in twenty takes three times as long as it would: hardly ever not
// at all, and never where something is settled. Values over all shots do not.
func TestValueAndRatioLeanTheSameWay(t *testing.T) {
	const duels, rounds, ratio, noise = 400, 10, 1.1, 0.08
	rng := rand.New(rand.NewPCG(4127, 14))
	apart, pooledApart, settledApart := 0, 0, 0
	for range duels {
		m := &judge.Measured{Baseline: "usual"}
		for round := 1; round <= rounds; round++ {
			for _, of := range []struct {
				name string
				mean float64
			}{{"usual", ratio}, {"quick", 1}} {
				took := of.mean * math.Exp(noise*rng.NormFloat64())
				if rng.IntN(20) == 0 {
					took *= 3
				}
				m.Heats = append(m.Heats, judge.MeasuredHeat{Contender: of.name, Round: round, Samples: []float64{took}})
			}
		}
		if err := m.Check(); err != nil {
			t.Fatal(err)
		}
		for _, a := range judge.MeasuredVerdict(m).Faces[0].Figures {
			if a.Figure != figure.Mean {
				continue
			}
			if (a.Contender.V < a.Baseline.V) != (a.Ratio > 1) {
				apart++
				if a.Word == judge.Better || a.Word == judge.Worse {
					settledApart++
				}
			}
			if (a.AllContender < a.AllBaseline) != (a.Ratio > 1) {
				pooledApart++
			}
		}
	}
	if apart > duels*3/100 || settledApart > 0 {
		t.Errorf("of %d duels %d show values that lean the other way, %d of them settled", duels, apart, settledApart)
	}
	if pooledApart < duels*10/100 {
		t.Errorf(
			"of %d duels only %d have values over all shots that lean the other way: this tests nothing", duels, pooledApart,
		)
	}
	t.Logf("of %d duels: %d typical, %d over all shots", duels, apart, pooledApart)
}
