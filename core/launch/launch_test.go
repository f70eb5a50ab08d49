package launch_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"paceduel/core/launch"
	"paceduel/core/plan"
)

func TestProgramsAreFoundOnce(t *testing.T) {
	workspace, beside, onPath := t.TempDir(), t.TempDir(), t.TempDir()
	put := func(path string, mode os.FileMode) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte("#!/bin/sh\n"), mode); err != nil {
			t.Fatal(err)
		}
	}
	put(filepath.Join(workspace, "bin/both"), 0o755)
	put(filepath.Join(beside, "bin/both"), 0o755)
	put(filepath.Join(beside, "bin/beside"), 0o755)
	put(filepath.Join(workspace, "bin/text"), 0o644)
	put(filepath.Join(onPath, "berth-packer"), 0o755)
	t.Setenv("PATH", onPath)
	tests := []struct {
		name, given string
		want, says  string
	}{
		{"in the first folder", "bin/both", filepath.Join(workspace, "bin/both"), ""},
		{"in the second", "./bin/beside", filepath.Join(beside, "bin/beside"), ""},
		{"in neither", "bin/none", "", "run " + filepath.Join(workspace, "bin/none") + ": no such file or directory"},
		{"not to be run", "bin/text", "", "bin/text: it is there, but not executable; chmod +x "},
		{"absolute", filepath.Join(beside, "bin/beside"), filepath.Join(beside, "bin/beside"), ""},
		{"on PATH", "berth-packer", filepath.Join(onPath, "berth-packer"), ""},
		{"nearly on PATH", "berth-paker", "", "no such program on PATH; did you mean berth-packer?"},
		{"two letters in each other's place", "brethp-acker", "", "did you mean berth-packer?"},
		{"nowhere", "no-such-tool-at-all", "", "no such program on PATH; install it, or name it with its folder"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := launch.Program(tt.given, workspace, beside)
			if got != tt.want || (err == nil) != (tt.says == "") || err != nil && !strings.Contains(err.Error(), tt.says) {
				t.Errorf("Program(%q) = %q, %v; want %q, %q", tt.given, got, err, tt.want, tt.says)
			}
		})
	}
	put(filepath.Join(beside, "board"), 0o755)
	t.Chdir(beside) // a plan that is named without its folder
	for _, given := range []string{"./board", "./bin/../board"} {
		if got, err := launch.Program(given, "."); got != filepath.Join(beside, "board") {
			t.Errorf("Program(%q) where the plan's folder is ours = %q, %v", given, got, err)
		}
	}
	if _, err := launch.Program("bin/none", workspace); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what is not there is %v", err)
	}
}

// A process begins on its processors, and we are back on ours, also when it cannot be created.
func TestPlaces(t *testing.T) {
	ours := launch.Allowed()
	if len(ours) < 2 {
		t.Skip("there is one processor for us")
	}
	one := ours[len(ours)-1:]
	failed := errors.New("cannot be created")
	tests := []struct {
		name string
		cpus plan.CPUs
		err  error
		want plan.CPUs // while it is created
	}{
		{"anywhere", nil, nil, ours},
		{"on one", one, nil, one},
		{"on one that is not there", plan.CPUs{1023}, nil, ours},
		{"on one and one that is not there", plan.CPUs{one[0], 1023}, nil, one},
		{"on one, in vain", one, failed, one},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var there plan.CPUs
			pid, err := launch.At(tt.cpus, 0, nil).Start(func() (int, error) {
				there = launch.Allowed()
				return os.Getpid(), tt.err
			})
			if pid != os.Getpid() || err != tt.err || !slices.Equal(there, tt.want) {
				t.Errorf("created on %v with %d, %v; want %v", there, pid, err, tt.want)
			}
			if now := launch.Allowed(); !slices.Equal(now, ours) {
				t.Errorf("we are on %v afterwards; want %v", now, ours)
			}
		})
	}
}

func TestNiceness(t *testing.T) {
	before, err := unix.Getpriority(unix.PRIO_PROCESS, 0)
	if err != nil {
		t.Fatal(err)
	}
	process, err := os.StartProcess("/bin/sleep", []string{"sleep", "60"}, &os.ProcAttr{})
	if err != nil {
		t.Fatal(err)
	}
	defer process.Wait()
	defer process.Kill()
	if _, err := launch.At(nil, 5, nil).Start(func() (int, error) { return process.Pid, nil }); err != nil {
		t.Fatal(err)
	}
	// The kernel tells 20 less the niceness.
	if now, err := unix.Getpriority(unix.PRIO_PROCESS, process.Pid); err != nil || now != 20-5 && before == 20 {
		t.Errorf("niceness told as %d, %v; want 15", now, err)
	}
}
