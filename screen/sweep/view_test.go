package sweep_test

import (
	"testing"

	"paceduel/internal/viewtest"
	"paceduel/screen/sweep"
)

func TestTheView(t *testing.T) { viewtest.Run(t, sweep.Stop(), "swept") }
