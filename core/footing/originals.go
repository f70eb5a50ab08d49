package footing

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"paceduel/core/launch"
	"paceduel/core/units"
)

// What workspaces are copied from is out of reach for what is started for a contender: where we may, its processes see
// the originals read-only (launch.Fence). Where we may not, and for contenders that have no workspace of them,
// originals are hashed before the duel and held to that after each heat and at the end.

// ChangedError is a run in which originals of a workspace were changed, which ends it.
type ChangedError struct {
	Who   string   // contender in whose heat it was seen; empty when it came after the last
	Paths []string // sorted, the first ones
	More  int      // besides
}

func (e *ChangedError) Error() string {
	during := ""
	if e.Who != "" {
		during = " in a heat of " + e.Who
	}
	text := fmt.Sprintf("what the workspace is copied from was changed%s: %s", during, units.List(e.Paths))
	if e.More > 0 {
		text += fmt.Sprintf(" and %d more", e.More)
	}
	return text +
		"; put the originals right; a contender is to write where it stands (PWD names that), and others elsewhere"
}

// guardOriginals puts up the fences, and takes down what originals hold where somebody can still reach them. cannot
// says why there is no fence, empty when there is.
func (f *Footing) guardOriginals(ctx context.Context) (cannot string, err error) {
	var all, bases []string
	for _, dir := range f.bases {
		bases = append(bases, dir)
	}
	fences := map[string]*launch.Fence{} // by what they are of
	reachable := false
	for _, c := range f.plan.Contenders {
		g := f.grounds[c.Name]
		if g.workspace == nil {
			reachable = true
			continue
		}
		of := strings.Join(g.workspace.fixtures, "\x00")
		fence, made := fences[of]
		if !made && cannot == "" {
			if fence, err = launch.NewFence(g.workspace.fixtures, bases); err != nil {
				cannot = "originals of workspaces cannot be put out of reach (" + err.Error() +
					"): they are looked at after each heat"
			} else {
				f.fences = append(f.fences, fence)
			}
			fences[of] = fence
		}
		g.fence = fence
		for _, path := range g.workspace.fixtures {
			if !slices.Contains(all, path) {
				all = append(all, path)
			}
		}
	}
	if len(all) == 0 || !reachable && cannot == "" {
		return cannot, nil
	}
	f.originals = &originals{roots: all, bases: bases, ours: map[string]bool{}}
	if f.originals.files, err = f.originals.look(ctx, nil); err != nil {
		return cannot, fmt.Errorf("take down what the workspace is copied from: %w", err)
	}
	return cannot, nil
}

// originals are the files that workspaces are copied from, as they were before the duel.
type originals struct {
	roots []string
	files map[string]original // by path
	bases []string            // folders of workspaces
	ours  map[string]bool     // paths of files that we write ourselves, or once did
}

// original is one file or link.
type original struct {
	mark mark
	sum  [sha256.Size]byte // of its contents, or of where it leads
}

// look reads all files, but for those whose mark is still as in known.
func (o *originals) look(ctx context.Context, known map[string]original) (map[string]original, error) {
	files, own := map[string]original{}, findOwn(o.bases)
	enter := func(path string, info fs.FileInfo) error {
		now := original{mark: markOf(info, "")}
		if was, ok := known[path]; ok && was.mark == now.mark {
			now.sum = was.sum
		} else {
			var err error
			if now.sum, err = sumOf(path, info); err != nil {
				return err
			}
		}
		if files[path] = now; len(files) > maxFiles {
			return fmt.Errorf("more than %d files", maxFiles)
		}
		return nil
	}
	for _, root := range o.roots {
		root, err := filepath.EvalSymlinks(root)
		if err != nil {
			return nil, err
		}
		err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) && path != root {
				return nil // it went while we looked
			}
			if err != nil || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			info, err := d.Info()
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err == nil && own.has(path, info) {
				if info.IsDir() {
					return fs.SkipDir
				}
				o.ours[path] = true
				return nil
			}
			if err != nil || info.IsDir() {
				return err
			}
			if err := enter(path, info); err != nil || info.Mode()&fs.ModeSymlink == 0 {
				return err
			}
			if target, err := filepath.EvalSymlinks(path); err == nil { // what it leads to is copied in its place
				if info, err := os.Stat(target); err == nil && info.Mode().IsRegular() {
					return enter(target, info)
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return files, nil
}

// sumOf is a hash of what a file holds, or where a link leads; others have none.
func sumOf(path string, info fs.FileInfo) (sum [sha256.Size]byte, err error) {
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(path)
		return sha256.Sum256([]byte(target)), err
	}
	if !info.Mode().IsRegular() {
		return sum, nil
	}
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrPermission) {
		return sum, nil // nor can it be copied
	}
	if err != nil {
		return sum, err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return [sha256.Size]byte(h.Sum(nil)), err
}

// check holds the originals to what they were; who is the contender whose heat is over.
func (o *originals) check(ctx context.Context, who string) error {
	if o == nil {
		return nil
	}
	now, err := o.look(ctx, o.files)
	if err != nil {
		return fmt.Errorf("look at what the workspace is copied from: %w", err)
	}
	changed := &ChangedError{Who: who}
	for path, was := range o.files {
		if is, ok := now[path]; !o.ours[path] && (!ok || is.sum != was.sum || is.mark.size != was.mark.size) {
			changed.Paths = append(changed.Paths, path)
		}
	}
	for path := range now {
		if _, ok := o.files[path]; !ok && !o.ours[path] {
			changed.Paths = append(changed.Paths, path)
		}
	}
	o.files = now
	if len(changed.Paths) == 0 {
		return nil
	}
	slices.Sort(changed.Paths)
	const shown = 3
	if n := len(changed.Paths); n > shown {
		changed.Paths, changed.More = changed.Paths[:shown], n-shown
	}
	return changed
}
