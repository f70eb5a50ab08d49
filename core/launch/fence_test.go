package launch_test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"paceduel/core/keeper"
	"paceduel/core/launch"
)

func TestMain(m *testing.M) {
	keeper.Run()
	os.Exit(m.Run())
}

func TestEnvironmentNamesWhereAProcessStands(t *testing.T) {
	t.Setenv("PWD", "/the/caller/s")
	t.Setenv("OLDPWD", "/before/that")
	t.Setenv("TIDE", "low")
	dir := t.TempDir()
	t.Chdir(dir)
	tests := []struct {
		name, dir string
		more      []string
		want      []string
	}{
		{"another folder", "/tmp", nil, []string{"PWD=/tmp", "TIDE=low"}},
		{"a relative one", "quay", []string{"TIDE=high"}, []string{"PWD=" + filepath.Join(dir, "quay"), "TIDE=high"}},
		{"the plan says otherwise", "/tmp", []string{
			"PWD=/elsewhere", "TIDE=high", "TIDE=ebb", "OLDPWD=/o",
		}, []string{"OLDPWD=/o", "PWD=/elsewhere", "TIDE=ebb"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var got []string
			for _, entry := range launch.Environment(tt.dir, tt.more...) {
				if name, _, _ := strings.Cut(entry, "="); name == "PWD" || name == "OLDPWD" || name == "TIDE" {
					got = append(got, entry)
				}
			}
			if !slices.Equal(got, tt.want) {
				t.Errorf("the environment says %q; want %q", got, tt.want)
			}
		})
	}
}

// fence is one around dir/closed but for dir/closed/open; the test is skipped where that takes rights that we lack.
func fence(t *testing.T, dir string) *launch.Fence {
	t.Helper()
	if err := os.MkdirAll(filepath.Join(dir, "closed/open"), 0o755); err != nil {
		t.Fatal(err)
	}
	f, err := launch.NewFence([]string{filepath.Join(dir, "closed")}, []string{filepath.Join(dir, "closed/open"), dir})
	if errors.Is(err, os.ErrPermission) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.Close)
	return f
}

func TestAFenceKeepsOriginalsFromWhatIsStarted(t *testing.T) {
	dir := t.TempDir()
	f := fence(t, dir)
	k, err := keeper.Shared()
	if err != nil {
		t.Fatal(err)
	}
	touch := func(at launch.Place, path string) error {
		seat, err := k.Seat()
		if err != nil {
			t.Fatal(err)
		}
		defer seat.Release()
		cmd := exec.CommandContext(t.Context(), "sh", "-c", "echo x > '"+path+"'")
		cmd.Dir = filepath.Join(dir, "closed")
		if err := launch.Start(cmd, at, seat); err != nil {
			t.Fatal(err)
		}
		return cmd.Wait()
	}
	behind := launch.At(nil, 0, f)
	var wg sync.WaitGroup
	for range 8 { // threads behind the fence are made as they are needed
		wg.Go(func() {
			if err := touch(behind, filepath.Join(dir, "closed/a")); err == nil {
				t.Error("a process behind the fence wrote to an original")
			}
		})
	}
	wg.Wait()
	if touch(behind, "relative") == nil {
		t.Error("a process that stands among the originals wrote to one")
	}
	for _, path := range []string{"closed/open/b", "c"} {
		if err := touch(behind, filepath.Join(dir, path)); err != nil {
			t.Errorf("a process behind the fence cannot write to %s: %v", path, err)
		}
	}
	if err := touch(launch.Place{}, filepath.Join(dir, "closed/a")); err != nil {
		t.Errorf("a process outside cannot write: %v", err)
	}
	if err := os.WriteFile(filepath.Join(dir, "closed/ours"), nil, 0o644); err != nil {
		t.Errorf("we cannot write ourselves: %v", err)
	}
	f.Close()
	if err := f.Do(func() { t.Error("a fence that is gone let somebody in") }); err == nil {
		t.Error("a fence that is gone says nothing")
	}
}

func TestAPanicBehindTheFenceIsTheCallers(t *testing.T) {
	f := fence(t, t.TempDir())
	defer func() {
		if recover() != "tide" {
			t.Error("the panic got lost")
		}
		ran := false
		if err := f.Do(func() { ran = true }); err != nil || !ran {
			t.Errorf("the fence is of no use afterwards: %v", err)
		}
	}()
	f.Do(func() { panic("tide") })
}
