package footing

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/result"
)

// Bounds of a fixture: a slip such as "from: /" ends in a message and not in a full disk.
const (
	maxFiles = 200_000
	maxBytes = 32 << 30
	maxDeep  = 64
)

// workspace is a folder that holds a copy of fixtures.
type workspace struct {
	dir      string
	fixtures []string
	base     string   // the folder that holds this workspace and those of others
	stores   []string // relative; not part of what is compared
	laid     map[string]mark
	files    int
	bytes    int64
	cloned   bool // whether the file system shared the blocks
}

// mark tells whether a file was touched since the workspace was laid.
type mark struct {
	origin string // in the fixture; empty for folders
	size   int64
	device uint64
	inode  uint64
	change syscall.Timespec // of contents or mode
	isDir  bool
}

// lay puts a fresh copy of the fixtures into the workspace. With keepStores what the contender keeps in its own caches
// stays; everything else that was there goes. Files keep mode and time of modification; links that lead out of their
// fixture become what they point at, so that nothing done here reaches an original.
func (w *workspace) lay(ctx context.Context, keepStores bool) error {
	if err := w.clear(keepStores); err != nil {
		return fmt.Errorf("clear the workspace %s: %w", w.dir, err)
	}
	w.laid, w.files, w.bytes, w.cloned = map[string]mark{}, 0, 0, false
	own := findOwn([]string{w.base})
	for _, fixture := range w.fixtures {
		info, err := os.Stat(fixture)
		if err != nil {
			return fmt.Errorf("copy the workspace: %w", err)
		}
		c := copier{w: w, ctx: ctx, keepStores: keepStores, ours: own}
		c.root, err = filepath.EvalSymlinks(fixture)
		if err == nil && info.IsDir() {
			err = c.folder(c.root, "", 0)
		} else if err == nil {
			err = c.item(c.root, filepath.Base(fixture), info, 0)
		}
		if err != nil {
			return fmt.Errorf("copy %s into the workspace: %w", fixture, err)
		}
	}
	// Nothing of the copying may be left to do while a run is timed. Pages that were written one by one are slower to read
	// than those that were read in, so that a copy is read in as its original was.
	if err := flush(w.dir); err != nil {
		return err
	}
	if err := dropPages(ctx, []string{w.dir}); err != nil {
		return err
	}
	return readPages(ctx, []string{w.dir})
}

// flush has the file system write what it still holds back of dir.
func flush(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	_, _, errno := unix.Syscall(unix.SYS_SYNCFS, d.Fd(), 0, 0)
	if errno != 0 {
		return fmt.Errorf("write out %s: %w", dir, errno)
	}
	return nil
}

func (w *workspace) clear(keepStores bool) error {
	if err := os.MkdirAll(w.dir, 0o755); err != nil {
		return err
	}
	var kept []string
	if keepStores {
		kept = w.stores
	}
	return clearExcept(w.dir, "", kept)
}

// clearExcept removes what is in dir but the kept paths and the folders on the way to them.
func clearExcept(dir, rel string, kept []string) error {
	entries, err := os.ReadDir(filepath.Join(dir, rel))
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(rel, e.Name())
		switch {
		case slices.Contains(kept, path):
		case slices.ContainsFunc(kept, func(k string) bool { return strings.HasPrefix(k, path+"/") }):
			err = clearExcept(dir, path, kept)
		default:
			err = removeAll(filepath.Join(dir, path))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// removeAll removes a tree, also where a tool took the right to write away from its folders.
func removeAll(path string) error {
	err := os.RemoveAll(path)
	if err == nil || !errors.Is(err, fs.ErrPermission) {
		return err
	}
	filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			os.Chmod(p, 0o700)
		}
		return nil
	})
	return os.RemoveAll(path)
}

// copier copies one fixture.
type copier struct {
	w          *workspace
	ctx        context.Context
	root       string // the fixture, links resolved
	keepStores bool
	ours       ownFiles // left out
}

func (c *copier) folder(from, rel string, deep int) error {
	if deep > maxDeep {
		return fmt.Errorf("%s: more than %d folders in each other", rel, maxDeep)
	}
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			return err
		}
		if err := c.item(filepath.Join(from, e.Name()), filepath.Join(rel, e.Name()), info, deep); err != nil {
			return err
		}
	}
	return nil
}

