package keeper

import (
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// ReapLimit bounds the wait for processes that were killed.
const ReapLimit = 200 * time.Millisecond

// EndGroup ends and waits for what is left of a group whose leader was reaped, and returns how many processes it was
// and what they had used. What is left has fallen to us, so that the group's number is its own as long as there is
// anybody.
func EndGroup(group int) (n int, usage syscall.Rusage) {
	deadline := time.Time{}
	for {
		var own syscall.Rusage
		pid, err := syscall.Wait4(-group, nil, syscall.WNOHANG|unix.WALL, &own)
		switch {
		case err == syscall.EINTR:
		case err != nil:
			return n, usage // ECHILD: nobody
		case pid > 0:
			n++
			AddUsage(&usage, own)
		case deadline.IsZero():
			syscall.Kill(-group, syscall.SIGKILL)
			deadline = time.Now().Add(ReapLimit)
		case time.Now().After(deadline):
			return n, usage
		default:
			time.Sleep(50 * time.Microsecond) // it is dying
		}
	}
}

// AddUsage adds what others used.
func AddUsage(to *syscall.Rusage, o syscall.Rusage) {
	to.Utime = syscall.NsecToTimeval(to.Utime.Nano() + o.Utime.Nano())
	to.Stime = syscall.NsecToTimeval(to.Stime.Nano() + o.Stime.Nano())
	to.Nvcsw += o.Nvcsw
	to.Nivcsw += o.Nivcsw
	to.Minflt += o.Minflt
	to.Majflt += o.Majflt
	to.Inblock += o.Inblock
	to.Oublock += o.Oublock
}
