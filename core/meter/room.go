package meter

import (
	"math"
	"os"
	"strconv"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"
)

// Room is what of things that are limited we may still have. math.MaxInt is no limit, or one that cannot be found out.
type Room struct {
	Descriptors, MostDescriptors int // left, and in all
	Processes, MostProcesses     int // and threads, of this user
}

// ReadRoom looks at what is left just now.
func ReadRoom() Room {
	r := Room{math.MaxInt, math.MaxInt, math.MaxInt, math.MaxInt}
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) == nil && limit.Cur < math.MaxInt32 {
		if open, err := os.ReadDir("/proc/self/fd"); err == nil {
			r.MostDescriptors = int(limit.Cur)
			r.Descriptors = max(r.MostDescriptors-len(open), 0)
		}
	}
	// The kernel holds nobody to it who may do without limits.
	if unix.Getrlimit(unix.RLIMIT_NPROC, &limit) == nil && limit.Cur < math.MaxInt32 && os.Getuid() != 0 {
		r.MostProcesses = int(limit.Cur)
		r.Processes = max(r.MostProcesses-tasks(uint64(os.Getuid())), 0)
	}
	return r
}

// tasks counts the processes and threads of a user.
func tasks(user uint64) (n int) {
	procs, err := procfs.AllProcs()
	if err != nil {
		return 0
	}
	for _, p := range procs {
		if status, err := p.NewStatus(); err == nil && status.UIDs[0] == user {
			threads, err := os.ReadDir("/proc/" + strconv.Itoa(p.PID) + "/task")
			if err == nil {
				n += len(threads)
			}
		}
	}
	return n
}
