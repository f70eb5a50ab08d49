package rounds

import (
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/screen"
)

// Stop is where one watches the heats.
func Stop() screen.Row {
	return screen.Row{Stop: screen.Rounds, View: New(), Progress: progress, Shows: []judge.Evidence{judge.InHeats}}
}

func progress(r *screen.Run) screen.Progress {
	switch {
	case r.Live && r.Now != nil:
		return screen.Busy
	case r.Live:
		return screen.Ahead
	case r.Result.Ending == result.Done:
		return screen.Done
	case len(r.Heats) > 0:
		return screen.Trouble
	}
	return screen.Ahead
}
