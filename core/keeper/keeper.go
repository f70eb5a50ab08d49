// Package keeper makes sure that no process started by a run outlives it, even when the run is killed outright.
//
// A small copy of our own program waits at the end of a pipe. Process groups are written into a memory table that both
// share, which costs a run nothing; when the pipe breaks, the keeper ends every group still in the table, every process
// that carries our mark or our limit (see mark.go), and all that these have started. Then it removes the folders that
// it was told of over the pipe. It starts and measures nothing itself.
package keeper

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

const (
	variable  = "PACEDUEL_KEEPER" // set in the keeper's environment, to its owner, and the limit and the mark of that
	slots     = 2048              // process groups alive at once
	tableSize = slots * 4
)

// Run turns this process into the keeper when it was started as one, and then does not return. Programs and test
// binaries that start a Keeper call it first thing in main.
func Run() {
	o, ok := ownerOf(os.Getenv(variable))
	if !ok {
		return
	}
	// An interrupt typed at the terminal goes to everyone; the keeper leaves only after its owner.
	syscall.Setsid()
	table, err := mapTable(os.NewFile(3, "table"))
	if err != nil {
		os.Exit(1)
	}
	folders := listen(os.Stdin) // until the owner is gone
	var groups []int
	for i := range slots {
		if group := atomic.LoadInt32(&table[i]); group > 1 {
			groups = append(groups, int(group))
		}
	}
	o.endAll(groups)
	for path, whole := range folders {
		if whole {
			removeTree(path)
		} else {
			os.Remove(path)
		}
	}
	os.Exit(0)
}

// What the owner says over the pipe, a line each: a letter and a quoted path.
const (
	removeWhole = 'w' // a folder that goes with all that is in it
	removeEmpty = 'e' // one that goes if it is empty, as a control group is
	forget      = 'f'
)

// listen takes down the folders that the owner names, and whether they go with what is in them, until it is gone.
func listen(owner io.Reader) map[string]bool {
	folders := map[string]bool{}
	lines := bufio.NewScanner(owner)
	for lines.Scan() {
		line := lines.Text()
		path, err := strconv.Unquote(line[min(len(line), 1):])
		if err != nil || !filepath.IsAbs(path) || filepath.Dir(path) == path {
			continue
		}
		switch line[0] {
		case removeWhole, removeEmpty:
			folders[path] = line[0] == removeWhole
		case forget:
			delete(folders, path)
		}
	}
	io.Copy(io.Discard, owner) // after a line that is too long
	return folders
}

// removeTree removes a folder, also where a tool took the right to write away from those in it.
func removeTree(path string) {
	if os.RemoveAll(path) == nil {
		return
	}
	filepath.WalkDir(path, func(p string, d os.DirEntry, _ error) error {
		if d != nil && d.IsDir() {
			os.Chmod(p, 0o700)
		}
		return nil
	})
	os.RemoveAll(path)
}

// Keeper is the owner's end. It is safe for concurrent use.
type Keeper struct {
	adopts bool
	table  *[slots]int32
	file   *os.File
	cmd    *exec.Cmd
	limit  uint64 // of all that we start; 0 where it could not be set

	births sync.RWMutex // held for reading while a process is created, until it sits in its seat

	mu   sync.Mutex
	free []int
	pipe io.Writer
}

var (
	shared  = sync.OnceValues(start)
	running atomic.Pointer[Keeper] // nil until it was asked for
)

// Shared returns the keeper of this process, starting it at the first call. It ends by itself with the process.
func Shared() (*Keeper, error) { return shared() }

func start() (*Keeper, error) {
	passOverEnds()
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
	limit := inherit()
	cmd.Env = []string{variable + "=" + owner{os.Getpid(), limit, RunMark()}.String()}
	cmd.ExtraFiles = []*os.File{file}
	pipe, err := cmd.StdinPipe()
	if err != nil {
		return nil, fmt.Errorf("start keeper: %w", err)
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start keeper: %w", err)
	}
	k := &Keeper{adopts: adopts, table: table, file: file, pipe: pipe, cmd: cmd, limit: limit, free: make([]int, slots)}
	for i := range k.free {
		k.free[i] = slots - 1 - i
	}
	running.Store(k)
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

// Begin calls create, which is to create the leader of a process group and return its number, and puts the group in the
// seat: from then on it dies with us.
func (s *Seat) Begin(create func() (pid int, err error)) (pid int, err error) {
	s.k.births.RLock() // nobody is to take it for a stranger meanwhile
	defer s.k.births.RUnlock()
	if pid, err = create(); err == nil {
		s.Hold(pid)
	}
	return pid, err
}

// Hold puts a process group in the seat.
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

// RemoveAfter has a folder removed with all that is in it should we be killed; forget takes that back. path is
// absolute.
func (k *Keeper) RemoveAfter(path string) (forget func()) { return k.tell(removeWhole, path) }

// RemoveEmptyAfter does so with a folder that is removed only if there is nothing in it.
func (k *Keeper) RemoveEmptyAfter(path string) (forget func()) { return k.tell(removeEmpty, path) }

func (k *Keeper) tell(what rune, path string) func() {
	say := func(what rune) {
		k.mu.Lock()
		defer k.mu.Unlock()
		fmt.Fprintf(k.pipe, "%c%s\n", what, strconv.Quote(path)) // a keeper that is gone has nothing to remove
	}
	say(what)
	return func() { say(forget) }
}

// Outside has start create a process that is the user's, not a contender's, and gives it what it would have had without
// us, so that neither it nor what it starts is ever taken for ours.
func Outside(start func() (pid int, err error)) error {
	k := running.Load()
	if k == nil {
		_, err := start()
		return err
	}
	k.births.Lock() // what is started meanwhile would have no limit either
	defer k.births.Unlock()
	if k.limit != 0 {
		disinherit()
		defer limitUs(k.limit)
	}
	_, err := start()
	return err
}

// owner is whom a keeper serves, and the limit and the mark of what is its.
type owner struct {
	pid   int
	limit uint64 // 0: none
	mark  Mark
}

func (o owner) String() string { return fmt.Sprintf("%d %d %s", o.pid, o.limit, o.mark) }

func ownerOf(text string) (o owner, ok bool) {
	_, err := fmt.Sscanf(text, "%d %d %s", &o.pid, &o.limit, &o.mark)
	return o, err == nil && o.mark != ""
}
