package between

import (
	"testing"
	"time"
)

// As many runs as fit, none beyond reason, and enough for a percentile where that costs little.
func TestRepeats(t *testing.T) {
	for run, want := range map[time.Duration]int{
		0: 1, -time.Second: 1, time.Minute: 1, heatAim: 1, heatAim / 3: 3, heatAim / percentileN: percentileN, heatAim / (percentileN - 1): percentileN, time.Microsecond: maxRepeat,
	} {
		if got := repeats(run); got != want {
			t.Errorf("repeats(%s) = %d; want %d", run, got, want)
		}
	}
}
