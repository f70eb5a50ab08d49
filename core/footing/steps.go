package footing

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"

	"paceduel/core/keeper"
	"paceduel/core/launch"
)

// stepLimit is how long a step may take.
const stepLimit = 10 * time.Minute

// StepError is a step that failed; it stops what it was to prepare.
type StepError struct {
	When string // "before run"
	Line string
	Why  string
	Said string // the end of its output
}

func (e *StepError) Error() string {
	text := fmt.Sprintf("%s: %s: %s", e.When, e.Line, e.Why)
	if e.Said != "" {
		text += ": " + e.Said
	}
	return text
}

// scope is the time for which what steps start goes on: a step may leave a process running, which ends with its scope
// and in any case with us.
type scope struct {
	seats  []*keeper.Seat
	groups []int
	mark   keeper.Mark // of all its steps' processes; empty until there is a step
}

// maxSaid is what is kept of a step's output, from its end.
const maxSaid = 2 << 10

// step runs one shell line in dir, at a place, and returns the end of what it printed. What it leaves running belongs
// to s.
func (s *scope) step(
	ctx context.Context, when, line, dir string, env []string, at launch.Place,
) (said string, err error) {
	fail := func(why string) (string, error) { return said, &StepError{when, line, why, said} }
	k, err := keeper.Shared()
	if err != nil {
		return fail(err.Error())
	}
	seat, err := k.Seat()
	if err != nil {
		return fail(err.Error())
	}
	fd, err := unix.MemfdCreate("paceduel-step", unix.MFD_CLOEXEC)
	if err != nil {
		seat.Release()
		return fail("keep its output in memory: " + err.Error())
	}
	out := os.NewFile(uintptr(fd), "output")
	defer out.Close()
	limited, cancel := context.WithTimeout(ctx, stepLimit)
	defer cancel()
	cmd := exec.CommandContext(limited, "/bin/sh", "-c", line)
	if s.mark == "" {
		s.mark = keeper.NewMark()
	}
	// a file: nobody who holds on to it is waited for
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = dir, launch.Environment(dir, append(env, string(s.mark))...), out, out
	if err := launch.Start(cmd, at, seat); err != nil {
		seat.Release()
		return fail(err.Error())
	}
	group := cmd.Process.Pid
	err = cmd.Wait()
	said = tail(out)
	if syscall.Kill(-group, 0) == nil {
		s.seats, s.groups = append(s.seats, seat), append(s.groups, group)
	} else {
		seat.Release()
	}
	switch exit := (*exec.ExitError)(nil); {
	case ctx.Err() != nil:
		return said, ctx.Err()
	case limited.Err() != nil:
		return fail(fmt.Sprintf("not done after %s, ended", stepLimit))
	case errors.As(err, &exit):
		return fail(strings.Replace(exit.Error(), "exit status", "exit code", 1))
	case err != nil:
		return fail(err.Error())
	}
	return said, nil
}

// end ends what the scope's steps left running. A group's number may have passed to strangers by now, so only members
// of our own session are ended.
func (s *scope) end() {
	for i, group := range s.groups {
		if ours(group) {
			syscall.Kill(-group, syscall.SIGKILL)
		}
		keeper.EndGroup(group)
		s.seats[i].Release()
	}
	s.seats, s.groups = nil, nil
	if s.mark == "" {
		return
	}
	if k, err := keeper.Shared(); err == nil {
		k.EndAllAdopted(s.mark) // what left its step's group
	}
}

func ours(group int) bool {
	session, err := unix.Getsid(0)
	if err != nil {
		return false
	}
	procs, err := procfs.AllProcs()
	if err != nil {
		return false
	}
	for _, p := range procs {
		if stat, err := p.Stat(); err == nil && stat.PGRP == group && stat.Session == session {
			return true
		}
	}
	return false
}

func tail(f *os.File) string {
	info, err := f.Stat()
	if err != nil {
		return ""
	}
	buf := make([]byte, min(info.Size(), maxSaid))
	n, _ := f.ReadAt(buf, info.Size()-int64(len(buf)))
	return strings.TrimSpace(strings.ToValidUTF8(string(buf[:n]), "·"))
}
