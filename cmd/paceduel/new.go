package main

import (
	_ "embed"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"paceduel/core/contender/all"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

//go:embed new.duel.yaml
var newPlan string

func (s *settings) newCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "new [NAME]",
		Short: "write a commented plan to start from, to NAME" + plan.Suffix + " or standard output",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				_, err := io.WriteString(s.words.out, newPlan)
				return err
			}
			path := strings.TrimSuffix(args[0], plan.Suffix) + plan.Suffix
			f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
			if err != nil {
				return usageError{fmt.Errorf("write a new plan: %w; name another, or edit that one", err)}
			}
			if _, err := f.WriteString(newPlan); err != nil {
				f.Close()
				return fmt.Errorf("write a new plan: %w", err)
			}
			fmt.Fprintln(s.words.err, "wrote "+path)
			return f.Close()
		},
	}
}

func (s *settings) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "print the JSON Schema of plan files, for editors",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			text, err := read.Schema(all.PlanKinds())
			if err != nil {
				return err
			}
			_, err = s.words.out.raw().Write(append(text, '\n'))
			return err
		},
	}
}
