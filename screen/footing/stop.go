package footing

import (
	"slices"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/screen"
)

// Stop is where one sees what runs start from.
func Stop() screen.Row {
	return screen.Row{Stop: "footing", View: New(), Progress: progress, Shows: []judge.Evidence{judge.InFooting}}
}

func progress(r *screen.Run) screen.Progress {
	touched := slices.ContainsFunc(r.Result.Entrants, func(e result.Entrant) bool { return e.Touch != nil })
	switch {
	case len(r.Result.Footing.Cannot) > 0:
		return screen.Trouble
	case touched:
		return screen.Done
	case r.Live:
		return screen.Busy
	}
	return screen.Ahead
}
