package main

import (
	"fmt"
	"os"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

func (s *settings) logCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:   "log",
		Short: "list the runs in the logbook, the newest first",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			book, err := s.book()
			if err != nil {
				return err
			}
			defer book.Close()
			entries, err := book.List(limit)
			if err != nil {
				return err
			}
			if len(entries) == 0 {
				fmt.Fprintf(os.Stderr, "no runs in %s yet; paceduel run PLAN makes one\n", book.Path())
				return nil
			}
			w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
			for _, e := range entries {
				said := e.Sentence
				if e.Ending != result.Done {
					said = fmt.Sprintf("%s after %d of %s. %s", e.Ending, e.Heats, units.Plural(e.Planned, "heat"), e.Sentence)
				}
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", e.ID, e.Started.Format(time.DateTime), e.Name, said)
			}
			return w.Flush()
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "how many at most")
	return c
}

// find returns the run that arg names: a result file, or an id in the logbook.
func (s *settings) find(arg string) (*result.Result, error) {
	if info, err := os.Stat(arg); err == nil && !info.IsDir() {
		return result.ReadFile(arg)
	}
	book, err := s.book()
	if err != nil {
		return nil, err
	}
	defer book.Close()
	r, err := book.Load(arg)
	if err != nil {
		return nil, usageError{err}
	}
	return r, nil
}

func (s *settings) showCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "show ID|FILE",
		Short: "print the verdict of an earlier run",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := s.find(args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return r.Write(os.Stdout)
			}
			v, err := judge.Judge(r)
			if err != nil {
				return err
			}
			toTerminal(os.Stdout).verdict(r, v)
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "the whole result as JSON")
	return c
}
