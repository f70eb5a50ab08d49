package worker

import (
	"bytes"
	"sync"
	"testing"

	"paceduel/core/plan"
)

// heard takes what is printed, from another goroutine.
type heard struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (h *heard) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.Write(p)
}

// Whoever wants what a worker prints has it as it is, without our own marks, whatever it is printed to otherwise.
func TestWhatIsPrintedIsHeard(t *testing.T) {
	for _, to := range []string{"discard", "pipe"} {
		h := &heard{}
		o, err := openOutput(to, plan.Size{}, h)
		if err != nil {
			t.Fatal(err)
		}
		o.file.WriteString("tick 1\n")
		if n := o.length(); n != 7 {
			t.Errorf("%s: %d bytes; want 7", to, n)
		}
		o.file.WriteString("tick 2\n")
		o.length()
		o.close()
		if got := h.text.String(); got != "tick 1\ntick 2\n" {
			t.Errorf("%s: heard %q", to, got)
		}
	}
	o, err := openOutput("discard", plan.Size{}, nil)
	if err != nil || o.reader != nil {
		t.Errorf("%v, %v", o, err)
	}
	o.close()
}
