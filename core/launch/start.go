package launch

import (
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
