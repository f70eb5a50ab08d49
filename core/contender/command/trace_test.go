package command

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

// measured performs one traced run.
func measured(t *testing.T, ctx context.Context, s *Settings) shots.Shot {
	t.Helper()
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	shot := shots.Shot{Measure: true, View: &shots.View{}}
	c.Shoot(ctx, &shot)
	if d.untraceable.Load() {
		t.Skip("tracing is not allowed here")
	}
	return shot
}

// Peak memory is the contender's and never ours, whoever of its processes holds it.
func TestPeakMemory(t *testing.T) {
	ours := make([]byte, 300<<20)
	for i := range ours {
		ours[i] = 1
	}
	const mib = 1 << 20
	tests := []struct {
		name, line string
		low, high  int64
	}{
		{"next to nothing", "exec true", 1, 8 * mib},
		{"a buffer of 40 MiB", "exec dd if=/dev/zero of=/dev/null bs=40M count=2 2>/dev/null", 40 * mib, 50 * mib},
		{
			"in a grandchild", "sh -c 'dd if=/dev/zero of=/dev/null bs=40M count=2 2>/dev/null; true'; true", 40 * mib, 56 * mib,
		},
		{
			"one after another",
			"dd if=/dev/zero of=/dev/null bs=40M count=1 2>/dev/null; dd if=/dev/zero of=/dev/null bs=30M count=1 " +
				"2>/dev/null; true",
			40 * mib, 56 * mib,
		},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			shot := measured(t, t.Context(), shell(tt.line, nil))
			if shot.Class != shots.OK || shot.Amounts[memory] < tt.low || shot.Amounts[memory] > tt.high {
				t.Errorf("%s, %v; peak of %.1f MiB, want %.1f to %.1f", shot.Class, shot.Err, float64(
					shot.Amounts[memory],
				)/mib, float64(tt.low)/mib, float64(tt.high)/mib)
			}
			if shot.End <= shot.Start || shot.Amounts[cpu] < 0 {
				t.Errorf("timed from %s to %s", shot.Start, shot.End)
			}
		})
	}
	if ours[len(ours)-1] != 1 {
		t.Fatal("unreachable; keeps the memory ours until here")
	}
}

