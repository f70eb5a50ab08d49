package launch

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// Fence is a view of this machine's files in which some cannot be written: threads of ours stand behind it, and with
// them the processes that they create and all that these start. We ourselves, outside, write as ever. A nil Fence keeps
// nobody from anything. It is safe for concurrent use.
type Fence struct {
	view *os.File // a mount namespace
	jobs chan job
	done chan struct{}
	wg   sync.WaitGroup
	once sync.Once
}

// job is what a thread behind the fence is to do.
type job struct {
	do   func()
	over chan any // what it panicked with; nil otherwise
}

// NewFence makes a view in which the given files and folders are read-only, but for what lies in the open ones. The
// error says what is missing: such views take rights that users lack.
func NewFence(readOnly, open []string) (*Fence, error) {
	f := &Fence{jobs: make(chan job), done: make(chan struct{})}
	made := make(chan error, 1)
	f.wg.Go(func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		err := f.make(readOnly, open)
		made <- err
		if err == nil {
			f.work()
		}
	})
	if err := <-made; err != nil {
		f.wg.Wait()
		return nil, fmt.Errorf("keep originals read-only: %w", err)
	}
	return f, nil
}

// make gives the calling thread a view of its own.
func (f *Fence) make(readOnly, open []string) (err error) {
	if err := unix.Unshare(unix.CLONE_NEWNS); err != nil {
		return fmt.Errorf("a view of the file system of its own: %w", err)
	}
	// Nothing done here is seen outside; what is mounted there later is seen here.
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_SLAVE, ""); err != nil {
		return fmt.Errorf("part the view from ours: %w", err)
	}
	bind := func(path string, attr unix.MountAttr) error {
		if err := unix.Mount(path, path, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
			return fmt.Errorf("bind %s: %w", path, err)
		}
		if err := unix.MountSetattr(unix.AT_FDCWD, path, unix.AT_RECURSIVE, &attr); err != nil {
			return fmt.Errorf("make %s read-only: %w", path, err)
		}
		return nil
	}
	var closed []string
	for _, path := range readOnly {
		if path, err = real(path); err != nil {
			return err
		}
		if err := bind(path, unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}); err != nil {
			return err
		}
		closed = append(closed, path)
	}
	for _, path := range open {
		if path, err = real(path); err != nil {
			return err
		}
		for _, c := range closed {
			if path == c || strings.HasPrefix(path, strings.TrimSuffix(c, "/")+"/") {
				if err := bind(path, unix.MountAttr{Attr_clr: unix.MOUNT_ATTR_RDONLY}); err != nil {
					return err
				}
				break
			}
		}
	}
	f.view, err = os.Open("/proc/thread-self/ns/mnt")
	return err
}

// real is a path without links in it.
func real(path string) (string, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(abs)
}

// enter takes the calling thread, which is locked, behind the fence for good.
func (f *Fence) enter() error {
	if err := unix.Unshare(unix.CLONE_FS); err != nil {
		return err
	}
	return unix.Setns(int(f.view.Fd()), unix.CLONE_NEWNS)
}

func (f *Fence) work() {
	for {
		select {
		case j := <-f.jobs:
			perform(j)
		case <-f.done:
			return
		}
	}
}

func perform(j job) {
	defer func() { j.over <- recover() }()
	j.do()
}

// Do calls do from a thread behind the fence and returns when it has. A panic of do is the caller's. The error says why
// there is no such thread; then do was not called.
func (f *Fence) Do(do func()) error {
	if f == nil {
		do()
		return nil
	}
	j := job{do, make(chan any, 1)}
	select {
	case f.jobs <- j:
	case <-f.done:
		return fmt.Errorf("start a process with originals read-only: the fence is gone")
	default: // all threads are busy
		entered := make(chan error, 1)
		f.wg.Go(func() {
			runtime.LockOSThread()
			err := f.enter()
			entered <- err
			if err == nil {
				perform(j)
				f.work()
			}
		})
		if err := <-entered; err != nil {
			return fmt.Errorf("start a process with originals read-only: %w", err)
		}
	}
	if p := <-j.over; p != nil {
		panic(p)
	}
	return nil
}

// Close ends the threads behind the fence; processes that stand there stay. It may be called twice, and on a nil Fence.
func (f *Fence) Close() {
	if f == nil {
		return
	}
	f.once.Do(func() {
		close(f.done)
		f.wg.Wait()
		f.view.Close()
	})
}
