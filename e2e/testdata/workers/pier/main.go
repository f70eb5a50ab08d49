// Pier is a worker whose functions take known shares of one another.
package main

import (
	"fmt"
	"os"
	"sync"

	worker "paceduel/workers/go"
)

// times multiplies so often an operation, each product waiting for the one before.
func times(often int64) func(worker.Params) worker.Loop {
	return func(worker.Params) worker.Loop {
		return func(_ int, n int64) any {
			x := uint64(1)
			for range n * often {
				x = x*3 + 1
			}
			if x == 0 {
				return "sunk"
			}
			return "afloat"
		}
	}
}

// locked does the same behind one lock.
func locked(worker.Params) worker.Loop {
	var mu sync.Mutex
	x := uint64(1)
	return func(_ int, n int64) any {
		for range n {
			mu.Lock()
			for range 20 {
				x = x*3 + 1
			}
			mu.Unlock()
		}
		return "afloat"
	}
}

// sinks does so many operations, and then the program ends.
func sinks(p worker.Params) worker.Loop {
	left := int64(p["after"].(float64))
	return func(_ int, n int64) any {
		if left -= n; left < 0 {
			fmt.Fprintln(os.Stderr, "the pier has sunk")
			os.Exit(4)
		}
		return "afloat"
	}
}

// restless does what once does, and goes on working when nobody asks.
func restless(p worker.Params) worker.Loop {
	go func() {
		for x := uint64(1); ; {
			x = x*3 + 1
		}
	}()
	return times(10)(p)
}

func main() {
	worker.Serve("pier",
		worker.Function{Name: "once", Make: times(10), Threads: 4},
		worker.Function{Name: "twice", Make: times(20), Threads: 4},
		worker.Function{Name: "locked", Make: locked, Threads: 4},
		worker.Function{Name: "sinks", Make: sinks, Params: worker.Params{"after": 0.0}},
		worker.Function{Name: "restless", Make: restless},
		worker.Function{Name: "other", Make: func(worker.Params) worker.Loop {
			return func(int, int64) any { return "aground" }
		}})
}
