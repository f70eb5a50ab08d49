package sweep_test

import (
	"testing"

	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/internal/sample"
	"paceduel/internal/viewtest"
	"paceduel/screen"
	"paceduel/screen/look"
	"paceduel/screen/sweep"
)

func TestTheView(t *testing.T) { viewtest.Run(t, sweep.Stop(), "swept") }

// BenchmarkFrame draws a frame of eight contenders over twelve points, as it is drawn again and again while keys move
// about in it.
func BenchmarkFrame(b *testing.B) {
	d := sample.Swept{
		Duel: sample.Duel{Rounds: 20, Shots: 20, Seed: 9}, Spread: 0.2, Heats: 0.02,
		Parameters: []result.Parameter{
			sample.Numbers("writers", plan.Threads, 1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64),
		},
		Takes: func(way int, at ...float64) float64 {
			return 0.001 * (1 + 0.1*float64(way) + 0.05*float64(8-way)*at[0])
		},
	}
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: name, Bytes: 100})
	}
	r := sample.MakeSwept(d)
	s, err := judge.JudgeSweep(r)
	if err != nil {
		b.Fatal(err)
	}
	run := (&screen.Run{Result: r, Heats: r.Heats, Judged: s}).AtPoint(0)
	scene := screen.Scene{Theme: look.New(true), Run: run, Pictures: &screen.Pictures{}, Width: 138, Height: 34}
	view := sweep.New()
	for b.Loop() {
		view.Body(scene, scene.Width, scene.Height)
	}
}
