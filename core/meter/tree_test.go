package meter_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/keeper"
	"paceduel/core/meter"
)

// holdEnv has this test's binary be a process that holds so many MiB until its input ends, with so many children like
// it.
const holdEnv = "METER_TEST_HOLD"

func TestMain(m *testing.M) {
	keeper.Run()
	if text, ok := os.LookupEnv(holdEnv); ok {
		hold(text)
		return
	}
	os.Exit(m.Run())
}

func hold(text string) {
	size, children, _ := strings.Cut(text, ",")
	n, _ := strconv.Atoi(size)
	held := []byte{0}
	if n > 0 { // from the kernel: what the race detector adds to Go's own memory is not to be seen
		var err error
		if held, err = syscall.Mmap(
			-1, 0, n<<20, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_PRIVATE|syscall.MAP_ANON,
		); err != nil {
			fmt.Println(err)
			return
		}
	}
	for i := 0; i < len(held); i += 4096 {
		held[i] = 1
	}
	if k, _ := strconv.Atoi(children); k > 0 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), fmt.Sprintf("%s=%d,%d", holdEnv, n, k-1))
		in, _ := cmd.StdinPipe()
		out, _ := cmd.StdoutPipe()
		if cmd.Start() == nil {
			defer cmd.Wait()
			defer in.Close()
			bufio.NewReader(out).ReadString('\n')
		}
	}
	fmt.Println("held")
	text, _ = bufio.NewReader(os.Stdin).ReadString('\n')
	if strings.HasPrefix(text, "work") { // for so long, then wait for the end
		for began := time.Now(); time.Since(began) < 300*time.Millisecond; {
			held[0]++
		}
		fmt.Println("worked")
		io.Copy(io.Discard, os.Stdin)
	}
	_ = held[0]
}

// holder is such a process.
type holder struct {
	pid int
	in  io.Writer
	out *bufio.Reader
}

func holding(t *testing.T, mib, children int) *holder {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), fmt.Sprintf("%s=%d,%d", holdEnv, mib, children))
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		in.Close()
		cmd.Wait()
	})
	h := &holder{cmd.Process.Pid, in, bufio.NewReader(out)}
	if line, err := h.out.ReadString('\n'); err != nil || line != "held\n" {
		t.Fatalf("the process says %q, %v", line, err)
	}
	return h
}

// What is known to be held is seen, within 5 %; everybody is counted once, and so are the files of one program.
func TestATreeHoldsWhatItsProcessesDo(t *testing.T) {
	bare := meter.NewTree(holding(t, 0, 0).pid).Held()
	if bare.Processes != 1 || bare.Threads < 1 || bare.Resident < 1<<20 {
		t.Fatalf("a bare process holds %+v", bare)
	}
	for _, children := range []int{0, 1, 3} {
		tree := meter.NewTree(holding(t, 64, children).pid)
		held := tree.Held()
		own := int64(children+1) * 64 << 20
		least, most := own+bare.Resident, own+int64(children+1)*bare.Resident // of a bare one the files are shared
		if held.Processes != int64(children+1) || float64(held.Resident) < 0.95*float64(least) ||
			float64(held.Resident) > 1.05*float64(most) || children == 3 && held.Resident > most-bare.Resident/2 {
			t.Errorf("with %d children: %+v; want %d to %d bytes", children, held, least, most)
		}
		if shared := tree.Proportional(); shared > held.Resident || shared < int64(children+1)*64<<20 {
			t.Errorf("with %d children: %d bytes in proportion, %d resident", children, shared, held.Resident)
		}
	}
	if gone := meter.NewTree(1 << 29); gone.Held() != (meter.Held{}) || gone.CPU() != 0 || gone.Proportional() != 0 {
		t.Error("a process that is none holds something")
	}
}

