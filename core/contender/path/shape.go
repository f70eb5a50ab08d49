package path

import (
	"paceduel/core/shots"
	"paceduel/core/units"
)

// What is counted of each shot, by its place in the shape.
const (
	cpu = iota // user and system time of the worker
	kernel
	memory
	waits
	preemptions
	faults
	reads
	writes
	calls // that the way makes: opening, moving, closing
	data
)

var shape = shots.Shape{
	Amounts: []shots.Amount{
		cpu: {Name: shots.CPU, Unit: units.Second},
		kernel: {
			Name: "kernel", Unit: units.Second, Row: "of it in the kernel", Per: shots.PerShot, Site: shots.Takes,
		},
		memory: {Name: shots.Memory, Unit: units.Byte, Fold: shots.Most},
		waits:  {Name: "waits", Unit: "waits", Row: "waits a run", Per: shots.PerShot, Site: shots.Uses},
		preemptions: {
			Name: "preemptions", Unit: "preemptions", Row: "preemptions a run", Per: shots.PerShot, Site: shots.Uses,
		},
		faults: {Name: "page faults", Unit: "faults", Row: "page faults a run", Per: shots.PerShot, Site: shots.Uses},
		reads: {
			Name: "disk reads", Unit: units.Byte, Row: "read from disk a run", Per: shots.PerShot, Site: shots.Uses,
		},
		writes: {
			Name: "disk writes", Unit: units.Byte, Row: "written to disk a run", Per: shots.PerShot, Site: shots.Uses,
		},
		calls: {Name: "system calls", Unit: "calls", Row: "system calls a run", Per: shots.PerShot, Site: shots.Uses},
		data:  {Name: "data", Unit: units.Byte, Rate: true},
	},
}
