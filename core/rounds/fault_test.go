package rounds_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	"paceduel/core/panics"
	"paceduel/core/result"
)

// A fault of ours in a client, wherever it runs, ends the run with an error that says where; what was measured is kept.
func TestAFaultOfOursKeepsWhatWasMeasured(t *testing.T) {
	for pace, falls := range map[string]int{
		"{ repeat: 5, warmup: 0 }": 15, "{ clients: 4, shots: 20, warmup: 0 }": 63,
	} {
		synctest.Test(t, func(t *testing.T) {
			p := reading(t, fmt.Sprintf("takes: 10ms, falls: %d", falls), "takes: 5ms", pace)
			_, r, err := run(t.Context(), p, 77, nil)
			var fault *panics.Error
			if !errors.As(err, &fault) || !strings.Contains(err.Error(), "the sluice gate is not there at kind.go:") {
				t.Fatalf("%s: ended with %v", pace, err)
			}
			if r.Ending != result.Failed || len(r.Heats) < 4 || !strings.Contains(r.Reason, "please report it") {
				t.Errorf("%s: %s with %d heats: %s", pace, r.Ending, len(r.Heats), r.Reason)
			}
			for i, h := range r.Heats[:4] {
				if !h.Counts() || h.OK < 5 {
					t.Errorf("%s: heat %d is %+v", pace, i+1, h)
				}
			}
		})
	}
}
