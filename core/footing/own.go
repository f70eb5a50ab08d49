package footing

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"paceduel/core/files"
)

// ownFiles are the files that this program writes itself. They may stand among the originals, where a workspace is
// copied from the folder that its user stands in: the shots of a run, its logbook, what a shell was told to put our
// words into, and the workspaces themselves. They are neither copied nor taken for something that a contender changed.
type ownFiles struct {
	places []os.FileInfo // folders that hold workspaces
	open   map[file]bool
}

// file is a file by what the kernel knows it by.
type file struct{ device, inode uint64 }

// findOwn looks at what this process has open for writing. bases are folders of workspaces.
func findOwn(bases []string) ownFiles {
	o := ownFiles{open: map[file]bool{}}
	for _, base := range bases {
		if place, err := os.Stat(filepath.Dir(base)); err == nil {
			o.places = append(o.places, place)
		}
	}
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return o // the files that were written whole are known still
	}
	for _, e := range entries {
		fd, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		flags, err := unix.FcntlInt(uintptr(fd), unix.F_GETFL, 0)
		var stat unix.Stat_t
		if err == nil && flags&unix.O_ACCMODE != unix.O_RDONLY && unix.Fstat(fd, &stat) == nil &&
			stat.Mode&unix.S_IFMT == unix.S_IFREG {
			o.open[file{uint64(stat.Dev), stat.Ino}] = true
		}
	}
	return o
}

// has reports whether a file or folder is ours. Folders of other runs' workspaces beside these are, too.
func (o ownFiles) has(path string, info fs.FileInfo) bool {
	if info.IsDir() {
		if !strings.HasPrefix(info.Name(), prefix) {
			return false
		}
		in, err := os.Stat(filepath.Dir(path)) // paths may be relative, or lead there through links
		return err == nil && slices.ContainsFunc(o.places, func(place os.FileInfo) bool { return os.SameFile(place, in) })
	}
	m := markOf(info, "")
	return o.open[file{m.device, m.inode}] || files.Wrote(path)
}
