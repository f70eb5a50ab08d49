// Package launch is how every process of a contender begins, be it a command's run or a service: where its program is
// found, and on which processors and with which niceness it starts.
//
// Nothing here is shared or kept: a Place may be used by many at once. Which process is created how, what it prints and
// how it ends is left to whoever asks.
package launch

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"paceduel/core/plan"
)

// Program finds a program once, since a look-up that fails costs a run more than the program does: a name with a slash
// in the first of the folders that has it, any other on PATH. The error says what may have been meant.
func Program(name string, folders ...string) (string, error) {
	if strings.Contains(name, "/") {
		return within(name, folders)
	}
	path, err := exec.LookPath(name)
	if err != nil {
		try := "install it, or name it with its folder"
		if near := nearest(name); near != "" {
			try = fmt.Sprintf("did you mean %s?", near)
		}
		return "", &Missing{fmt.Sprintf("run %s: no such program on PATH", name), try}
	}
	return path, nil
}

// Missing is a program that cannot be run, with what can be done about it.
type Missing struct{ What, Try string }

func (m *Missing) Error() string { return m.What + "; " + m.Try }

// within is a program in the first of the folders that has it; the error is about the first folder.
func within(name string, folders []string) (string, error) {
	var first error
	for _, folder := range folders {
		path := name
		if !filepath.IsAbs(path) {
			path = filepath.Join(folder, path)
		}
		whole, err := filepath.Abs(path) // "." and "./board" would else be a name to look for on PATH
		if err == nil {
			_, err = exec.LookPath(whole)
		}
		if err == nil {
			return whole, nil
		}
		var inner *fs.PathError
		if errors.As(err, &inner) {
			err = inner.Err // it names the path, too
		} else {
			err = errors.Unwrap(err)
		}
		if info, statErr := os.Stat(path); errors.Is(err, fs.ErrPermission) && statErr == nil && info.Mode().IsRegular() {
			return "", &Missing{fmt.Sprintf("run %s: it is there, but not executable", path), "chmod +x " + path}
		}
		if first == nil {
			first = fmt.Errorf("run %s: %w", path, err)
		}
	}
	return "", first
}

// nearest is the program that may have been meant: one that is there.
func nearest(name string) string {
	all := programs()
	for {
		near := plan.Nearest(name, all)
		if near == "" {
			return ""
		}
		if _, err := exec.LookPath(near); err == nil {
			return near
		}
		all = slices.DeleteFunc(all, func(n string) bool { return n == near })
	}
}

// programs lists what can be run by name.
func programs() (names []string) {
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		entries, err := os.ReadDir(dir)
		if err != nil {
			continue // PATH may name folders that are not there
		}
		for _, e := range entries {
			if !e.IsDir() {
				names = append(names, e.Name())
			}
		}
	}
	slices.Sort(names)
	return append(strings.Fields(common), slices.Compact(names)...) // of those that are as near these are meant
}

// common are programs that are run more often than others, as far as they are there.
const common = "awk base64 bash bzip2 cat cp curl cut date dd diff find git go grep gzip head jq java ls make md5sum " +
	"mv node openssl perl php python python3 rsync ruby sed seq sh sha256sum sleep sort split tail tar tee tr uniq " +
	"unzip wc wget xargs xz yes zip zstd"

// Allowed lists the processors that we may run on; nil when the kernel does not tell.
func Allowed() (cpus plan.CPUs) {
	var set unix.CPUSet
	if unix.SchedGetaffinity(0, &set) != nil {
		return nil
	}
	for n := range 1024 {
		if set.IsSet(n) {
			cpus = append(cpus, n)
		}
	}
	return cpus
}

// Usable are those of the processors asked for that we may run on.
func Usable(cpus plan.CPUs) (out plan.CPUs) {
	may := Allowed()
	for _, n := range cpus {
		if slices.Contains(may, n) {
			out = append(out, n)
		}
	}
	return out
}

// SetOf is the kernel's form of processors by number.
func SetOf(cpus plan.CPUs) (set unix.CPUSet) {
	for _, n := range cpus {
		set.Set(n)
	}
	return set
}

// Place is where and how eagerly a process runs, and which files it may not write. The zero Place is wherever we do.
type Place struct {
	on    *unix.CPUSet // nil: anywhere
	nice  int
	fence *Fence // nil: none
	as    *User  // nil: as we do
}

// User is as whom a process may run.
type User struct {
	Name string
	ID   uint32
	Main uint32   // its group
	More []uint32 // further groups
}

// FindUser looks a user of this machine up by its name.
func FindUser(name string) (*User, error) {
	found, err := user.Lookup(name)
	if err != nil {
		return nil, fmt.Errorf("run as %s: there is no such user on this machine", name)
	}
	number := func(text string) uint32 {
		n, _ := strconv.ParseUint(text, 10, 32) // the system's own
		return uint32(n)
	}
	u := &User{Name: name, ID: number(found.Uid), Main: number(found.Gid)}
	groups, _ := found.GroupIds() // those of its main group at least
	for _, g := range groups {
		u.More = append(u.More, number(g))
	}
	return u, nil
}

// As is the place for processes that run as another user; nil leaves it as it is.
func (p Place) As(u *User) Place {
	p.as = u
	return p
}

// At is a place on those of the processors that this machine has for us, or anywhere when it has none of them, with a
// niceness, behind a fence unless that is nil. What of processors and niceness cannot be had is for others to tell;
// here it is left out.
func At(cpus plan.CPUs, nice int, fence *Fence) Place {
	p := Place{nice: nice, fence: fence}
	if usable := Usable(cpus); len(usable) > 0 {
		set := SetOf(usable)
		p.on = &set
	}
	return p
}

// Inside is the place for whoever is called by Do, and need not go behind the fence again.
func (p Place) Inside() Place {
	p.fence = nil
	return p
}

// Do calls do from a thread whose processes are created behind the fence.
func (p Place) Do(do func()) error { return p.fence.Do(do) }

// Start calls create, which is to create a process and return its number, so that the process begins at its place.
func (p Place) Start(create func() (pid int, err error)) (pid int, err error) {
	if outside := p.fence.Do(func() { pid, err = p.create(create) }); outside != nil {
		return 0, outside
	}
	return pid, err
}

// create calls create with the calling thread on the processors of the process; it is back at its own afterwards.
func (p Place) create(create func() (pid int, err error)) (pid int, err error) {
	if p.on != nil {
		// A process starts where the thread that creates it is allowed to run.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		var ours unix.CPUSet
		if err := unix.SchedGetaffinity(0, &ours); err != nil {
			return 0, fmt.Errorf("ask for our processors: %w", err)
		}
		if err := unix.SchedSetaffinity(0, p.on); err != nil {
			return 0, fmt.Errorf("go to the processors of a process: %w", err)
		}
		// At once, so that we do not wait on the process's processor; when that fails the thread is left there.
		defer unix.SchedSetaffinity(0, &ours)
	}
	pid, err = create()
	if err == nil && p.nice != 0 {
		unix.Setpriority(unix.PRIO_PROCESS, pid, p.nice) // what is not allowed was said before the run
	}
	return pid, err
}
