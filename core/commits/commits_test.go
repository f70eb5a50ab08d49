package commits_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/commits"
	"paceduel/core/keeper"
)

func TestMain(m *testing.M) {
	keeper.Run()
	os.Exit(m.Run())
}

// repository is one of commits in whose folder tool a file says its number; the third does not build.
func repository(t *testing.T, n int) string {
	t.Helper()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("LEFT OUT: git is not installed here")
	}
	dir := t.TempDir()
	do := func(line string) {
		t.Helper()
		cmd := exec.Command("/bin/sh", "-ec", line)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null",
			"GIT_AUTHOR_NAME=Harbour", "GIT_AUTHOR_EMAIL=h@skerrow.example", "GIT_COMMITTER_NAME=Harbour",
			"GIT_COMMITTER_EMAIL=h@skerrow.example")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", line, err, out)
		}
	}
	do("git init -q -b main . && mkdir tool")
	for i := 1; i <= n; i++ {
		build := "cp source made"
		if i == 3 {
			build = "echo no rule to make it >&2; exit 4"
		}
		do(fmt.Sprintf("echo %d >tool/source; printf '%%s' %q >tool/build.sh; git add -A; git commit -qm 'number %d'", i,
			build, i))
	}
	return dir
}

func TestCommitsAreFoundAndBuilt(t *testing.T) {
	dir := repository(t, 5)
	ctx := t.Context()
	r, err := commits.Open(ctx, filepath.Join(dir, "tool"))
	if err != nil {
		t.Fatal(err)
	}
	first, err1 := r.Resolve(ctx, "HEAD~4")
	last, err2 := r.Resolve(ctx, "main")
	if err := errors.Join(err1, err2); err != nil || last.Subject != "number 5" || len(last.Short()) != 9 {
		t.Fatalf("%+v, %v", last, err)
	}
	list, err := r.Between(ctx, first, last)
	if err != nil || len(list) != 4 || list[0].Subject != "number 2" || list[3].Hash != last.Hash {
		t.Fatalf("%+v, %v", list, err)
	}
	if _, err := r.Between(ctx, last, first); err == nil || !strings.Contains(err.Error(), "no ancestor") {
		t.Errorf("the wrong way round: %v", err)
	}
	for _, none := range []string{"", "--all", "gone", "HEAD~99", "main:tool"} {
		if _, err := r.Resolve(ctx, none); err == nil {
			t.Errorf("%q is a revision", none)
		}
	}
	cache := commits.Cache{Dir: filepath.Join(t.TempDir(), "builds")}
	built, err := cache.Build(ctx, r, list[0], "sh build.sh", time.Minute)
	if err != nil || built.Cached {
		t.Fatalf("%+v, %v", built, err)
	}
	if text, err := os.ReadFile(filepath.Join(built.Dir, "made")); string(text) != "2\n" {
		t.Errorf("%q was built, %v", text, err)
	}
	again, err := cache.Build(ctx, r, list[0], "sh build.sh", time.Minute)
	if err != nil || !again.Cached || again.Dir != built.Dir || again.Took != built.Took {
		t.Errorf("the second time: %+v, %v", again, err)
	}
	_, err = cache.Build(ctx, r, list[1], "sh build.sh", time.Minute)
	var failed *commits.BuildError
	if !errors.As(err, &failed) || failed.Commit.Subject != "number 3" || !strings.Contains(err.Error(), "exit code 4") ||
		!strings.Contains(err.Error(), "no rule to make it") {
		t.Errorf("what does not build says %v", err)
	}
	if _, err = cache.Build(ctx, r, list[2], "sleep 60", 200*time.Millisecond); !errors.As(err, &failed) ||
		!strings.Contains(err.Error(), "not done after 200ms") {
		t.Errorf("what never ends says %v", err)
	}
	if _, err := commits.Open(ctx, t.TempDir()); err == nil || !strings.Contains(err.Error(), "git says") {
		t.Errorf("a folder in no repository: %v", err)
	}
}

// Whatever is built, the user's repository and worktree stay as they are, changes in it too.
func TestTheRepositoryIsNotTouched(t *testing.T) {
	dir := repository(t, 2)
	if err := os.WriteFile(filepath.Join(dir, "tool", "source"), []byte("being written"), 0o644); err != nil {
		t.Fatal(err)
	}
	before := state(t, dir)
	ctx := t.Context()
	r, err := commits.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	if dirty, err := r.Dirty(ctx); !dirty || err != nil {
		t.Errorf("dirty: %v, %v", dirty, err)
	}
	head, err := r.Resolve(ctx, "HEAD")
	if err != nil {
		t.Fatal(err)
	}
	cache := commits.Cache{Dir: filepath.Join(t.TempDir(), "builds")}
	built, err := cache.Build(ctx, r, head, "echo x >new; echo changed >tool/source", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(filepath.Join(built.Dir, "tool", "source")); string(text) != "changed\n" {
		t.Errorf("the copy has %q", text)
	}
	if after := state(t, dir); after != before {
		t.Errorf("the repository was\n%s\nand is\n%s", before, after)
	}
}

// state is every file of a folder, with its time.
func state(t *testing.T, dir string) string {
	t.Helper()
	var out strings.Builder
	if err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		fmt.Fprintln(&out, path, info.Size(), info.ModTime().UnixNano(), info.Mode())
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// Several that want the same commit build it once.
func TestACommitIsBuiltOnce(t *testing.T) {
	dir := repository(t, 1)
	ctx := t.Context()
	r, err := commits.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	head, err := r.Resolve(ctx, "HEAD")
	if err != nil {
		t.Fatal(err)
	}
	cache := commits.Cache{Dir: filepath.Join(t.TempDir(), "builds")}
	log := filepath.Join(t.TempDir(), "log")
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			if _, err := cache.Build(ctx, r, head, "echo once >>"+log, time.Minute); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if text, _ := os.ReadFile(log); string(text) != "once\n" {
		t.Errorf("it was built: %q", text)
	}
}

// An interrupt ends a build at once, and what it made by then is not taken for a build.
func TestAnInterruptedBuildIsNone(t *testing.T) {
	dir := repository(t, 1)
	r, err := commits.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	head, err := r.Resolve(t.Context(), "HEAD")
	if err != nil {
		t.Fatal(err)
	}
	cache := commits.Cache{Dir: filepath.Join(t.TempDir(), "builds")}
	seen := filepath.Join(t.TempDir(), "seen")
	line := "if [ -e " + seen + " ]; then exit 0; fi; echo half >half; echo x >" + seen + "; sleep 60"
	ctx, cancel := context.WithCancel(t.Context())
	go func() {
		for ctx.Err() == nil {
			if _, err := os.Stat(seen); err == nil {
				cancel()
			}
			time.Sleep(5 * time.Millisecond)
		}
	}()
	if _, err := cache.Build(ctx, r, head, line, time.Minute); !errors.Is(err, context.Canceled) {
		t.Fatalf("%v", err)
	}
	built, err := cache.Build(t.Context(), r, head, line, time.Minute)
	if err != nil || built.Cached {
		t.Fatalf("%+v, %v", built, err)
	}
	if _, err := os.Stat(filepath.Join(built.Dir, "half")); !os.IsNotExist(err) {
		t.Error("what the interrupted build left is in the next one")
	}
}
