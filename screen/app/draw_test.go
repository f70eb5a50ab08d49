package app

import (
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/pace"
	"paceduel/screen"
)

// BenchmarkFrame draws one frame of a run under way, as it is drawn at every glance, without and with new dots.
func BenchmarkFrame(b *testing.B) {
	m := newModel(b.Context(), Config{})
	m.w, m.h = 142, 42
	m.scene.Run = opened(threeWay())
	run := *m.scene.Run
	run.Live, run.Heats, run.Left = true, run.Heats[:25], time.Minute
	run.Now = &screen.Now{
		Round: 9, Cell: cell.Of("joined", ""), Stage: pace.Judged, Shots: 100, Rate: 1000, P50: time.Millisecond,
		P99: time.Second, Heat: run.Result.Heats[25],
	}
	m.scene.Run = &run
	m.at = screen.Rounds
	b.ReportAllocs()
	for b.Loop() {
		m.draw()
	}
}
