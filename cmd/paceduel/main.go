// Command paceduel compares alternative implementations of a request or a tool and says what the figures bear out.
//
// This package is thin: flags in, core called, exit status out. Verdicts go to standard output, everything else to
// standard error; messages are lower case, one line for the fact and one for what to do. Exit statuses are in status.go.
package main

import (
	"context"
	"fmt"
	"io"
	"log"
	"os"
	"os/signal"
	"syscall"

	"paceduel/core/keeper"
)

// version is our version, as results carry it.
const version = "0.1.0"

func main() {
	keeper.Run()              // does not return in the process that ends our children when we are killed
	log.SetOutput(io.Discard) // the HTTP library logs there, which would spoil a screen
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	root := rootCommand(lookupEnv)
	err := root.ExecuteContext(ctx)
	stop()
	if err != nil {
		complain(os.Stderr, err)
	}
	os.Exit(status(err))
}

func lookupEnv(name string) (string, bool) { return os.LookupEnv(name) }

// complain writes an error for people.
func complain(out io.Writer, err error) {
	if text := err.Error(); text != "" {
		fmt.Fprintln(out, "paceduel: "+text)
	}
}
