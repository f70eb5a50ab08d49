package judge_test

import (
	"strings"
	"testing"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/internal/sample"
)

// What is counted is had, not been.
func TestMoreThroughputIsHad(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 700, Clients: 8, Seed: 4, Entrants: []sample.Entrant{
		{Name: "slow", Latency: sample.Times(0.01, 0.1)}, {Name: "fast", Latency: sample.Times(0.005, 0.1)},
	}})
	r.Plan.Decides = figure.Throughput
	v, err := judge.Judge(r)
	if err != nil || !strings.HasPrefix(v.Sentence, "fast has 2.0x more throughput than slow") {
		t.Errorf("%q, %v", v.Sentence, err)
	}
}
