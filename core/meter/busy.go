package meter

import (
	"bytes"
	"os"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/procfs"
)

// The kernel's own account of how busy processors are comes in ticks of some milliseconds for each of them, which is
// too coarse for a short heat. Where the scheduler, or a control group that holds everything, counts to the nanosecond,
// that is taken instead.

// busyClock reads how long all processors together have run anything, to the nanosecond.
type busyClock func() (time.Duration, bool)

// exactBusy is the best such clock of this machine; nil where there is none.
var exactBusy = sync.OnceValue(func() busyClock {
	for _, clock := range []busyClock{
		scheduled,
		func() (time.Duration, bool) {
			return number("/sys/fs/cgroup/cpuacct/cpuacct.usage", "", time.Nanosecond)
		},
		func() (time.Duration, bool) {
			return number("/sys/fs/cgroup/cpu,cpuacct/cpuacct.usage", "", time.Nanosecond)
		},
		func() (time.Duration, bool) {
			return number("/sys/fs/cgroup/cpu.stat", "usage_usec ", time.Microsecond)
		},
	} {
		if ofAll(clock) {
			return clock
		}
	}
	return nil
})

// ofAll reports whether a clock counts the whole machine: a group that is the root of a container counts the container.
func ofAll(clock busyClock) bool {
	const least = 0.9 // of what the ticks say since the machine was started; interrupts are in the ticks alone
	busy, ok := clock()
	if !ok {
		return false
	}
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return false
	}
	stat, err := proc.Stat()
	if err != nil {
		return false
	}
	c := stat.CPUTotal
	return busy.Seconds() > least*(c.User+c.Nice+c.System)
}

// scheduled adds up what the scheduler says of each processor.
func scheduled() (sum time.Duration, ok bool) {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return 0, false
	}
	stat, err := proc.Schedstat()
	if err != nil {
		return 0, false
	}
	for _, cpu := range stat.CPUs {
		sum += time.Duration(cpu.RunningNanoseconds)
	}
	return sum, sum > 0
}

// number is a length of time that stands in a file, behind a name at the start of it.
func number(path, name string, unit time.Duration) (time.Duration, bool) {
	text, err := os.ReadFile(path)
	if err != nil {
		return 0, false
	}
	rest, found := bytes.CutPrefix(text, []byte(name))
	words := bytes.Fields(rest)
	if !found || len(words) == 0 {
		return 0, false
	}
	n, err := strconv.ParseInt(string(words[0]), 10, 64)
	return time.Duration(n) * unit, err == nil
}
