package verdict_test

import (
	"testing"

	"paceduel/internal/viewtest"
	"paceduel/screen/verdict"
)

func TestTheView(t *testing.T) { viewtest.Run(t, verdict.Stop(), "finished") }
