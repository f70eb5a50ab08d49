// Package files opens and writes files that a user names: what is read is a regular file of a sane size, and what is
// written takes its place whole or not at all, with the rights that the user's mask leaves.
//
// What files hold is for others to know.
package files

import (
	"bufio"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"github.com/dustin/go-humanize"
	"github.com/google/renameio/v2"
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
// user's.
func Write(path string, content func(io.Writer) error) error {
	pending, err := renameio.NewPendingFile(path, renameio.WithPermissions(0o666), renameio.WithExistingPermissions())
	if err != nil {
		return err
	}
	defer pending.Cleanup() // does nothing once it took its place
	out := bufio.NewWriterSize(pending, 1<<16)
	if err := content(out); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := pending.CloseAtomicallyReplace(); err != nil {
		return err
	}
	if real, err := realPath(path); err == nil {
		wrote.Store(real, true)
	}
	return nil
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
