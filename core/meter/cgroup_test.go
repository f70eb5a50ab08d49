package meter

import (
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/prometheus/procfs"
)

func TestWhereGroupsAre(t *testing.T) {
	dir := t.TempDir()
	for _, own := range []string{"user", "user/app", "user/app/ours"} {
		if err := os.MkdirAll(filepath.Join(dir, own), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for at, text := range map[string]string{"user": "cpu memory pids", "user/app": "cpu memory", "user/app/ours": ""} {
		if err := os.WriteFile(filepath.Join(dir, at, "cgroup.subtree_control"), []byte(text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	unified := "40 31 0:37 / " + dir + " rw,relatime - cgroup2 cgroup2 rw\n"
	split := "32 31 0:29 / /c/cpu rw - cgroup cgroup rw,cpu\n33 31 0:30 / /c/acct rw - cgroup cgroup rw,cpuacct\n35 31 " +
		"0:32 /box /c/memory rw - cgroup cgroup rw,memory\n"
	joined := "32 31 0:29 / /c/both rw - cgroup cgroup rw,cpu,cpuacct\n35 31 0:32 / /c/memory rw - cgroup cgroup " +
		"rw,memory\n"
	tests := []struct {
		name, mounts, ours string
		limited, all       string // folders of a group without a limit of time, and with
	}{
		{"unified", unified, "0::/user/app/ours\n", dir + "/user/app", dir + "/user/app"},
		{
			"split", split, "4:memory:/box/in\n2:cpuacct:/\n1:cpu:/x\n", "/c/memory/in /c/acct", "/c/memory/in /c/acct /c/cpu/x",
		},
		{"joined", joined, "4:memory:/\n1:cpu,cpuacct:/x\n", "/c/memory", "/c/memory /c/both/x"},
		{"none", "22 1 0:20 / /proc rw - proc proc rw\n", "0::/\n", "", ""},
		{"broken", "x - y\n - \n", "::\n:\n", "", ""},
	}
	for _, tt := range tests {
		h, err := findHierarchy(procOf(t, map[string]string{"7/mountinfo": tt.mounts, "7/cgroup": tt.ours}))
		if (err != nil) != (tt.name == "broken") {
			t.Errorf("%s: %v", tt.name, err)
		}
		if h == nil {
			if tt.all != "" {
				t.Errorf("%s: no hierarchy", tt.name)
			}
			continue
		}
		if got := strings.Join(h.folders(true), " "); got != tt.all {
			t.Errorf("%s: folders %s; want %s", tt.name, got, tt.all)
		}
		if got := strings.Join(h.folders(false), " "); tt.name == "split" && got != tt.limited {
			t.Errorf("%s: folders without a limit of time %s; want %s", tt.name, got, tt.limited)
		}
	}
}

// procOf is a /proc that holds these files alone, and whose own process has the number 7.
func procOf(t *testing.T, files map[string]string) procfs.FS {
	t.Helper()
	dir := t.TempDir()
	if err := os.Symlink("7", filepath.Join(dir, "self")); err != nil {
		t.Fatal(err)
	}
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	proc, err := procfs.NewFS(dir)
	if err != nil {
		t.Fatal(err)
	}
	return proc
}

// A process that wants more than its group may have is killed, and that is known.
func TestAGroupIsLimited(t *testing.T) {
	h, err := Cgroups()
	if err != nil {
		t.Skipf("NOT TESTED: no control groups can be made here: %v", err)
	}
	g, err := h.NewGroup(Limits{Memory: 32 << 20, CPU: 0.5})
	if err != nil {
		t.Skipf("NOT TESTED: no control groups can be limited here: %v", err)
	}
	run := func(mib string) *os.ProcessState {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), "METER_TEST_HOLD="+mib)
		cmd.SysProcAttr = &syscall.SysProcAttr{}
		if err := g.Start(cmd.SysProcAttr, cmd.Start); err != nil {
			t.Fatal(err)
		}
		cmd.Wait()
		return cmd.ProcessState
	}
	if s := run("1"); !s.Success() || g.Killed() != 0 {
		t.Errorf("one within its limit: %v, %d killed", s, g.Killed())
	}
	before := g.CPU()
	if before <= 0 {
		t.Errorf("it used no time: %v", before)
	}
	if s := run("200"); s.Success() || g.Killed() != 1 {
		t.Errorf("one over its limit: %v, %d killed", s, g.Killed())
	}
	if g.CPU() <= before {
		t.Errorf("time did not go on: %v, then %v", before, g.CPU())
	}
	g.Remove()
	for _, dir := range h.folders(true) {
		if left, _ := filepath.Glob(filepath.Join(dir, g.name)); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	}
}

// What a killed program of ours left is removed by the next, what is in use is not.
func TestStaleGroupsAreRemoved(t *testing.T) {
	dir := t.TempDir()
	stale := filepath.Join(dir, groupPrefix+"999999999-1")
	used := filepath.Join(dir, groupPrefix+"1-1")
	other := filepath.Join(dir, "else-999999999-1")
	for _, d := range []string{stale, used, other} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	removeStale(dir)
	for d, want := range map[string]bool{stale: false, used: true, other: true} {
		if _, err := os.Stat(d); (err == nil) != want {
			t.Errorf("%s is there: %v; want %v", d, err == nil, want)
		}
	}
}

func TestWhoListens(t *testing.T) {
	const head = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n"
	proc := procOf(t, map[string]string{
		"net/tcp": head + `   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 4711 1 0
   1: 0100007F:1F90 0100007F:9C40 01 00000000:00000000 00:00000000 00000000     0        0 4712 1 0
   3: 0100007F:1F91 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 4714
`,
		"net/tcp6": head + "   0: " + strings.Repeat("0", 32) + ":1F90 " + strings.Repeat("0", 32) +
			":0000 0A 00000000:00000000 00:00000000 00000000 0 0 4713 1 0 100 0 0 10 0\n",
	})
	sockets := listening(proc, 8080)
	if len(sockets) != 2 || !sockets["socket:[4711]"] || !sockets["socket:[4713]"] {
		t.Errorf("sockets %v", sockets)
	}
	if sockets := listening(procOf(t, map[string]string{"net/tcp": head + "   4: nothing 0A\n"}), 8080); len(sockets) > 0 {
		t.Errorf("sockets %v in a broken table", sockets)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	if pid, err := Listener(port); err != nil || pid != os.Getpid() {
		t.Errorf("port %d belongs to %d, %v; want %d", port, pid, err, os.Getpid())
	}
	l.Close()
	if _, err := Listener(port); err == nil || !strings.Contains(err.Error(), "nothing listens") {
		t.Errorf("a port that was closed: %v", err)
	}
}
