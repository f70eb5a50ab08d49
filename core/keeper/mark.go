package keeper

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Processes may leave their group for a session of their own, where the table does not reach them. So all that we start carry
// a mark in their environment, by which whoever started them finds what they left, and the keeper what is there when we are
// killed.

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
	return bytes.Contains(env, []byte("\x00"+string(m)+"\x00")) || orAny && bytes.Contains(env, []byte("\x00"+string(m)+"-"))
}

// children is the kernel's list of our main thread's children, where those of ended parents appear; nil where the kernel
// keeps none.
var children = sync.OnceValue(func() *os.File {
	pid := strconv.Itoa(os.Getpid())
	f, err := os.Open("/proc/" + pid + "/task/" + pid + "/children")
	if err != nil {
		return nil
	}
	return f
})

// EndAdopted ends and waits for processes with a mark that fell to us since their parents ended, but for leaders of groups
// that are in a seat, and returns how many it was. What these started falls to us then: EndAllAdopted looks for that, too.
func (k *Keeper) EndAdopted(m Mark) (n int) {
	list := children()
	if list == nil {
		return 0
	}
	buf := make([]byte, 4<<10)
	read, _ := list.ReadAt(buf, 0)
	for _, word := range strings.Fields(string(buf[:read])) {
		pid, err := strconv.Atoi(word)
		if err != nil || k.Holds(pid) || !m.on(pid, false) {
			continue
		}
		// It is our child, so that its number is its own until we have waited for it.
		syscall.Kill(pid, syscall.SIGKILL)
		n++
		awaitKilled(pid)
	}
	return n
}

// EndAllAdopted repeats EndAdopted until nobody is found.
func (k *Keeper) EndAllAdopted(m Mark) (n int) {
	for range 100 {
		more := k.EndAdopted(m)
		if n += more; more == 0 {
			break
		}
	}
	return n
}

// awaitKilled waits for a killed child.
func awaitKilled(pid int) {
	for deadline := time.Now().Add(ReapLimit); time.Now().Before(deadline); time.Sleep(50 * time.Microsecond) {
		if got, err := syscall.Wait4(pid, nil, syscall.WNOHANG|unix.WALL, nil); got == pid || err == syscall.ECHILD {
			return
		}
	}
}

// endMarked ends every process that carries a mark of m's maker. It is what the keeper does when that one is gone, so that
// they are nobody's children: they are held by a descriptor, lest a number is another's by then.
func endMarked(m Mark) {
	for range 100 {
		found := false
		entries, err := os.ReadDir("/proc")
		if err != nil {
			return
		}
		for _, e := range entries {
			pid, err := strconv.Atoi(e.Name())
			if err != nil || pid == os.Getpid() {
				continue
			}
			fd, err := unix.PidfdOpen(pid, 0)
			if err != nil {
				continue
			}
			if m.on(pid, true) {
				found = unix.PidfdSendSignal(fd, unix.SIGKILL, nil, 0) == nil || found
			}
			unix.Close(fd)
		}
		if !found {
			return
		}
		time.Sleep(time.Millisecond) // they are dying, and may have been creating others
	}
}
