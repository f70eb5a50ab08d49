package ask_test

import (
	"testing"

	"paceduel/core/contender/all"
	"paceduel/internal/viewtest"
	"paceduel/screen/ask"
)

func TestTheView(t *testing.T) { viewtest.Run(t, ask.Stop(all.Drafts(), nil), "duels") }
