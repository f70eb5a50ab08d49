package rounds_test

import (
	"testing"

	"paceduel/internal/viewtest"
	"paceduel/screen/rounds"
)

func TestTheView(t *testing.T) { viewtest.Run(t, rounds.Stop(), "finished") }
