// Command paceduel compares alternative implementations of a request or a tool and says what the figures bear out.
//
// This package is thin: flags in, core called, exit status out. Verdicts go to standard output, everything else to
// standard error; messages are lower case, one line for the fact and one for what to do. Exit statuses are in
// status.go.
package main

import (
	"context"
	"fmt"
	"io"
	"log"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"paceduel/core/keeper"
	"paceduel/core/meter"
)

// version is our version, as results carry it.
const version = "0.1.0"

// fewestProcesses is how many threads the runtime may want before anything is run; it ends the program if it gets none.
const fewestProcesses = 12

func main() {
	keeper.Run() // does not return in the process that ends our children when we are killed
	words := newConsole()
	// until it is known that there is room for the collector's threads, and for those that signals take
	debug.SetGCPercent(-1)
	if left := meter.ReadRoom(); left.Processes < fewestProcesses {
		complain(words.err, fmt.Errorf(
			"start: this user has %d processes and threads left of %d (ulimit -u), and this program takes %d by itself; raise "+
				"the limit",
			left.Processes, left.MostProcesses, fewestProcesses,
		))
		os.Exit(statusIncomplete)
	}
	// what runs take beside us is theirs: a little more collecting, between heats, holds a third less
	debug.SetGCPercent(50)
	log.SetOutput(io.Discard) // the HTTP library logs there, which would spoil a screen
	// a reader that has gone away is an error of writing, not our end
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	ctx, stop := interruptible()
	root := rootCommand(lookupEnv, words)
	root.SetArgs(joinListen(os.Args[1:]))
	err := root.ExecuteContext(ctx)
	stop()
	if err != nil {
		complain(words.err, err)
	}
	if trouble := words.out.trouble(); trouble != nil {
		err = unwritten(words.err, trouble, err)
	}
	os.Exit(status(err))
}

// unwritten says that what was asked for was not written, and returns what the program ends with then.
func unwritten(out io.Writer, trouble, err error) error {
	complain(
		out, fmt.Errorf("write to standard output: %w; what was measured is in the logbook, see paceduel log", trouble),
	)
	if s := status(err); s == statusDone || s == statusClaims {
		return quietError{trouble}
	}
	return err
}

// interruptible returns a context that an interrupt ends. A second interrupt ends the program at once: what it has
// started ends with it, and finished heats are in the logbook.
func interruptible() (ctx context.Context, stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		for range signals {
			if ctx.Err() != nil {
				os.Exit(statusInterrupted)
			}
			cancel()
		}
	}()
	return ctx, cancel
}

func lookupEnv(name string) (string, bool) { return os.LookupEnv(name) }

// complain writes an error for people.
func complain(out io.Writer, err error) {
	if text := err.Error(); text != "" {
		fmt.Fprintln(out, "paceduel: "+text)
	}
}
