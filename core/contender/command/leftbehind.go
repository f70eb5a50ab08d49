package command

import (
	"sync"

	"paceduel/core/keeper"
)

// A command may leave processes running: in its group, or in sessions of their own. We are the parent that they fall to
// (see package keeper), so that both can be found: the former by waiting for the group, the latter among our children,
// by the mark that all processes of commands carry, the same for all contenders, so that none sees another environment.

// under is how many commands are under way, from before they are started.
var under struct {
	sync.Mutex
	n int
}

func begin() {
	under.Lock()
	under.n++
	under.Unlock()
}

func end() {
	under.Lock()
	under.n--
	under.Unlock()
}

// sweep ends what commands left behind in sessions of their own, and returns how many processes it was. It does nothing
// while any command is under way, whose processes they may be.
func (d *driver) sweep() (n int) {
	under.Lock()
	defer under.Unlock()
	if under.n > 0 {
		return 0
	}
	return d.keeper.EndAdopted(keeper.RunMark())
}

// Sweep implements contender.Sweeper.
func (d *driver) Sweep() (n int) {
	for range 100 { // what is ended may have children that fall to us then
		more := d.sweep()
		if n += more; more == 0 {
			break
		}
	}
	return n
}
