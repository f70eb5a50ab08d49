package pace_test

import (
	"context"
	"runtime"
	"testing"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/tally"
	"paceduel/internal/sample"
)

// idleCrew shoots at nothing and remembers how many threads Go's runtime may run at a time.
type idleCrew struct{ threads int }

func (c *idleCrew) Drive(context.Context, *contender.Job) error {
	c.threads = runtime.GOMAXPROCS(0)
	return nil
}

func (*idleCrew) Rewind() {}
func (*idleCrew) Close()  {}

// Beside a crew that waits somebody else can run, where there is one processor, too; where there are more, as many as
// before.
func TestACrewIsNotAlone(t *testing.T) {
	for processors, want := range map[int]int{1: 2, 2: 2, 5: 5} {
		before := runtime.GOMAXPROCS(processors)
		c := &idleCrew{}
		h := &pace.Heat{
			Clock: clock.Start(), Pace: plan.Pace{Shots: 1, Warmup: &plan.Warmup{}}, Size: 1, Crew: c,
			Warm:   []*tally.Recorder{tally.NewRecorder(&sample.Shape, 0, 1)},
			Judged: []*tally.Recorder{tally.NewRecorder(&sample.Shape, 0, 1)},
		}
		_, err := h.Drive(t.Context())
		runtime.GOMAXPROCS(before)
		if err != nil || c.threads != want {
			t.Errorf("on %d processors a crew is driven with %d threads, %v; want %d", processors, c.threads, err, want)
		}
	}
}
