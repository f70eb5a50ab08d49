package meter

import (
	"bytes"
	"fmt"
	"iter"
	"maps"
	"os"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"
)

// Tree is a process with all its descendants, whose memory and CPU time are read from /proc. Its methods are not safe
// for use by several goroutines at once.
type Tree struct {
	root     int
	pids     []int
	read     []byte
	programs map[int]string    // of processes, as far as they were asked for since they were looked for
	shared   map[string]mapped // by program, while it is added up
}

// NewTree looks at the tree below a process.
func NewTree(pid int) *Tree {
	t := &Tree{root: pid, read: make([]byte, 8<<10), programs: map[int]string{}, shared: map[string]mapped{}}
	t.Find()
	return t
}

// Find looks for descendants anew: they come and go, and looking for them costs more than looking at them.
func (t *Tree) Find() {
	t.pids = append(t.pids[:0], t.root)
	clear(t.programs)                  // who has begun another since, and who has gone
	for i := 0; i < len(t.pids); i++ { // grows on the way
		dir := "/proc/" + strconv.Itoa(t.pids[i]) + "/task/"
		threads, err := os.ReadDir(dir)
		if err != nil {
			continue // it has ended
		}
		for _, thread := range threads {
			for _, word := range bytes.Fields(t.file(dir + thread.Name() + "/children")) {
				if pid, err := strconv.Atoi(string(word)); err == nil {
					t.pids = append(t.pids, pid)
				}
			}
		}
	}
}

// Has reports whether a process was in the tree when it was last looked for.
func (t *Tree) Has(pid int) bool { return slices.Contains(t.pids, pid) }

// file reads a small file of /proc; what it returns is valid until the next call. Empty when it cannot be read.
func (t *Tree) file(path string) []byte {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	n, err := f.Read(t.read)
	if err != nil {
		return nil
	}
	return t.read[:n]
}

// Held is what a tree holds at a moment.
type Held struct {
	// Resident is bytes of memory. Files and shared memory are counted once for the processes of one program, which map
	// the same; what those of a fork still share besides is counted for each.
	Resident  int64
	Swapped   int64 // bytes
	Threads   int64
	Processes int64
	// What it has used so far: CPU time as CPU says, and bytes that it asked to be read and written, wherever from; 0
	// where that is not told.
	CPU           time.Duration
	Read, Written int64
}

// Held reads what the tree holds, of the processes that were there when it was last looked for.
func (t *Tree) Held() (h Held) {
	clear(t.shared)
	for p := range t.processes() {
		status, err := p.NewStatus()
		if err != nil {
			continue
		}
		h.Processes++
		h.Resident += t.counted(p.PID, &status)
		h.Swapped += int64(status.VmSwap)
		if stat, err := p.Stat(); err == nil {
			h.Threads += int64(stat.NumThreads)
			h.CPU += cpuOf(p, &stat)
		}
		if io, err := p.IO(); err == nil {
			h.Read, h.Written = h.Read+int64(io.RChar), h.Written+int64(io.WChar)
		}
	}
	return h
}

// after is what a tree holds that was looked at before. What it has used so far does not become less, though it reads
// so where a process has ended: its parent tells its CPU time in hundredths of a second, without the rest of them.
func (h Held) after(before Held) Held {
	h.CPU = max(h.CPU, before.CPU)
	h.Read, h.Written = max(h.Read, before.Read), max(h.Written, before.Written)
	return h
}

// counted is how much more memory the tree is known to hold by one more of its processes.
func (t *Tree) counted(pid int, status *procfs.ProcStatus) int64 {
	if len(t.pids) == 1 || status.RssAnon == 0 { // nobody to share with, or a kernel that does not tell them apart
		return int64(status.VmRSS)
	}
	program, ok := t.programs[pid]
	if !ok {
		program, _ = os.Readlink("/proc/" + strconv.Itoa(pid) + "/exe") // those that may not be read count as one
		t.programs[pid] = program
	}
	before := t.shared[program]
	now := mapped{max(before.files, int64(status.RssFile)), max(before.memory, int64(status.RssShmem))}
	t.shared[program] = now
	return int64(status.RssAnon) + now.files - before.files + now.memory - before.memory
}

// mapped is the most of files and of shared memory that a process of a program maps.
type mapped struct{ files, memory int64 }

// processes are those of the tree that were there when it was last looked for, and still are.
func (t *Tree) processes() iter.Seq[procfs.Proc] {
	return func(yield func(procfs.Proc) bool) {
		for _, pid := range t.pids {
			if p, err := procfs.NewProc(pid); err == nil && !yield(p) {
				return
			}
		}
	}
}

// Proportional is the memory of the tree in bytes, what processes share being divided among them; 0 where it is not
// told. Reading it walks through all pages: it is for moments at which nothing is timed.
func (t *Tree) Proportional() (n int64) {
	for p := range t.processes() {
		if rollup, err := p.ProcSMapsRollup(); err == nil {
			n += int64(rollup.Pss)
		}
	}
	return n
}

