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

// own starts two processes, one of which it lets go of, says their numbers and waits to be killed.
func own() {
	k, err := keeper.Shared()
	if err != nil {
		panic(err)
	}
	for _, hold := range []bool{true, false} {
		seat, err := k.Seat()
		if err != nil {
			panic(err)
		}
		cmd := exec.Command("sh", "-c", "sleep 60 & wait")
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := cmd.Start(); err != nil {
			panic(err)
		}
		seat.Hold(cmd.Process.Pid)
		if !hold {
			seat.Clear()
		}
		fmt.Println(cmd.Process.Pid)
	}
	select {}
}

func alive(pid int) bool {
	stat, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err == nil && !strings.Contains(string(stat), ") Z ")
}

func TestGroupsDieWithAKilledOwner(t *testing.T) {
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
	for len(pids) < 2 && lines.Scan() {
		pid, err := strconv.Atoi(lines.Text())
		if err != nil {
			t.Fatal(err)
		}
		pids = append(pids, pid)
	}
	if len(pids) != 2 {
		t.Fatal("the owner started nothing")
	}
	held, let := pids[0], pids[1]
	t.Cleanup(func() { syscall.Kill(-let, syscall.SIGKILL) })
	if !alive(held) || !alive(let) {
		t.Fatal("the processes ended before their owner")
	}
	if err := owner.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	owner.Wait()
	deadline := time.Now().Add(10 * time.Second)
	for alive(held) {
		if time.Now().After(deadline) {
			t.Fatalf("process %d outlived its killed owner", held)
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
