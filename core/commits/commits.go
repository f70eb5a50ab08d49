// Package commits builds programs from revisions of a git repository, each in a clean copy of its own, and keeps what
// was built by commit.
//
// The user's repository is only read: a copy borrows its objects, and neither its worktree, its index nor its list of
// worktrees is touched. Which revisions are compared, and what for, is left to whoever asks.
package commits

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/keeper"
	"paceduel/core/launch"
)

// Commit is a commit of a repository.
type Commit struct {
	Hash    string // whole
	Subject string // the first line of its message
	At      time.Time
}

// Short is what people call it by.
func (c Commit) Short() string { return c.Hash[:min(len(c.Hash), shortHash)] }

const shortHash = 9

// Repo is a git repository, seen from a folder of its worktree.
type Repo struct {
	top string // of the worktree
	in  string // the folder below it; "." for the top itself
}

// gitLimit bounds what is asked of git.
const gitLimit = 30 * time.Second

// Open finds the repository that a folder lies in.
func Open(ctx context.Context, dir string) (*Repo, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, errors.New("git is not installed here, which a contender from a commit needs")
	}
	abs, err := filepath.Abs(dir)
	if err == nil {
		abs, err = filepath.EvalSymlinks(abs)
	}
	if err != nil {
		return nil, fmt.Errorf("find the repository of %s: %w", dir, err)
	}
	out, err := git(ctx, abs, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, fmt.Errorf("find the repository of %s: %w", dir, err)
	}
	top := strings.TrimSpace(out)
	if top == "" {
		return nil, fmt.Errorf("find the repository of %s: it has no worktree", dir)
	}
	in, err := filepath.Rel(top, abs)
	if err != nil {
		return nil, fmt.Errorf("find the repository of %s: %w", dir, err)
	}
	return &Repo{top, in}, nil
}

// Top is the folder of the repository's worktree.
func (r *Repo) Top() string { return r.top }

// Resolve finds the commit that a revision names.
func (r *Repo) Resolve(ctx context.Context, revision string) (Commit, error) {
	if revision == "" || strings.HasPrefix(revision, "-") {
		return Commit{}, fmt.Errorf("%q is no revision", revision)
	}
	hash, err := git(ctx, r.top, "rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}")
	if err != nil {
		if ctx.Err() != nil {
			return Commit{}, ctx.Err()
		}
		return Commit{}, fmt.Errorf("no commit is called %s in %s", revision, r.top)
	}
	list, err := r.log(ctx, "-1", strings.TrimSpace(hash))
	if err != nil || len(list) == 0 {
		return Commit{}, fmt.Errorf("look at %s in %s: %w", revision, r.top, err)
	}
	return list[0], nil
}

// Between lists the commits after one, up to another and with it, the oldest first, along first parents: merges count
// as one step. The error says where the first is no ancestor of the last.
func (r *Repo) Between(ctx context.Context, from, to Commit) ([]Commit, error) {
	if _, err := git(ctx, r.top, "merge-base", "--is-ancestor", from.Hash, to.Hash); err != nil {
		return nil, fmt.Errorf("%s is no ancestor of %s: there is no line of commits from the one to the other",
			from.Short(),
			to.Short())
	}
	list, err := r.log(ctx, "--first-parent", from.Hash+".."+to.Hash)
	if err != nil {
		return nil, fmt.Errorf("list the commits from %s to %s: %w", from.Short(), to.Short(), err)
	}
	slices.Reverse(list)
	return list, nil
}

// log lists commits as git does, the newest first.
func (r *Repo) log(ctx context.Context, args ...string) (list []Commit, err error) {
	args = append([]string{"log", "--no-show-signature", "--format=%H%x00%ct%x00%s"}, args...)
	out, err := git(ctx, r.top, append(args, "--")...)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(out) {
		parts := strings.SplitN(strings.TrimSuffix(line, "\n"), "\x00", 3)
		if len(parts) != 3 {
			continue
		}
		var seconds int64
		fmt.Sscan(parts[1], &seconds)
		list = append(list, Commit{Hash: parts[0], At: time.Unix(seconds, 0), Subject: parts[2]})
	}
	return list, nil
}

