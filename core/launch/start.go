package launch

import (
	"cmp"
	"os/exec"
	"syscall"

	"paceduel/core/keeper"
)

// Start starts cmd at its place, as the leader of a process group of its own that sits in seat. A context of cmd that
// ends kills the whole group.
func Start(cmd *exec.Cmd, at Place, seat *keeper.Seat) error {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true
	if u := at.as; u != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: u.ID, Gid: u.Main, Groups: u.More}
	}
	if cmd.Cancel != nil { // it has a context
		cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	}
	cmd.Dir = Absolute(cmd.Dir) // behind a fence we stand elsewhere
	_, err := at.Start(func() (int, error) {
		return seat.Begin(func() (int, error) {
			if err := cmd.Start(); err != nil {
				return 0, err
			}
			return cmd.Process.Pid, nil
		})
	})
	return err
}

// Enclosure is something that a process is to be in from its creation on, as a control group.
type Enclosure interface {
	// Start has begin start a process in it. attr is what that process is to be started with.
	Start(attr *syscall.SysProcAttr, begin func() error) error
}

// StartIn starts cmd as Start does, in an enclosure where there is one; soon is called just before its creation.
func StartIn(cmd *exec.Cmd, at Place, seat *keeper.Seat, in Enclosure, soon func()) error {
	if in == nil {
		soon()
		return Start(cmd, at, seat)
	}
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	var err error
	outside := at.Do(func() { // a thread that is a member of the enclosure creates it
		err = in.Start(cmd.SysProcAttr, func() error {
			soon()
			return Start(cmd, at.Inside(), seat)
		})
	})
	return cmp.Or(outside, err)
}