// ticks is how many clock ticks /proc counts a second of CPU time as, on every Linux.
const ticks = 100

// CPU is the CPU time, user and system, that the tree has used, with that of its members' children that have ended. Of
// those that have ended it comes in hundredths of a second, else to the nanosecond.
func (t *Tree) CPU() (sum time.Duration) {
	for p := range t.processes() {
		if stat, err := p.Stat(); err == nil {
			sum += cpuOf(p, &stat)
		}
	}
	return sum
}

// cpuOf is the CPU time of a process, with that of its children that have ended.
func cpuOf(p procfs.Proc, stat *procfs.ProcStat) time.Duration {
	of := stat.CUTime + stat.CSTime
	own, exact := processTime(p.PID)
	if !exact {
		of += int(stat.UTime + stat.STime)
	}
	return own + time.Duration(of)*(time.Second/ticks)
}

// processTime is the CPU time that a process has used, its ended threads included; ok is false where the kernel does
// not say.
func processTime(pid int) (used time.Duration, ok bool) {
	const scheduled = 2 // the clock of what a process was given, see clock_getcpuclockid(3)
	var at unix.Timespec
	if unix.ClockGettime(int32(^uint32(pid)<<3|scheduled), &at) != nil {
		return 0, false
	}
	return time.Duration(at.Nano()), true
}

// ResetPeaks has the kernel forget the highest resident memory of each process so far. Where that is not allowed peaks
// go on being those of the processes' whole lives.
func (t *Tree) ResetPeaks() {
	for _, pid := range t.pids {
		os.WriteFile("/proc/"+strconv.Itoa(pid)+"/clear_refs", []byte("5"), 0) // what cannot be reset only reads too high
	}
}

// Peak is the highest resident memory that the kernel saw of the tree's one process; 0 when it has several, whose peaks
// need not have come at the same time.
func (t *Tree) Peak() int64 {
	if len(t.pids) != 1 {
		return 0
	}
	return Highest(t.root)
}

// Highest is the highest resident memory that the kernel saw of a process, in bytes; 0 where it does not tell.
func Highest(pid int) int64 {
	p, err := procfs.NewProc(pid)
	if err != nil {
		return 0
	}
	status, err := p.NewStatus()
	if err != nil {
		return 0
	}
	return int64(status.VmHWM)
}

// MarkGrain is how coarse the kernel's mark of the most memory that a process held is, in bytes: it counts pages of
// files and of memory without files apart, and each processor up to 32 of them, or twice as many as there are
// processors, before it hands them on.
var MarkGrain = sync.OnceValue(func() int64 {
	const counters = 2
	processors := int64(runtime.NumCPU())
	return counters * processors * max(32, 2*processors) * int64(os.Getpagesize())
})

// Moment is what a tree held at a time since its watch began.
type Moment struct {
	At time.Duration
	Held
}

// Watch looks at a tree again and again until it is stopped. Its methods may be called from anywhere.
type Watch struct {
	mu     sync.Mutex
	tree   *Tree
	begun  time.Time
	first  time.Duration // CPU time used when it began
	cpu    time.Duration // when it was marked
	stop   chan struct{}
	done   sync.WaitGroup
	seen   []Moment
	took   time.Duration
	passed *passed
	exact  func() time.Duration // says how much CPU time was used, better than the tree; nil where nobody does
}

// findEvery is how often a watch looks for new processes.
const findEvery = time.Second

// StartWatch begins to watch the tree below a process: what it holds is looked at so often. Its CPU time is read from
// cpu where that is not nil.
func StartWatch(pid int, every time.Duration, cpu func() time.Duration) *Watch {
	w := &Watch{tree: NewTree(pid), begun: time.Now(), stop: make(chan struct{}), exact: cpu}
	w.first = w.used()
	w.cpu = w.first
	w.look()
	w.done.Go(func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		found := w.begun
		for {
			select {
			case <-w.stop:
				return
			case now := <-tick.C:
				if now.Sub(found) >= findEvery {
					w.mu.Lock()
					w.tree.Find()
					w.mu.Unlock()
					found = now
				}
				w.look()
			}
		}
	})
	return w
}

func (w *Watch) look() {
	w.mu.Lock()
	defer w.mu.Unlock()
	began := time.Now()
	held := w.tree.Held()
	if n := len(w.seen); n > 0 {
		held = held.after(w.seen[n-1].Held)
	}
	w.seen = append(w.seen, Moment{began.Sub(w.begun), held})
	w.took += time.Since(began)
}

func (w *Watch) used() time.Duration {
	if w.exact != nil {
		return w.exact()
	}
	return w.tree.CPU()
}

// Mark has CPU time and peak memory count from now on, those of processes that came since it was last looked for some
// included.
func (w *Watch) Mark() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.tree.Find()
	w.tree.ResetPeaks()
	w.cpu = w.used()
}

