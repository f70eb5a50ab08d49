package files_test

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"paceduel/core/files"
)

func TestOnlyFilesOfASaneSizeAreOpened(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	if err := os.WriteFile(at("plan"), []byte("tide"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(syscall.Mkfifo(at("pipe"), 0o600), os.Symlink(
		at("plan"), at("link"),
	), os.Symlink("/dev/zero", at("zero")), os.Symlink(at("none"), at("dangling"))); err != nil {
		t.Fatal(err)
	}
	tests := []struct {
		path string
		most int64
		want string // of the error; empty: it is read
	}{
		{at("plan"), 4, ""}, {at("link"), 100, ""}, {at("plan"), 3, "its 4 B are more than the 3 B that are read"},
		{
			at("pipe"), 100, "it is a pipe, not a file",
		}, {at("zero"), 100, "it is a device, not a file"}, {dir, 100, "it is a folder, not a file"},
		{
			at("none"), 100, "no such file",
		}, {at("dangling"), 100, "no such file"}, {"/proc/self/mem", 100, "input/output error"},
	}
	for _, tt := range tests {
		text, err := files.Read(tt.path, tt.most)
		if tt.want == "" {
			if err != nil || string(text) != "tide" {
				t.Errorf("%s: %q, %v", tt.path, text, err)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s says %v; want %q", tt.path, err, tt.want)
		}
	}
	if _, err := files.Read("/proc/self/status", 10); err == nil {
		t.Error("a file that holds more than it says is read")
	}
}

func TestFilesAreWrittenWholeOrNotAtAll(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0o027))
	dir := t.TempDir()
	old, fresh := filepath.Join(dir, "old"), filepath.Join(dir, "fresh")
	if err := os.WriteFile(old, []byte("before"), 0o600); err != nil {
		t.Fatal(err)
	}
	say := func(text string, err error) func(io.Writer) error {
		return func(w io.Writer) error {
			fmt.Fprint(w, text)
			return err
		}
	}
	failed := errors.New("no more ink")
	if err := files.Write(old, say("half", failed)); !errors.Is(err, failed) || !strings.Contains(err.Error(), old) {
		t.Errorf("a write that fails says %v", err)
	}
	for path, want := range map[string]string{old: "before 600", fresh: "after 640"} {
		if path == fresh {
			if err := files.Write(fresh, say("after", nil)); err != nil {
				t.Fatal(err)
			}
		}
		text, err := os.ReadFile(path)
		info, statErr := os.Stat(path)
		if err != nil || statErr != nil || fmt.Sprintf("%s %o", text, info.Mode().Perm()) != want {
			t.Errorf("%s holds %q with %v; want %s", path, text, info.Mode(), want)
		}
	}
	if err := files.Write(old, say("after", nil)); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(old); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("a file that was there has the rights %v now, %v", info.Mode(), err)
	}
	if err := files.Write(filepath.Join(dir, "no/such"), say("x", nil)); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("where there is no folder: %v", err)
	}
	if left, err := filepath.Glob(filepath.Join(dir, ".*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %q, %v", left, err)
	}
}
