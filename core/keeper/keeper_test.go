package keeper_test

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"paceduel/core/keeper"
)

const (
	asOwner = "PACEDUEL_TEST_OWNER"
	asDying = "PACEDUEL_TEST_DYING"
)

// TestMain lets this test's binary play the keeper, and the owner that is to be killed.
func TestMain(m *testing.M) {
	keeper.Run()
	if os.Getenv(asOwner) != "" {
		own()
	}
	os.Exit(m.Run())
}

// own starts processes in every way in which one may hope to outlive us, and one that is not ours to end. It says their
// numbers, has a folder removed after it, and waits to be killed.
func own() {
	k, err := keeper.Shared()
	if err != nil {
		panic(err)
	}
	begin := func(start func(*exec.Cmd, *keeper.Seat) error, env []string, words ...string) {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		cmd.Env, cmd.Stderr = env, os.Stderr
		out, err := cmd.StdoutPipe()
		if err != nil {
			panic(err)
		}
		seat, err := k.Seat()
		if err != nil {
			panic(err)
		}
		if err := start(cmd, seat); err != nil {
			panic(err)
		}
		line, err := bufio.NewReader(out).ReadString('\n')
		if err != nil {
			panic(err)
		}
		fmt.Print(line)
		if words[0] == "setsid" { // its first process has ended: what is left falls to us
			cmd.Process.Wait()
		}
	}
	seated := func(cmd *exec.Cmd, seat *keeper.Seat) error {
		_, err := seat.Begin(func() (int, error) { err := cmd.Start(); return pidOf(cmd), err })
		return err
	}
	alone := func(cmd *exec.Cmd, _ *keeper.Seat) error { return cmd.Start() }
	outside := func(cmd *exec.Cmd, _ *keeper.Seat) error {
		return keeper.Outside(func() (int, error) { err := cmd.Start(); return pidOf(cmd), err })
	}
	const stay = "echo $$; sleep 60 & wait"
	begin(seated, nil, "sh", "-c", stay)
	begin(alone, append(os.Environ(), string(keeper.NewMark())), "setsid", "--fork", "sh", "-c", stay)
	begin(alone, []string{"PATH=" + os.Getenv("PATH")}, "setsid", "--fork", "sh", "-c", stay)
	// its parent goes on
	begin(seated, nil, "sh", "-c", "setsid env -i sh -c '"+strings.ReplaceAll(stay, "sleep", "/bin/sleep")+"' & sleep 60")
	begin(outside, []string{"PATH=" + os.Getenv("PATH")}, "sh", "-c", stay)
	k.RemoveAfter(filepath.Join(os.Getenv(asOwner), "whole"))
	k.RemoveEmptyAfter(filepath.Join(os.Getenv(asOwner), "full"))
	k.RemoveEmptyAfter(filepath.Join(os.Getenv(asOwner), "empty"))
	k.RemoveAfter(filepath.Join(os.Getenv(asOwner), "kept"))()
	fmt.Println("ready")
	if os.Getenv(asDying) != "" {
		closePipes()
	}
	select {}
}

// closePipes is what the system does first with a process that ends.
func closePipes() {
	open, _ := os.ReadDir("/proc/self/fd")
	for _, entry := range open {
		fd, _ := strconv.Atoi(entry.Name())
		if to, _ := os.Readlink("/proc/self/fd/" + entry.Name()); fd > 2 && strings.HasPrefix(to, "pipe:") {
			syscall.Close(fd)
		}
	}
}

func pidOf(cmd *exec.Cmd) int {
	if cmd.Process == nil {
		return 0
	}
	return cmd.Process.Pid
}

func alive(pid int) bool {
	stat, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err == nil && !strings.Contains(string(stat), ") Z ")
}

func TestAllDiesWithAKilledOwner(t *testing.T) {
	t.Run("gone", func(t *testing.T) { allDies(t, false) })
	t.Run("about to go", func(t *testing.T) { allDies(t, true) })
}

// allDies has an owner killed, or only lose its pipe to the keeper, as it does shortly before it is gone. It
// is long since its cases are listed in it.
func allDies(t *testing.T, dying bool) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for _, folder := range []string{"whole/of/it", "full/of/it", "empty", "kept"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(filepath.Join(dir, "whole/of"), 0o500); err != nil {
		t.Fatal(err)
	}
	owner := exec.Command(self)
	owner.Env = append(os.Environ(), asOwner+"="+dir)
	if dying {
		owner.Env = append(owner.Env, asDying+"=1")
	}
	owner.Stderr = os.Stderr
	out, err := owner.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := owner.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	var pids []int
	for lines.Scan() && lines.Text() != "ready" {
		pid, err := strconv.Atoi(lines.Text())
		if err != nil {
			t.Fatal(err)
		}
		pids = append(pids, pid)
	}
	ways := []string{
		"in a seat", "in a session of its own, with a mark",
		"in a session of its own, without environment, its parent gone",
		"the same, its parent there", "the user's",
	}
	if len(pids) != len(ways) {
		t.Fatalf("the owner started %d processes; want %d", len(pids), len(ways))
	}
	theirs := pids[len(pids)-1]
	t.Cleanup(func() { syscall.Kill(-theirs, syscall.SIGKILL) })
	if dying {
		defer owner.Wait()
		defer owner.Process.Kill()
	} else {
		for i, pid := range pids {
			if !alive(pid) {
				t.Fatalf("the process %s ended before its owner", ways[i])
			}
		}
		if err := owner.Process.Signal(syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		owner.Wait()
	}
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) {
		var left []string
		for i, pid := range pids[:len(pids)-1] {
			if alive(pid) {
				left = append(left, ways[i])
			}
		}
		for _, folder := range []string{"whole", "empty"} {
			if _, err := os.Stat(filepath.Join(dir, folder)); err == nil {
				left = append(left, "the folder "+folder)
			}
		}
		if left == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("left of a killed owner: %q", left)
		}
	}
	if !alive(theirs) {
		t.Error("the user's process was ended, too")
	}
	for _, folder := range []string{"kept", "full"} {
		if _, err := os.Stat(filepath.Join(dir, folder)); err != nil {
			t.Errorf("the folder %s is gone", folder)
		}
	}
}

