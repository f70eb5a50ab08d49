package e2e

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The harness of every language keeps the protocol. Those whose language is not on this machine are left out.
func TestHarnesses(t *testing.T) {
	beside(t)
	workers, err := filepath.Abs("../workers")
	if err != nil {
		t.Fatal(err)
	}
	examples, err := filepath.Abs("testdata/workers")
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		name  string
		needs []string
		build []string // in the folder of the home
		run   []string
		asks  []string // what is tried
	}{
		{"Python", []string{"python3"}, nil, []string{"python3", filepath.Join(examples, "try.py")},
			[]string{"plain on 1", "locked on 2"}},
		{"JavaScript", []string{"node"}, nil, []string{"node", filepath.Join(examples, "try.mjs")},
			[]string{"map on 2", "later on 1"}},
		{"Java", []string{"java", "javac"},
			[]string{
				"javac", "-d", ".", filepath.Join(workers, "java", "PaceDuelWorker.java"), filepath.Join(examples, "Try.java"),
			},
			[]string{"java", "Try"}, []string{"map on 2", "nothing on 1"}},
		{"C", []string{"gcc"}, []string{
			"gcc", "-O2", "-Wall", "-Wextra", "-Werror", "-pthread", "-I", filepath.Join(workers, "c"), "-o", "try",
			filepath.Join(examples, "try.c"), "-lm",
		}, []string{"./try"}, []string{"multiply on 2", "nothing on 1"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			for _, program := range tt.needs {
				if _, err := exec.LookPath(program); err != nil {
					t.Skipf("%s is not on this machine", program)
				}
			}
			h := newHome(t)
			h.env = append(h.env, "WORKERS="+workers)
			if tt.build != nil {
				cmd := exec.Command(tt.build[0], tt.build[1:]...)
				cmd.Dir = h.dir
				if out, err := cmd.CombinedOutput(); err != nil {
					t.Fatalf("%s: %v\n%s", strings.Join(tt.build, " "), err, out)
				}
			}
			o := h.run(t, append([]string{"worker", "check", "--"}, tt.run...)...)
			o.says(t, 0, append(tt.asks, "it keeps version 1 of the protocol")...)
		})
	}
}

func TestAProgramThatIsNoWorker(t *testing.T) {
	h := newHome(t)
	h.env = append(h.env, "TMPDIR="+h.dir) // where others of ours leave nothing
	h.run(t, "worker", "check", "--", "true").says(t, 3, "exit status 0 before it connected to $PACEDUEL_WORKER")
	h.run(t, "worker", "check", "--", "no-such-program").says(t, 3, "no such program")
	h.run(t, "worker", "check").says(t, 2)
	if left, _ := filepath.Glob(filepath.Join(h.dir, "paceduel-worker-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// pier builds the worker of testdata/workers/pier and writes a plan for its functions.
func pier(t *testing.T, contenders string) home {
	t.Helper()
	h := newHome(t)
	h.env = append(h.env, "TMPDIR="+h.dir)
	build := exec.Command("go", "build", "-o", filepath.Join(h.dir, "pier"), "./testdata/workers/pier")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("build the worker: %v\n%s", err, out)
	}
	h.write(t, "pier.duel.yaml", `duel: On the pier
baseline: once
course: { worker: { run: [./pier], operations: 200000 } }
contenders:
  once: { worker: { function: once } }
`+contenders+`
pace: { repeat: 3, warmup: 1 }
rounds: 8
decides: operation
same: { body: exact }
`)
	return h
}

// nothingLeft holds that neither workers nor their sockets outlive a run.
func (h home) nothingLeft(t *testing.T) {
	t.Helper()
	if left, _ := filepath.Glob(filepath.Join(h.dir, "paceduel-worker-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	if out, _ := exec.Command("pgrep", "-f", "^"+filepath.Join(h.dir, "pier")).Output(); len(out) > 0 {
		t.Errorf("workers are left: %s", out)
	}
}

func TestADuelOfWorkers(t *testing.T) {
	h := pier(t, "  twice: { worker: { function: twice } }\n"+
		"claims: [once operation under 1s, once p50 of operation under 1s]")
	o := h.run(t, "run", "pier.duel.yaml")
	o.says(t, 1, "slower than once in operation", "fewer operations a second", "too short to be timed one by one",
		"once operation under 1s: upheld",
		"once p50 of operation under 1s: undecided, no heat of once tells p50 of operation")
	h.nothingLeft(t)
}

// One that is started anew for each heat has a start, a first operation and a warm-up to compare.
func TestAWorkerThatIsFreshForEachHeat(t *testing.T) {
	h := pier(t, "  twice: { worker: { function: twice } }")
	h.run(t, "run", "pier.duel.yaml").says(t, 0,
		"start ", "first operation (told)", "warm-up (told)", "CPU of operation", "memory afterwards")
	h.nothingLeft(t)
}

func TestAWorkerThatDoesNotRest(t *testing.T) {
	h := pier(t, "  restless: { worker: { function: restless } }")
	h.run(t, "run", "pier.duel.yaml", "--set", "course.worker.fresh=duel").says(t, 0,
		"of a processor while others had their turn", "CPU between heats at most")
	h.nothingLeft(t)
}

func TestWorkersThatDoOtherWork(t *testing.T) {
	h := pier(t, "  other: { worker: { function: other } }")
	h.run(t, "run", "pier.duel.yaml").says(t, 3, `"aground"`, `"afloat"`)
	h.run(t, "check", "pier.duel.yaml").says(t, 3, "no more than one of an empty loop")
	h.nothingLeft(t)
}

func TestWorkersThatCannot(t *testing.T) {
	h := pier(t, "  sunk: { worker: { function: sunk } }\n  five: { worker: { function: once, threads: 5 } }")
	h.run(t, "check", "pier.duel.yaml").says(t, 3, "no function sunk; it has once, twice, locked, sinks, restless, other",
		"runs on 4 threads at most")
	h = pier(t, "  sinks: { worker: { function: sinks, params: { after: 1000 } } }")
	h.run(t, "run", "pier.duel.yaml").says(t, 3, "in place of an answer to prepare", "the pier has sunk",
		"paceduel worker check -- ./pier")
	h.nothingLeft(t)
}
