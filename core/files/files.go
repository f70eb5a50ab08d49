// Package files opens and writes files that a user names: what is read is a regular file of a sane size, and what is
// written takes its place whole or not at all, with the rights that the user's mask leaves.
//
// What files hold is for others to know.
package files

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"github.com/dustin/go-humanize"
	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"
)

// Open opens a regular file for reading, following links; most bounds its size in bytes. It never waits: a pipe that
// nobody writes to is refused like a folder or a device, and so is a file that is too large.
func Open(path string, most int64) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	switch {
	case err != nil:
	case !info.Mode().IsRegular():
		err = &fs.PathError{Op: "open", Path: path, Err: fmt.Errorf("it is %s, not a file", kind(info.Mode()))}
	case info.Size() > most:
		err = &fs.PathError{Op: "open", Path: path, Err: fmt.Errorf(
			"its %s are more than the %s that are read", humanize.IBytes(uint64(info.Size())), humanize.IBytes(uint64(most)),
		)}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func kind(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return "a folder"
	case m&fs.ModeNamedPipe != 0:
		return "a pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	case m&fs.ModeDevice != 0:
		return "a device"
	}
	return "something else"
}

// Read reads a regular file whole; see Open.
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path, most)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most { // it grows while it is read
		err = &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("more than %s", humanize.IBytes(uint64(most)))}
	}
	return text, err
}

// Write puts what content writes in place of the file at path, or creates it. Until all is written the old one stays; a
// full disk leaves no half file. A file that was there keeps its rights; a new one gets those of any file of the
// user's. A link is followed. What is no file, a device or a pipe, stays what it is and is written to, and so is what
// standard output or standard error goes to.
func Write(path string, content func(io.Writer) error) error {
	if err := Writable(path); err != nil {
		return err
	}
	info, err := os.Stat(path)
	if err != nil { // there is none yet
		return replace(path, content)
	}
	for _, standard := range []*os.File{os.Stdout, os.Stderr} {
		if its, err := standard.Stat(); err == nil && os.SameFile(info, its) {
			return into(standard, path, content)
		}
	}
	if info.Mode().IsRegular() {
		return replace(path, content)
	}
	f, err := os.OpenFile(path, os.O_WRONLY|syscall.O_NONBLOCK, 0) // of a pipe that nobody reads it is told at once
	if errors.Is(err, syscall.ENXIO) {
		return &fs.PathError{Op: "write", Path: path, Err: errors.New("nobody reads from it")}
	}
	if err != nil {
		return err
	}
	return errors.Join(into(f, path, content), f.Close())
}

// into writes to what is open.
func into(f *os.File, path string, content func(io.Writer) error) error {
	out := bufio.NewWriterSize(f, 1<<16)
	err := content(out)
	if err == nil {
		err = out.Flush()
	}
	if its, ok := err.(*fs.PathError); ok { // of the file that is to take its place
		err = its.Err
	}
	if err != nil {
		return &fs.PathError{Op: "write", Path: path, Err: err}
	}
	return nil
}

func replace(path string, content func(io.Writer) error) error {
	if real, err := realPath(path); err == nil { // else it is not there yet
		path = real
	}
	pending, err := renameio.NewPendingFile(path, renameio.WithPermissions(0o666), renameio.WithExistingPermissions())
	if err != nil {
		return err
	}
	defer pending.Cleanup() // does nothing once it took its place
	if err := into(pending.File, path, content); err != nil {
		return err
	}
	if err := pending.CloseAtomicallyReplace(); err != nil {
		return err
	}
	if real, err := realPath(path); err == nil {
		wrote.Store(real, true)
	}
	return nil
}

// Writable says why Write could not write to path, and what to do about it; nil: it could, as far as can be seen. What
// takes long and is written at its end is asked for before it begins.
func Writable(path string) error {
	no := func(why error) error { return &fs.PathError{Op: "write", Path: path, Err: why} }
	info, err := os.Stat(path)
	switch {
	case err == nil && info.IsDir():
		return no(errors.New("it is a folder; name a file in it"))
	case err == nil && unix.Faccessat(unix.AT_FDCWD, path, unix.W_OK, unix.AT_EACCESS) != nil:
		return no(fmt.Errorf("%w; name another file", fs.ErrPermission))
	case err == nil && !info.Mode().IsRegular():
		return nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return no(errors.Unwrap(err))
	case err != nil:
		if _, err := os.Lstat(path); err == nil {
			return no(fmt.Errorf("%w: it is a link to nothing; name another file", fs.ErrNotExist))
		}
	}
	real, err := realPath(path)
	if err != nil {
		real = path
	}
	dir := filepath.Dir(real)
	switch info, err := os.Stat(dir); {
	case errors.Is(err, fs.ErrNotExist):
		return no(fmt.Errorf("%w; make the folder %s first", syscall.ENOENT, dir))
	case err != nil:
		return no(errors.Unwrap(err))
	case !info.IsDir():
		return no(fmt.Errorf("%w: %s", syscall.ENOTDIR, dir))
	case unix.Faccessat(unix.AT_FDCWD, dir, unix.W_OK|unix.X_OK, unix.AT_EACCESS) != nil:
		return no(fmt.Errorf("%w to write to the folder %s; name another", fs.ErrPermission, dir))
	}
	return nil
}

// Create creates a file for writing, which must not be there yet: the error is fs.ErrExist then.
func Create(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if errors.Is(err, fs.ErrExist) {
		return nil, &fs.PathError{Op: "create", Path: path, Err: fmt.Errorf("%w, and stays as it is", syscall.EEXIST)}
	}
	return f, err
}

// WriteAll is Write of what is at hand.
func WriteAll(path string, content []byte) error {
	return Write(path, func(out io.Writer) error {
		_, err := out.Write(content)
		return err
	})
}

// wrote holds the paths that Write wrote to, links resolved.
var wrote sync.Map

// Wrote reports whether this process has put a file at path with Write.
func Wrote(path string) bool {
	real, err := realPath(path)
	if err != nil {
		return false
	}
	_, ok := wrote.Load(real)
	return ok
}

// realPath is the one path of a file, however it is named.
func realPath(path string) (string, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(path)
}
