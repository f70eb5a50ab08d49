package path

import (
	"bufio"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"os"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"paceduel/core/meter"
)

// A worker is this program once more, started with workerEnv set: it moves what it is told over descriptor 3, one JSON
// object a line, and answers in the same way. Each of its sockets ends in a sink, this program a third time.
const workerEnv = "PACEDUEL_PATH_WORKER"

// What a process of ours is to be.
const (
	asWorker = "worker"
	asSink   = "sink"
)

// control is the descriptor of the line to whoever started us; those of streams follow it, two for each.
const control = 3

// A process that is started as a worker is nothing else, whichever program it is a part of.
func init() {
	as, begun := os.LookupEnv(workerEnv)
	if !begun {
		return
	}
	os.Unsetenv(workerEnv)
	debug.SetGCPercent(-1) // collecting would be counted as its work
	as, streams, _ := strings.Cut(as, " ")
	n, _ := strconv.Atoi(streams)
	if as == asSink {
		sink(n)
	} else {
		runtime.LockOSThread()
		work(os.NewFile(control, "control"), n)
	}
	os.Exit(0)
}

// order is what a worker is told: its job first, then what is special about each shot.
type order struct {
	Job     *job `json:"job,omitempty"`
	Measure bool `json:"measure,omitempty"` // tell the most memory
	Hash    bool `json:"hash,omitempty"`    // have sinks tell what came
}

// report is what a worker answers. Moments are on the kernel's monotonic clock, in nanoseconds.
type report struct {
	Start   int64  `json:"start"`
	End     int64  `json:"end"`
	Moved   int64  `json:"moved"`
	Calls   int64  `json:"calls"`
	User    int64  `json:"user"` // ns
	System  int64  `json:"system"`
	Waits   int64  `json:"waits"`
	Preempt int64  `json:"preempt"`
	Faults  int64  `json:"faults"`
	Reads   int64  `json:"reads"` // bytes
	Writes  int64  `json:"writes"`
	Peak    int64  `json:"peak,omitempty"` // bytes
	Hash    string `json:"hash,omitempty"`
	Err     string `json:"err,omitempty"`
	Errno   int    `json:"errno,omitempty"`
}

// work moves what it is told until nobody tells it any more.
func work(line *os.File, streams int) {
	in, out := json.NewDecoder(bufio.NewReader(line)), json.NewEncoder(line)
	var m mover
	for i := range streams {
		m.sockets = append(m.sockets, stream{control + 1 + 2*i, control + 2 + 2*i})
	}
	for {
		var o order
		if in.Decode(&o) != nil {
			return
		}
		if o.Job != nil {
			m.job = *o.Job
			runtime.GOMAXPROCS(max(runtime.NumCPU(), m.AtOnce))
			var r report
			if err := m.ready(); err != nil {
				r.Err = err.Error()
			}
			out.Encode(&r)
			continue
		}
		if err := out.Encode(m.shot(o)); err != nil {
			return
		}
	}
}

// clear removes what the shot before wrote, and nothing of anybody else's.
func (m *mover) clear() error {
	if m.To == "" {
		return nil
	}
	there, err := os.Lstat(m.To)
	if err == nil && !m.Replace && !unchanged(there, m.made) {
		return fmt.Errorf("%s has been put there by somebody else, and is left alone", m.To)
	}
	if err := os.Remove(m.To); err != nil && !os.IsNotExist(err) {
		return fmt.Errorf("remove what was written before: %w", err)
	}
	return nil
}

// unchanged reports whether a file is still the one that was made. Its number does not say: that of a file that is gone
// is given to the next.
func unchanged(there, made fs.FileInfo) bool {
	return made != nil && os.SameFile(there, made) && there.Size() == made.Size() && there.ModTime().Equal(made.ModTime())
}

