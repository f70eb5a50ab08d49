// Package path drives paths that data takes: each shot copies a file, or sends it to a local socket, by one of the ways
// in which a program may have the kernel move bytes.
//
// The moving is done by a process of its own for each client (worker.go), so that memory and processor time are its and
// not ours; it takes the times itself, so that asking it costs a shot nothing. A shot runs from just before the file is
// opened to the target closed, or all received at a socket's other end. What was written before is removed before the
// shot, outside its time. Whether pages of the source are in memory is left to the footing.
package path

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/plan"
	"paceduel/core/units"
)

// The ways.
const (
	readWrite = "read-write" // into memory of the program's own and out again
	mapped    = "map"        // by pages that the program shares with the kernel
	copyRange = "copy-range" // within the kernel, from file to file (copy_file_range)
	sendFile  = "sendfile"   // within the kernel, from a file to anything
	splice    = "splice"     // within the kernel, through a pipe
)

var ways = []string{readWrite, mapped, copyRange, sendFile, splice}

// Settings are the keys under path: in a plan.
type Settings struct {
	Way     string     `json:"way,omitempty" jsonschema:"enum=read-write,enum=map,enum=copy-range,enum=sendfile,enum=splice" jsonschema_description:"how bytes are moved: read-write (into the program's own memory and out again), map (by pages shared with the kernel), copy-range, sendfile or splice (within the kernel)"`
	From    string     `json:"from,omitempty" jsonschema_description:"the file to move"`
	To      string     `json:"to,omitempty" jsonschema_description:"the file to copy it to, written anew by each shot; or set socket"`
	Socket  bool       `json:"socket,omitempty" jsonschema_description:"send it to a local socket instead, whose other end reads as fast as it can"`
	Block   plan.Bytes `json:"block,omitempty" jsonschema_description:"how much is asked for at a time; 64KiB unless said"`
	Direct  bool       `json:"direct,omitempty" jsonschema_description:"with read-write: past the kernel's memory of files (O_DIRECT), both reading and writing"`
	Sync    bool       `json:"sync,omitempty" jsonschema_description:"a shot ends only when what it wrote is on the disk (fsync)"`
	AtOnce  int        `json:"at-once,omitempty" jsonschema:"minimum=1,maximum=64" jsonschema_description:"so many parts of the file are moved at once, each by a thread of its own; 1 unless said"`
	Timeout plan.Span  `json:"timeout,omitempty" jsonschema_description:"ended after this long; 60s unless said"`
}

// Limits and defaults.
const (
	defaultBlock   = 64 << 10
	maxBlock       = 64 << 20
	defaultTimeout = time.Minute
	alignment      = 4096 // of what is moved past the kernel's memory; more than any disk here asks for
)

// New returns settings with their defaults.
func New() plan.Settings {
	return &Settings{Way: readWrite, Block: defaultBlock, AtOnce: 1, Timeout: plan.Span(defaultTimeout)}
}

// Check reports contradictions, missing files, and what the source's file system cannot do.
func (s *Settings) Check(in plan.Surroundings) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	switch {
	case s.From == "":
		fault("", "set from: FILE", "nothing says which file is moved")
	case s.To == "" && !s.Socket:
		fault("", "set to: FILE, or socket: true", "nothing says where it is moved to")
	case s.To != "" && s.Socket:
		fault("socket", "keep one of them", "both to and socket are set")
	}
	switch {
	case s.Way == copyRange && s.Socket:
		fault("way", "use sendfile or splice", "copy-range goes from file to file")
	case s.Direct && s.Way != readWrite:
		fault("direct", "set way: read-write, or leave it out", "only read-write goes past the kernel's memory of files")
	case s.Direct && s.Socket:
		fault("direct", "set to: FILE", "direct reads and writes files")
	case s.Direct && s.Block%alignment != 0:
		fault("block", "use 4KiB, 64KiB, 1MiB …", "direct moves multiples of %d bytes", alignment)
	case s.Sync && s.Socket:
		fault("sync", "set to: FILE", "sync is of what was written to a disk")
	case s.Block < 1 || s.Block > maxBlock:
		fault("block", "use up to "+units.Bytes(maxBlock), "%d bytes are no block", s.Block)
	}
	if s.Timeout == 0 {
		fault("timeout", "set a positive time", "a limit of no time at all")
	}
	if s.From == "" {
		return faults
	}
	path, info, err := in.Find(s.From)
	switch {
	case err != nil || !info.Mode().IsRegular():
		fault("from", "name one, from the plan's folder", "%s is not a file", path)
	case s.To != "" && same(in.Dir, s.From, s.To):
		fault("to", "name another file", "it is the file that is moved")
	case s.Direct:
		fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECT|unix.O_CLOEXEC, 0)
		if err != nil {
			fault("direct", "leave it out, or use a file on a disk", "%s cannot be read past the kernel's memory: %v", path, err)
			return faults
		}
		unix.Close(fd)
	}
	if s.To != "" {
		if folder, info, err := in.Find(filepath.Dir(s.To)); err != nil || !info.IsDir() {
			fault("to", "create it, or name another", "%s is not a folder", folder)
		}
	}
	return faults
}

// same reports whether two paths lead to one file.
func same(dir, a, b string) bool {
	first, err := os.Stat(resolve(dir, a))
	if err != nil {
		return filepath.Clean(resolve(dir, a)) == filepath.Clean(resolve(dir, b))
	}
	second, err := os.Stat(resolve(dir, b))
	return err == nil && os.SameFile(first, second)
}

// Summary is what is done, for people.
func (s *Settings) Summary() string {
	to := s.To
	if s.Socket {
		to = "a socket"
	}
	parts := []string{s.Way, s.From, "to", to, "by", units.Trim(units.Bytes(float64(s.Block)))}
	if s.AtOnce > 1 {
		parts = append(parts, fmt.Sprintf("in %d parts at once", s.AtOnce))
	}
	if s.Direct {
		parts = append(parts, "direct")
	}
	if s.Sync {
		parts = append(parts, "and sync")
	}
	return strings.Join(parts, " ")
}

func resolve(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

// isWay reports whether a word is one of the ways.
func isWay(word string) bool { return slices.Contains(ways, word) }
