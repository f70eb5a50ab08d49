package keeper

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"
)

// Processes may leave their group for a session of their own, where the table does not reach them. So all that we start
// carry a mark in their environment, by which whoever started them finds what they left, and the keeper what is there
// when we are killed. They may empty their environment, too. So they inherit a resource limit that says nothing else:
// how many locks on files a process may hold, which kernels have not heeded since 2.4.25, is a number that nobody but
// us has.

// Mark is an entry of an environment, "PACEDUEL_RUN=...", that processes pass on to those that they start.
type Mark string

const markVariable = "PACEDUEL_RUN"

// identity sets this process's marks apart from those of others.
var identity = sync.OnceValue(func() string { return fmt.Sprintf("%d.%d", os.Getpid(), time.Now().UnixNano()) })

// RunMark is the same at every call, for processes that must not see different environments.
func RunMark() Mark { return Mark(markVariable + "=" + identity()) }

var marks atomic.Int64

// NewMark is another one at every call.
func NewMark() Mark { return Mark(fmt.Sprintf("%s-%d", RunMark(), marks.Add(1))) }

// on reports whether a process carries m itself or, with orAny, any mark whose maker is the same.
func (m Mark) on(pid int, orAny bool) bool {
	env, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/environ")
	if err != nil {
		return false
	}
	env = append(append([]byte{0}, env...), 0)
	return bytes.Contains(env, []byte("\x00"+string(m)+"\x00")) || orAny &&
		bytes.Contains(env, []byte("\x00"+string(m)+"-"))
}

// children is the kernel's list of our main thread's children, where those of ended parents appear; nil where the
// kernel keeps none.
var children = sync.OnceValue(func() *os.File {
	pid := strconv.Itoa(os.Getpid())
	f, err := os.Open("/proc/" + pid + "/task/" + pid + "/children")
	if err != nil {
		return nil
	}
	return f
})

// Adopted lists the processes that fell to us since their parents ended, and with them those that our main thread
// created.
func Adopted() (pids []int) {
	list := children()
	if list == nil {
		return nil
	}
	buf := make([]byte, 64<<10)
	read, _ := list.ReadAt(buf, 0)
	for _, word := range strings.Fields(string(buf[:read])) {
		if pid, err := strconv.Atoi(word); err == nil {
			pids = append(pids, pid)
		}
	}
	return pids
}

// EndAdopted ends and waits for processes with a mark that fell to us since their parents ended, but for leaders of
// groups that are in a seat, and returns how many it was. What these started falls to us then: EndAllAdopted looks for
// that, too.
func (k *Keeper) EndAdopted(m Mark) (n int) {
	return k.endThose(func(pid int) bool { return !k.Holds(pid) && m.on(pid, false) })
}

// EndAllAdopted repeats EndAdopted until nobody is found.
func (k *Keeper) EndAllAdopted(m Mark) (n int) {
	return untilNone(func() int { return k.EndAdopted(m) })
}

// EndStrays ends and waits for all that fell to us and belongs to no group in a seat, whatever became of its mark, and
// returns how many it was. It is for moments at which nothing that was started goes on but what sits in seats. As long
// as nobody asked for a keeper there are none.
func EndStrays() (n int) {
	k := running.Load()
	if k == nil {
		return 0
	}
	k.births.Lock()
	defer k.births.Unlock()
	return untilNone(func() int {
		return k.endThose(func(pid int) bool {
			group, err := unix.Getpgid(pid)
			return err == nil && !k.Holds(pid) && !k.Holds(group) && carries(pid, k.limit)
		})
	})
}

func (k *Keeper) endThose(ours func(pid int) bool) (n int) {
	for _, pid := range Adopted() {
		if !ours(pid) {
			continue
		}
		// It is our child, so that its number is its own until we have waited for it.
		if got, _ := syscall.Wait4(pid, nil, syscall.WNOHANG|unix.WALL, nil); got == pid {
			continue // it had ended
		}
		syscall.Kill(pid, syscall.SIGKILL)
		if awaitKilled(pid) { // else it is held by somebody, and asking again would not end it
			n++
		}
	}
	return n
}

