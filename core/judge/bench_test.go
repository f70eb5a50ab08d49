package judge_test

import (
	"testing"

	"paceduel/core/judge"
	"paceduel/internal/sample"
)

// A run of some 640 000 shots in 160 heats of 8 contenders.
func BenchmarkJudge(b *testing.B) {
	d := sample.Duel{Rounds: 20, Shots: 4000, Clients: 8, Seed: 1}
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: name, Latency: sample.Times(0.01, 0.2)})
	}
	r := sample.Make(d)
	for b.Loop() {
		if _, err := judge.Judge(r); err != nil {
			b.Fatal(err)
		}
	}
}