// Dirty reports whether the worktree has changes to files that git knows which are in no commit. Nothing is written,
// not even what git remembers of it.
func (r *Repo) Dirty(ctx context.Context) (bool, error) {
	out, err := git(ctx, r.top, "status", "--porcelain", "--untracked-files=no")
	return out != "", err
}

// git runs git in a folder, without what the environment says of other repositories, and without asking anybody
// anything.
func git(ctx context.Context, dir string, args ...string) (string, error) {
	args = append([]string{"-c", "core.hooksPath=/dev/null", "-c", "core.fsmonitor=false", "-c", "gc.auto=0"}, args...)
	out, said, err := run(ctx, dir, gitLimit, append([]string{"git"}, args...)...)
	if err != nil {
		if line, _, _ := strings.Cut(strings.TrimSpace(said), "\n"); line != "" {
			return out, fmt.Errorf("git says: %s", line)
		}
		return out, err
	}
	return out, nil
}

// environment is ours without what would lead git elsewhere.
func environment(dir string, more ...string) []string {
	more = append(more, "GIT_TERMINAL_PROMPT=0", "GIT_OPTIONAL_LOCKS=0", "GIT_PAGER=cat", "LC_ALL=C")
	return slices.DeleteFunc(launch.Environment(dir, more...), func(e string) bool {
		name, _, _ := strings.Cut(e, "=")
		return slices.Contains([]string{
			"GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_ALTERNATE_OBJECT_DIRECTORIES",
			"GIT_COMMON_DIR", "GIT_NAMESPACE", "GIT_PREFIX",
		}, name)
	})
}

// mostOutput bounds what is read of a program's output, from its end of what goes to standard error.
const (
	mostOutput = 8 << 20
	mostSaid   = 4 << 10
)

// run runs a program to its end, with all that it starts, and returns what it printed.
func run(ctx context.Context, dir string, limit time.Duration, argv ...string) (out, said string, err error) {
	k, err := keeper.Shared()
	if err != nil {
		return "", "", err
	}
	seat, err := k.Seat()
	if err != nil {
		return "", "", err
	}
	defer seat.Release()
	var files [2]*os.File // nobody who holds on to them is waited for
	for i := range files {
		fd, err := unix.MemfdCreate("paceduel-commit", unix.MFD_CLOEXEC)
		if err != nil {
			return "", "", fmt.Errorf("keep its output in memory: %w", err)
		}
		files[i] = os.NewFile(uintptr(fd), "output")
		defer files[i].Close()
	}
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	mark := keeper.NewMark()
	cmd := exec.CommandContext(limited, argv[0], argv[1:]...)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = dir, environment(dir, string(mark)), files[0], files[1]
	if err := launch.Start(cmd, launch.Place{}, seat); err != nil {
		return "", "", err
	}
	group := cmd.Process.Pid
	err = cmd.Wait()
	syscall.Kill(-group, syscall.SIGKILL) // whatever it left running
	keeper.EndGroup(group)
	k.EndAllAdopted(mark)
	seat.Clear()
	out, said = head(files[0]), tail(files[1])
	switch {
	case ctx.Err() != nil:
		return out, said, ctx.Err()
	case limited.Err() != nil:
		return out, said, fmt.Errorf("not done after %s, ended", limit)
	}
	return out, said, err
}

func head(f *os.File) string {
	text, _ := io.ReadAll(io.NewSectionReader(f, 0, mostOutput))
	return string(text)
}

func tail(f *os.File) string {
	info, err := f.Stat()
	if err != nil {
		return ""
	}
	text, _ := io.ReadAll(io.NewSectionReader(f, max(info.Size()-mostSaid, 0), mostSaid))
	return string(bytes.ToValidUTF8(text, []byte("?")))
}
