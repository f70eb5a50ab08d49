package sweep

import "paceduel/screen"

// Stop is where one sees who wins where over the values of a parameter.
func Stop() screen.Row {
	return screen.Row{Stop: screen.Sweep, Letter: 4, View: New(), Progress: progress}
}

func progress(r *screen.Run) screen.Progress {
	switch {
	case r.Swept == nil:
		return screen.Ahead
	case r.Live && r.Swept.Now != nil:
		return screen.Busy
	case !r.Live && r.Swept.Judged != nil && r.Swept.Judged.Rounds > 0:
		return screen.Done
	}
	return screen.Ahead
}
