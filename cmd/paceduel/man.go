package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// manCommand writes the man pages; make build does, so that they come with the program.
func manCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "man DIR",
		Short:  "write the man pages into DIR",
		Args:   cobra.ExactArgs(1),
		Hidden: true,
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return fmt.Errorf("write the man pages: %w", err)
			}
			root := c.Root()
			root.DisableAutoGenTag = true
			day := time.Unix(0, 0) // the same pages each time
			header := &doc.GenManHeader{Title: "PACEDUEL", Section: "1", Source: "Pace Duel " + version, Date: &day}
			if err := doc.GenManTree(root, header, args[0]); err != nil {
				return fmt.Errorf("write the man pages into %s: %w", args[0], err)
			}
			return nil
		},
	}
}