func untilNone(end func() int) (n int) {
	for range 100 { // what is ended may have children that fall to us then
		more := end()
		if n += more; more == 0 {
			break
		}
	}
	return n
}

// awaitKilled waits for a killed child, for a while; it reports whether it is gone.
func awaitKilled(pid int) bool {
	for deadline := time.Now().Add(ReapLimit); time.Now().Before(deadline); time.Sleep(50 * time.Microsecond) {
		if got, err := syscall.Wait4(pid, nil, syscall.WNOHANG|unix.WALL, nil); got == pid || err == syscall.ECHILD {
			return true
		}
	}
	return false
}

// limitOfLocks is RLIMIT_LOCKS, which package unix does not name.
const limitOfLocks = 10

// inherit gives us the limit by which all that we start is known, and returns it; 0 where that is not allowed.
func inherit() uint64 {
	var was unix.Rlimit
	if unix.Prlimit(0, limitOfLocks, nil, &was) != nil {
		return 0
	}
	const fewest = 1 << 40 // nobody asks for so many
	limit := fewest + rand.Uint64N(1<<60)
	if was.Max != unix.RLIM_INFINITY && limit > was.Max {
		return 0
	}
	before = was
	if limitUs(limit) != nil {
		return 0
	}
	return limit
}

// before is the limit that we came with.
var before unix.Rlimit

func limitUs(limit uint64) error {
	return unix.Prlimit(0, limitOfLocks, &unix.Rlimit{Cur: limit, Max: before.Max}, nil)
}

// disinherit takes the limit from us.
func disinherit() { unix.Prlimit(0, limitOfLocks, &before, nil) }

// carries reports whether a process has the limit; 0 is no limit.
func carries(pid int, limit uint64) bool {
	if limit == 0 {
		return false
	}
	var own unix.Rlimit
	if unix.Prlimit(pid, limitOfLocks, nil, &own) == nil {
		return own.Cur == limit
	}
	// Of a process with rights of its own only its file tells.
	text, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/limits")
	_, rest, _ := strings.Cut(string(text), "Max file locks")
	words := strings.Fields(rest)
	return len(words) > 0 && words[0] == strconv.FormatUint(limit, 10)
}

// endAll ends the groups, every process that carries the owner's mark or limit, and all that any of these started. It
// is what the keeper does when the owner is gone, so that they are nobody's children: they are held by a descriptor,
// lest a number is another's by then. Who began what is read before anybody is ended, since it is lost with that.
func (o owner) endAll(groups []int) {
	for range 100 {
		found := false
		for pid := range o.ours(groups) {
			fd, err := unix.PidfdOpen(pid, 0)
			if err != nil {
				continue
			}
			found = unix.PidfdSendSignal(fd, unix.SIGKILL, nil, 0) == nil || found
			unix.Close(fd)
		}
		if !found {
			return
		}
		groups = nil                 // ended, so that their numbers may pass on
		time.Sleep(time.Millisecond) // they are dying, and may have been creating others
	}
}

// ours finds what belongs to the owner, dead but unreaped processes left out, and the owner itself: its pipe breaks a
// moment before it is gone, until when it is still the parent of what is the user's.
func (o owner) ours(groups []int) map[int]bool {
	type process struct{ pid, parent, group int }
	var all []process
	ours := map[int]bool{}
	procs, err := procfs.AllProcs()
	if err != nil {
		return nil
	}
	for _, p := range procs {
		stat, err := p.Stat()
		if err != nil || p.PID == os.Getpid() || p.PID == o.pid || stat.State == "Z" || stat.State == "X" {
			continue
		}
		all = append(all, process{p.PID, stat.PPID, stat.PGRP})
		if slices.Contains(groups, stat.PGRP) || carries(p.PID, o.limit) || o.mark.on(p.PID, true) {
			ours[p.PID] = true
		}
	}
	for more := true; more; {
		more = false
		for _, p := range all {
			if ours[p.parent] && !ours[p.pid] {
				ours[p.pid], more = true, true
			}
		}
	}
	return ours
}