func TestAWatchSeesWorkAndPeak(t *testing.T) {
	h := holding(t, 32, 0)
	w := meter.StartWatch(h.pid, 50*time.Millisecond, nil)
	w.Mark()
	fmt.Fprintln(h.in, "work")
	if line, err := h.out.ReadString('\n'); err != nil || line != "worked\n" {
		t.Fatalf("%q, %v", line, err)
	}
	seen := w.Stop()
	// a busy machine may give it less than all of its 300 ms
	if seen.CPU < 50*time.Millisecond || seen.CPU > 2*time.Second {
		t.Errorf("it worked for %s", seen.CPU)
	}
	if len(seen.Moments) < 2 || !seen.Exact || seen.Peak < 32<<20 || seen.Peak > 64<<20 || seen.Proportional < 32<<20 {
		t.Errorf(
			"%d moments, peak %d (exact %v), %d in proportion", len(seen.Moments), seen.Peak, seen.Exact, seen.Proportional,
		)
	}
	for i := 1; i < len(seen.Moments); i++ {
		if seen.Moments[i].At <= seen.Moments[i-1].At {
			t.Errorf("moment %d at %s comes after one at %s", i, seen.Moments[i].At, seen.Moments[i-1].At)
		}
	}
}

// What a process that is there has used is known better than to the tick: between two readings of its own clock.
func TestTimeIsExactWhileAProcessIsThere(t *testing.T) {
	var before, after unix.Timespec
	unix.ClockGettime(unix.CLOCK_PROCESS_CPUTIME_ID, &before)
	// Those that earlier tests have left may end meanwhile.
	children := func() time.Duration {
		var ended unix.Rusage
		if err := unix.Getrusage(unix.RUSAGE_CHILDREN, &ended); err != nil {
			t.Fatal(err)
		}
		return time.Duration(ended.Utime.Nano() + ended.Stime.Nano())
	}
	first := children()
	tree := meter.NewTree(os.Getpid())
	own := tree.CPU()
	unix.ClockGettime(unix.CLOCK_PROCESS_CPUTIME_ID, &after)
	last := children()
	// User and system time of those that have ended are cut to a tick each, and split anew whenever they are asked for.
	const ticks = 40 * time.Millisecond
	if own < time.Duration(before.Nano())+first-ticks || own > time.Duration(after.Nano())+last+ticks {
		t.Errorf(
			"used %s; its own clock went from %s to %s, its children used %s to %s", own, time.Duration(before.Nano()),
			time.Duration(after.Nano()), first, last,
		)
	}
	if own%(10*time.Millisecond) == 0 {
		t.Errorf("%s is a number of ticks", own)
	}
}

// Twenty looks a second have to cost less than half a per cent of a processor: 250 us each.
func BenchmarkLook(b *testing.B) {
	tree := meter.NewTree(os.Getpid())
	for b.Loop() {
		tree.Held()
	}
}

// Ports that can be asked from this machine are listed with whose they are, and no others.
func TestListeningPortsAreListed(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	find := func() (meter.Served, bool) {
		for _, s := range meter.Listening() {
			if s.Port == port {
				return s, true
			}
		}
		return meter.Served{}, false
	}
	if s, ok := find(); !ok || s.Program == "" {
		t.Errorf("port %d is listed as %+v, %v", port, s, ok)
	}
	l.Close()
	if s, ok := find(); ok {
		t.Errorf("a port that was closed is listed as %+v", s)
	}
}

// A process that came after the watch began, as a database's for a new connection, is counted in a short heat, too.
func TestProcessesThatComeLater(t *testing.T) {
	const late = `read x; (i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done; echo done; read y) <&3 & wait`
	cmd := exec.Command("/bin/sh", "-c", "exec 3<&0; "+late)
	in, _ := cmd.StdinPipe()
	out, _ := cmd.StdoutPipe()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer cmd.Wait()
	defer in.Close()
	w := meter.StartWatch(cmd.Process.Pid, time.Hour, nil)
	w.Mark()
	io.WriteString(in, "begin\n")
	if line, err := bufio.NewReader(out).ReadString('\n'); err != nil || line != "done\n" {
		t.Fatalf("%q, %v", line, err)
	}
	w.Pass()
	if seen := w.Stop(); seen.CPU < 20*time.Millisecond || seen.Whole < seen.CPU {
		t.Errorf("%s of CPU since the mark, %s in all", seen.CPU, seen.Whole)
	}
}