// Tracing changes nothing about how a run ends.
func TestTracedRunsEndAsOthersDo(t *testing.T) {
	tests := []struct {
		name   string
		s      *Settings
		class  shots.Class
		output string
	}{
		{"output and threads", shell("echo tide; sort --parallel=4 /dev/null; echo out | cat", nil), shots.OK, "tide\nout\n"},
		{"exit code", shell("exit 3", nil), shots.Exit, ""},
		{"signal", shell("kill -SEGV $$", nil), shots.Signal, ""},
		{"signal that is handled", shell("trap 'echo caught' USR1; kill -USR1 $$; true", nil), shots.OK, "caught\n"},
		{
			"timeout", shell("sleep 600 & sleep 600", func(s *Settings) { s.Timeout = plan.Span(100 * time.Millisecond) }),
			shots.Timeout, "",
		},
		{"left behind", shell("sleep 601 >/dev/null 2>&1 & echo gone", nil), shots.OK, "gone\n"},
		{
			"left behind in a session of its own", shell("setsid -f sleep 602 >/dev/null 2>&1; echo gone", nil), shots.OK,
			"gone\n",
		},
		{"in a session of its own", shell("setsid sh -c 'echo apart'; true", nil), shots.OK, "apart\n"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			shot := measured(t, t.Context(), tt.s)
			if shot.Class != tt.class || tt.class == shots.OK && string(shot.View.Body) != tt.output {
				t.Errorf("%s, %v, %q; want %s, %q", shot.Class, shot.Err, shot.View.Body, tt.class, tt.output)
			}
		})
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if shot := measured(t, ctx, shell("sleep 602", nil)); shot.Class != shots.Cut {
		t.Errorf("interrupted: %s, %v", shot.Class, shot.Err)
	}
	var left string
	for range 100 { // what was killed takes a moment to be gone
		out, _ := exec.Command("pgrep", "-a", "-f", "sleep 60[012]").Output()
		if left = strings.TrimSpace(string(out)); left == "" {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Errorf("processes are left: %s", left)
}

func TestResourcesAreCounted(t *testing.T) {
	shot := shoot(t, shell("sleep 0.01; sleep 0.01; dd if=/dev/zero of=x bs=64k count=8 conv=fsync 2>/dev/null", nil))
	if shot.Class != shots.OK || shot.Amounts[faults] < 100 || shot.Amounts[waits] < 2 {
		t.Errorf("%s %v: %+v", shot.Class, shot.Err, shot.Amounts)
	}
}

// A program of many threads that ends while it makes more of them, again and again: none may be left stopped for ever.
func TestTracingManyThreads(t *testing.T) {
	if os.Getenv("PACEDUEL_TEST_THREADS") != "" {
		return
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	s := shell("", func(s *Settings) {
		s.Shell, s.Run = "", []plan.Word{plan.Word(self), "-test.run=^TestThreadsAndOut$"}
		s.Env, s.Timeout = map[string]plan.Word{"PACEDUEL_TEST_THREADS": "1"}, plan.Span(30*time.Second)
	})
	runs := 40
	if testing.Short() {
		runs = 5
	}
	for range runs {
		if shot := measured(t, t.Context(), s); shot.Class != shots.OK || shot.Amounts[memory] == 0 {
			t.Fatalf("%s, %v; peak %d", shot.Class, shot.Err, shot.Amounts[memory])
		}
	}
}

// TestThreadsAndOut is what the test above runs: threads are made until the process ends under them.
func TestThreadsAndOut(t *testing.T) {
	if os.Getenv("PACEDUEL_TEST_THREADS") == "" {
		t.Skip("only as another test's program")
	}
	for range 4 {
		go func() {
			for {
				go func() {
					runtime.LockOSThread()
					time.Sleep(time.Microsecond)
				}()
				time.Sleep(300 * time.Microsecond)
			}
		}()
	}
	time.Sleep(5 * time.Millisecond)
	os.Exit(0)
}

// A program with rights of its own is not traced, since the kernel would withhold them from it.
func TestElevatedProgramsAreNotTraced(t *testing.T) {
	tests := []struct {
		name string
		mode os.FileMode
		want bool
	}{
		{"plain", 0o755, false},
		{"set-user-ID", 0o755 | os.ModeSetuid, true},
		{"set-group-ID", 0o755 | os.ModeSetgid, true},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			program := filepath.Join(t.TempDir(), "program")
			if err := os.WriteFile(program, []byte("#!/bin/sh\n"), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.Chmod(program, tt.mode); err != nil {
				t.Fatal(err)
			}
			if got := elevated(program); got != tt.want {
				t.Errorf("elevated = %t; want %t", got, tt.want)
			}
		})
	}
}

// holding has this test's binary be a process that takes so many MiB and ends with or without them.
const holding = "COMMAND_TEST_HOLD"

func hold(how string) {
	word, size, _ := strings.Cut(how, " ")
	n, _ := strconv.Atoi(size)
	block, err := syscall.Mmap(-1, 0, n<<20, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_PRIVATE|syscall.MAP_ANON)
	if err != nil {
		os.Exit(1)
	}
	for i := 0; i < len(block); i += 4096 {
		block[i] = 1
	}
	if word == "freed" {
		syscall.Munmap(block)
	}
}

// Memory that is still held at the end is counted to the page; of what was given back before, its grain is told. What a
// forked process shares with the one that it comes from is counted once.
func TestHowExactPeaksAre(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	run := func(how string) shots.Shot {
		return measured(
			t, t.Context(), shell("exec "+self, func(s *Settings) { s.Env = map[string]plan.Word{holding: plan.Word(how)} }),
		)
	}
	const mib = 1 << 20
	base := run("held 1")
	if base.Grain != 0 {
		t.Errorf("memory that is held has a grain of %d", base.Grain)
	}
	held := run("held 41")
	// the runtime of the program varies
	if extra := held.Amounts[memory] - base.Amounts[memory]; held.Grain != 0 || extra < 40*mib-2*mib ||
		extra > 40*mib+2*mib {
		t.Errorf("40 MiB more are measured as %.2f MiB more, with a grain of %d", float64(extra)/mib, held.Grain)
	}
	freed := run("freed 41")
	if extra := freed.Amounts[memory] - base.Amounts[memory]; freed.Grain == 0 || extra < 40*mib-2*mib-freed.Grain ||
		extra > 40*mib+2*mib+freed.Grain {
		t.Errorf(
			"40 MiB that were given back are measured as %.2f MiB more, with a grain of %d", float64(extra)/mib, freed.Grain,
		)
	}
	const fill = "x=$(head -c 20000000 /dev/zero | tr '\\0' a); "
	alone, forked := measured(
		t, t.Context(), shell(fill+"true", nil),
	), measured(t, t.Context(), shell(fill+"(sleep 0.02; true) & (sleep 0.02; true); wait", nil))
	if more := forked.Amounts[memory] - alone.Amounts[memory]; more > alone.Amounts[memory]/2 {
		t.Errorf("with two copies of itself a shell of %.1f MiB is measured with %.1f MiB more", float64(
			alone.Amounts[memory],
		)/mib, float64(more)/mib)
	}
}

// What a traced run leaves behind ends, also where its parent ends in the midst of making it: nobody but the tracer
// could end it, and whoever tried would wait for it.
func TestLeftoversOfTracedRunsAreEnded(t *testing.T) {
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, shell(
		"for i in 1 2 3; do env -i setsid sh -c 'sleep 600 & sleep 600 & sleep 600' & done; sleep 0.00$(($$ % 10))", nil,
	))
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	for range 40 {
		shot := shots.Shot{Measure: true}
		if c.Shoot(t.Context(), &shot); shot.Class != shots.OK {
			t.Fatal(shot.Class, shot.Err)
		}
		keeper.EndStrays()
		for _, pid := range keeper.Adopted() {
			if text, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline"); strings.Contains(string(text), "sleep") {
				status, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
				t.Fatalf("%q goes on: %s", text, status)
			}
		}
	}
}

