package meter

import (
	"testing"
	"time"
)

// What a tree has used so far never becomes less from one look to the next; what it holds does.
func TestWhatWasUsedStaysUsed(t *testing.T) {
	before := Held{Resident: 9, Threads: 2, Processes: 2, CPU: 118 * time.Millisecond, Read: 5, Written: 7}
	now := Held{Resident: 4, Threads: 1, Processes: 1, CPU: 117 * time.Millisecond, Read: 6, Written: 6}
	want := Held{Resident: 4, Threads: 1, Processes: 1, CPU: 118 * time.Millisecond, Read: 6, Written: 7}
	if got := now.after(before); got != want {
		t.Errorf("%+v, want %+v", got, want)
	}
	if got := (Held{CPU: 120 * time.Millisecond}).after(before); got.CPU != 120*time.Millisecond {
		t.Errorf("%s", got.CPU)
	}
}
