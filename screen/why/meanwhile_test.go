package why

import (
	"slices"
	"testing"

	"paceduel/core/chart"
	"paceduel/core/units"
	"paceduel/screen/parts"
)

// Labels that stand one above the other read as evenly spaced: with room, no tick is left out between two others.
func TestEachTickOfTheWaitsHasARow(t *testing.T) {
	waits := chart.NewScale([]float64{150e-6, 2.4}, true, units.Seconds)
	for room, want := range map[int][]string{
		9: {"100 µs", "1 ms", "10 ms", "100 ms", "1 s"},
		1: {"1 s"},
		0: {"1 s"},
	} {
		var got []string
		rows := waitRows(waits, room)
		for row := rows - 1; row >= 0; row-- {
			if label := parts.RowLabel(waits, row, rows); label != "" {
				got = append(got, label)
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("room for %d rows: %v, want %v", room, got, want)
		}
	}
	if rows := waitRows(chart.NewScale([]float64{1e-3, 2e-3}, true, units.Seconds), 9); rows < fewWaitRows {
		t.Errorf("a narrow scale has %d rows", rows)
	}
}
