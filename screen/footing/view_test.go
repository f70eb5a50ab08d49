package footing_test

import (
	"testing"

	"paceduel/internal/viewtest"
	"paceduel/screen/footing"
)

func TestTheView(t *testing.T) { viewtest.Run(t, footing.Stop(), "finished") }