// What threw away its mark and left its group ends all the same, once nothing goes on that it may belong to; what is
// the user's stays.
func TestStraysEnd(t *testing.T) {
	k, err := keeper.Shared()
	if err != nil {
		t.Fatal(err)
	}
	if !k.Adopts() {
		t.Skip("processes of ended parents do not fall to us here")
	}
	leave := func(start func(*exec.Cmd) error) int {
		t.Helper()
		cmd := exec.Command("setsid", "--fork", "sh", "-c", "echo $$; exec sleep 60")
		cmd.Env = []string{"PATH=" + os.Getenv("PATH")}
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := start(cmd); err != nil {
			t.Fatal(err)
		}
		line, err := bufio.NewReader(out).ReadString('\n')
		if err != nil {
			t.Fatal(err)
		}
		cmd.Process.Wait()
		pid, err := strconv.Atoi(strings.TrimSpace(line))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { syscall.Kill(-pid, syscall.SIGKILL) })
		return pid
	}
	stray := leave((*exec.Cmd).Start)
	if n := keeper.EndStrays(); n != 1 || alive(stray) {
		t.Errorf("%d processes were ended, and the stray is alive: %t; want it ended, and nobody else", n, alive(stray))
	}
	if n := keeper.EndStrays(); n != 0 {
		t.Errorf("%d processes were ended for strays where there are none", n)
	}
}

func TestSeatsAreReused(t *testing.T) {
	k, err := keeper.Shared()
	if err != nil {
		t.Fatal(err)
	}
	var seats []*keeper.Seat
	for {
		s, err := k.Seat()
		if err != nil {
			break
		}
		seats = append(seats, s)
	}
	if len(seats) == 0 {
		t.Fatal("no seat at all")
	}
	seats[0].Release()
	again, err := k.Seat()
	if err != nil {
		t.Fatalf("a released seat is not given again: %v", err)
	}
	again.Release()
	for _, s := range seats[1:] {
		s.Release()
	}
}

// What left its group for a session of its own falls to us and is found by its mark, with all that it started; others'
// are left alone.
func TestAdoptedProcessesEndByTheirMark(t *testing.T) {
	k, err := keeper.Shared()
	if err != nil {
		t.Fatal(err)
	}
	if !k.Adopts() {
		t.Skip("processes of ended parents do not fall to us here")
	}
	leave := func(m keeper.Mark) (session int) {
		t.Helper()
		cmd := exec.Command("sh", "-c", "setsid sh -c 'sleep 60 & echo $$; wait' & sleep 0.01")
		cmd.Env = append(os.Environ(), string(m))
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		lines := bufio.NewScanner(out)
		lines.Scan()
		if session, err = strconv.Atoi(lines.Text()); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { syscall.Kill(-session, syscall.SIGKILL) })
		out.Close()
		cmd.Process.Wait()
		return session
	}
	mine, others := keeper.NewMark(), keeper.NewMark()
	ended, stays := leave(mine), leave(others)
	if n := k.EndAllAdopted(mine); n != 2 {
		t.Errorf("%d processes were ended; want the session's first and its child", n)
	}
	if alive(ended) || !alive(stays) {
		t.Errorf("the one with the mark is alive: %t, the other: %t", alive(ended), alive(stays))
	}
	if n := k.EndAllAdopted(keeper.RunMark()); n != 0 {
		t.Errorf("%d processes with marks of their own were taken for others", n)
	}
	if n := k.EndAllAdopted(others); n != 2 {
		t.Errorf("%d processes of the other mark were ended; want 2", n)
	}
}

// The end of a child wakes nobody here, and the child can be waited for all the same.
func TestEndsWakeNobody(t *testing.T) {
	if _, err := keeper.Shared(); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Fatal(err)
	}
	handled, ignored := uint64(0), uint64(0)
	for line := range strings.Lines(string(text)) {
		fmt.Sscanf(line, "SigCgt: %x", &handled)
		fmt.Sscanf(line, "SigIgn: %x", &ignored)
	}
	const ends = 1 << (syscall.SIGCHLD - 1)
	if handled == 0 || handled&ends != 0 || ignored&ends != 0 {
		t.Errorf("signals %x are handled and %x ignored; that of ends, %x, is to be in neither", handled, ignored, ends)
	}
	cmd := exec.Command("sh", "-c", "exit 3")
	if err := cmd.Run(); cmd.ProcessState.ExitCode() != 3 {
		t.Errorf("a child that ended with 3 is told as %v", err)
	}
}
