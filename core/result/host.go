package result

import (
	"time"

	"paceduel/core/figure"
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

// Stakes are the plan's own figures, to translate the difference into time, servers and money.
type Stakes struct {
	RunsPerDay  float64 `json:"runs-per-day,omitempty"`
	MinutePrice float64 `json:"minute-price,omitempty"`
	PeakRate    float64 `json:"peak-rate,omitempty"`
	Spare       float64 `json:"spare,omitempty"`
	ServerPrice float64 `json:"server-price,omitempty"`
	Items       float64 `json:"items,omitempty"`
	// Prices are those of one of a figure's unit.
	Prices   map[figure.Name]float64 `json:"prices,omitempty"`
	Currency string                  `json:"currency,omitempty"`
}
