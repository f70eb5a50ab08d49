// Package meter reads what a run costs and what else the machine is doing: our own CPU time and collector pauses, and
// the CPU time of everybody else.
//
// It reads counters and subtracts them; judging what a value means is left to package judge.
package meter

import (
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"
)

// Host is the machine as far as figures depend on it. What could not be found out is left empty.
type Host struct {
	OS          string `json:"os"`
	Kernel      string `json:"kernel,omitempty"`
	CPU         string `json:"cpu,omitempty"`
	Cores       int    `json:"cores"`
	MemoryBytes int64  `json:"memory_bytes,omitempty"`
	Go          string `json:"go"` // the runtime that drove the contenders
}

// ReadHost describes this machine.
func ReadHost() Host {
	h := Host{OS: runtime.GOOS + "/" + runtime.GOARCH, Cores: runtime.NumCPU(), Go: runtime.Version()}
	var name unix.Utsname
	if unix.Uname(&name) == nil {
		h.Kernel = unix.ByteSliceToString(name.Release[:])
	}
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return h
	}
	if cpus, err := proc.CPUInfo(); err == nil && len(cpus) > 0 {
		h.CPU = strings.TrimSpace(cpus[0].ModelName)
	}
	if mem, err := proc.Meminfo(); err == nil && mem.MemTotalBytes != nil {
		h.MemoryBytes = int64(*mem.MemTotalBytes)
	}
	return h
}

// Reading is the state of the counters at one moment.
type Reading struct {
	at      time.Time
	own     time.Duration // CPU time of this process
	kids    time.Duration // CPU time of children already waited for
	busy    time.Duration // of all processors, idle and waiting left out
	steal   time.Duration
	total   time.Duration
	cpus    int           // processors of the machine
	exact   time.Duration // busy, to the nanosecond
	isExact bool
	pauses  time.Duration
	collect int64
	// Time in which somebody waited for a processor, a disk or memory; negative where the kernel does not tell.
	pressure [3]time.Duration
	swapped  uint64 // bytes of memory that are on a disk
	free     int64  // bytes of memory that can be had without swapping; negative where the kernel does not tell
	mhz      float64
}

// pressures are the resources of Reading.pressure, as the kernel names them.
var pressures = [3]string{"cpu", "io", "memory"}

// Read takes a reading; it costs some 100 µs, so it stands before and after a heat, not in it.
func Read() Reading {
	r := Reading{at: time.Now()}
	var usage unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &usage) == nil {
		r.own = span(usage.Utime) + span(usage.Stime)
	}
	if unix.Getrusage(unix.RUSAGE_CHILDREN, &usage) == nil {
		r.kids = span(usage.Utime) + span(usage.Stime)
	}
	var gc debug.GCStats
	debug.ReadGCStats(&gc)
	r.pauses, r.collect = gc.PauseTotal, gc.NumGC
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return r
	}
	for i, resource := range pressures {
		r.pressure[i] = -1
		if psi, err := proc.PSIStatsForResource(resource); err == nil && psi.Some != nil {
			r.pressure[i] = time.Duration(psi.Some.Total) * time.Microsecond
		}
	}
	r.free = -1
	if vm, err := proc.Meminfo(); err == nil {
		if vm.SwapTotalBytes != nil && vm.SwapFreeBytes != nil {
			r.swapped = *vm.SwapTotalBytes - *vm.SwapFreeBytes
		}
		if vm.MemAvailableBytes != nil {
			r.free = int64(*vm.MemAvailableBytes)
		}
	}
	r.mhz = clockRate(proc)
	if stat, err := proc.Stat(); err == nil {
		c := stat.CPUTotal
		idle := c.Idle + c.Iowait
		used := c.User + c.Nice + c.System + c.IRQ + c.SoftIRQ
		r.busy, r.steal, r.total, r.cpus = seconds(used), seconds(c.Steal), seconds(used+idle+c.Steal), len(stat.CPU)
	}
	if clock := exactBusy(); clock != nil {
		r.exact, r.isExact = clock()
	}
	return r
}

// Children is the reading with so much more CPU time of children of ours, which have not ended yet.
func (r Reading) Children(used time.Duration) Reading {
	r.kids += used
	return r
}

