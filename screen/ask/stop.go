package ask

import (
	"paceduel/core/draft"
	"paceduel/core/judge"
	"paceduel/screen"
)

// Stop is where a duel is chosen, made and started. Kinds are how plans for contenders are drafted, one at least;
// questions are plans to start from.
func Stop(kinds []*draft.Kind, questions []draft.Question) screen.Row {
	return screen.Row{
		Stop: screen.Ask, View: New(kinds, questions), Shows: []judge.Evidence{judge.InPlan},
		Progress: func(*screen.Run) screen.Progress { return screen.Done },
	}
}