// A child may be heard of, and become another program, before its parent tells of it: it then has memory of its own.
func TestAChildThatIsAheadOfItsParent(t *testing.T) {
	const child = 1 << 30 // no process has that number
	stopped := func(signal, cause int) syscall.WaitStatus { return syscall.WaitStatus(cause<<16 | signal<<8 | 0x7f) }
	for _, borrowing := range []bool{true, false} {
		t.Run(fmt.Sprintf("borrowing %v", borrowing), func(t *testing.T) {
			tr := newTracer(1<<30 + 1)
			tr.hear(child, stopped(int(syscall.SIGSTOP), 0), syscall.Rusage{})
			tr.hear(child, stopped(int(syscall.SIGTRAP), 0), syscall.Rusage{})
			tr.bears(child, borrowing)
			if tr.borrows[child] || tr.copies[child] || !tr.living[child] {
				t.Errorf("borrows %v, copies %v, living %v", tr.borrows[child], tr.copies[child], tr.living[child])
			}
			if tr.bears(child-1, borrowing); tr.borrows[child-1] != borrowing || tr.copies[child-1] == borrowing {
				t.Error("a child that is no program of its own yet is taken for one")
			}
		})
	}
}

// Every process of a run has its place on a time line: what it is called, who started it, when it was there, and what
// it used.
func TestProcessesOfARun(t *testing.T) {
	// Each waits for the one before, or for the file that the other writes.
	line := "dd if=/dev/zero bs=1M count=40 2>/dev/null | sha256sum >sum; (cat sum sum; true) >/dev/null; " +
		"sh -c 'wc -c <sum >length; true'"
	shot := measured(t, t.Context(), shell(line, nil))
	if shot.Class != shots.OK || len(shot.Inside) < 6 {
		t.Fatalf("%v: %d processes", shot.Err, len(shot.Inside))
	}
	type one struct {
		parent string
		spans.Span
	}
	by := map[string]one{}
	took := shot.End - shot.Start
	for i, sp := range shot.Inside {
		parent := "-"
		if sp.Parent >= 0 {
			parent = shot.Inside[sp.Parent].Name
		}
		by[sp.Name] = one{parent, sp}
		if sp.Parent >= i || sp.Begin < 0 || sp.End < sp.Begin || sp.End > took+time.Millisecond {
			t.Errorf("%s: from %s to %s of %s, within %d", sp.Name, sp.Begin, sp.End, took, sp.Parent)
		}
	}
	for name, parent := range map[string]string{"command": "-", "dd": "command", "sha256sum": "command"} {
		if by[name].parent != parent {
			t.Errorf("%s was started by %q; want %s", name, by[name].parent, parent)
		}
	}
	if by["wc"].parent == "command" || by["cat"].parent == "" || by["wc"].parent == "" {
		t.Errorf("wc by %q, cat by %q", by["wc"].parent, by["cat"].parent)
	}
	sum, cat, wc := by["sha256sum"], by["cat"], by["wc"]
	if sum.CPU < 10*time.Millisecond || sum.CPU > took || cat.Begin < sum.End || wc.Begin < cat.End ||
		by["dd"].Begin > sum.End {
		t.Errorf("sha256sum %+v, cat %+v, wc %+v", sum, cat, wc)
	}
	if plain := (&tracer{}).processes(0); len(plain) > 0 {
		t.Errorf("%v of nothing", plain)
	}
}
