package read_test

import (
	"slices"
	"testing"

	"paceduel/core/plan/read"
)

func TestPlansThatMeasureDifferentThings(t *testing.T) {
	const plan = "duel: a\nrounds: 6\nbaseline: x\n" +
		"contenders: { x: { command: { run: [a] } }, y: { command: { run: [b] } } }\n"
	tests := []struct {
		name, other string
		want        []string
	}{
		{"the same", plan, nil},
		{"another order and spacing", "baseline: x\nduel: a\nrounds: 6\n" +
			"contenders:\n  x: { command: { run: [a] } }\n  y: { command: { run: [b] } }\n", nil},
		{"more rounds and points", "rounds: 20\nsweep: { over: { n: [1, 2] } }\n" + plan[len("duel: a\nrounds: 6\n"):], nil},
		{"another command", "baseline: x\ncontenders: { x: { command: { run: [a] } }, y: { command: { run: [c] } } }\n",
			[]string{"contenders"}},
		{"another pace", plan + "pace: { repeat: 9 }\n", []string{"pace"}},
		{"no plan", "}", []string{"duel"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if got := read.Differ(plan, tt.other); !slices.Equal(got, tt.want) {
				t.Errorf("they differ in %q; want %q", got, tt.want)
			}
		})
	}
}
