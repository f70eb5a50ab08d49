package rounds

import (
	"fmt"
	"runtime"

	"paceduel/core/contender"
	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/units"
)

// Beside what clients take: files of the run itself, and threads of the runtime.
const (
	ownDescriptors = 16
	ownProcesses   = 12
)

// RoomError is a run that was not begun since it would not have got far: without threads the program itself would end.
type RoomError struct{ Needs, Left, Most int }

func (e *RoomError) Error() string {
	return fmt.Sprintf("this run takes about %s and threads more, and this user has %d left of %d (ulimit -u); raise "+
		"the limit, or take fewer clients",
		units.Plural(e.Needs, "process"), e.Left, e.Most)
}

// room holds what the run takes to what there is: too few processes are an error, too few descriptors are told.
func (r *runner) room(s *station) error {
	clients := pace.Clients(s.plan.Pace)
	switch {
	case r.cfg.Hands != nil:
		clients = 1 // others have them
	case r.hand != nil:
		clients = (clients + r.hand.parts - 1) / r.hand.parts
	}
	descriptors, processes := 0, 0
	for _, e := range s.entries {
		descriptors = max(descriptors, kindOf(r.cfg.Kinds, e.Kind).Descriptors, 2)
		own := kindOf(r.cfg.Kinds, e.Kind).Processes
		if housed, ok := e.Contender.Settings.(plan.Housed); ok {
			own += housed.Tasks()
		}
		processes = max(processes, own)
	}
	left := meter.ReadRoom()
	if need := clients*processes + ownProcesses + runtime.GOMAXPROCS(0); need > left.Processes {
		return &RoomError{need, left.Processes, left.MostProcesses}
	}
	if need := clients*descriptors + ownDescriptors; need > left.Descriptors {
		r.result.Footing.Cannot = append(r.result.Footing.Cannot, fmt.Sprintf("%s may take %d files and connections at "+
			"once, and we may open %d more (ulimit -n says %d): shots that find none fail",
			units.Plural(clients, "client"), need, left.Descriptors, left.MostDescriptors))
	}
	return nil
}

func kindOf(kinds []contender.Kind, name string) contender.Kind {
	for _, k := range kinds {
		if k.Name == name {
			return k
		}
	}
	return contender.Kind{}
}
