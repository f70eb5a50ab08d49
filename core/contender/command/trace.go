package command

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"

	"paceduel/core/keeper"
	"paceduel/core/meter"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

// traced runs a process under ptrace and learns the peak memory of its whole tree: each process is stopped for a moment
// just before it ends, while the kernel still knows the most that it ever held. That is exact for one process, also for
// one that we are much larger than, and for a tree it is the largest of, at each end, the peak of the one that ends and
// what the others hold then. Children made by a thread that is not its process's first are only known to the kernel's
// own count, from our size upwards. It costs a run some microseconds for each process, so that it is done for runs that
// are not judged.
//
// ok is false when tracing is not allowed here; nothing was run then. It is called from where the contender's processes
// are created (launch.Place.Do).
func (c *client) traced(ctx context.Context, attr *syscall.ProcAttr, shot *shots.Shot) (e ending, ok bool) {
	// The tracer is a thread, and only it may wait for what it traces.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	attr.Sys.Ptrace = true
	own := meter.Highest(os.Getpid())
	leader, err := c.start(c.d.place.Inside(), attr, shot)
	if err != nil {
		attr.Sys.Ptrace = false
		return ending{}, false
	}
	t := newTracer(leader)
	t.now = func() time.Duration { return c.d.clock.Now() - shot.Start }
	t.begins(leader, "command") // one name for all, so that what they start can be compared
	var mu sync.Mutex
	killed, gone := false, false
	kill := func() {
		mu.Lock()
		defer mu.Unlock()
		if !gone {
			killed = true
			syscall.Kill(-leader, syscall.SIGKILL)
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
		syscall.Kill(-leader, syscall.SIGKILL) // what it left running
	}
	t.run()
	c.seat.Clear()
	// What the kernel kept of all that were waited for counts where it cannot be our own size at the start.
	if kept := t.usage.Maxrss << 10; kept > own+own/4 && kept > t.peak+t.grain+meter.MarkGrain() {
		t.peak, t.grain = kept, meter.MarkGrain()
	}
	if !killed {
		shot.LeftBehind = t.left
	}
	shot.Count(memory, t.peak)
	shot.Grain = t.grain
	shot.Inside = t.processes(shot.End - shot.Start)
	return ending{killed: killed, status: t.status, usage: t.usage}, true
}

// elevated reports whether a program has rights that whoever starts it may lack: the kernel withholds them from traced
// ones, so that it would not do the same.
func elevated(program string) bool {
	info, err := os.Stat(program)
	if err != nil {
		return false
	}
	rights, err := unix.Getxattr(program, "security.capability", nil)
	return info.Mode()&(os.ModeSetuid|os.ModeSetgid) != 0 || err == nil && rights > 0
}

// tracer follows one process and all that it starts.
type tracer struct {
	leader int
	living map[int]bool // processes; whether its first stop was seen
	// forked processes that have not become another program: they share pages with where they come from
	copies  map[int]bool
	borrows map[int]bool // the same of those that have no memory but their parent's, until then
	others  map[int]bool // those that have become another program
	peak    int64
	grain   int64 // by how much it may be off
	left    int   // processes that outlived the leader
	status  syscall.WaitStatus
	usage   syscall.Rusage // of the leader and the children it waited for
	onExit  func()         // called once, when the leader has ended

	now   func() time.Duration // since the run's start
	spans []spans.Span         // processes, as they began
	at    map[int]int          // the span of a process
}

func newTracer(leader int) *tracer {
	return &tracer{
		leader: leader, living: map[int]bool{}, copies: map[int]bool{}, borrows: map[int]bool{}, others: map[int]bool{},
		at: map[int]int{}, now: func() time.Duration { return 0 },
	}
}

// fork is what a process is called that has not become another program than the one it comes from.
const fork = "fork"

// mostProcesses bounds those that are shown of a run.
const mostProcesses = 5_000

// begins takes down that a process is there, which is called so until it becomes another program.
func (t *tracer) begins(pid int, name string) {
	if _, known := t.at[pid]; known || len(t.spans) >= mostProcesses {
		return
	}
	t.at[pid] = len(t.spans)
	sp := spans.Span{Name: name, Begin: t.now(), End: -1, Parent: spans.None}
	if len(t.spans) == 0 {
		sp.Begin = 0 // it counts from its making
	} else {
		sp.Parent = 0 // until its parent tells
	}
	t.spans = append(t.spans, sp)
}

// becomes takes down that a process runs another program now.
func (t *tracer) becomes(pid int) {
	at, known := t.at[pid]
	if path, err := os.Readlink("/proc/" + strconv.Itoa(pid) + "/exe"); err == nil && known {
		t.spans[at].Name = strings.TrimSuffix(filepath.Base(path), " (deleted)")
	}
}

// descends takes down who made a process.
func (t *tracer) descends(child, parent int) {
	from, known := t.at[parent]
	if !known {
		return
	}
	t.begins(child, fork)
	if at, ok := t.at[child]; ok && from < at {
		t.spans[at].Parent = from
	}
}

// ends takes down that a process is about to end, or has.
func (t *tracer) ends(pid int) {
	if at, known := t.at[pid]; known && t.spans[at].End < 0 {
		t.spans[at].End = t.now()
	}
}

// spent takes down what CPU time a process that has ended used, with the children that it waited for.
func (t *tracer) spent(pid int, usage *syscall.Rusage) {
	if at, known := t.at[pid]; known {
		t.spans[at].CPU = time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
		delete(t.at, pid) // its number may be another's now
	}
}

// processes are those of the run, which took so long.
func (t *tracer) processes(took time.Duration) []spans.Span {
	for i := range t.spans {
		if t.spans[i].End < 0 {
			t.spans[i].End = took
		}
	}
	return t.spans
}

// Threads are not followed: to stop each of a program with many would take longer than the program. Children that other
// threads than a process's first one make are not seen for that; see traced.
const traceOptions = unix.PTRACE_O_TRACEFORK | unix.PTRACE_O_TRACEVFORK |
	unix.PTRACE_O_TRACEEXIT | unix.PTRACE_O_EXITKILL

// pollEvery is how often processes are looked at that cannot all be waited for at once.
const pollEvery = 100 * time.Microsecond

// run goes on until nothing of the tree is left. It waits for the leader's process group, to which nobody else in this
// program has children, and by number for processes that left the group. A child whose making was cut short by the end
// of its parent is heard of in no other way than by the group, or when it has fallen to us.
func (t *tracer) run() {
	t.living[t.leader] = false
	for len(t.living) > 0 || t.find() {
		if t.wait(-t.leader, len(t.living) == 1) {
			continue
		}
		heard := false
		for _, pid := range slices.Collect(maps.Keys(t.living)) {
			heard = t.wait(pid, false) || heard
		}
		if !heard {
			time.Sleep(pollEvery)
		}
	}
}

// find ends those that are traced and were never heard of. The kernel stops them at their birth and at their end until
// the tracer lets them go on, so that nobody else can end them.
func (t *tracer) find() bool {
	tracer := unix.Gettid()
	for _, pid := range keeper.Adopted() {
		if tracerOf(pid) == tracer {
			t.living[pid] = false
			t.left++
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	return len(t.living) > 0
}

// wait hears of one process: that of the number, or one of the group of a negative one. block says to wait for
// it, as far as there is any.
func (t *tracer) wait(which int, block bool) (heard bool) {
	options := unix.WALL
	if !block {
		options |= unix.WNOHANG
	}
	var status syscall.WaitStatus
	var usage syscall.Rusage
	pid, err := syscall.Wait4(which, &status, options, &usage)
	switch {
	case err == syscall.EINTR:
		return true
	case err != nil && which > 0:
		delete(t.living, which) // it is gone
	case err == nil && pid > 0:
		t.hear(pid, status, usage)
		return true
	}
	return false
}

// hear deals with what became of one process.
func (t *tracer) hear(pid int, status syscall.WaitStatus, usage syscall.Rusage) {
	if status.Exited() || status.Signaled() {
		t.ends(pid)
		t.spent(pid, &usage)
		delete(t.living, pid)
		delete(t.copies, pid)
		delete(t.borrows, pid)
		delete(t.others, pid)
		if pid == t.leader {
			t.status, t.usage = status, usage
			t.onExit()
			t.left = len(t.living)
			for left := range t.living { // also what went into a session of its own
				syscall.Kill(left, syscall.SIGKILL)
			}
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
		t.begins(pid, fork)
		if pid == t.leader {
			unix.PtraceSetOptions(pid, traceOptions)
		}
	case stopped == syscall.SIGTRAP && status.TrapCause() == unix.PTRACE_EVENT_EXIT:
		t.ends(pid)
		t.weigh(pid)
	case stopped == syscall.SIGTRAP && status.TrapCause() > 0:
		if child, err := unix.PtraceGetEventMsg(pid); err == nil { // a fork: its number
			t.bears(int(child), status.TrapCause() == unix.PTRACE_EVENT_VFORK)
			t.descends(int(child), pid)
		}
	case stopped == syscall.SIGTRAP:
		// The start of another program, in memory of its own.
		delete(t.copies, pid)
		delete(t.borrows, pid)
		t.others[pid] = true
		t.becomes(pid)
	default:
		signal = int(stopped)
	}
	unix.PtraceCont(pid, signal)
}

// bears takes in a child of which its parent tells; it may have been heard of before, and have become another program.
func (t *tracer) bears(child int, borrowing bool) {
	if _, known := t.living[child]; !known {
		t.living[child] = false
	}
	switch {
	case t.others[child]:
	case borrowing:
		t.borrows[child] = true
	default:
		t.copies[child] = true
	}
}

// weigh looks at the tree while pid is about to end. What others hold then is added, each page that a process shares
// with the one that it was forked from being counted there alone.
func (t *tracer) weigh(pid int) {
	if t.borrows[pid] {
		return // it has no memory of its own yet
	}
	total, grain := peakOf(pid)
	if t.copies[pid] && total > 0 {
		held := pagesOf(pid)
		total -= max(int64(held.Rss)-ownPages(held), 0)
	}
	for other := range t.living {
		switch {
		case other == pid || t.borrows[other]:
		case t.copies[other]:
			total += ownPages(pagesOf(other))
		default:
			total += int64(pagesOf(other).Rss)
		}
	}
	if total > t.peak {
		t.peak, t.grain = total, grain
	}
}

// peakOf is the most that a process held, while it still holds what it has at its end. What it holds then is counted
// page by page; of what it gave back before the kernel keeps but a mark, whose counters lag behind by so many pages on
// each processor.
func peakOf(pid int) (most, grain int64) {
	var status procfs.ProcStatus
	if p, err := procfs.NewProc(pid); err == nil {
		status, _ = p.NewStatus() // zero where it is gone
	}
	mark, now := int64(status.VmHWM), int64(status.VmRSS)
	exact := int64(pagesOf(pid).Rss)
	if exact == 0 { // an older kernel
		return mark, meter.MarkGrain()
	}
	if mark <= now || mark <= exact {
		return exact, 0
	}
	return max(mark, exact), meter.MarkGrain()
}

// ownPages are the bytes of a process that nobody else has in memory.
func ownPages(held procfs.ProcSMapsRollup) int64 { return int64(held.PrivateClean + held.PrivateDirty) }

// pagesOf counts what a process holds page by page; zero where it is gone.
func pagesOf(pid int) (held procfs.ProcSMapsRollup) {
	if p, err := procfs.NewProc(pid); err == nil {
		held, _ = p.ProcSMapsRollup()
	}
	return held
}

// tracerOf is the thread that traces a process; 0 without one.
func tracerOf(pid int) int {
	text, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), "\nTracerPid:")
	line, _, _ := strings.Cut(rest, "\n")
	tracer, _ := strconv.Atoi(strings.TrimSpace(line))
	return tracer
}
