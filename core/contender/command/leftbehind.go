package command

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/keeper"
)

// A command may leave processes running: in its group, or in sessions of their own. We are the parent that they fall to
// (see package keeper), so that both can be found: the former by waiting for the group, the latter among our children, by
// a mark in their environment that all processes of commands carry.

// mark is in the environment of every command: the same for all contenders, so that none sees another environment.
var mark = sync.OnceValue(func() string {
	return fmt.Sprintf("PACEDUEL_RUN=%d-%d", os.Getpid(), time.Now().UnixNano())
})

// under is how many commands are under way, from before they are started.
var under struct {
	sync.Mutex
	n int
}

func begin() {
	under.Lock()
	under.n++
	under.Unlock()
}

func end() {
	under.Lock()
	under.n--
	under.Unlock()
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

// sweep ends what commands left behind in sessions of their own, and returns how many processes it was. It does nothing
// while any command is under way, whose processes they may be.
func (d *driver) sweep() (n int) {
	list := children()
	if list == nil {
		return 0
	}
	under.Lock()
	defer under.Unlock()
	if under.n > 0 {
		return 0
	}
	for _, word := range strings.Fields(string(headOf(list, 4<<10))) {
		pid, err := strconv.Atoi(word)
		if err != nil || d.keeper.Holds(pid) || !marked(pid) {
			continue
		}
		// It is our child, so that its number is its own until we have waited for it.
		syscall.Kill(pid, syscall.SIGKILL)
		n++
		awaitKilled(pid)
	}
	return n
}

// awaitKilled waits for a killed child; its own children fall to us with its end.
func awaitKilled(pid int) {
	for deadline := time.Now().Add(keeper.ReapLimit); time.Now().Before(deadline); time.Sleep(50 * time.Microsecond) {
		if got, err := syscall.Wait4(pid, nil, syscall.WNOHANG|unix.WALL, nil); got == pid || err == syscall.ECHILD {
			return
		}
	}
}

// marked reports whether a process descends from a command of ours.
func marked(pid int) bool {
	env, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/environ")
	return err == nil && bytes.Contains(append([]byte{0}, env...), []byte("\x00"+mark()+"\x00"))
}

// Sweep implements contender.Sweeper.
func (d *driver) Sweep() (n int) {
	for range 100 { // what is ended may have children that fall to us then
		more := d.sweep()
		if n += more; more == 0 {
			break
		}
	}
	return n
}
