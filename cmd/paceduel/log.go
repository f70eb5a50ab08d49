package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/report"
	"paceduel/core/result"
	"paceduel/core/units"
)

func (s *settings) logCommand() *cobra.Command {
	var limit int
	var of logbook.Filter
	var failed bool
	var since, until string
	c := &cobra.Command{
		Use:   "log",
		Short: "list the runs in the logbook, the newest first; note, tag, rename, delete and import some",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			book, err := s.book()
			if err != nil {
				return err
			}
			defer book.Close()
			if of.Attempts = logbook.Kept; failed {
				of.Attempts = logbook.Failing
			}
			if of.Since, err = dayOf("since", since); err != nil {
				return err
			}
			if of.Until, err = dayOf("until", until); err != nil {
				return err
			}
			if !of.Until.IsZero() {
				of.Until = of.Until.AddDate(0, 0, 1) // that day, too
			}
			entries, err := book.List(limit, of)
			if err != nil {
				return err
			}
			some := of != logbook.Filter{Attempts: of.Attempts} || failed
			if len(entries) == 0 && some {
				fmt.Fprintf(s.words.err, "none of the runs in %s is such a one\n", book.Path())
				return nil
			}
			if len(entries) == 0 {
				fmt.Fprintf(s.words.err, "no runs in %s yet; paceduel run PLAN makes one\n", book.Path())
				return nil
			}
			s.words.out.printer().log(entries)
			totals, err := book.Totals()
			if err != nil {
				return err
			}
			if totals.Failed > 0 && !some {
				fmt.Fprintf(s.words.err, "%s besides; --failed lists them\n", units.Plural(totals.Failed, "failed attempt"))
			}
			if more := totals.Runs - totals.Failed - len(entries); more > 0 && !some {
				fmt.Fprintf(
					s.words.err, "%s more in %s; --limit %d lists them all\n", units.Plural(more, "run"), book.Path(),
					totals.Runs,
				)
			}
			return nil
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "how many at most")
	c.Flags().StringVar(&of.Text, "of", "",
		"those with `TEXT` in the name of duel, run or folder, in the verdict, a note or a tag")
	c.Flags().StringVar(&of.Tag, "tag", "", "those that have this tag")
	c.Flags().StringVar(&of.Machine, "machine", "", "those made on a machine with `TEXT` in what it is")
	c.Flags().StringVar(&since, "since", "", "those of this day or later, as 2026-11-27")
	c.Flags().StringVar(&until, "until", "", "those of this day or earlier")
	c.Flags().BoolVar(&failed, "failed", false, "the attempts that failed, which are else left out")
	c.AddCommand(s.duelsCommand(), s.noteCommand(), s.tagCommand(), s.renameCommand(), s.deleteCommand(),
		s.importCommand())
	return c
}

// dayOf reads a day as it is here.
func dayOf(flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	day, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err != nil {
		return day, usageError{fmt.Errorf("--%s %s is no day; write it as 2026-11-27", flag, text)}
	}
	return day, nil
}

// find returns the run that args name: a result file, an id in the logbook, or, without any, the newest run there.
func (s *settings) find(args []string) (*result.Result, error) {
	if len(args) > 0 {
		if info, err := os.Stat(args[0]); err == nil && !info.IsDir() {
			return result.ReadFile(args[0])
		}
	}
	book, err := s.book()
	if err != nil {
		return nil, err
	}
	defer book.Close()
	if len(args) == 0 {
		newest, err := book.List(1, logbook.Filter{})
		if err != nil {
			return nil, err
		}
		if len(newest) == 0 {
			return nil, usageError{fmt.Errorf("no runs in %s yet; paceduel run PLAN makes one", book.Path())}
		}
		args = []string{newest[0].ID}
	}
	r, err := book.Load(args[0])
	if err != nil {
		return nil, usageError{err}
	}
	return r, nil
}

func (s *settings) showCommand() *cobra.Command {
	var asJSON, asMetrics, byAgent bool
	c := &cobra.Command{
		Use:   "show [ID|FILE]",
		Short: "print the verdict of an earlier run, the newest unless one is named",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := s.find(args)
			if err != nil {
				return err
			}
			if asJSON {
				return r.Write(s.words.out.raw())
			}
			if r.Sweep != nil {
				swept, err := judge.JudgeSweep(r)
				if err != nil {
					return err
				}
				if asMetrics {
					return report.OpenMetrics(s.words.out, r, nil, swept)
				}
				s.words.out.printer().sweep(r, swept)
				return nil
			}
			v, err := judge.Judge(r)
			if err != nil {
				return err
			}
			if asMetrics {
				return report.OpenMetrics(s.words.out, r, v, nil)
			}
			s.words.out.printer().verdict(r, v)
			if byAgent {
				s.words.out.printer().byAgent(r)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&byAgent, "agents", false, "what each agent drove, too, where some did")
	c.Flags().BoolVar(&asJSON, "json", false, "the whole result as JSON")
	c.Flags().BoolVar(&asMetrics, "metrics", false, "its figures as OpenMetrics text")
	c.MarkFlagsMutuallyExclusive("json", "metrics")
	return c
}