// shot performs the job once.
func (m *mover) shot(o order) (r report) {
	if err := m.clear(); err != nil {
		return report{Err: err.Error()}
	}
	if err := m.announce(o.Hash); err != nil {
		return report{Err: err.Error()}
	}
	if o.Measure {
		os.WriteFile("/proc/self/clear_refs", []byte("5"), 0) // the kernel's mark of the most starts anew
	}
	var before, after syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &before)
	r.Start = monotonic()
	moved, calls, err := m.move()
	r.End = monotonic()
	syscall.Getrusage(syscall.RUSAGE_SELF, &after)
	m.made, _ = os.Lstat(m.To)
	const block = 512 // the kernel counts in these
	r.Moved, r.Calls = moved, calls
	r.User, r.System = after.Utime.Nano()-before.Utime.Nano(), after.Stime.Nano()-before.Stime.Nano()
	r.Waits, r.Preempt = after.Nvcsw-before.Nvcsw, after.Nivcsw-before.Nivcsw
	r.Faults = after.Minflt + after.Majflt - before.Minflt - before.Majflt
	r.Reads, r.Writes = (after.Inblock-before.Inblock)*block, (after.Oublock-before.Oublock)*block
	if o.Measure {
		r.Peak = meter.Highest(os.Getpid())
	}
	if err != nil {
		r.Err = err.Error()
		var errno syscall.Errno
		if errors.As(err, &errno) {
			r.Errno = int(errno)
		}
		return r
	}
	if o.Hash {
		r.Hash = m.heard()
	}
	return r
}

func monotonic() int64 {
	var t unix.Timespec
	unix.ClockGettime(unix.CLOCK_MONOTONIC, &t)
	return t.Nano()
}

// announcement tells a sink how much comes, and whether it is to tell what that was.
type announcement struct {
	Bytes int64 `json:"bytes"`
	Hash  bool  `json:"hash,omitempty"`
}

// announce tells every sink what is coming, before the shot.
func (m *mover) announce(hash bool) error {
	if m.To != "" {
		return nil
	}
	info, err := os.Stat(m.From)
	if err != nil {
		return nil // the shot will say so
	}
	parts, _, _ := m.divide(-1, info.Size())
	for i := range parts {
		text, _ := json.Marshal(announcement{parts[i].end - parts[i].at, hash})
		if _, err := unix.Write(m.sockets[i].control, append(text, '\n')); err != nil {
			return fmt.Errorf("tell the socket's other end what comes: %w", err)
		}
	}
	return nil
}

// heard is what the sinks say came over all sockets together.
func (m *mover) heard() string {
	if m.To != "" {
		return ""
	}
	var all []string
	info, err := os.Stat(m.From)
	if err != nil {
		return ""
	}
	parts, _, _ := m.divide(-1, info.Size())
	for i := range parts {
		sum := make([]byte, sha256.Size)
		for got := 0; got < len(sum); {
			n, err := unix.Read(m.sockets[i].control, sum[got:])
			if err != nil || n == 0 {
				return ""
			}
			got += n
		}
		all = append(all, fmt.Sprintf("%x", sum))
	}
	return strings.Join(all, " ")
}

// sink takes what comes over each of n sockets, as fast as it can.
func sink(n int) {
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() { drain(control+2*i, os.NewFile(uintptr(control+1+2*i), "control")) })
	}
	all.Wait()
}

func drain(data int, line *os.File) {
	buf := make([]byte, 256<<10)
	in := json.NewDecoder(line)
	for {
		var a announcement
		if in.Decode(&a) != nil {
			return
		}
		var sum hash.Hash
		if a.Hash {
			sum = sha256.New()
		}
		for left := a.Bytes; left > 0; {
			n, err := unix.Read(data, buf[:min(int64(len(buf)), left)])
			if err == unix.EINTR {
				continue
			}
			if err != nil || n == 0 {
				return
			}
			if sum != nil {
				sum.Write(buf[:n])
			}
			left -= int64(n)
		}
		answer := []byte{1}
		if sum != nil {
			answer = sum.Sum(answer)
		}
		if _, err := line.Write(answer); err != nil {
			return
		}
	}
}
