package meter

import "github.com/prometheus/procfs"

// Load is what the machine is at just now. What could not be found out is negative.
type Load struct {
	Waiting   float64 // processes that run or want to, on average over the last minute
	FreeBytes int64   // of memory, without swapping
	SwapBytes int64   // in use
}

// Now reads the machine's load.
func Now() Load {
	l := Load{Waiting: -1, FreeBytes: -1, SwapBytes: -1}
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return l
	}
	if avg, err := proc.LoadAvg(); err == nil {
		l.Waiting = avg.Load1
	}
	if mem, err := proc.Meminfo(); err == nil {
		if mem.MemAvailableBytes != nil {
			l.FreeBytes = int64(*mem.MemAvailableBytes)
		}
		if mem.SwapTotalBytes != nil && mem.SwapFreeBytes != nil {
			l.SwapBytes = int64(*mem.SwapTotalBytes - *mem.SwapFreeBytes)
		}
	}
	return l
}
