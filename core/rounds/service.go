package rounds

import (
	"time"

	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/result"
)

// mostMoments is how many moments of a service a heat keeps.
const mostMoments = 200

// watchService watches the service of a heat that is about to be driven, from its first shot on; pid is 0 without one. What
// it returns ends the watch and leaves what was seen in the runner.
func (r *runner) watchService(pid int, drive *pace.Heat) (end func()) {
	if pid == 0 {
		return func() {}
	}
	began := r.clock.Now()
	w := meter.StartWatch(pid)
	told := drive.OnStage
	drive.OnStage = func(s pace.Stage, at time.Duration) {
		if s == pace.Judged {
			w.Mark()
		}
		told(s, at)
	}
	return func() {
		seen := w.Stop()
		s := &result.Service{CPU: seen.CPU, Peak: seen.Peak, Exact: seen.Exact, Proportional: seen.Proportional}
		last := len(seen.Moments) - 1
		step := (last + mostMoments) / mostMoments
		for i := 0; i <= last; i++ {
			if i%max(step, 1) != 0 && i != last {
				continue
			}
			m := seen.Moments[i]
			s.Moments = append(s.Moments, result.Moment{At: began + m.At, Resident: m.Resident, Swapped: m.Swapped, Threads: m.Threads, Processes: m.Processes})
		}
		r.service = s
	}
}
