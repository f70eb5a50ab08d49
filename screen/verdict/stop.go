package verdict

import (
	"paceduel/core/judge"
	"paceduel/screen"
)

// Stop is where one sees who wins, by how much and how surely.
func Stop() screen.Row {
	return screen.Row{
		Stop: screen.Verdict, View: New(), Progress: screen.Judged, Shows: []judge.Evidence{judge.InRatios, judge.InShapes},
	}
}
