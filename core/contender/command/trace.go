package command

import (
	"bufio"
	"context"
	"maps"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/contender"
)

// traced runs a process under ptrace and learns the peak memory of its whole tree: each process is stopped for a moment
// just before it ends, while the kernel still knows the most that it ever held. That is exact for one process, also for one
// that we are much larger than, and for a tree it is the largest of, at each end, the peak of the one that ends and what
// the others hold then. It costs a run some microseconds for each process, so that it is done for runs that are not
// judged.
//
// ok is false when tracing is not allowed here; nothing was run then.
func (c *client) traced(ctx context.Context, attr *os.ProcAttr, shot *contender.Shot) (e ending, ok bool) {
	// The tracer is a thread, and only it may wait for what it traces.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	attr.Sys.Ptrace = true
	p, err := c.start(attr, shot)
	if err != nil {
		attr.Sys.Ptrace = false
		return ending{}, false
	}
	c.seat.Hold(p.Pid)
	t := tracer{leader: p.Pid, living: map[int]bool{}}
	var mu sync.Mutex
	killed, gone := false, false
	kill := func() {
		mu.Lock()
		defer mu.Unlock()
		if !gone {
			killed = true
			syscall.Kill(-p.Pid, syscall.SIGKILL)
		}
	}
	limit := time.AfterFunc(c.d.settings.Timeout.D(), kill)
	stop := context.AfterFunc(ctx, kill)
	t.onExit = func() {
		shot.End = c.d.clock.Now()
		limit.Stop()
		stop()
		mu.Lock()
		gone = true
		mu.Unlock()
		syscall.Kill(-p.Pid, syscall.SIGKILL) // what it left running
	}
	t.run()
	c.seat.Clear()
	p.Release()
	shot.Peak, shot.CPU = t.peak, time.Duration(t.usage.Utime.Nano()+t.usage.Stime.Nano())
	return ending{traced: true, killed: killed, status: t.status, usage: t.usage}, true
}

// tracer follows one process and all that it starts.
type tracer struct {
	leader int
	living map[int]bool // by thread; whether its first stop was seen
	peak   int64
	status syscall.WaitStatus
	usage  syscall.Rusage // of the leader and the children it waited for
	onExit func()         // called once, when the leader has ended
}

const traceOptions = unix.PTRACE_O_TRACEFORK | unix.PTRACE_O_TRACEVFORK | unix.PTRACE_O_TRACECLONE | unix.PTRACE_O_TRACEEXIT | unix.PTRACE_O_EXITKILL

// pollEvery is how often several processes are looked at; one alone is waited for.
const pollEvery = 100 * time.Microsecond

// run goes on until nothing of the tree is left. Processes are waited for one by one, by number: whoever else in this
// program waits for children of its own is not to be deprived of them.
func (t *tracer) run() {
	t.living[t.leader] = false
	for len(t.living) > 0 {
		options, heard := unix.WALL|unix.WNOHANG, false
		if len(t.living) == 1 {
			options = unix.WALL
		}
		for _, pid := range slices.Collect(maps.Keys(t.living)) {
			var status syscall.WaitStatus
			var usage syscall.Rusage
			got, err := syscall.Wait4(pid, &status, options, &usage)
			switch {
			case err == syscall.EINTR:
			case err != nil:
				delete(t.living, pid) // a thread that went with its process
			case got == pid:
				heard = true
				t.hear(pid, status, usage)
			}
		}
		if !heard {
			time.Sleep(pollEvery)
		}
	}
}

// hear deals with what became of one process or thread.
func (t *tracer) hear(pid int, status syscall.WaitStatus, usage syscall.Rusage) {
	if status.Exited() || status.Signaled() {
		delete(t.living, pid)
		if pid == t.leader {
			t.status, t.usage = status, usage
			t.onExit()
		}
		return
	}
	if !status.Stopped() {
		return
	}
	signal := 0
	switch stopped := status.StopSignal(); {
	case !t.living[pid]:
		// The first stop, at the program's start or at that of a child: from here on it is followed.
		t.living[pid] = true
		if pid == t.leader {
			unix.PtraceSetOptions(pid, traceOptions)
		}
	case stopped == syscall.SIGTRAP && status.TrapCause() == unix.PTRACE_EVENT_EXIT:
		t.weigh(pid)
	case stopped == syscall.SIGTRAP && status.TrapCause() > 0:
		if child, err := unix.PtraceGetEventMsg(pid); err == nil { // a fork or a thread: its number
			if _, known := t.living[int(child)]; !known {
				t.living[int(child)] = false
			}
		}
	case stopped == syscall.SIGTRAP:
		// The start of another program.
	default:
		signal = int(stopped)
	}
	unix.PtraceCont(pid, signal)
}

// weigh looks at the tree while pid is about to end.
func (t *tracer) weigh(pid int) {
	own, group := memoryOf(pid, "VmHWM:")
	total := own
	for other := range t.living {
		if other == pid || other == group {
			continue
		}
		if held, leader := memoryOf(other, "VmRSS:"); leader == other && leader != group { // threads share one memory
			total += held
		}
	}
	t.peak = max(t.peak, total)
}

// memoryOf reads a line of a process's status in bytes, and its thread group; 0 where it is gone.
func memoryOf(pid int, field string) (bytes int64, group int) {
	f, err := os.Open("/proc/" + strconv.Itoa(pid) + "/status")
	if err != nil {
		return 0, 0
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		words := strings.Fields(lines.Text())
		if len(words) < 2 {
			continue
		}
		switch words[0] {
		case "Tgid:":
			group, _ = strconv.Atoi(words[1])
		case field:
			kib, _ := strconv.ParseInt(words[1], 10, 64)
			return kib << 10, group
		}
	}
	return 0, group
}