// item copies one file, folder or link to rel in the workspace.
func (c *copier) item(from, rel string, info fs.FileInfo, deep int) error {
	if err := c.ctx.Err(); err != nil {
		return err
	}
	if c.keepStores && slices.Contains(c.w.stores, rel) {
		return nil // the contender's own, kept
	}
	if c.ours.has(from, info) {
		return nil
	}
	to := filepath.Join(c.w.dir, rel)
	if old, there := c.w.laid[rel]; there && !(old.isDir && info.IsDir()) {
		return fmt.Errorf("%s stands in two of the fixtures", rel)
	}
	switch mode := info.Mode(); {
	case mode&fs.ModeSymlink != 0:
		return c.link(from, rel, to, deep)
	case mode.IsDir():
		if err := os.Mkdir(to, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		c.w.laid[rel] = mark{isDir: true}
		if err := c.folder(from, rel, deep+1); err != nil {
			return err
		}
		return os.Chmod(to, mode.Perm())
	case mode.IsRegular():
		return c.file(from, rel, to, info)
	}
	return fmt.Errorf("%s is neither file nor folder", from)
}

// link copies a link that stays within its fixture as it is, any other as what it points at.
func (c *copier) link(from, rel, to string, deep int) error {
	target, err := os.Readlink(from)
	if err != nil {
		return err
	}
	real, err := filepath.EvalSymlinks(from)
	inside := !filepath.IsAbs(target) && (err != nil && filepath.IsLocal(filepath.Join(filepath.Dir(rel), target)) ||
		err == nil && strings.HasPrefix(real, c.root+"/"))
	if inside {
		if err := os.Symlink(target, to); err != nil {
			return err
		}
		return c.remember(rel, from, to)
	}
	if err != nil {
		return err
	}
	info, err := os.Stat(real)
	if err != nil {
		return err
	}
	return c.item(real, rel, info, deep+1)
}

func (c *copier) file(from, rel, to string, info fs.FileInfo) error {
	if c.w.files++; c.w.files > maxFiles {
		return fmt.Errorf("more than %d files", maxFiles)
	}
	if c.w.bytes += info.Size(); c.w.bytes > maxBytes {
		return fmt.Errorf("more than %d GiB", maxBytes>>30)
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	if unix.IoctlFileClone(int(out.Fd()), int(in.Fd())) == nil {
		c.w.cloned = true
	} else if _, err := io.Copy(out, in); err != nil {
		return err
	}
	if err := out.Chmod(info.Mode().Perm()); err != nil {
		return err
	}
	if err := os.Chtimes(to, info.ModTime(), info.ModTime()); err != nil {
		return err
	}
	return c.remember(rel, from, to)
}

func (c *copier) remember(rel, origin, to string) error {
	info, err := os.Lstat(to)
	if err != nil {
		return err
	}
	c.w.laid[rel] = markOf(info, origin)
	return nil
}

func markOf(info fs.FileInfo, origin string) mark {
	m := mark{origin: origin, size: info.Size(), isDir: info.IsDir()}
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		m.device, m.inode, m.change = uint64(stat.Dev), stat.Ino, stat.Ctim
	}
	return m
}

// maxListed bounds the changes that are named one by one.
const maxListed = 30

// changes says what differs from the copy as it was laid. Files that were written but hold the same bytes as before are
// told apart from changed ones.
func (w *workspace) changes(ctx context.Context) (*result.Changes, error) {
	out := &result.Changes{}
	seen := map[string]bool{}
	err := filepath.WalkDir(w.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		rel, err := filepath.Rel(w.dir, path)
		if err != nil || rel == "." {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if w.stored(rel) {
			if !info.IsDir() {
				out.StoreFiles++
				out.StoreBytes += info.Size()
			}
			return nil
		}
		seen[rel] = true
		was, known := w.laid[rel]
		now := markOf(info, was.origin)
		switch {
		case info.IsDir():
		case !known:
			w.note(out, result.Change{Path: rel, How: result.Added, Bytes: info.Size()}, &out.Added)
		case now.change != was.change || now.inode != was.inode:
			if same, err := sameBytes(path, was.origin, info); err == nil && same {
				w.note(out, result.Change{Path: rel, How: result.Rewritten, Bytes: info.Size(), Was: was.size}, &out.Rewritten)
			} else {
				w.note(out, result.Change{Path: rel, How: result.Changed, Bytes: info.Size(), Was: was.size}, &out.Changed)
			}
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("look at what changed in the workspace: %w", err)
	}
	for rel, was := range w.laid {
		if !seen[rel] && !was.isDir && !w.stored(rel) {
			w.note(out, result.Change{Path: rel, How: result.Removed, Was: was.size}, &out.Removed)
		}
	}
	slices.SortFunc(out.List, func(a, b result.Change) int { return strings.Compare(a.Path, b.Path) })
	if len(out.List) > maxListed {
		out.List = out.List[:maxListed]
	}
	return out, nil
}

// File is a file that a run wrote.
type File struct {
	Path   string // in the workspace
	Bytes  int64
	SHA256 string // hex
}

// written lists the files that were added or changed, by path, with their contents' hashes.
func (w *workspace) written(ctx context.Context) (files []File, err error) {
	err = filepath.WalkDir(w.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		rel, err := filepath.Rel(w.dir, path)
		if err != nil || !d.Type().IsRegular() || w.stored(rel) {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		was, known := w.laid[rel]
		if now := markOf(info, was.origin); known && now.change == was.change && now.inode == was.inode {
			return nil
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		sum := sha256.New()
		if _, err := io.Copy(sum, f); err != nil {
			return err
		}
		files = append(files, File{rel, info.Size(), hex.EncodeToString(sum.Sum(nil))})
		return nil
	})
	return files, err
}

// stored reports whether a path lies in the contender's own caches.
func (w *workspace) stored(rel string) bool {
	return slices.ContainsFunc(w.stores, func(s string) bool { return rel == s || strings.HasPrefix(rel, s+"/") })
}

func (w *workspace) note(out *result.Changes, c result.Change, count *int) {
	*count++
	if c.How != result.Rewritten {
		out.Bytes += c.Bytes
	}
	out.List = append(out.List, c)
}

// sameBytes compares a file or link with where it was copied from.
func sameBytes(path, origin string, info fs.FileInfo) (bool, error) {
	if info.Mode()&fs.ModeSymlink != 0 {
		a, err1 := os.Readlink(path)
		b, err2 := os.Readlink(origin)
		return a == b, errors.Join(err1, err2)
	}
	before, err := os.Stat(origin)
	if err != nil || before.Size() != info.Size() {
		return false, err
	}
	a, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer a.Close()
	b, err := os.Open(origin)
	if err != nil {
		return false, err
	}
	defer b.Close()
	bufA, bufB := make([]byte, 256<<10), make([]byte, 256<<10)
	for {
		n, errA := io.ReadFull(a, bufA)
		m, errB := io.ReadFull(b, bufB)
		if n != m || !bytes.Equal(bufA[:n], bufB[:m]) {
			return false, nil
		}
		if errA == io.EOF || errA == io.ErrUnexpectedEOF {
			return true, nil
		}
		if err := errors.Join(errA, errB); err != nil {
			return false, err
		}
	}
}

// prefix begins the names of folders that workspaces are kept in, so that what an earlier run left can be told.
const prefix = "paceduel-"

// openBase makes a folder for the workspaces of one run in at, and removes what runs that were killed left there: a run
// holds a lock in its folder for as long as it lives.
func openBase(at string) (dir string, lock *os.File, err error) {
	if err := os.MkdirAll(at, 0o700); err != nil {
		return "", nil, fmt.Errorf("find a place for workspaces: %w", err)
	}
	old, _ := filepath.Glob(filepath.Join(at, prefix+"*"))
	for _, folder := range old {
		f, err := os.Open(filepath.Join(folder, "lock"))
		if err != nil {
			continue // being made this moment, or not ours
		}
		if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			removeAll(folder)
		}
		f.Close()
	}
	if dir, err = os.MkdirTemp(at, prefix+time.Now().Format("0102-1504-")); err != nil {
		return "", nil, fmt.Errorf("find a place for workspaces: %w", err)
	}
	if lock, err = os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600); err == nil {
		err = unix.Flock(int(lock.Fd()), unix.LOCK_EX)
	}
	if err != nil {
		return "", nil, fmt.Errorf("lock the workspaces: %w", err)
	}
	return dir, lock, nil
}
