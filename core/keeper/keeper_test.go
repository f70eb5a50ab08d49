package keeper_test

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"paceduel/core/keeper"
)

const asOwner = "PACEDUEL_TEST_OWNER"

// TestMain lets this test's binary play the keeper, and the owner that is to be killed.
func TestMain(m *testing.M) {
	keeper.Run()
	if os.Getenv(asOwner) != "" {
		own()
	}
	os.Exit(m.Run())
}

// own starts three processes: one in a seat, one that it lets go of, and one in a session of its own that carries a mark. It
// says their numbers and waits to be killed.
func own() {
	k, err := keeper.Shared()
	if err != nil {
		panic(err)
	}
	for _, how := range []string{"held", "let go", "marked"} {
		seat, err := k.Seat()
		if err != nil {
			panic(err)
		}
		cmd := exec.Command("sh", "-c", "sleep 60 & wait")
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if how == "marked" {
			cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
			cmd.Env = append(os.Environ(), string(keeper.NewMark()))
		}
		if err := cmd.Start(); err != nil {
			panic(err)
		}
		if how == "held" {
			seat.Hold(cmd.Process.Pid)
		}
		fmt.Println(cmd.Process.Pid)
	}
	select {}
}

func alive(pid int) bool {
	stat, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err == nil && !strings.Contains(string(stat), ") Z ")
}

func TestAllDiesWithAKilledOwner(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	owner := exec.Command(self)
	owner.Env = append(os.Environ(), asOwner+"=1")
	out, err := owner.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := owner.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	var pids []int
	for len(pids) < 3 && lines.Scan() {
		pid, err := strconv.Atoi(lines.Text())
		if err != nil {
			t.Fatal(err)
		}
		pids = append(pids, pid)
	}
	if len(pids) != 3 {
		t.Fatal("the owner started nothing")
	}
	held, let, marked := pids[0], pids[1], pids[2]
	t.Cleanup(func() { syscall.Kill(-let, syscall.SIGKILL) })
	if !alive(held) || !alive(let) || !alive(marked) {
		t.Fatal("the processes ended before their owner")
	}
	if err := owner.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	owner.Wait()
	deadline := time.Now().Add(10 * time.Second)
	for alive(held) || alive(marked) {
		if time.Now().After(deadline) {
			t.Fatalf("process %d in a seat: alive %t, %d with a mark: alive %t; want both to end with their owner", held, alive(held), marked, alive(marked))
		}
		time.Sleep(time.Millisecond)
	}
	if !alive(let) {
		t.Error("a group that was let go of was ended all the same")
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

// What left its group for a session of its own falls to us and is found by its mark, with all that it started; others' are
// left alone.
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
