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

// A process that works for a contender is not counted again where it belongs to the contender's service, as a server
// does that a script starts.
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
	account := seated{pid: server.Process.Pid}
	for service, want := range map[int]bool{os.Getpid(): false, server.Process.Pid: false, 0: true} {
		if w := workersOf(account, service); (w.tree != nil) != want {
			t.Errorf("beside service %d it is counted: %t, want %t", service, !want, want)
		}
	}
	for _, none := range []contender.Accounted{nil, seated{}} {
		if w := workersOf(none, 0); w.tree != nil || w.used() != 0 {
			t.Errorf("%v works", none)
		}
	}
}
