package weighin

import (
	"paceduel/core/judge"
	"paceduel/core/weighin"
	"paceduel/screen"
)

// Stop is where one sees what contenders answered.
func Stop() screen.Row {
	return screen.Row{Stop: screen.WeighIn, View: New(), Progress: progress, Shows: []judge.Evidence{judge.InAnswers}}
}

func progress(r *screen.Run) screen.Progress {
	touched, passed := 0, 0
	for _, e := range r.Result.Entrants {
		if e.Touch != nil {
			touched++
		}
		if weighin.Passed(e.Touch) {
			passed++
		}
	}
	switch {
	case passed < touched, weighin.IsUnequal(r.Err):
		return screen.Trouble
	case passed == len(r.Result.Entrants):
		return screen.Done
	case r.Live:
		return screen.Busy
	}
	return screen.Ahead
}