// Pass notes what was used since the mark, for what comes after the part that counts.
func (w *Watch) Pass() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.tree.Find()
	used := w.used()
	w.passed = &passed{
		max(used-w.cpu, 0), max(used-w.first, 0), w.tree.Peak(), len(w.tree.pids) == 1, time.Since(w.begun),
	}
}

// passed is what was seen by the end of the part that counts.
type passed struct {
	cpu    time.Duration
	whole  time.Duration
	peak   int64
	single bool
	at     time.Duration
}

// Watched is what a watch saw.
type Watched struct {
	Moments      []Moment      // from the beginning to the end
	CPU          time.Duration // that the tree used since the mark
	Whole        time.Duration // the same since the watch began
	Peak         int64         // bytes resident at most since the mark
	Exact        bool          // whether the kernel told the peak; else it is the highest that was looked at
	Proportional int64         // bytes at the end; 0 where it is not told
	Took         time.Duration // that looking took
}

// Stop ends the watch with a last look. It is called once. Without Pass, all up to here counts.
func (w *Watch) Stop() Watched {
	close(w.stop)
	w.done.Wait()
	if w.passed == nil {
		w.Pass()
	}
	w.mu.Lock()
	w.tree.Find()
	w.mu.Unlock()
	w.look()
	p := w.passed
	out := Watched{
		Moments: w.seen, CPU: p.cpu, Whole: p.whole, Peak: p.peak, Exact: p.peak > 0,
		Proportional: w.tree.Proportional(), Took: w.took,
	}
	if len(w.tree.pids) != 1 || !p.single || !out.Exact {
		out.Peak, out.Exact = 0, false
		for i, m := range w.seen {
			if m.At <= p.at || i == 0 || i == len(w.seen)-1 {
				out.Peak = max(out.Peak, m.Resident)
			}
		}
	}
	return out
}

// Listener finds the process that listens on a TCP port of this machine; of several that share it, the first of them
// that started none of the others.
func Listener(port int) (pid int, err error) {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return 0, err
	}
	sockets := listening(proc, port)
	if len(sockets) == 0 {
		return 0, fmt.Errorf("nothing listens on port %d", port)
	}
	procs, err := proc.AllProcs()
	if err != nil {
		return 0, err
	}
	owners := map[int]int{} // and their parents
	for _, p := range procs {
		targets, err := p.FileDescriptorTargets()
		if err != nil || !slices.ContainsFunc(targets, func(t string) bool { return sockets[t] }) {
			continue // it has ended, or is somebody's whom we may not look at
		}
		if stat, err := p.Stat(); err == nil {
			owners[p.PID] = stat.PPID
		}
	}
	for _, pid := range slices.Sorted(maps.Keys(owners)) {
		if _, child := owners[owners[pid]]; !child {
			return pid, nil
		}
	}
	return 0, fmt.Errorf(
		"somebody listens on port %d whose processes may not be looked at; name it by pid, or run as that user", port,
	)
}

// Served is a port of this machine that somebody listens on.
type Served struct {
	Port    int
	Program string // as the kernel calls it; empty where we may not know
}

// Listening are the ports of this machine that can be asked from it, in order. What cannot be read is left out.
func Listening() (out []Served) {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return nil
	}
	//lint:ignore SA1019 What comes in its place is quicker for tables of many connections; this is read once.
	v4, _ := proc.NetTCP()
	//lint:ignore SA1019 As above.
	v6, _ := proc.NetTCP6()
	socket := map[string]int{} // ports
	for _, table := range []procfs.NetTCP{v4, v6} {
		for _, line := range table {
			if line.St == stateListen && (line.LocalAddr.IsLoopback() || line.LocalAddr.IsUnspecified()) {
				socket[fmt.Sprintf("socket:[%d]", line.Inode)] = int(line.LocalPort)
			}
		}
	}
	program := map[int]string{}
	for _, port := range socket {
		program[port] = ""
	}
	procs, _ := proc.AllProcs()
	for _, p := range procs {
		targets, err := p.FileDescriptorTargets()
		if err != nil {
			continue
		}
		for _, t := range targets {
			if port, ok := socket[t]; ok && program[port] == "" {
				program[port], _ = p.Comm()
			}
		}
	}
	for _, port := range slices.Sorted(maps.Keys(program)) {
		out = append(out, Served{port, program[port]})
	}
	return out
}

// stateListen is TCP_LISTEN of the kernel's tcp_states.h.
const stateListen = 10

// listening finds the sockets that listen on a port, as links to them are written.
func listening(proc procfs.FS, port int) map[string]bool {
	sockets := map[string]bool{}
	//lint:ignore SA1019 What comes in its place is quicker for tables of many connections; this is read once a service.
	v4, _ := proc.NetTCP() // a machine may do without one of the two
	//lint:ignore SA1019 As above.
	v6, _ := proc.NetTCP6()
	for _, table := range []procfs.NetTCP{v4, v6} {
		for _, line := range table {
			if line.St == stateListen && line.LocalPort == uint64(port) {
				sockets[fmt.Sprintf("socket:[%d]", line.Inode)] = true
			}
		}
	}
	return sockets
}
