package rounds

import (
	"os"
	"os/exec"
	"testing"

	"paceduel/core/contender"
)

// seated is an account of a process.
type seated struct {
	contender.Accounted
	pid int
}

func (s seated) Process() int { return s.pid }

// A process that works for a contender is counted once: not again where it belongs to the contender's service, as a
// server does that a script starts, nor where two accounts are of it.
func TestWorkersAreCountedOnce(t *testing.T) {
	server := exec.Command("/bin/cat")
	in, err := server.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	defer server.Wait()
	defer in.Close()
	twice := []contender.Accounted{seated{pid: server.Process.Pid}, seated{pid: server.Process.Pid}, seated{}}
	for service, want := range map[int]int{os.Getpid(): 0, server.Process.Pid: 0, 0: 1} {
		if w := workersOf(twice, service); len(w.trees) != want {
			t.Errorf("beside service %d: %d, want %d", service, len(w.trees), want)
		}
	}
}
