// Package keeper makes sure that no process started by a run outlives it, even when the run is killed outright.
//
// A small copy of our own program waits at the end of a pipe. Process groups are written into a memory table that both
// share, which costs a run nothing; when the pipe breaks, the keeper ends every group still in the table, and every process
// that carries our mark.
// It starts and measures nothing itself.
package keeper

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"sync/atomic"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

const (
	variable  = "PACEDUEL_KEEPER" // set in the keeper's environment, to the mark of its owner
	slots     = 2048              // process groups alive at once
	tableSize = slots * 4
)

// Run turns this process into the keeper when it was started as one, and then does not return. Programs and test
// binaries that start a Keeper call it first thing in main.
func Run() {
	mark := Mark(os.Getenv(variable))
	if mark == "" {
		return
	}
	// An interrupt typed at the terminal goes to everyone; the keeper leaves only after its owner.
	syscall.Setsid()
	table, err := mapTable(os.NewFile(3, "table"))
	if err != nil {
		os.Exit(1)
	}
	io.Copy(io.Discard, os.Stdin) // until the owner is gone
	for i := range slots {
		if group := atomic.LoadInt32(&table[i]); group > 1 {
			syscall.Kill(-int(group), syscall.SIGKILL)
		}
	}
	endMarked(mark)
	os.Exit(0)
}

// Keeper is the owner's end. It is safe for concurrent use.
type Keeper struct {
	adopts bool
	table  *[slots]int32
	file   *os.File
	pipe   io.Closer
	cmd    *exec.Cmd

	mu   sync.Mutex
	free []int
}

var shared = sync.OnceValues(start)

// Shared returns the keeper of this process, starting it at the first call. It ends by itself with the process.
func Shared() (*Keeper, error) { return shared() }

func start() (*Keeper, error) {
	// Processes whose parents end become our children instead of the system's, so that none of them can get lost.
	adopts := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) == nil
	fd, err := unix.MemfdCreate("paceduel-keeper", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("start keeper: shared table: %w", err)
	}
	file := os.NewFile(uintptr(fd), "table")
	if err := file.Truncate(tableSize); err != nil {
		return nil, fmt.Errorf("start keeper: shared table: %w", err)
	}
	table, err := mapTable(file)
	if err != nil {
		return nil, fmt.Errorf("start keeper: %w", err)
	}
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("start keeper: find our own program: %w", err)
	}
	cmd := exec.Command(self)
	cmd.Env = []string{variable + "=" + string(RunMark())}
	cmd.ExtraFiles = []*os.File{file}
	pipe, err := cmd.StdinPipe()
	if err != nil {
		return nil, fmt.Errorf("start keeper: %w", err)
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start keeper: %w", err)
	}
	k := &Keeper{adopts: adopts, table: table, file: file, pipe: pipe, cmd: cmd, free: make([]int, slots)}
	for i := range k.free {
		k.free[i] = slots - 1 - i
	}
	return k, nil
}

func mapTable(f *os.File) (*[slots]int32, error) {
	data, err := unix.Mmap(int(f.Fd()), 0, tableSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return nil, fmt.Errorf("map table: %w", err)
	}
	return (*[slots]int32)(unsafe.Pointer(&data[0])), nil
}

// Seat is one place in the table, reused for one process group after another. It belongs to one goroutine.
type Seat struct {
	k *Keeper
	i int
}

// Seat reserves a place. The error says that too many are taken.
func (k *Keeper) Seat() (*Seat, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.free) == 0 {
		return nil, fmt.Errorf("more than %d process groups at once", slots)
	}
	i := k.free[len(k.free)-1]
	k.free = k.free[:len(k.free)-1]
	return &Seat{k, i}, nil
}

// Hold puts a process group in the seat: from now on it dies with us.
func (s *Seat) Hold(group int) { atomic.StoreInt32(&s.k.table[s.i], int32(group)) }

// Clear empties the seat; call it before the group's leader is reaped, so that its number cannot be someone else's.
func (s *Seat) Clear() { atomic.StoreInt32(&s.k.table[s.i], 0) }

// Adopts reports whether processes whose parents end become children of this process.
func (k *Keeper) Adopts() bool { return k.adopts }

// Holds reports whether a process group is in some seat, or is the keeper's own.
func (k *Keeper) Holds(group int) bool {
	if group == k.cmd.Process.Pid {
		return true
	}
	for i := range k.table {
		if int(atomic.LoadInt32(&k.table[i])) == group {
			return true
		}
	}
	return false
}

// Release gives the seat back. The seat must not be used afterwards.
func (s *Seat) Release() {
	s.Clear()
	s.k.mu.Lock()
	s.k.free = append(s.k.free, s.i)
	s.k.mu.Unlock()
}