// Library is the reading with so much less CPU time of ours, which a library took that runs within us.
func (r Reading) Library(used time.Duration) Reading {
	r.own -= used
	r.kids += used
	return r
}

// ShareOf is the share of all processors that so much CPU time is of what passed between two readings; 0 for none.
func ShareOf(a, b Reading, used time.Duration) float64 {
	if total := b.at.Sub(a.at).Seconds() * float64(b.cpus); total > 0 {
		return min(used.Seconds()/total, 1)
	}
	return 0
}

// clockRate is what the processors run at just now, on average, in MHz; 0 where nobody tells.
func clockRate(proc procfs.FS) (mean float64) {
	cpus, err := proc.CPUInfo()
	if err != nil {
		return 0
	}
	for _, c := range cpus {
		mean += c.CPUMHz / float64(len(cpus))
	}
	return mean
}

func span(t unix.Timeval) time.Duration { return time.Duration(t.Nano()) }

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// Conditions are what the machine was like during a span. Shares are of all processors, 0 to 1.
type Conditions struct {
	OwnFrac    float64 `json:"own_frac"`    // Pace Duel itself
	OthersFrac float64 `json:"others_frac"` // everybody else, a service under test included
	// OthersUnknown says that the span was too short for this machine's account of everybody else.
	OthersUnknown bool          `json:"others_unknown,omitempty"`
	StealFrac     float64       `json:"steal_frac"`            // taken by the machine below this one
	Pauses        time.Duration `json:"gc_pause_ns,omitempty"` // our collector's pauses, summed
	Collects      int64         `json:"gc_count,omitempty"`
	// Shares of the time in which somebody on this machine waited for a processor, a disk or memory (the kernel's pressure
	// stall information, "some"); absent where it does not tell.
	CPUPressure    float64 `json:"cpu_pressure_frac,omitempty"`
	DiskPressure   float64 `json:"disk_pressure_frac,omitempty"`
	MemoryPressure float64 `json:"memory_pressure_frac,omitempty"`
	SwapBytes      int64   `json:"swapped_bytes,omitempty"` // more memory on disks at the end than at the start
	FreeBytes      int64   `json:"free_bytes,omitempty"`    // of memory at the end; absent where the kernel does not tell
	// the slower of what the processors ran at before and after, on average; absent where nobody tells
	MHz float64 `json:"mhz,omitempty"`
}

// leastTicked is how long a span has to be for an account in ticks to say something of it.
const leastTicked = time.Second

// Between returns the conditions from a to b. Shares are of all processors over the time by the clock. Ours are exact;
// those of everybody else are, too, where the machine has such an account, and else come in ticks of some milliseconds
// a processor, so that they are not told of a short span.
func Between(a, b Reading) Conditions {
	c := Conditions{
		Pauses: b.pauses - a.pauses, Collects: b.collect - a.collect, FreeBytes: max(b.free, 0), MHz: min(a.mhz, b.mhz),
	}
	wall := b.at.Sub(a.at).Seconds()
	for i, into := range []*float64{&c.CPUPressure, &c.DiskPressure, &c.MemoryPressure} {
		if a.pressure[i] >= 0 && b.pressure[i] >= a.pressure[i] && wall > 0 {
			*into = min((b.pressure[i]-a.pressure[i]).Seconds()/wall, 1)
		}
	}
	if b.swapped > a.swapped {
		c.SwapBytes = int64(b.swapped - a.swapped)
	}
	if total := wall * float64(b.cpus); total > 0 {
		ours := (b.own - a.own).Seconds()
		c.OwnFrac = min(ours/total, 1)
		ours += (b.kids - a.kids).Seconds()
		switch {
		case a.isExact && b.isExact:
			c.OthersFrac = max(0, (b.exact-a.exact).Seconds()-ours) / total
		case wall >= leastTicked.Seconds():
			c.OthersFrac = max(0, (b.busy-a.busy).Seconds()-ours) / total
		default:
			c.OthersUnknown = true
		}
	}
	if total := (b.total - a.total).Seconds(); total > 0 {
		c.StealFrac = (b.steal - a.steal).Seconds() / total
	}
	return c
}
