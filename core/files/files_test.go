package files_test

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

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

// A name may stand for a device, a pipe or another file: none of them becomes a file.
func TestWhatIsNoFileStaysWhatItIs(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	say := func(w io.Writer) error { _, err := fmt.Fprint(w, "six fathoms"); return err }
	if err := errors.Join(os.Mkdir(at("deep"), 0o700), os.WriteFile(at("deep/chart"), []byte("old"), 0o600),
		os.WriteFile(at("kept"), []byte("old"), 0o400), syscall.Mkfifo(at("read"), 0o600), syscall.Mkfifo(at("unread"),
			0o600),
		os.Symlink("deep/chart", at("link")), os.Symlink(at("none"), at("dangling")), os.Symlink("/dev/null", at("sink")),
		os.Symlink("/dev/full", at("full"))); err != nil {
		t.Fatal(err)
	}
	pipe, err := os.OpenFile(at("read"), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer pipe.Close()
	tests := []struct {
		name string
		want string // of the error; empty: it is written
		mode fs.FileMode
	}{
		{"sink", "", fs.ModeSymlink}, {"read", "", fs.ModeNamedPipe}, {"link", "", fs.ModeSymlink},
		{"full", "no space left on device", fs.ModeSymlink}, {"unread", "nobody reads from it", fs.ModeNamedPipe},
		{"deep", "it is a folder; name a file in it", fs.ModeDir}, {"dangling", "it is a link to nothing", fs.ModeSymlink},
		{"deep/chart/x", "not a directory", 0}, {"no/such", "make the folder " + at("no") + " first", 0},
	}
	for _, tt := range tests {
		err := files.Write(at(tt.name), say)
		if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
			t.Errorf("%s says %v; want %q", tt.name, err, tt.want)
		}
		if info, err := os.Lstat(at(tt.name)); err == nil && info.Mode().Type() != tt.mode {
			t.Errorf("%s is %v now", tt.name, info.Mode())
		}
		known := files.Writable(at(tt.name))
		if late := tt.name == "full" || tt.name == "unread"; (known == nil) != (tt.want == "" || late) {
			t.Errorf("%s, before it is written to: %v", tt.name, known)
		}
	}
	if text, err := os.ReadFile(at("deep/chart")); err != nil || string(text) != "six fathoms" {
		t.Errorf("what the link is of holds %q, %v", text, err)
	}
	text := make([]byte, 20)
	if n, err := pipe.Read(text); err != nil || string(text[:n]) != "six fathoms" {
		t.Errorf("the pipe got %q, %v", text[:n], err)
	}
	if files.Wrote(at("sink")) || !files.Wrote(at("deep/chart")) {
		t.Error("devices are not written by us, files are")
	}
	if f, err := files.Create(at("deep/chart")); !errors.Is(err, fs.ErrExist) || !strings.Contains(err.Error(),
		"stays as it is") {
		t.Errorf("a file that is there is made anew: %v, %v", f, err)
	}
}

// What our own output goes to is not replaced: what was written there before stays.
func TestOurOwnOutputIsWrittenTo(t *testing.T) {
	out, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	own := os.Stdout
	defer func() { os.Stdout = own }()
	os.Stdout = out
	fmt.Fprint(out, "before, ")
	err = files.WriteAll(fmt.Sprintf("/proc/self/fd/%d", out.Fd()), []byte("within, "))
	fmt.Fprint(out, "after")
	if text, readErr := os.ReadFile(out.Name()); err != nil || readErr != nil || string(text) != "before, within, after" {
		t.Errorf("%q, %v, %v", text, err, readErr)
	}
}

// What is write-protected is not written, also where its folder would let it be replaced.
func TestProtectedFilesStay(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "chart")
	if err := errors.Join(os.Chmod(filepath.Dir(dir), 0o755), os.Chmod(dir, 0o777), os.WriteFile(file, []byte("old"),
		0o600),
		os.Chmod(file, 0o444)); err != nil {
		t.Fatal(err)
	}
	written := make(chan error)
	go func() {
		if os.Geteuid() == 0 { // who may do everything is somebody else here, in a thread that ends with this
			runtime.LockOSThread()
			if err := unix.Setfsuid(65534); err != nil {
				t.Error(err)
			}
		}
		written <- files.WriteAll(file, []byte("new"))
	}()
	if err := <-written; !errors.Is(err, fs.ErrPermission) || !strings.Contains(err.Error(), "name another file") {
		t.Errorf("a file that is write-protected: %v", err)
	}
	if text, err := os.ReadFile(file); err != nil || string(text) != "old" {
		t.Errorf("%q, %v", text, err)
	}
}
