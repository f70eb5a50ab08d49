package weighin_test

import (
	"testing"

	"paceduel/internal/viewtest"
	"paceduel/screen/weighin"
)

func TestTheView(t *testing.T) { viewtest.Run(t, weighin.Stop(), "finished") }
