package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"paceduel/core/worker"
)

func (s *settings) workerCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "worker",
		Short: "programs that run their own functions when they are asked to (docs/worker-protocol.md)",
	}
	check := &cobra.Command{
		Use:     "check -- RUN...",
		Short:   "start a worker, try all of its functions, and say what of the protocol it does not keep",
		Example: "  paceduel worker check -- python3 positions.py",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, run []string) error {
			ok := worker.Check(cmd.Context(), run, ".", os.Environ(), func(f worker.Finding) {
				if f.Err == nil {
					fmt.Fprintf(s.words.out, "  %s: yes\n", f.Check)
					return
				}
				if f.May {
					fmt.Fprintf(s.words.out, "  %s: no, and it need not: %s\n", f.Check, f.Err)
					return
				}
				fmt.Fprintf(s.words.out, "  %s: no: %s\n", f.Check, f.Err)
			})
			if err := cmd.Context().Err(); err != nil {
				return err
			}
			if !ok {
				return quietError{errWorker}
			}
			fmt.Fprintf(s.words.out, "  it keeps version %d of the protocol\n", worker.Version)
			return nil
		},
	}
	c.AddCommand(check)
	wrapArgs(check)
	return c
}

// errWorker is a worker that does not keep the protocol.
var errWorker = errors.New("the worker does not keep the protocol")
