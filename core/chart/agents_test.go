package chart_test

import (
	"slices"
	"testing"

	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/internal/sample"
)

func TestFiguresByAgent(t *testing.T) {
	made := func(seed uint64) sample.Duel {
		return sample.Duel{Rounds: 3, Shots: 61, Seed: seed, Entrants: []sample.Entrant{
			{Name: "per-vessel", Latency: sample.Times(0.004, 0.02)}, {Name: "joined", Latency: sample.Times(0.001, 0.02)},
		}}
	}
	r := sample.Places(sample.Make(made(1)), sample.Make(made(2)))
	r.Load.Agents[3].LostIn = 2
	r.Parts = []string{"connect", "send", "wait"}
	agents := chart.Agents(r)
	if len(agents) != 4 || !slices.Equal(agents[3].Cells(), []string{
		"far-2", "far", "2 processors, Harbour 9000", "–", "within 60.0 µs", "130 µs", "in round 2",
	}) {
		t.Errorf("agents %+v", agents)
	}
	by := chart.ByAgents(r, r.Heats, cell.Of("joined", "far"))
	if len(by) != 2 || !slices.Equal(by[0].Cells(), []string{
		"far-1", "93", "0 %", "1.00 ms", "2.00 ms", "3.00 ms", "50.0 µs", "0 %", "0 %", "send 5.00 µs · wait 900 µs",
	}) {
		t.Errorf("by agent %+v", by)
	}
	if chart.ByAgents(r, r.Heats, cell.Of("joined", "nowhere")) != nil || chart.Agents(sample.Make(made(1))) != nil {
		t.Error("figures by agent of what no agent drove")
	}
}
