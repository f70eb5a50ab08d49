package log_test

import (
	"testing"

	"paceduel/internal/viewtest"
	"paceduel/screen/log"
)

func TestTheView(t *testing.T) { viewtest.Run(t, log.Stop(), "duels") }
