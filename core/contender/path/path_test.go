package path

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/conformance"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

func TestMain(m *testing.M) {
	keeper.Run()
	os.Exit(m.Run())
}

// chart is a file of n bytes that are not all alike.
func chart(t testing.TB, n int) (path string, text []byte) {
	t.Helper()
	text = make([]byte, n)
	for i := range text {
		text[i] = byte(i * i >> 3)
	}
	path = filepath.Join(t.TempDir(), "chart.bin")
	if err := os.WriteFile(path, text, 0o644); err != nil {
		t.Fatal(err)
	}
	return path, text
}

func moving(way, from, to string, change func(*Settings)) *Settings {
	s := New().(*Settings)
	s.Way, s.From, s.To = way, from, to
	if to == "" {
		s.Socket = true
	}
	if change != nil {
		change(s)
	}
	return s
}

func whatArrives(text []byte) string {
	return fmt.Sprintf("%d bytes, sha256 %x\n", len(text), sha256.Sum256(text))
}

func TestConformance(t *testing.T) {
	const limit = 200 * time.Millisecond
	from, text := chart(t, 70_000)
	pipe := filepath.Join(t.TempDir(), "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(t.TempDir(), "copy.bin")
	conformance.Run(t, conformance.Subject{
		Kind: Kind,
		Good: moving(readWrite, from, to, nil), Body: whatArrives(text),
		Hangs: moving(readWrite, pipe, "", nil),
		Slow:  moving(readWrite, pipe, "", func(s *Settings) { s.Timeout = plan.Span(limit) }), Limit: limit,
		Failures: map[shots.Class]plan.Settings{
			shots.Other: moving(readWrite, filepath.Join(t.TempDir(), "none"), "", nil),
		},
		LeftBehind: workers,
	})
}

// workers counts processes that were started as workers or sinks of ours and are there.
func workers() int {
	out, _ := exec.Command("pgrep", "-P", fmt.Sprint(os.Getpid()), "-f", filepath.Base(os.Args[0])).Output()
	n := 0
	for pid := range strings.FieldsSeq(string(out)) {
		env, _ := os.ReadFile("/proc/" + pid + "/environ")
		if bytes.Contains(env, []byte(workerEnv+"=")) {
			n++
		}
	}
	return n
}

func shoot(t testing.TB, s *Settings, shot shots.Shot) shots.Shot {
	t.Helper()
	// What it wrote stays there to be looked at: all of this machine is its workspace.
	d, err := open(contender.Setup{Dir: "/", Workspace: "/", Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	c := d.Client(0, 1)
	defer c.Close()
	c.Shoot(t.Context(), &shot)
	return shot
}

// Every way moves every byte, whole, to a file and to a socket, in one part and in several, whatever the block.
func TestEveryWayMovesTheSame(t *testing.T) {
	for _, size := range []int{0, 1, 4096, 70_001, 1 << 20} {
		from, text := chart(t, size)
		for _, way := range ways {
			for _, socket := range []bool{false, true} {
				for _, atOnce := range []int{1, 3} {
					for _, block := range []plan.Bytes{5000, 64 << 10} {
						if way == copyRange && socket {
							continue
						}
						to := ""
						if !socket {
							to = filepath.Join(t.TempDir(), "copy.bin")
						}
						s := moving(way, from, to, func(s *Settings) { s.AtOnce, s.Block = atOnce, block })
						shot := shoot(t, s, shots.Shot{View: &shots.View{}})
						at := fmt.Sprintf("%d bytes, %s, %s", size, s.Summary(), shot.View.Outcome)
						if shot.Class != shots.OK || shot.Received != int64(size) || shot.Amounts[data] != int64(size) {
							t.Errorf("%s: %s %v, %d bytes", at, shot.Class, shot.Err, shot.Received)
							continue
						}
						if atOnce == 1 && string(shot.View.Body) != whatArrives(text) {
							t.Errorf("%s: %s; want %s", at, shot.View.Body, whatArrives(text))
						}
						if !socket {
							if got, err := os.ReadFile(to); err != nil || !bytes.Equal(got, text) {
								t.Errorf("%s: %d bytes were written, %v", at, len(got), err)
							}
						}
					}
				}
			}
		}
	}
}

// Past the kernel's memory, files of any length arrive whole, and what was written is on the disk when that is asked
// for.
func TestDirectAndSync(t *testing.T) {
	for _, size := range []int{4096, 70_001} {
		from, text := chart(t, size)
		to := filepath.Join(t.TempDir(), "copy.bin")
		s := moving(readWrite, from, to, func(s *Settings) { s.Direct, s.Sync = true, true })
		if faults := s.Check(plan.Surroundings{Dir: "/"}); len(faults) > 0 {
			t.Skipf("this file system cannot: %s", faults[0].What)
		}
		shot := shoot(t, s, shots.Shot{View: &shots.View{}})
		if got, err := os.ReadFile(to); shot.Class != shots.OK || err != nil || !bytes.Equal(got, text) {
			t.Errorf("%d bytes: %s %v, %d were written, %v", size, shot.Class, shot.Err, len(got), err)
		}
		if shot.Amounts[writes] == 0 {
			t.Errorf("%d bytes: nothing was written to a disk", size)
		}
	}
}

// What is counted is the worker's: its memory holds what it maps, and not what we hold.
func TestWhatIsCountedIsTheWorkers(t *testing.T) {
	const mib = 1 << 20
	ours := make([]byte, 96*mib)
	for i := 0; i < len(ours); i += 4096 {
		ours[i] = 1
	}
	from, _ := chart(t, 32*mib)
	to := filepath.Join(t.TempDir(), "copy.bin")
	plain := shoot(t, moving(sendFile, from, to, nil), shots.Shot{Measure: true})
	byMap := shoot(t, moving(mapped, from, to, nil), shots.Shot{Measure: true})
	if ours[4096] != 1 || plain.Amounts[memory] < mib || plain.Amounts[memory] > 96*mib {
		t.Errorf("sendfile holds %.1f MiB", float64(plain.Amounts[memory])/mib)
	}
	if extra := byMap.Amounts[memory] - plain.Amounts[memory]; extra < 48*mib || extra > 80*mib {
		t.Errorf("mapping 32 MiB twice holds %.1f MiB more", float64(extra)/mib)
	}
	for name, shot := range map[string]shots.Shot{"sendfile": plain, "map": byMap} {
		used, inside := shot.Amounts[cpu], shot.Amounts[kernel]
		if used <= 0 || inside < 0 || inside > used || time.Duration(used) > 4*shot.Latency()+10*time.Millisecond {
			t.Errorf(
				"%s: %s of CPU, %s of it in the kernel, within %s", name, time.Duration(used), time.Duration(inside),
				shot.Latency(),
			)
		}
	}
}

func TestCheckFindsWhatCannotBe(t *testing.T) {
	from, _ := chart(t, 10)
	dir := filepath.Dir(from)
	for want, s := range map[string]*Settings{
		"nothing says which file is moved":  moving(readWrite, "", "b", nil),
		"nothing says where it is moved to": moving(readWrite, from, "x", func(s *Settings) { s.To = "" }),
		"both to and socket are set":        moving(readWrite, from, "b", func(s *Settings) { s.Socket = true }),
		"copy-range goes from file to file": moving(copyRange, from, "", nil),
		"only read-write goes past":         moving(sendFile, from, "b", func(s *Settings) { s.Direct = true }),
		"direct moves multiples of 4096": moving(
			readWrite, from, "b", func(s *Settings) { s.Direct, s.Block = true, 1000 },
		),
		"sync is of what was written":  moving(readWrite, from, "", func(s *Settings) { s.Sync = true }),
		"0 bytes are no block":         moving(readWrite, from, "b", func(s *Settings) { s.Block = 0 }),
		"a limit of no time at all":    moving(readWrite, from, "b", func(s *Settings) { s.Timeout = 0 }),
		"is not a file":                moving(readWrite, dir, "b", nil),
		"it is the file that is moved": moving(readWrite, from, filepath.Join(dir, ".", "chart.bin"), nil),
		"is not a folder":              moving(readWrite, from, "none/b", nil),
	} {
		var all []string
		for _, f := range s.Check(plan.Surroundings{Dir: dir}) {
			all = append(all, f.What)
		}
		if !strings.Contains(strings.Join(all, "; "), want) {
			t.Errorf("%s: found %q; want %q", s.Summary(), all, want)
		}
	}
	if faults := moving(splice, "chart.bin", "b", nil).Check(plan.Surroundings{Dir: dir}); len(faults) > 0 {
		t.Errorf("good settings have faults: %+v", faults)
	}
}

// What two file systems cannot do is said when the driver is opened, before anything is timed.
func TestWhatCannotBeIsSaidBefore(t *testing.T) {
	from, _ := chart(t, 10)
	elsewhere, err := os.CreateTemp("/dev/shm", "paceduel-path-*")
	if err != nil {
		t.Skip("there is no second file system to copy from")
	}
	defer os.Remove(elsewhere.Name())
	elsewhere.WriteString("tide")
	elsewhere.Close()
	target := filepath.Join(filepath.Dir(from), "b")
	_, err = open(contender.Setup{Dir: "/", Clock: clock.Start()}, moving(copyRange, elsewhere.Name(), target, nil))
	if want := "try copy-range on one block"; err != nil && !strings.Contains(err.Error(), want) {
		t.Errorf("between two file systems: %v; want %q, or that this kernel can", err, want)
	}
	_, err = open(contender.Setup{Dir: "/", Clock: clock.Start()}, moving(readWrite, from, "/proc/none", nil))
	if err == nil || !strings.Contains(contender.HintOf(err), "name another target") {
		t.Errorf("into /proc: %v", err)
	}
}

// What stands at a target already is nobody's to overwrite; what a shot wrote does not stay behind. It is long since it
// follows one target through a run.
func TestTargetsAreNobodyElses(t *testing.T) {
	from, text := chart(t, 10_000)
	dir := filepath.Dir(from)
	target := filepath.Join(dir, "b")
	setup := contender.Setup{Dir: dir, PlanDir: dir, Clock: clock.Start()}
	theirs := func() {
		if err := os.WriteFile(target, []byte("theirs"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	keeps := func(when string) {
		t.Helper()
		if got, err := os.ReadFile(target); err != nil || string(got) != "theirs" {
			t.Errorf("%s: somebody's file has %d bytes, %v", when, len(got), err)
		}
	}
	theirs()
	if _, err := open(setup, moving(readWrite, from, target, nil)); err == nil ||
		!strings.Contains(err.Error(), "would be overwritten") || contender.HintOf(err) == "" {
		t.Errorf("a target that is there: %v", err)
	}
	keeps("as the driver is opened")
	os.Remove(target)
	os.Mkdir(target, 0o755)
	if _, err := open(setup, moving(readWrite, from, target, nil)); err == nil ||
		!strings.Contains(err.Error(), "no file") {
		t.Errorf("a folder as the target: %v", err)
	}
	os.Remove(target)

	d, err := open(setup, moving(readWrite, from, target, nil))
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	shot := func(c contender.Client) (s shots.Shot) {
		c.Shoot(t.Context(), &s)
		return s
	}
	c := d.Client(0, 1)
	for range 2 { // the second one replaces the first
		if s := shot(c); s.Class != shots.OK {
			t.Fatalf("a shot: %v %v", s.Class, s.Err)
		}
	}
	if got, _ := os.ReadFile(target); string(got) != string(text) {
		t.Error("the target is not what was moved")
	}
	os.Remove(target)
	theirs()
	if s := shot(c); s.Class == shots.OK || !strings.Contains(fmt.Sprint(s.Err), "somebody else") {
		t.Errorf("a shot on somebody's file: %v %v", s.Class, s.Err)
	}
	keeps("between two shots")
	os.Remove(target)
	if s := shot(c); s.Class != shots.OK {
		t.Errorf("a shot after that: %v %v", s.Class, s.Err)
	}
	c.Close()
	if _, err := os.Lstat(target); err == nil {
		t.Error("what was written is left behind")
	}
	c = d.Client(0, 1)
	theirs()
	if s := shot(c); s.Class != shots.NoStart {
		t.Errorf("a client whose target is there: %v %v", s.Class, s.Err)
	}
	c.Close()
	keeps("as a client ends that wrote nothing")

	setup.Workspace = dir
	if d, err = open(setup, moving(readWrite, from, target, nil)); err != nil {
		t.Fatalf("in a workspace: %v", err)
	}
	c = d.Client(0, 1)
	if s := shot(c); s.Class != shots.OK {
		t.Errorf("in a workspace: %v %v", s.Class, s.Err)
	}
	c.Close()
	if got, _ := os.ReadFile(target); string(got) != string(text) {
		t.Error("in a workspace what was written is not there to be looked at")
	}
}

// Bytes and system calls are those that the kernel counts itself, to the last one.
func TestCountsAreTheKernels(t *testing.T) {
	const size, block = 70_001, 4096
	from, _ := chart(t, size)
	for _, way := range []string{readWrite, copyRange, sendFile} { // it does not count what is spliced or mapped
		to := filepath.Join(t.TempDir(), "copy.bin")
		d, err := open(contender.Setup{
			Dir: "/", Clock: clock.Start(),
		}, moving(way, from, to, func(s *Settings) { s.Block = block }))
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1).(*client)
		counted := func() (bytes, calls int64) {
			text, err := os.ReadFile(fmt.Sprintf("/proc/%d/io", c.worker.cmd.Process.Pid))
			if err != nil {
				t.Skip("this kernel does not count what a process reads and writes")
			}
			var of [7]int64
			for i, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
				_, n, _ := strings.Cut(line, ": ")
				fmt.Sscan(n, &of[i])
			}
			return of[1], of[2] + of[3] // written; reads and writes
		}
		var first, shot shots.Shot
		c.Shoot(t.Context(), &first)
		bytesBefore, callsBefore := counted()
		c.Shoot(t.Context(), &shot)
		bytesAfter, callsAfter := counted()
		c.Close()
		const told = 2                         // the order read, the report written
		const around = 5                       // both files opened and closed, and one looked at
		moving := shot.Amounts[calls] - around // each of them reads and writes
		if way != readWrite {
			moving *= 2
		}
		if got := callsAfter - callsBefore - told; got != moving {
			t.Errorf("%s: %d calls that move; the kernel counts %d", way, moving, got)
		}
		const longest = 512 // of a report
		if wrote := bytesAfter - bytesBefore; wrote < shot.Received || wrote > shot.Received+longest ||
			shot.Received != size {
			t.Errorf("%s: %d bytes; the kernel counts %d", way, shot.Received, wrote)
		}
	}
}
