package commits

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"paceduel/core/files"
)

// Cache is the folder in which builds are kept, by repository, commit and build line. It may be used by several
// programs at once, and removed at any time at which none of them runs.
type Cache struct{ Dir string }

// kept is how many builds are kept: those that were used last.
const kept = 80

// DefaultCache is in the user's folder for caches, as the XDG base directory specification has it.
func DefaultCache(lookup func(string) (string, bool)) (Cache, error) {
	dir, _ := lookup("XDG_CACHE_HOME")
	if !filepath.IsAbs(dir) {
		home, _ := lookup("HOME")
		if home == "" {
			return Cache{}, errors.New("no place for what is built from commits: neither XDG_CACHE_HOME nor HOME is set")
		}
		dir = filepath.Join(home, ".cache")
	}
	return Cache{filepath.Join(dir, "paceduel", "builds")}, nil
}

// Built is what was built of a commit.
type Built struct {
	Dir    string        // where the build line ran: what it made is there
	Took   time.Duration // the build alone, when it was made
	Cached bool          // it was there already
}

// BuildError is a commit that cannot be built.
type BuildError struct {
	Commit Commit
	Line   string
	Why    string
	Said   string // the end of its output
}

func (e *BuildError) Error() string {
	text := fmt.Sprintf("build %s (%s) with %q: %s", e.Commit.Short(), e.Commit.Subject, e.Line, e.Why)
	if said := strings.TrimSpace(e.Said); said != "" {
		text += ":\n" + said
	}
	return text
}

// record is what is written when a build is done.
type record struct {
	Commit string        `json:"commit"`
	Line   string        `json:"build"`
	Took   time.Duration `json:"took_ns"`
}

// place is the folder of a build.
func (c Cache) place(r *Repo, commit Commit, line string) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{r.top, commit.Hash, line, r.in}, "\x00")))
	return filepath.Join(c.Dir, fmt.Sprintf("%s-%x", commit.Short(), sum[:6]))
}

// Build builds a commit with a shell line, in a clean copy of it, in the folder from which the repository is seen; an
// empty line takes the copy as it is. limit bounds the build. The error is a *BuildError where the commit is to blame.
func (c Cache) Build(ctx context.Context, r *Repo, commit Commit, line string, limit time.Duration) (Built, error) {
	place := c.place(r, commit, line)
	if err := os.MkdirAll(place, 0o700); err != nil {
		return Built{}, fmt.Errorf("find a place for what is built from commits: %w", err)
	}
	unlock, err := lock(ctx, place+".lock")
	if err != nil {
		return Built{}, fmt.Errorf("wait for another build of %s: %w", commit.Short(), err)
	}
	defer unlock()
	tree, done := filepath.Join(place, "tree"), filepath.Join(place, "built.json")
	own := filepath.Join(tree, r.in)
	if text, err := files.Read(done, 1<<16); err == nil {
		var was record
		if json.Unmarshal(text, &was) == nil && was.Commit == commit.Hash {
			now := time.Now()
			os.Chtimes(place, now, now) // it was used; where that fails it is forgotten sooner
			return Built{own, was.Took, true}, nil
		}
	}
	if err := os.RemoveAll(tree); err != nil { // of a build that came to no end
		return Built{}, fmt.Errorf("clear away an unfinished build of %s: %w", commit.Short(), err)
	}
	if err := r.checkOut(ctx, commit, tree); err != nil {
		return Built{}, err
	}
	fail := func(why, said string) (Built, error) { return Built{}, &BuildError{commit, line, why, said} }
	if info, err := os.Stat(own); err != nil || !info.IsDir() {
		return fail(fmt.Sprintf("the folder %s is not in it", r.in), "")
	}
	began := time.Now()
	if line != "" {
		out, said, err := run(ctx, own, limit, "/bin/sh", "-c", line)
		switch {
		case ctx.Err() != nil:
			return Built{}, ctx.Err()
		case err != nil:
			if len(out) > mostSaid {
				out = out[len(out)-mostSaid:]
			}
			return fail(strings.Replace(err.Error(), "exit status", "exit code", 1), strings.TrimSpace(out+"\n"+said))
		}
	}
	took := time.Since(began)
	text, err := json.Marshal(record{commit.Hash, line, took})
	if err == nil {
		err = files.WriteAll(done, text)
	}
	if err != nil {
		return Built{}, fmt.Errorf("keep the build of %s: %w", commit.Short(), err)
	}
	c.forget(place)
	return Built{own, took, false}, nil
}

// checkOut makes a copy of a commit that borrows the repository's objects.
func (r *Repo) checkOut(ctx context.Context, commit Commit, tree string) error {
	_, err := git(ctx, r.top, "-c", "init.templateDir=", "clone", "--quiet", "--no-checkout", "--shared", "--", r.top,
		tree)
	if err == nil {
		_, err = git(ctx, tree, "-c", "advice.detachedHead=false", "checkout", "--quiet", "--detach", commit.Hash)
	}
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return fmt.Errorf("take a copy of %s from %s: %w", commit.Short(), r.top, err)
	}
	return nil
}

// lock takes a lock that others of our kind hold while they build.
func lock(ctx context.Context, path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	wait := time.NewTicker(50 * time.Millisecond)
	defer wait.Stop()
	for {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			return func() { f.Close() }, nil // which gives it back
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			f.Close()
			return nil, err
		}
		select {
		case <-ctx.Done():
			f.Close()
			return nil, ctx.Err()
		case <-wait.C:
		}
	}
}

// forget removes the builds that were not used for longest, where there are many, but for one. What somebody builds or
// looks at just now is left alone.
func (c Cache) forget(but string) {
	entries, err := os.ReadDir(c.Dir)
	if err != nil {
		return
	}
	type one struct {
		path string
		used time.Time
	}
	var all []one
	for _, e := range entries {
		if info, err := e.Info(); err == nil && e.IsDir() {
			all = append(all, one{filepath.Join(c.Dir, e.Name()), info.ModTime()})
		}
	}
	slices.SortFunc(all, func(a, b one) int { return b.used.Compare(a.used) })
	const young = time.Hour // may be in use
	for _, o := range all[min(kept, len(all)):] {
		if o.path == but || time.Since(o.used) < young {
			continue
		}
		os.RemoveAll(o.path)
		os.Remove(o.path + ".lock")
	}
}
