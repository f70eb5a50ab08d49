package why_test

import (
	"testing"

	"paceduel/internal/viewtest"
	"paceduel/screen/why"
)

func TestTheView(t *testing.T) { viewtest.Run(t, why.Stop(), "served") }
