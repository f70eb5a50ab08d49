package why

import (
	"paceduel/core/judge"
	"paceduel/screen"
)

// Stop is where one sees what lies behind it: starts and memory. Its letter is the last of its name, since its first is
// the weigh-in's.
func Stop() screen.Row {
	return screen.Row{
		Stop: "why", Letter: 2, View: New(), Progress: screen.Judged, Shows: []judge.Evidence{
			judge.InStarts, judge.InMemory, judge.InInside, judge.InSurvival,
		},
	}
}
